"""The real application with its demo, and headless Chromium on it."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, sync_playwright

from server.runner.instance import ROOT
from tests.instance import new_environment


@dataclass(frozen=True)
class Running:
    address: str
    folder: Path
    passwords: dict[str, str]


@pytest.fixture(scope="session")
def running() -> Iterator[Running]:
    """`up --detach` as a person would do it, with the demo; its first passwords stand in what it prints."""
    folder = new_environment("browser")
    port = os.environ["OCULUM_PORT"]
    command = [str(ROOT / "oculum")]
    try:
        up = [*command, "up", "--detach", "--port", port, "--data", str(folder)]
        said = subprocess.run(up, check=True, timeout=300, stdout=subprocess.PIPE, text=True).stdout
        passwords = dict(re.findall(r"sign in as (\S+) +(\S+)", said))
        yield Running(f"http://127.0.0.1:{port}", folder, passwords)
    finally:
        subprocess.run([*command, "down", "--port", port, "--data", str(folder)], check=False, timeout=120)
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    path = shutil.which("chromium")
    assert path, "Chromium is missing: apt-get install chromium"
    quiet = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"]
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
    yield made
    made.close()


@pytest.fixture
def page(context: BrowserContext, running: Running) -> Iterator[Page]:
    """Signed in as the administrator; anything the page complains of fails the test."""
    found = context.new_page()
    complaints: list[str] = []
    found.on("pageerror", lambda error: complaints.append(str(error)))
    found.on(
        "console",
        lambda m: (
            complaints.append(m.text)
            if m.type == "error" and "401" not in m.text and "409 (Conflict)" not in m.text
            else None
        ),
    )
    sign_in(found, running, "ines")
    yield found
    assert complaints == []


def sign_in(page: Page, running: Running, name: str) -> None:
    page.goto(running.address)
    page.get_by_label("name", exact=True).fill(name)
    page.get_by_label("password").fill(running.passwords[name])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation", name="Places").wait_for()
