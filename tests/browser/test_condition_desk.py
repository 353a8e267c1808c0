"""Being sure of a condition before it lives: limits moved on the curve, what people know, a limit for one device."""

from __future__ import annotations

import re

from playwright.sync_api import FloatRect, Locator, Page, expect

from tests.browser.conftest import Running


def begin_copy(page: Page, running: Running, of: str, name: str) -> None:
    """A copy of one of the demo's conditions, over the last seven days."""
    page.goto(running.address + "/conditions?span=604800")
    page.get_by_role("link", name=of, exact=True).click()
    page.get_by_role("button", name="Copy", exact=True).click()
    page.get_by_role("dialog").get_by_label("name", exact=True).fill(name)
    page.get_by_role("button", name="Begin the copy").click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()


def raised(page: Page) -> int:
    """What the trial says once it is done."""
    trial = page.get_by_role("region", name="Trial")
    expect(trial.get_by_role("progressbar")).to_have_count(0)
    found = re.search(r"([\d,]+)\s*raised", trial.inner_text())
    assert found, trial.inner_text()
    return int(found[1].replace(",", ""))


def take_hold(page: Page, handle: Locator) -> FloatRect:
    """A line of the plot under the pressed pointer. While the trial goes on the scale may move it from under it."""
    for _ in range(20):
        handle.hover(position={"x": 200, "y": 12})  # which waits until it stands still
        page.mouse.down()
        box = handle.bounding_box()
        if box and handle.evaluate("(line) => line === document.activeElement"):
            return box
        page.mouse.up()
    raise AssertionError("the line never stands still")


def test_a_limit_is_dragged_on_the_curve_and_held_against_what_was_real(page: Page, running: Running) -> None:
    begin_copy(page, running, "oxygen falls fast", "oxygen falls, tried")
    text = page.get_by_role("textbox", name="Condition text")
    limit = page.get_by_role("slider", name="limit")
    rows = page.get_by_role("grid", name="Alarms of the trial").get_by_role("row")
    expect(rows.nth(1)).to_be_visible()
    before = raised(page)
    assert before > 3

    # By pointer: a stricter limit gives fewer alarms, and the text says it.
    expect(limit).to_have_attribute("aria-valuetext", "-0.35 mg/L/h")
    box = take_hold(page, limit)
    page.mouse.move(box["x"] + 200, box["y"] + 30, steps=4)
    page.mouse.up()
    expect(text).not_to_contain_text("-0.35 mg/L/h")
    dragged = float(limit.get_attribute("aria-valuenow") or 0)
    assert dragged < -0.35
    expect(text).to_contain_text(f"< {dragged:g} mg/L/h held 1 h")

    # What is known: this one was real, that one was not. A limit that is never met catches neither.
    expect(page.get_by_role("region", name="Trial").get_by_role("progressbar")).to_have_count(0)
    rows.nth(1).click(position={"x": 40, "y": 12})
    page.keyboard.press("r")
    trial = page.get_by_role("region", name="Trial")
    expect(trial).to_contain_text("1 of 1 marked as real are caught", use_inner_text=True)
    page.keyboard.press("ArrowDown")
    page.keyboard.press("f")
    expect(trial).to_contain_text("1 of 1 marked as not real are raised", use_inner_text=True)
    limit.focus()
    for _ in range(8):
        page.keyboard.press("PageDown")
    expect(trial).to_contain_text("0 of 1 marked as real are caught", use_inner_text=True)
    expect(trial).to_contain_text("Nothing would have been raised")

    # Back to where it was, by the editor's own key.
    text.click()
    for _ in range(9):
        page.keyboard.press("Control+z")
    expect(trial).to_contain_text("1 of 1 marked as real are caught", use_inner_text=True)


def test_a_delay_and_a_deadband_are_moved_by_keys(page: Page, running: Running) -> None:
    begin_copy(page, running, "oxygen is too low", "oxygen low, tried")
    text = page.get_by_role("textbox", name="Condition text")
    delay, band = page.get_by_role("slider", name="delay"), page.get_by_role("slider", name="deadband")
    expect(delay).to_have_attribute("aria-valuetext", "held 20 min")
    delay.focus()
    page.keyboard.press("ArrowUp")
    expect(text).to_contain_text("held 25 min")
    expect(page.get_by_role("button", name="Publish version 1")).to_be_enabled()
    band.focus()
    page.keyboard.press("PageUp")
    expect(text).not_to_contain_text("deadband 0.5 mg/L")
    expect(text).to_contain_text("held 25 min")


def test_another_limit_for_one_device_is_tried_and_set(page: Page, running: Running) -> None:
    begin_copy(page, running, "oxygen is too low", "oxygen for one")
    limit = page.get_by_role("slider", name="limit")
    expect(limit).to_have_attribute("aria-valuetext", re.compile("mg/L, oxygen_min"))
    rows = page.get_by_role("grid", name="Alarms of the trial").get_by_role("row")
    expect(rows.nth(1)).to_be_visible()
    limit.focus()
    page.keyboard.press("ArrowDown")
    tried = page.get_by_role("status").filter(has_text="Tried: oxygen_min 5 →")
    expect(tried).to_be_visible()
    tried.get_by_role("button", name=re.compile("Set it for buoy-\\d+ alone")).click()
    expect(tried).to_have_count(0)
    sentence = page.get_by_label("What it does")
    expect(sentence).to_contain_text(re.compile("have limits of their own|has a limit of its own"))


def test_a_limit_is_picked_from_how_often_it_would_come(page: Page, running: Running) -> None:
    begin_copy(page, running, "wind is strong", "wind, picked")
    page.get_by_role("button", name="suggest a limit").click()
    points = page.get_by_role("group", name="Alarms a day by limit").get_by_role("button")
    expect(points.first).to_be_visible()
    last = points.last
    said = last.get_attribute("aria-label") or ""
    last.focus()
    page.keyboard.press("Enter")
    value = said.split(" ")[0]
    tried = page.get_by_role("status").filter(has_text=f"→ {value}")
    text = page.get_by_role("textbox", name="Condition text").filter(has_text=f"> {value} ")
    expect(tried.or_(text).first).to_be_visible()


def test_chosen_devices_are_watched_by_a_version_first(page: Page, running: Running) -> None:
    begin_copy(page, running, "battery is low", "battery, tried first")
    publish = page.get_by_role("button", name="Publish version 1")
    publish.click()
    page.get_by_role("dialog").get_by_role("button", name="Publish", exact=True).click()
    expect(page.get_by_role("button", name="Version 1 is in force")).to_be_disabled()

    page.get_by_role("textbox", name="Condition text").click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(
        'condition "battery, tried first" priority low\n  on raft_buoy\n  raise when battery < 3.4 V held 2 h\n'
    )
    page.get_by_role("button", name="Publish version 2").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("chosen devices first").check()
    dialog.get_by_label("share of them, in %").fill("20")
    expect(dialog.get_by_role("status").filter(has_text="of")).to_contain_text(re.compile(r"\d+ of \d+ devices"))
    dialog.get_by_role("button", name="Publish for them").click()
    strip = page.get_by_role("region", name="Rollout")
    expect(strip).to_contain_text(re.compile(r"20 % of them.*version 2 on \d+ devices.*version 1 on \d+ devices", re.S))
    expect(page.get_by_role("button", name="Version 2 is rolling out")).to_be_disabled()
    page.get_by_role("heading", name="battery, tried first").click()
    page.keyboard.press("Alt+z")
    expect(strip).to_have_count(0)
    expect(page.get_by_role("button", name="Publish version 3")).to_be_enabled()
