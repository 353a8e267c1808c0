"""`up`, `down` and the keeper: one of each, whatever is killed or started at once; nobody else's processes are
touched.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import pytest

from server.instance.instance import ROOT
from server.instance.processes import Lock, remember
from server.runner.keeper import parts
from tests.instance import until

from .conftest import Running


def processes(folder: Path) -> list[str]:
    """What runs for a data folder, by its module, from the system's own list."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            if entry.name.isdigit() and f"OCULUM_DATA={folder}".encode() in (entry / "environ").read_bytes():
                line = (entry / "cmdline").read_bytes().decode(errors="replace").split("\0")
                state = (entry / "stat").read_text().rsplit(")", 1)[1].split()[0]
                if "-m" in line and state != "Z":
                    found.append(" ".join(line[line.index("-m") + 1 :]).strip())
        except OSError:
            continue
    return sorted(name for name in found if name.startswith("server.") and name != "server.runner")


ALL = ["server.runner.engine engine", "server.intake.mqtt", "server.runner.keeper", "server.runner.keeper guard"]
ALL = sorted([*ALL, "server.runner.web", "server.runner.again", "server.runner.delivery"])


def once_each(running: Running) -> None:
    found = [p for p in processes(running.folder) if not p.startswith("server.runner up")]
    assert found == ALL, found


@pytest.mark.parametrize(
    "name", ["keeper", "guard", "postgres", "broker", "engine", "again", "delivery", "intake", "web"]
)
def test_whatever_is_killed_comes_back_once(running: Running, name: str) -> None:
    pid = running.hit(name, signal.SIGKILL)
    running.back(name, pid)
    once_each(running)


def test_keeper_and_guard_killed_at_once_are_healed_by_up(running: Running) -> None:
    for name in ("guard", "keeper"):
        running.hit(name, signal.SIGKILL)
    found = until(
        lambda: None if Lock(running.folder, "keeper").held() else running.oculum("status", "--json"), "both gone"
    )
    told = json.loads(found.stdout)["parts"]["keeper"]
    assert found.returncode == 3 and not told["works"] and told["what"] == "nobody starts again what ends"
    running.up()
    once_each(running)


def test_two_ups_at_once_make_one_of_everything(running: Running) -> None:
    running.oculum("down")
    assert processes(running.folder) == []
    told: list[tuple[int, str]] = []

    def up() -> None:
        done = running.oculum("up", "--empty", "--detach")
        told.append((done.returncode, done.stderr))

    threads = [threading.Thread(target=up) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert [code for code, _ in told] == [0, 0, 0], told
    once_each(running)


def test_a_second_process_of_a_part_ends_at_once(running: Running) -> None:
    for module in ("server.runner.engine", "server.intake.mqtt", "server.runner.web"):
        done = subprocess.run(
            [sys.executable, "-m", module],
            env=running.instance.environment(),
            cwd=ROOT,
            capture_output=True,
            timeout=60,
            check=False,
        )
        assert done.returncode != 0 and b"does this work already" in done.stderr, done.stderr
    once_each(running)


def test_a_number_that_has_been_given_to_another_process_is_left_alone(running: Running) -> None:
    """Files that an earlier boot, or an earlier version, left behind."""
    stranger = subprocess.Popen(["sleep", "600"])
    try:
        running.oculum("down")
        for name in (*parts(running.instance), "keeper", "guard", "broker", "postgres"):
            remember(running.folder, name, stranger.pid)
            path = running.folder / "run" / f"{name}.pid"
            found = json.loads(path.read_text())
            path.write_text(json.dumps({**found, "started": "1"}))
        (running.folder / "run" / "web.pid").write_text(str(stranger.pid))
        assert running.oculum("down").returncode == 0
        running.up()
        running.oculum("down")
        assert stranger.poll() is None, "the stranger lives"
    finally:
        stranger.kill()
        stranger.wait()
        running.up()


def test_the_work_is_divided_among_as_many_engines_as_are_asked_for(running: Running) -> None:
    try:
        done = running.oculum("up", "--empty", "--detach", env={**os.environ, "OCULUM_ENGINES": "2"})
        assert done.returncode == 0 and "Another version runs" in done.stderr, done.stderr
        both = ["server.runner.engine engine", "server.runner.engine engine-2"]
        assert [p for p in processes(running.folder) if "engine" in p] == both
        running.hit("engine-2", signal.SIGKILL)
        whole = until(lambda: (h := running.oculum("status")).returncode == 0 and h, "both to work again", 40)
        assert "engine-2" in whole.stdout
        bad = running.oculum("up", "--empty", env={**os.environ, "OCULUM_ENGINES": "9"})
        assert bad.returncode == 1 and "from 1 to 8 engines may divide the work" in bad.stderr
        none = running.oculum("up", "--empty", env={**os.environ, "OCULUM_ENGINES": "two"})
        assert none.returncode == 1 and "OCULUM_ENGINES is `two`" in none.stderr
    finally:
        running.oculum("up", "--empty", "--detach", env={**os.environ, "OCULUM_ENGINES": "1"})
    once_each(running)


def test_a_part_that_hangs_is_told_and_found(running: Running) -> None:
    pid = running.hit("engine", signal.SIGSTOP)
    try:
        found = until(lambda: None if (h := running.oculum("status")).returncode == 0 else h, "status to say it", 40)
        assert "has not gone on for" in found.stdout
    finally:
        os.kill(pid, signal.SIGCONT)


def test_healthz_tells_each_part_and_alive_only_itself(running: Running) -> None:
    import httpx

    address = running.instance.address
    good = httpx.get(f"{address}healthz")
    assert good.status_code == 200 and good.json()["status"] == "whole"
    pid = running.hit("intake", signal.SIGSTOP)
    try:
        bad: Any = until(
            lambda: (a := httpx.get(f"{address}healthz")).status_code == 503 and a, "healthz to say it", 40
        )
        parts = bad.json()["parts"]
        assert not parts["intake"]["works"] and parts["engine"]["works"] and parts["postgres"]["works"]
        assert httpx.get(f"{address}alive").status_code == 200
    finally:
        os.kill(pid, signal.SIGCONT)


def test_people_hear_503_at_most_while_the_database_is_away(running: Running) -> None:
    """Connections from before its restart are nobody's error afterwards."""
    import httpx

    made = running.oculum("person", "add", "bea", "--role", "viewer")
    password = made.stdout.split(" with ")[1].split()[0]
    with httpx.Client(base_url=f"{running.instance.address}api/v1/", timeout=30) as client:
        assert client.post("sign-in", json={"username": "bea", "password": password}).status_code == 200
        seen: list[int] = []
        ending = threading.Event()

        def look() -> None:
            while not ending.is_set():
                seen.append(client.get("me").status_code)

        threads = [threading.Thread(target=look) for _ in range(4)]
        for thread in threads:
            thread.start()
        for how in (signal.SIGINT, signal.SIGKILL):
            running.back("postgres", running.hit("postgres", how))
        ending.set()
        for thread in threads:
            thread.join()
        assert set(seen) <= {200, 503} and seen.count(200) > 10, set(seen)
        assert {client.get("me").status_code for _ in range(30)} == {200}


def test_people_come_back_in_by_the_command_line(running: Running) -> None:
    import httpx

    made = running.oculum("person", "add", "ada", "--role", "admin")
    assert made.returncode == 0, made.stderr
    password = made.stdout.split(" with ")[1].split()[0]
    body = {"username": "ada", "password": password}
    client = httpx.Client(base_url=f"{running.instance.address}api/v1/")
    answer = client.post("sign-in", json=body)
    assert answer.status_code == 200 and answer.json()["must_change_password"]
    fresh = running.oculum("person", "password", "ADA").stdout.split(" with ")[1].split()[0]
    assert client.get("me").status_code == 401, "sessions end with the old password"
    assert client.post("sign-in", json={**body, "password": fresh}).status_code == 200
    assert "viewer" in running.oculum("person", "role", "ada", "viewer").stdout
    assert running.oculum("person", "role", "nobody", "viewer").returncode == 1
    listed = [line.split()[:2] for line in running.oculum("person", "list").stdout.splitlines()]
    assert listed == sorted(listed), "people stand in the order of their names"
    assert ["ada", "viewer"] in listed and ["admin", "admin"] in listed
