"""The tutorials, followed as they are written: every step of docs/tutorial*.md, in its words."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from playwright.sync_api import BrowserContext, Page, expect

from server.delivery.files import folder_of
from server.instance.instance import ROOT
from tests.instance import until

from .conftest import Running, sign_in
from .following import Step, follow

STEPS = [
    (re.compile(r"Press \*\*(.+?)\*\*\.$"), "press"),
    (re.compile(r"See “(.+?)”\.$"), "see"),
    (re.compile(r"See “(.+?)” in \*(.+?)\*\.$"), "see in"),
    (re.compile(r"Choose \*\*(.+?)\*\* in \*(.+?)\*\.$"), "choose"),
    (re.compile(r"Choose \*(.+?)\*\.$"), "check"),
    (re.compile(r"Write `(.+?)` into \*(.+?)\*\.$"), "write"),
    (re.compile(r"Replace the text by this:$"), "replace"),
]


def steps(name: str) -> Iterator[Step]:
    """What a document tells to do. A step in other words than those above fails the test."""
    text = (ROOT / "docs" / name).read_text()
    blocks = iter(re.findall(r"```ocu\n(.*?)```", text, re.S))
    for line in re.findall(r"^- (.+)$", text, re.M):
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
    for what, words in steps("tutorial.md"):
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


def test_from_an_arrival_to_another_system(page: Page, running: Running) -> None:
    page.goto(running.address)
    for what, words in steps("tutorial-routes.md"):
        follow(page, what, words)

    # What it promises: the next messages go by it, the field is there and explained, and the file has it.
    taken = (
        "select sum(took) from route_activity a join definitions_definition d on d.id = a.definition_id"
        " where d.name = 'tanks by the shift'"
    )
    until(lambda: (running.ask(taken) or 0) > 3, "messages that go by the route", 90)
    outlet = running.ask("select id from telling_outlet where name = 'harbour office'")
    folder = running.folder / "outlets" / folder_of(f"harbour office-{outlet}").name
    until(lambda: any("uv_share" in f.read_text() for f in folder.glob("*.csv")), "the file of the outlet", 60)
    page.goto(running.address + "/devices/tank-1")
    page.get_by_role("button", name="Why Uv share?").click()
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("Derived by route “tanks by the shift”, line 3")
