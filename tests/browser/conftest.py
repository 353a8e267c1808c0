"""The real application with its demo, and headless Chromium on it."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from server.instance.instance import ROOT, Instance
from tests.instance import new_environment, until

expect.set_options(timeout=20_000)  # as long as a page may take on a small machine under load


DEMO_DAYS = 15  # what fades is looked for in two weeks


@dataclass(frozen=True)
class Running:
    """An instance with the demo. first_said: what the `up` that was broken off said; first_loaded: messages then;
    said: what the `up` that went on said.
    """

    address: str
    folder: Path
    passwords: dict[str, str]
    first_said: str
    first_loaded: int
    said: subprocess.CompletedProcess[str]

    def ask(self, query: str) -> Any:
        return asked(self.folder, query)


def asked(folder: Path, query: str) -> Any:
    """A single value out of the database; None while that does not answer."""
    port = int(os.environ["OCULUM_PORT"])
    try:
        with psycopg.connect(Instance(folder, port, port + 1, port + 2).database_url()) as connection:
            row = connection.execute(query).fetchone()
            return row[0] if row else None
    except psycopg.Error:
        return None


@pytest.fixture(scope="session")
def running() -> Iterator[Running]:
    """`up` as a person would do it, with the demo, broken off in the middle of its load and begun again; the first
    passwords stand in what it prints.
    """
    folder = new_environment("browser")
    os.environ["OCULUM_DEMO_DAYS"] = str(DEMO_DAYS)
    port = os.environ["OCULUM_PORT"]
    place = ["--port", port, "--data", str(folder)]

    def oculum(*arguments: str) -> subprocess.CompletedProcess[str]:
        command = [str(ROOT / "oculum"), *arguments, *place]
        return subprocess.run(command, check=False, timeout=400, capture_output=True, text=True)

    try:
        first = subprocess.Popen(
            [sys.executable, "-m", "server.runner", "up", *place],
            cwd=ROOT,
            stdout=subprocess.PIPE,
            text=True,
            # Where the tests run in the background, what they start would not hear of it.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )
        step = f"select count(*) from demo_load where next_us > end_us - {DEMO_DAYS - 1}::bigint * 86400 * 1000000"
        until(lambda: asked(folder, step), "a day of the demo to be loaded", 120)
        first.send_signal(signal.SIGINT)
        out, _ = first.communicate(timeout=120)
        assert first.returncode == 130, out
        assert oculum("up", "--empty", "--detach").returncode == 0
        loaded = asked(folder, "select count(*) from message where channel = 3")
        assert oculum("person", "add", "mira", "--role", "engineer").returncode == 0
        assert oculum("down").returncode == 0
        said = oculum("up", "--detach")
        assert said.returncode == 0, said.stderr
        passwords = dict(re.findall(r"sign in as (\S+) +(\S+)", out))
        yield Running(f"http://127.0.0.1:{port}", folder, passwords, out, loaded, said)
    finally:
        oculum("down")
        shutil.rmtree(folder, ignore_errors=True)


# As on a line where bytes are dear: no screen is fetched before it is wanted.
SAVING = "Object.defineProperty(NetworkInformation.prototype, 'saveData', { get: () => true })"


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    path = shutil.which("chromium")
    assert path, "Chromium is missing: apt-get install chromium"
    quiet = [
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--no-first-run",
    ]
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=path, args=[*quiet, *(["--no-sandbox"] if os.geteuid() == 0 else [])]
        )
        yield browser
        browser.close()


@pytest.fixture
def context(chromium: Browser) -> Iterator[BrowserContext]:
    made = chromium.new_context(viewport={"width": 1280, "height": 800})
    made.set_default_timeout(20_000)
    made.add_init_script(SAVING)
    yield made
    made.close()


@pytest.fixture(scope="session")
def cookies() -> list[Any]:
    """Of the administrator, once somebody has signed in as such."""
    return []


@pytest.fixture
def page(context: BrowserContext, running: Running, cookies: list[Any]) -> Iterator[Page]:
    """Signed in as the administrator; anything the page complains of fails the test."""
    found = context.new_page()
    complaints: list[str] = []
    found.on("pageerror", lambda error: complaints.append(str(error)))
    found.on(
        "console",
        lambda m: (
            complaints.append(m.text)
            if m.type == "error"
            and "401" not in m.text
            and "409 (Conflict)" not in m.text
            # A part that is slow for a while is an answer, which the screen gives in words.
            and not m.location.get("url", "").endswith("/healthz")
            else None
        ),
    )
    context.add_cookies(cookies)
    if not cookies or context.request.get(running.address + "/api/v1/me").json().get("username") != "ines":
        sign_in(found, running, "ines")
        cookies[:] = context.cookies()
    yield found
    assert complaints == []


def sign_in(page: Page, running: Running, name: str) -> None:
    page.goto(running.address)
    page.get_by_label("name", exact=True).fill(name)
    page.get_by_label("password").fill(running.passwords[name])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation", name="Places").wait_for()


@pytest.fixture(scope="session")
def untaken(chromium: Browser, running: Running) -> str:
    """A condition raised on several devices at once, which nobody has taken. What the demo has open at the moment
    depends on the time of day: the oxygen is low in its nights.
    """
    name, context = "the mooring is looked at", chromium.new_context()
    page = context.new_page()
    sign_in(page, running, "ines")
    head = {"X-CSRFToken": page.request.get(running.address + "/api/v1/me").json()["csrf"]}
    text = f'condition "{name}" priority low\n  on raft_buoy at site "lower-reach"\n  raise when oxygen > 0 mg/L\n'
    api = running.address + "/api/v1/definitions"
    body = {"kind": "condition", "name": name, "type": "raft_buoy", "draft": text}
    made = page.request.post(api, headers=head, data=body)
    assert made.ok, made.text()
    published = page.request.post(f"{api}/{made.json()['id']}/publish", headers=head, data={"text": text})
    assert published.ok, published.text()
    query = f"select count(*) from alarms_alarm where condition_id = {made.json()['id']}"
    until(lambda: (running.ask(query) or 0) > 5, "its alarms")
    context.close()
    return name
