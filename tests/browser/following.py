"""Following what a document tells to do, on the real interface, in its own words."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

Step = tuple[str, tuple[str, ...]]


def follow(page: Page, what: str, words: tuple[str, ...]) -> None:
    """Does one step: press, see, see in, choose, check, write, replace (a definition's text)."""
    match what:
        case "press":
            begins = re.compile(rf"^{re.escape(words[0])}(?![-\w])")
            named = page.get_by_role("button", name=begins).or_(page.get_by_role("link", name=begins))
            named.locator("visible=true").first.wait_for()
            exactly = page.get_by_role("button", name=words[0], exact=True)
            exactly = exactly.or_(page.get_by_role("link", name=words[0], exact=True)).locator("visible=true")
            (exactly if exactly.count() else named.locator("visible=true")).first.click()
        case "see":
            expect(page.locator("body")).to_contain_text(words[0])
        case "see in":
            expect(page.get_by_label(words[1], exact=True)).to_contain_text(words[0])
        case "choose":
            page.get_by_label(words[1], exact=True).select_option(label=words[0])
        case "check":
            page.get_by_label(words[0], exact=True).check()
        case "write":
            page.get_by_label(words[1], exact=True).fill(words[0])
        case "replace":
            page.get_by_label(re.compile("^(Decoder|Condition|Route) text$")).click()
            page.keyboard.press("Control+a")
            page.keyboard.press("Delete")
            page.keyboard.insert_text(words[0])
        case _:
            raise AssertionError(f"no way to {what}")
