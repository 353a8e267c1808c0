"""The application with its demo, and a real browser on it."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from server.instance.instance import ROOT
from server.runner import stack

ARGUMENTS = ["--disable-gpu", "--disable-background-networking", "--disable-sync", "--no-first-run"]


@contextmanager
def demo() -> Iterator[tuple[str, dict[str, str]]]:
    """The application with its demo, in a folder of its own: its address, and passwords by person."""
    folder = Path(tempfile.mkdtemp(prefix="oculum-screens-", dir="/var/tmp"))
    folder.chmod(0o711)
    place = ["--port", str(stack.free_ports()), "--data", str(folder)]

    def oculum(*arguments: str) -> subprocess.CompletedProcess[str]:
        command = [str(ROOT / "oculum"), *arguments, *place]
        return subprocess.run(command, check=False, capture_output=True, text=True)

    try:
        done = oculum("up", "--detach")
        if done.returncode:
            raise RuntimeError(done.stderr)
        passwords = dict(re.findall(r"sign in as (\S+) +(\S+)", done.stdout))
        address = re.search(r"Oculum is at (\S+?)/?\s", done.stdout)
        assert passwords and address, done.stdout
        yield address[1], passwords
    finally:
        oculum("down")
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def chromium() -> Iterator[Any]:
    """Chromium without a window; ends the program in words where there is none."""
    try:
        from playwright.sync_api import sync_playwright
    except ImportError:
        raise SystemExit("oculum: this benchmark needs a browser: run ./oculum test style first") from None
    path = shutil.which("chromium")
    if path is None:
        raise SystemExit("oculum: this benchmark needs Chromium: apt-get install chromium")
    with sync_playwright() as playwright:
        root = ["--no-sandbox"] if os.geteuid() == 0 else []
        browser = playwright.chromium.launch(executable_path=path, args=[*ARGUMENTS, *root])
        yield browser
        browser.close()


def signed_in(browser: Any, address: str, who: str, password: str) -> Any:
    """A page of a person, in a context of its own."""
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(address)
    page.get_by_label("name", exact=True).fill(who)
    page.get_by_label("password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation", name="Places").wait_for()
    return page
