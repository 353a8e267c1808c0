"""The examples of the API's document, run as they are written."""

from __future__ import annotations

import csv
import os
import re
import subprocess
import sys

from playwright.sync_api import Page

from server.instance.instance import ROOT
from tests.browser.conftest import Running

BLOCKS = re.findall(r"```(sh|python)\n(.*?)```", (ROOT / "docs" / "api.md").read_text("utf-8"), re.S)


def run(page: Page, running: Running, kind: str) -> str:
    """What the one example of its kind prints, called with a token of its own."""
    ((_, text),) = [block for block in BLOCKS if block[0] == kind]
    csrf = page.request.get(running.address + "/api/v1/me").json()["csrf"]
    made = page.request.post(
        running.address + "/api/v1/tokens", headers={"X-CSRFToken": csrf}, data={"name": f"of {kind}", "role": "viewer"}
    )
    assert made.ok, made.text()
    command = ["bash", "-ec", text] if kind == "sh" else [sys.executable, "-c", text]
    told = subprocess.run(
        command,
        env={**os.environ, "OCULUM": running.address, "TOKEN": made.json()["key"]},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert told.returncode == 0, told.stderr
    return told.stdout


def test_hourly_means_of_a_site_as_a_file(page: Page, running: Running) -> None:
    rows = list(csv.DictReader(run(page, running, "sh").splitlines()))
    assert {row["field"] for row in rows} == {"oxygen"} and {row["unit"] for row in rows} == {"mg/L"}
    assert len({row["device"] for row in rows}) > 10 and len({row["at"] for row in rows}) >= 24
    assert all(0 < float(row["value"]) < 20 for row in rows)


def test_every_reading_page_by_page(page: Page, running: Running) -> None:
    lines = run(page, running, "python").splitlines()
    assert len(lines) > 100 and len(set(lines)) == len(lines)
    assert all("water_temperature" in line or "oxygen" in line for line in lines)
