"""Taking alarms as people do: by cause, together, by keys alone, and putting them aside for a while."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running
from tests.browser.pressing import tab_to


def test_alarms_of_one_cause_are_taken_together_by_keys_and_given_back(
    page: Page, running: Running, untaken: str
) -> None:
    page.goto(running.address + "/alarms")
    grid = page.get_by_role("grid", name="Alarms")
    group = grid.locator("[data-group=condition]").filter(has_text=untaken)
    expect(group).to_be_visible()
    group.focus()
    page.keyboard.press("Enter")
    members = grid.locator("[data-alarm]")
    expect(members.nth(2)).to_be_visible()
    page.keyboard.press("x")
    marked = page.get_by_role("toolbar", name="Marked alarms")
    expect(marked).to_contain_text("alarms marked")
    page.keyboard.press("a")
    told = page.get_by_role("status").filter(has_text="You took")
    expect(told).to_be_visible()
    expect(group).to_contain_text("all acknowledged")
    page.keyboard.press("z")
    expect(told).to_have_count(0)
    expect(group).to_contain_text("unacknowledged")


def test_an_alarm_is_shelved_by_keys_alone_until_the_shelf_ends(page: Page, running: Running, untaken: str) -> None:
    page.goto(running.address + "/alarms?each=1")
    row = page.get_by_role("grid", name="Alarms").locator("[data-alarm]").first
    expect(row).to_be_visible()
    ident = row.get_attribute("data-alarm")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("s")
    box = page.get_by_role("dialog")
    tab_to(page, box.get_by_role("button", name="8 hours"))
    page.keyboard.press("Enter")
    tab_to(page, box.get_by_label("Why"))
    page.keyboard.type("a diver is down")
    tab_to(page, box.get_by_role("button", name="Shelve"))
    page.keyboard.press("Enter")
    own = page.locator(f"[data-alarm='{ident}']")
    expect(own).to_have_count(0)
    tab_to(page, page.get_by_role("button", name="Shelved"))
    page.keyboard.press("Enter")
    expect(own).to_contain_text("a diver is down")
    # Another time replaces it: a few seconds, which the interface cannot say.
    csrf = page.request.get(running.address + "/api/v1/me").json()["csrf"]
    until = (datetime.now(UTC) + timedelta(seconds=4)).isoformat()
    answer = page.request.post(
        running.address + "/api/v1/alarms/shelve",
        headers={"X-CSRFToken": csrf, "Content-Type": "application/json"},
        data=json.dumps({"alarms": [int(ident or 0)], "until": until, "why": "a moment"}),
    )
    assert answer.ok, answer.text()
    page.get_by_role("button", name="Open", exact=True).click()
    expect(own).to_be_visible(timeout=20_000)
    page.get_by_role("button", name="Journal").click()
    page.get_by_label("What happened").select_option("shelves")
    entries = page.get_by_role("table", name="Journal").get_by_role("row")
    expect(entries.first).to_contain_text("off the shelf")


def test_the_sheet_of_an_alarm_and_the_quality_of_all(page: Page, running: Running) -> None:
    page.goto(running.address + "/alarms?show=all&q=turbid")
    row = page.get_by_role("grid", name="Alarms").locator("[data-alarm]").first
    row.get_by_role("button").first.click()
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("Raised as medium")
    expect(sheet).to_contain_text("What to do")
    expect(sheet.get_by_label("The curve around it")).to_be_visible()
    page.keyboard.press("Escape")
    page.goto(running.address + "/alarms?show=quality&span=2592000")
    figures = page.get_by_role("table", name="Figures of the alarms")
    expect(figures).to_contain_text("Most in ten minutes")
    expect(page.get_by_role("table", name="The ten worst devices")).to_contain_text("Buoy 12")


def test_a_selection_of_alarms_is_kept_pressed_and_forgotten(page: Page, running: Running) -> None:
    page.goto(running.address + "/alarms?each=1&show=all")
    priority = page.get_by_label("Priority", exact=True)
    priority.select_option("medium")
    page.get_by_role("button", name="keep this selection").click()
    page.get_by_label("name", exact=True).fill("medium, all of them")
    page.get_by_role("button", name="Keep", exact=True).click()
    kept = page.get_by_role("button", name="medium, all of them", exact=True)
    expect(kept).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="all alarms").click()
    expect(kept).to_have_attribute("aria-pressed", "false")
    kept.click()
    expect(priority).to_have_value("medium")
    page.get_by_role("button", name="forget “medium, all of them”").click()
    expect(kept).to_have_count(0)
