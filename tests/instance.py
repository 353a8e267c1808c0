"""A database and a broker for tests, in a folder of their own, gone afterwards."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from server.instance.instance import ROOT, Instance
from server.instance.processes import end
from server.runner import stack


def new_environment(prefix: str) -> Path:
    """Points this process at a fresh instance; settings must not have been read yet."""
    folder = Path(tempfile.mkdtemp(prefix=f"oculum-{prefix}-", dir="/var/tmp"))
    folder.chmod(0o711)
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    for name in ("OCULUM_DATABASE_PORT", "OCULUM_BROKER_PORT", "OCULUM_DATABASE"):
        os.environ.pop(name, None)
    os.environ.update(
        {
            "OCULUM_DATA": str(folder),
            "OCULUM_PORT": str(stack.free_ports()),
            "DJANGO_SETTINGS_MODULE": "server.settings",
            "DJANGO_ALLOW_ASYNC_UNSAFE": "1",
        }
    )
    for part, mode in (("run", 0o711), ("log", 0o700), ("secrets", 0o700)):
        (folder / part).mkdir(mode=mode)
    return folder


@contextmanager
def running_services(folder: Path) -> Iterator[Instance]:
    """Database and broker of the environment made before, the tables in place."""
    instance = Instance.from_environment()
    stack.SETTINGS["fsync"] = "off"  # the machine itself is not switched off; where PostgreSQL is killed, it is on
    try:
        stack.start_postgres(instance)
        stack.make_database(instance)
        stack.start_broker(instance)
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        yield instance
    finally:
        end(folder, "broker")
        end(folder, "postgres", signal.SIGINT, 60)
        shutil.rmtree(folder, ignore_errors=True)


def start(instance: Instance, module: str, ready: str | None = None, **environment: str) -> subprocess.Popen[bytes]:
    """A process of the product, running when this returns."""
    if ready:
        (instance.folder / "run" / ready).unlink(missing_ok=True)
    with (instance.folder / "log" / f"{module}.log").open("ab") as out:
        child = subprocess.Popen(
            [sys.executable, "-m", *module.split()],
            env={**instance.environment(), **environment},
            cwd=ROOT,
            stdout=out,
            stderr=out,
        )
    if ready:
        until(lambda: (instance.folder / "run" / ready).exists() or child.poll() is not None, f"{module} to start")
        assert child.poll() is None, (instance.folder / "log" / f"{module}.log").read_text()
    return child


def until(true: Callable[[], Any], what: str, seconds: float = 30) -> Any:
    """Waits for an event: the value of `true()` as soon as it is one."""
    end = time.monotonic() + seconds
    while True:
        found = true()
        if found:
            return found
        if time.monotonic() > end:
            logs = "\n".join(
                f"{p.name}: {p.read_text(errors='replace')[-1500:]}"
                for p in Path(os.environ["OCULUM_DATA"]).glob("log/*.log")
            )
            raise AssertionError(f"waited {seconds:.0f} s for {what}\n{logs}")
        time.sleep(0.02)
