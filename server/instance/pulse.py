"""A process that works says so, and what keeps it from working: the keeper and `/healthz` go by that."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from server.instance.files import write_whole

EVERY_S = 1.0


class Pulse:
    """The sign of life of one process: a small file, written at most once a second.

    Times are of the machine's monotonic clock, which no setting of the clock moves.
    """

    def __init__(self, folder: Path, name: str) -> None:
        self.path = folder / "run" / f"{name}.pulse"
        self.troubles: dict[str, tuple[str, float]] = {}
        self.written = 0.0

    def trouble(self, about: str, what: str | None) -> None:
        """What keeps the process from its work, or None when that is over."""
        if what is None:
            if self.troubles.pop(about, None) is not None:
                self.beat(now=True)
        elif self.troubles.get(about, ("", 0.0))[0] != what:
            self.troubles[about] = (what, time.monotonic())
            self.beat(now=True)

    def beat(self, now: bool = False) -> None:
        """The process goes on. Cheap enough to be called in every turn of its loop."""
        clock = time.monotonic()
        if not now and clock - self.written < EVERY_S:
            return
        self.written = clock
        write_whole(self.path, {"pid": os.getpid(), "at": clock, "troubles": dict(self.troubles)})


@dataclass(frozen=True)
class Life:
    """What a pulse says: how many seconds ago the process last went on, and what keeps it from its work since when."""

    pid: int
    age: float
    troubles: Mapping[str, tuple[str, float]]

    @property
    def words(self) -> str:
        return "; ".join(what for what, _ in self.troubles.values())


def life(folder: Path, name: str) -> Life | None:
    """The last pulse of a process; None where there is none."""
    try:
        found = json.loads((folder / "run" / f"{name}.pulse").read_text())
        clock = time.monotonic()
        troubles = {about: (str(what), clock - since) for about, (what, since) in found["troubles"].items()}
        return Life(int(found["pid"]), clock - float(found["at"]), troubles)
    except (OSError, ValueError, KeyError, TypeError):
        return None
