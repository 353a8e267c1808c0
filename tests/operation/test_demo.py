"""The demo's load broken off, and gone on with: nothing that is there is ever dropped."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

from server.runner import stack
from server.runner.instance import ROOT, Instance
from tests.instance import until


class Own:
    """An instance of its own, named to the command line by nothing but port and folder."""

    def __init__(self, folder: Path) -> None:
        port = stack.free_ports()
        self.instance = Instance(folder, port, port + 1, port + 2)
        self.place = ["--port", str(port), "--data", str(folder)]
        self.environment = {k: v for k, v in os.environ.items() if not k.startswith("OCULUM_")}

    def command(self, *arguments: str) -> list[str]:
        return [sys.executable, "-m", "server.runner", *arguments, *self.place]

    def oculum(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            self.command(*arguments),
            cwd=ROOT,
            env=self.environment,
            capture_output=True,
            text=True,
            timeout=280,
            check=False,
        )

    def ask(self, query: str) -> Any:
        try:
            with psycopg.connect(self.instance.database_url()) as connection:
                row = connection.execute(query).fetchone()
                return row[0] if row else None
        except psycopg.Error:
            return None


@pytest.fixture
def own() -> Iterator[Own]:
    folder = Path(tempfile.mkdtemp(prefix="oculum-demo-", dir="/var/tmp"))
    folder.chmod(0o711)
    made = Own(folder)
    yield made
    made.oculum("down")
    shutil.rmtree(folder, ignore_errors=True)


def test_a_load_that_was_broken_off_is_gone_on_with_and_work_in_it_stays(own: Own) -> None:
    first = subprocess.Popen(
        own.command("up"), cwd=ROOT, env=own.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    step = "select count(*) from demo_load where next_us > end_us - 29::bigint * 86400 * 1000000"
    until(lambda: own.ask(step), "a day of the demo to be loaded", 90)
    first.send_signal(signal.SIGINT)
    out, _ = first.communicate(timeout=120)
    assert first.returncode == 130 and "sign in as ines" in out, "passwords are told, whatever becomes of the load"

    assert own.oculum("up", "--empty", "--detach").returncode == 0
    loaded = own.ask("select count(*) from message where channel = 3")
    assert loaded > 10_000
    assert own.oculum("person", "add", "mira", "--role", "engineer").returncode == 0
    assert own.oculum("down").returncode == 0

    again = own.oculum("up", "--detach")
    assert again.returncode == 0 and "messages loaded and worked off" in again.stderr, again.stderr
    assert "sign in as" not in again.stdout, "passwords are shown once"
    assert own.ask("select count(*) from access_person where username = 'mira'") == 1
    total = own.ask("select count(*) from message where channel = 3")
    assert (
        total > 800_000
        and own.ask("select count(distinct (device_id, received_at)) from message where channel = 3") == total
    )
    assert own.ask("select next_us >= end_us from demo_load")
    waiting = "select count(*) from message where id > (select id from engine_cursor) and channel = 3"
    assert own.ask(waiting) == 0
