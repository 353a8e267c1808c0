"""A hand-over that is sent by itself, as an engineer makes it."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running
from tests.browser.pressing import press_twice
from tests.instance import until


def test_a_hand_over_is_made_and_sent(page: Page, running: Running) -> None:
    page.goto(running.address + "/telling?show=shifts")
    page.get_by_role("button", name="Add a hand-over").click()
    page.get_by_label("Name", exact=True).fill("morning")
    page.get_by_label("Time of day 1").fill("05:45")
    page.get_by_label("Zone of the clock").fill("UTC")
    page.get_by_label("Hours before it").fill("12")
    page.get_by_label("Maud", exact=False).first.check()
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("list", name="Hand-overs")).to_contain_text("at 05:45 to")
    page.get_by_role("button", name="Send one now").click()
    listed = page.get_by_role("list", name="Sent")
    expect(listed.get_by_role("listitem").first).to_contain_text("by")
    until(
        lambda: running.ask("select count(*) from telling_handedover where tries > 0 or state <> 'waiting'"),
        "delivery to try it",
    )
    press_twice(page, "Remove")
    expect(page.get_by_text("What Watch says is sent to contacts")).to_be_visible()
