"""Processes of an instance, known by more than a number: a number is given again to others.

A file `run/NAME.pid` holds the number, when the process started, and on which boot of the machine.
"""

from __future__ import annotations

import fcntl
import json
import os
import signal
import time
from contextlib import suppress
from pathlib import Path
from typing import IO

from server.instance.files import write_whole


def boot() -> str:
    """The boot of this machine (or of this container's host)."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:
        return ""


def started(pid: int) -> str | None:
    """When a process started, in ticks since the boot; None if there is none, or it has ended and waits to be
    reaped.
    """
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    except (OSError, IndexError):
        return None
    return None if fields[0] in ("Z", "X") else fields[19]


def remember(folder: Path, name: str, pid: int) -> None:
    """Notes a process that has just been started."""
    write_whole(folder / "run" / f"{name}.pid", {"pid": pid, "started": started(pid), "boot": boot()})


def alive(folder: Path, name: str) -> int | None:
    """The number of a process that was noted and is still the same one, else None."""
    try:
        found = json.loads((folder / "run" / f"{name}.pid").read_text())
        pid = int(found["pid"])
        same = found["started"] is not None and found["boot"] == boot() and started(pid) == found["started"]
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return pid if same else None


def end(folder: Path, name: str, how: signal.Signals = signal.SIGTERM, patience: float = 20) -> None:
    """Ends a noted process and waits for it; after `patience` seconds it is killed."""
    pid = alive(folder, name)
    if pid is None:
        return
    with suppress(ProcessLookupError):
        os.kill(pid, how)
    if not _ended(folder, name, pid, patience):
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
        _ended(folder, name, pid, 10)
    (folder / "run" / f"{name}.pid").unlink(missing_ok=True)


def _ended(folder: Path, name: str, pid: int, patience: float) -> bool:
    until = time.monotonic() + patience
    while alive(folder, name) == pid:
        with suppress(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)
        if time.monotonic() > until:
            return False
        time.sleep(0.02)
    return True


class Lock:
    """A file that is held open and locked: the system lets it go when the process ends, however it ends."""

    def __init__(self, folder: Path, name: str) -> None:
        self.path = folder / "run" / f"{name}.lock"
        self.file: IO[str] | None = None

    def take(self, wait: bool = False) -> bool:
        """False if another process holds it."""
        self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o711)
        file = self.path.open("a")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
        except BlockingIOError:
            file.close()
            return False
        self.file = file
        return True

    def or_exit(self) -> None:
        """Ends this process where another one does the same work for the same instance."""
        if not self.take():
            raise SystemExit(f"another process holds {self.path}: it does this work already")

    def free(self) -> None:
        if self.file is not None:
            self.file.close()
            self.file = None

    def held(self) -> bool:
        """Whether some process holds it."""
        if self.file is not None:
            return True
        if not self.take():
            return True
        self.free()
        return False
