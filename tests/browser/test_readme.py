"""The first tour of the README, followed word for word by a new user in the browser and in a terminal."""

from __future__ import annotations

import re
import subprocess
import textwrap
from collections.abc import Iterator

from playwright.sync_api import BrowserContext, expect

from server.instance.instance import ROOT

from .conftest import Running, sign_in
from .following import Step, follow

TOUR = (ROOT / "README.md").read_text().split("## A first tour, in the order of the job")[1].split("| | |")[0]
WAYS = [
    ("choose", r"\*\*(?P<option>[^*]+)\*\*\s+in\s+\*(?P<place>[^*]+)\*"),
    ("press", r"\*\*(?P<button>[^*]+)\*\*"),
    ("write", r"`(?P<text>[^`]+)`\s+into\s+\*(?P<field>[^*]+)\*"),
    ("see", r"“(?P<seen>[^”]+)”"),
    ("replace", r"```ocu\n(?P<definition>.*?)```"),
    ("send", r"```payload\n(?P<payload>.*?)```"),
]
ANY = re.compile("|".join(f"(?P<{what}>{pattern})" for what, pattern in WAYS), re.S)


def steps() -> Iterator[Step]:
    """What the tour tells to do, in its order; the sentence that explains its marks left out."""
    for found in ANY.finditer(TOUR[TOUR.index("1. *Sign in*") :]):
        what = next(name for name, _ in WAYS if found[name] is not None)
        rest = [part for name, part in found.groupdict().items() if part is not None and name != what]
        if what == "replace":
            yield what, (textwrap.dedent(rest[0]),)
        else:
            yield what, tuple(" ".join(part.split()) for part in rest)


def test_the_tour_as_it_is_written(context: BrowserContext, running: Running) -> None:
    page = context.new_page()
    complaints: list[str] = []
    page.on("pageerror", lambda error: complaints.append(str(error)))
    sign_in(page, running, "ines")
    command, done = "", 0
    for what, words in steps():
        done += 1
        if what == "send":
            command = command or page.locator("[data-command='over HTTP']").inner_text()
            subprocess.run(["sh", "-c", command.replace("hello", words[0])], check=True, timeout=20)
        else:
            follow(page, what, words)
    assert done > 50 and complaints == []
    journal = page.get_by_role("table", name="Journal").get_by_role("row").filter(has_text="well-1")
    for what in ("raised", "cleared"):
        expect(journal.filter(has=page.get_by_text(what, exact=True))).to_have_count(1)
