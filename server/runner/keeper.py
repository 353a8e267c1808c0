"""Starts Oculum's own processes and starts them again when they end."""

from __future__ import annotations

import logging
import signal
import subprocess
import sys
import time

from .instance import ROOT, Instance
from .stack import alive, stop

PARTS = ["web", "intake", "engine", "fleet"]
log = logging.getLogger("oculum.keeper")


def command(instance: Instance, part: str) -> list[str]:
    if part == "web":
        return [
            sys.executable, "-m", "uvicorn", "server.asgi:application", "--host", "127.0.0.1", "--port", str(instance.web_port), "--loop", "uvloop", "--http", "httptools",
            "--ws", "websockets-sansio", "--no-access-log", "--log-level", "warning", "--no-server-header", "--timeout-graceful-shutdown", "3",
        ]  # fmt: skip
    return [
        sys.executable,
        "-m",
        {"intake": "server.intake.mqtt", "engine": "server.engine.worker", "fleet": "demo.fleet"}[part],
    ]


def start(instance: Instance, part: str) -> subprocess.Popen[bytes]:
    with (instance.folder / "log" / f"{part}.log").open("ab") as out:
        child = subprocess.Popen(
            command(instance, part),
            env=instance.environment(),
            cwd=ROOT,
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
    (instance.folder / "run" / f"{part}.pid").write_text(str(child.pid))
    return child


def running(instance: Instance) -> dict[str, int | None]:
    return {name: alive(instance, name) for name in ("postgres", "broker", "keeper", *PARTS)}


def main() -> None:
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s")
    instance = Instance.from_environment()
    stopping = False

    def end(*_: object) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    children: dict[str, subprocess.Popen[bytes]] = {}
    ended: dict[str, float] = {}
    while not stopping:
        for part in PARTS:
            child = children.get(part)
            if child is not None and child.poll() is None:
                continue
            if part == "fleet" and not (instance.folder / "demo.json").exists():
                continue
            if child is not None:
                log.warning("%s ended with %s; starting it again", part, child.returncode)
                if time.monotonic() - ended.get(part, 0) < 2:
                    time.sleep(1)
                ended[part] = time.monotonic()
            children[part] = start(instance, part)
        time.sleep(0.2)
    for part in reversed(PARTS):
        stop(instance, part)


if __name__ == "__main__":
    main()
