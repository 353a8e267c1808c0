"""Keeps an instance going: starts database, broker and Oculum's own processes, and starts them again when they end.

A process that runs but has not gone on for long is ended first. The keeper itself is watched by a guard, which does
nothing else, and watches the guard: whichever is killed, the other starts it again. A new keeper takes over the
processes that run.
"""

from __future__ import annotations

import logging
import os
import shutil
import signal
import subprocess
import sys
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from types import FrameType

from server.instance.instance import ENGINES, ROOT, Instance
from server.instance.processes import Lock, alive, end, remember
from server.instance.pulse import life
from server.runner.stack import StackError, launch_broker, launch_postgres

SERVICES = ["postgres", "broker"]
DEMO = ["fleet", "post"]  # what stands in for the world outside, where the demo is loaded
HUNG_S = 180.0
STARTING_S = 120.0
LOG_BYTES = 16 * 1024 * 1024
log = logging.getLogger("oculum.keeper")


def parts(instance: Instance) -> list[str]:
    """Oculum's own processes, in the order in which they are started."""
    return ["web", "intake", *instance.engine_names, "again", "delivery", *DEMO]


def command(part: str) -> list[str]:
    if part in ENGINES:
        return [sys.executable, "-m", "server.runner.engine", part]
    modules = {"intake": "server.intake.mqtt", "fleet": "demo.fleet", "post": "demo.post"}
    return [sys.executable, "-m", modules.get(part, f"server.runner.{part}")]


def start(instance: Instance, name: str, line: list[str]) -> None:
    """One of Oculum's own processes, in a session of its own."""
    for left in ("ready", "pulse"):
        (instance.folder / "run" / f"{name}.{left}").unlink(missing_ok=True)
    with (instance.folder / "log" / f"{name}.log").open("ab") as out:
        child = subprocess.Popen(
            line,
            env=instance.environment(),
            cwd=ROOT,
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
    remember(instance.folder, name, child.pid)


def start_guard(instance: Instance) -> None:
    start(instance, "guard", [sys.executable, "-m", "server.runner.keeper", "guard"])


def running(instance: Instance) -> dict[str, int | None]:
    return {name: alive(instance.folder, name) for name in (*SERVICES, "guard", "keeper", *parts(instance))}


def stopping(instance: Instance) -> Path:
    """There while the instance is being stopped: nobody starts anything again then."""
    return instance.folder / "run" / "stopping"


def prepared(instance: Instance) -> Path:
    """There once the tables are as this version needs them: Oculum's own processes may start."""
    return instance.folder / "run" / "prepared"


@dataclass
class Tended:
    """A process that the keeper sees to. pause: how long it waits before it starts it the next time."""

    name: str
    began: float = -1e9
    pause: float = 0.0
    waits_until: float = 0.0
    known: int | None = None


class Keeper:
    def __init__(self, instance: Instance) -> None:
        self.instance, self.folder = instance, instance.folder
        self.tended = {name: Tended(name) for name in (*SERVICES, *parts(instance))}
        self.stop = False
        self.looked_at_logs = 0.0

    def tend(self, name: str) -> None:
        """Sees that a process runs and goes on."""
        one, clock = self.tended[name], time.monotonic()
        pid = alive(self.folder, name)
        if pid is not None:
            one.known = pid
            if name not in SERVICES:
                self.unhang(name, pid, clock)
            return
        if one.known is not None:
            with suppress(ChildProcessError):
                os.waitpid(one.known, os.WNOHANG)
            # Whatever ends soon after its start is started less and less often, up to every ten seconds.
            one.pause = min(max(one.pause * 2, 0.2), 10.0) if clock - one.began < 30 else 0.0
            one.waits_until = clock + one.pause
            log.warning("%s has ended; it is started again%s", name, f" in {one.pause:.1f} s" if one.pause else "")
            one.known = None
        if clock < one.waits_until:
            return
        one.began = clock
        try:
            if name == "postgres":
                launch_postgres(self.instance)
            elif name == "broker":
                launch_broker(self.instance)
            else:
                start(self.instance, name, command(name))
        except (StackError, OSError) as error:
            log.error("%s cannot be started: %s", name, error)
            one.pause = min(max(one.pause * 2, 1.0), 10.0)
            one.waits_until = clock + one.pause
        one.known = alive(self.folder, name)

    def unhang(self, name: str, pid: int, clock: float) -> None:
        found = life(self.folder, name)
        age = found.age if found is not None and found.pid == pid else clock - self.tended[name].began
        if self.tended[name].began < 0:
            self.tended[name].began = clock  # taken over from a keeper before
        elif age > HUNG_S and clock - self.tended[name].began > STARTING_S:
            log.error("%s has not gone on for %.0f s and is ended", name, age)
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)

    def run(self) -> None:
        looked_at_guard = 0.0
        guard = Lock(self.folder, "guard")
        while not self.stop:
            for name in SERVICES:
                self.tend(name)
            if prepared(self.instance).exists():
                for name in parts(self.instance):
                    if name not in DEMO or (self.folder / "demo.json").exists():
                        self.tend(name)
            clock = time.monotonic()
            if clock - looked_at_guard > 2:
                looked_at_guard = clock
                if not guard.held() and not stopping(self.instance).exists():
                    start_guard(self.instance)
            if clock - self.looked_at_logs > 60:
                self.looked_at_logs = clock
                shorten(self.folder / "log")
            reap()
            time.sleep(0.2)
        for name in reversed(parts(self.instance)):
            end(self.folder, name)
        end(self.folder, "broker")
        end(self.folder, "postgres", signal.SIGINT, 60)


def reap() -> None:
    """Children that have ended are not kept as dead entries."""
    with suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass


def shorten(folder: Path) -> None:
    """A log that has grown long is kept as `.1`, and goes on from its beginning: writers only append."""
    for path in folder.glob("*.log"):
        if path.stat().st_size > LOG_BYTES:
            shutil.copyfile(path, path.with_suffix(".log.1"))
            os.truncate(path, 0)


def keep(instance: Instance) -> None:
    lock = Lock(instance.folder, "keeper")
    if not lock.take():
        log.info("another keeper works here")
        return
    remember(instance.folder, "keeper", os.getpid())
    keeper = Keeper(instance)

    def stop(number: int, frame: FrameType | None) -> None:
        keeper.stop = True

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    keeper.run()


def guard(instance: Instance) -> None:
    """Waits for the keeper to end, and starts it again."""
    own = Lock(instance.folder, "guard")
    if not own.take():
        return
    remember(instance.folder, "guard", os.getpid())
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    keeper = Lock(instance.folder, "keeper")
    while not stopping(instance).exists():
        keeper.take(wait=True)
        keeper.free()
        reap()
        if stopping(instance).exists():
            return
        log.warning("there is no keeper; starting one")
        start(instance, "keeper", [sys.executable, "-m", "server.runner.keeper"])
        until = time.monotonic() + 10
        while not keeper.held() and time.monotonic() < until:
            time.sleep(0.05)


def main() -> None:
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s")
    instance = Instance.from_environment()
    (guard if sys.argv[1:] == ["guard"] else keep)(instance)


if __name__ == "__main__":
    main()
