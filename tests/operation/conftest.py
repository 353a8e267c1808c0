"""A whole instance as `up` makes it, with its keeper: what it does when its parts are hit."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import django
import psycopg
import pytest

from server.instance.instance import ROOT, Instance
from server.instance.processes import alive
from server.runner.health import Health, health
from tests.instance import new_environment, until

# What one device may send in a minute, small enough to be reached.
os.environ["OCULUM_MESSAGES_PER_MINUTE"] = "200"
FOLDER = new_environment("operation")
django.setup()


class Running:
    """The instance, and what one does to it from outside."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.instance = Instance.from_environment()
        self.place = ["--port", str(self.instance.web_port), "--data", str(folder)]

    def oculum(self, *arguments: str, **options: Any) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "server.runner", *arguments, *self.place]
        return subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=240, check=False, **options)

    def up(self, *more: str) -> str:
        done = self.oculum("up", "--empty", "--detach", *more)
        assert done.returncode == 0, done.stderr
        return done.stdout

    def pid(self, name: str) -> int:
        found = alive(self.folder, name)
        assert found is not None, f"{name} does not run"
        return found

    def hit(self, name: str, how: signal.Signals) -> int:
        pid = self.pid(name)
        os.kill(pid, how)
        return pid

    def whole(self) -> Health | None:
        found = health(self.instance)
        return found if found.whole else None

    def wait_whole(self) -> Health:
        return until(self.whole, "everything to work", 60)

    def back(self, name: str, pid: int) -> None:
        """Waits until a part runs by another number, and everything works."""
        until(lambda: alive(self.folder, name) not in (None, pid) and self.whole(), f"{name} to be back", 60)

    def ask(self, query: str, *values: Any) -> list[tuple]:
        with psycopg.connect(self.instance.database_url(), autocommit=True) as connection:
            return connection.execute(query, values).fetchall()


@pytest.fixture(scope="session")
def session() -> Iterator[Running]:
    running = Running(FOLDER)
    try:
        running.up()
        yield running
    finally:
        running.oculum("down")
        shutil.rmtree(FOLDER, ignore_errors=True)


@pytest.fixture
def running(session: Running) -> Iterator[Running]:
    """Everything works before, and after."""
    from django.db import connections

    session.wait_whole()
    yield session
    connections.close_all()
    session.wait_whole()
