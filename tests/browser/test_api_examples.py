"""The examples of the API's document, run as they are written."""

from __future__ import annotations

import csv
import json
import os
import re
import subprocess
import sys
import threading

from playwright.sync_api import Page

from server.instance.instance import ROOT
from tests.browser.conftest import Running

BLOCKS = re.findall(r"```(sh|python)\n(.*?)```", (ROOT / "docs" / "api.md").read_text("utf-8"), re.S)


def started(page: Page, running: Running, kind: str, about: str) -> subprocess.Popen[str]:
    """The one example of its kind that says something, begun with a token of its own."""
    ((_, text),) = [block for block in BLOCKS if block[0] == kind and about in block[1]]
    csrf = page.request.get(running.address + "/api/v1/me").json()["csrf"]
    name = f"of {kind} about {about}"
    made = page.request.post(
        running.address + "/api/v1/tokens", headers={"X-CSRFToken": csrf}, data={"name": name, "role": "viewer"}
    )
    assert made.ok, made.text()
    return subprocess.Popen(
        ["bash", "-ec", f"exec {text}"] if kind == "sh" else [sys.executable, "-c", text],
        env={**os.environ, "OCULUM": running.address, "TOKEN": made.json()["key"]},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def run(page: Page, running: Running, kind: str, about: str) -> str:
    """What an example prints."""
    child = started(page, running, kind, about)
    out, wrong = child.communicate(timeout=60)
    assert child.returncode == 0, wrong
    return out


def lines_of(page: Page, running: Running, kind: str, count: int) -> list[str]:
    """The first lines of an example that does not end."""
    child = started(page, running, kind, "/live/readings/")
    too_long = threading.Timer(180, child.kill)
    too_long.start()
    assert child.stdout is not None
    found = [child.stdout.readline() for _ in range(count)]
    too_long.cancel()
    child.kill()
    child.communicate()
    return found


def test_hourly_means_of_a_site_as_a_file(page: Page, running: Running) -> None:
    rows = list(csv.DictReader(run(page, running, "sh", "/history").splitlines()))
    assert {row["field"] for row in rows} == {"oxygen"} and {row["unit"] for row in rows} == {"mg/L"}
    assert len({row["device"] for row in rows}) > 10 and len({row["at"] for row in rows}) >= 24
    assert all(0 < float(row["value"]) < 20 for row in rows)


def test_every_reading_page_by_page(page: Page, running: Running) -> None:
    lines = run(page, running, "python", "/history").splitlines()
    assert len(lines) > 100 and len(set(lines)) == len(lines)
    assert all("water_temperature" in line or "oxygen" in line for line in lines)


def test_the_readings_of_a_site_as_they_come(page: Page, running: Running) -> None:
    (hello,) = [json.loads(line) for line in lines_of(page, running, "sh", 1)]
    assert hello["hello"]["devices"] > 10 and hello["hello"]["units"] == {"oxygen": "mg/L"} and not hello["resync"]


def test_readings_as_they_come_in_a_program(page: Page, running: Running) -> None:
    name, at, values = lines_of(page, running, "python", 1)[0].split(maxsplit=2)
    assert name.startswith("buoy-") and at.endswith("Z") and "water_temperature" in values
