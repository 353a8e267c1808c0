"""What costs a new user an hour, done as one: wrong input, leaving at once, finding, changing, taking back."""

from __future__ import annotations

import re

from playwright.sync_api import Browser, Page, expect

from .conftest import Running, sign_in
from .pressing import press_twice
from .test_decoder import open_decoder


def test_a_device_is_changed_and_what_cannot_be_read_is_said(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices/buoy-77")
    page.get_by_role("link", name="Change").click()
    page.get_by_label("latitude").fill("37,4")
    expect(page.get_by_text("`37,4` is no number: write 37.4, with a point")).to_be_visible()
    expect(page.get_by_role("button", name="Save the changes")).to_be_disabled()
    page.get_by_label("latitude").fill("37.4")
    page.get_by_label("labels").fill("row 2, stage=spat")
    expect(page.get_by_text("`row` is no label: write name=value")).to_be_visible()
    page.get_by_label("labels").fill("row=2, stage=spat")
    page.get_by_label("reports every").fill("a while")
    expect(page.get_by_text("`a while` is no length of time")).to_be_visible()
    page.get_by_label("reports every").fill("15 min")
    page.get_by_label("title", exact=True).first.fill("Buoy 77 at the edge")
    page.get_by_role("button", name="Save the changes").click()
    page.wait_for_url("**/devices/buoy-77*")
    expect(page.get_by_role("heading", name="Buoy 77 at the edge")).to_be_visible()
    expect(page.get_by_text("row=2")).to_be_visible()
    page.get_by_role("link", name="Change").click()
    expect(page.get_by_label("reports every")).to_have_value("15 min")
    page.get_by_text("What was changed, and by whom").click()
    expect(page.get_by_text("changed device by ines")).to_be_visible()


def test_a_site_is_added_under_another_and_devices_are_found_in_it(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices/sites/new")
    page.get_by_label("name", exact=True).fill("North Quay 2")
    page.get_by_role("button", name="use north-quay-2").click()
    page.get_by_label("title", exact=True).fill("North quay, second berth")
    page.get_by_label("lies in").select_option(label="Landing Quay")
    page.get_by_role("button", name="Add the site").click()
    page.wait_for_url("**/devices/sites/north-quay-2*")
    page.get_by_label("title", exact=True).fill("North quay, third berth")
    expect(page.get_by_text("Not saved yet.")).to_be_visible()
    page.get_by_role("button", name="Save the site").click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    press_twice(page, "Delete the site")
    page.wait_for_url(re.compile(r"/devices/sites(\?.*)?$"))
    expect(page.get_by_role("link", name="North quay, third berth")).to_have_count(0)


def test_labels_and_names_are_found_as_they_are_shown(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices?order=name")
    page.get_by_label("Filter by words").fill("firmware=2")
    expect(page.get_by_text("1 to 9 of 9")).to_be_visible()
    page.get_by_label("Filter by words").fill("nothing like it")
    expect(page.get_by_text("No device matches.")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("Control+k")
    find = page.get_by_role("combobox", name="Find or do anything")
    find.fill("buoy 4")
    options = page.get_by_role("option")
    expect(options.first).to_contain_text("Buoy 40")
    expect(page.get_by_role("option", selected=True)).to_contain_text("Buoy 40")
    for words, found in (
        ("water_temp", "field of Raft buoy"),
        ("merle", "site"),
        ("help", "place"),
        ("sign out", "do"),
    ):
        find.fill(words)
        expect(page.get_by_role("listbox", name="Found")).to_contain_text(found)
    find.fill("checksum")
    expect(page.get_by_role("listbox", name="Found")).to_contain_text("help, Language")


def test_focus_comes_back_from_why_from_find_and_from_help(page: Page, running: Running) -> None:
    page.goto(running.address + "/alarms")
    rows = page.get_by_role("grid", name="Alarms").get_by_role("row")
    rows.first.wait_for()
    page.keyboard.press("ArrowDown")
    chosen = page.get_by_role("row", selected=True)
    expect(chosen).to_be_focused()
    page.keyboard.press("w")
    expect(page.get_by_role("dialog")).to_contain_text("Why?")
    page.keyboard.press("Escape")
    expect(chosen).to_be_focused()
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Find or do anything").wait_for()
    page.keyboard.press("Escape")
    expect(chosen).to_be_focused()
    open_decoder(page, running, "raft_buoy")
    text = page.get_by_label("Decoder text")
    text.get_by_text("otherwise", exact=True).click()
    page.keyboard.press("F1")
    sheet = page.get_by_role("dialog", name="otherwise")
    expect(sheet).to_contain_text("Refusing a message, branching, repeating")
    page.keyboard.press("Escape")
    expect(text).to_be_focused()


def test_what_is_written_stays_when_one_leaves_at_once(page: Page, running: Running) -> None:
    open_decoder(page, running, "work_boat")
    page.get_by_label("Decoder text").click()
    page.keyboard.press("Control+End")
    page.keyboard.insert_text("\n# kept")
    page.get_by_role("navigation", name="Places").get_by_role("link", name="Alarms").click()
    expect(page.get_by_role("heading", name="Alarms")).to_be_visible()
    open_decoder(page, running, "work_boat")
    expect(page.get_by_label("Decoder text")).to_contain_text("# kept")


def test_the_desk_shows_text_form_message_and_values_together(chromium: Browser, running: Running) -> None:
    """At the size of a small laptop nothing of the four is below the fold, and long lines end inside their pane."""
    for ground in ("light", "dark"):
        context = chromium.new_context(viewport={"width": 1280, "height": 800}, color_scheme=ground)  # type: ignore[arg-type]
        page = context.new_page()
        sign_in(page, running, "jory")
        open_decoder(page, running, "raft_buoy")
        page.get_by_label("Decoder text").get_by_text("turbidity", exact=True).click()
        expect(page.get_by_label("Line as a form").get_by_label("field", exact=True)).to_have_value("turbidity")
        for part in (
            page.locator(".cm-editor"),
            page.get_by_label("Line as a form"),
            page.get_by_role("grid", name="Payload bytes"),
            page.get_by_role("list", name="Values").get_by_role("listitem").first,
            page.get_by_role("region", name="Trial"),
        ):
            box = part.bounding_box()
            assert box is not None and box["y"] >= 0 and box["y"] + min(box["height"], 60) <= 800, (ground, box)
        scroller = page.locator(".cm-scroller")
        assert scroller.evaluate("e => e.scrollWidth <= e.clientWidth + 1"), "no line leaves its pane"
        handle = page.get_by_role("separator", name="Width of the text")
        before = page.locator(".cm-editor").bounding_box()
        handle.focus()
        page.keyboard.press("ArrowRight")
        after = page.locator(".cm-editor").bounding_box()
        assert before is not None and after is not None and after["width"] > before["width"]
        context.close()


def test_times_are_shown_in_the_zone_that_was_chosen(page: Page, running: Running) -> None:
    page.goto(running.address + "/settings")
    page.get_by_label("Times are shown in").select_option(label="UTC")
    expect(page.get_by_text(re.compile(r"It is .* UTC\."))).to_be_visible()
    lookback = page.get_by_role("region", name="Lookback")
    expect(lookback).to_contain_text("· UTC")
    expect(lookback).to_contain_text("today")
    page.get_by_label("Times are shown in").select_option(index=2)
    expect(lookback).to_contain_text("UTC−2")
