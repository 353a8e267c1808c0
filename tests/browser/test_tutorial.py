"""The tutorial, followed as it is written: every step of docs/tutorial.md, in its words."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from playwright.sync_api import BrowserContext

from server.instance.instance import ROOT

from .conftest import Running, sign_in
from .following import Step, follow

TEXT = (ROOT / "docs" / "tutorial.md").read_text()
STEPS = [
    (re.compile(r"Press \*\*(.+?)\*\*\.$"), "press"),
    (re.compile(r"See “(.+?)”\.$"), "see"),
    (re.compile(r"See “(.+?)” in \*(.+?)\*\.$"), "see in"),
    (re.compile(r"Choose \*\*(.+?)\*\* in \*(.+?)\*\.$"), "choose"),
    (re.compile(r"Choose \*(.+?)\*\.$"), "check"),
    (re.compile(r"Write `(.+?)` into \*(.+?)\*\.$"), "write"),
    (re.compile(r"Replace the text by this:$"), "replace"),
]


def steps() -> Iterator[Step]:
    """What the document tells to do. A step in other words than those above fails the test."""
    blocks = iter(re.findall(r"```ocu\n(.*?)```", TEXT, re.S))
    for line in re.findall(r"^- (.+)$", TEXT, re.M):
        for pattern, what in STEPS:
            found = pattern.match(line)
            if found:
                yield what, (next(blocks),) if what == "replace" else found.groups()
                break
        else:
            raise AssertionError(f"no way to follow this step: {line}")


def test_the_tutorial_as_it_is_written(context: BrowserContext, running: Running) -> None:
    page = context.new_page()
    complaints: list[str] = []
    page.on("pageerror", lambda error: complaints.append(str(error)))
    sign_in(page, running, "jory")
    done = 0
    for what, words in steps():
        follow(page, what, words)
        done += 1
    assert done > 30 and complaints == []

    # What it promises: every message of the nine is read, by the new version, over the days before as well.
    start = (datetime.now(UTC) - timedelta(days=3)).isoformat().replace("+00:00", "Z")
    answer = page.request.get(
        f"{running.address}/api/v1/devices/buoy-44/series?field=deep_temperature&from={start}"
    ).json()
    (line,) = answer["fields"]
    assert line["field"] == "deep_temperature" and line["count"] > 200
