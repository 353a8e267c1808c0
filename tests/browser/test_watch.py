"""From the first screen to what needs a hand: the night's outage, what fades, and a shift that is handed over."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running
from tests.browser.pressing import press_twice


def test_the_first_screen_says_how_the_fleet_is(page: Page, running: Running) -> None:
    page.goto(running.address + "/")
    head = page.get_by_role("heading", level=1)
    expect(head).to_contain_text("report")
    counted = [int(text.split()[0]) for text in head.get_by_role("link").all_inner_texts()[:-1]]
    whole = int(head.inner_text().split()[1])
    assert sum(counted) == whole, "the figures add up"
    expect(page.get_by_role("region", name="Fades")).to_contain_text("Buoy 07")
    page.get_by_role("region", name="Fades").get_by_role("link", name="Buoy 07").click()
    expect(page.get_by_role("table", name="Health")).to_contain_text("expected")


def test_the_outage_of_a_gateway_is_found_in_two_acts(page: Page, running: Running) -> None:
    page.goto(running.address + "/watch?span=604800")
    bands = page.get_by_role("region", name="States over time")
    bands.get_by_label("Group").select_option("gateway")
    bands.get_by_role("button", name="Skerry gateway").click()
    listed = bands.get_by_role("list", name="Devices of Skerry gateway").get_by_role("listitem")
    expect(listed).to_have_count(22)
    for text in listed.all_inner_texts():
        assert "silent" in text


def test_figures_of_health_are_sorted_and_open_what_they_are_of(page: Page, running: Running) -> None:
    page.goto(running.address + "/watch")
    page.get_by_role("link", name="Health", exact=True).click()
    table = page.get_by_role("table", name="Health")
    page.get_by_label("Group").select_option("gateway")
    page.get_by_role("button", name="Complete").click()
    expect(table.get_by_role("columnheader", name="Complete")).to_have_attribute("aria-sort", "ascending")
    expect(table.get_by_role("row").nth(2)).to_contain_text("no gateway")
    cells = table.get_by_role("row").get_by_role("cell").and_(table.locator("td:nth-child(4)")).all_inner_texts()[1:]
    shares = [float(text.removesuffix(" %")) for text in cells]
    assert shares == sorted(shares) and len(shares) == 5, "the worst first"
    table.get_by_role("link", name="Skerry gateway").click()
    expect(page.get_by_role("grid", name="Devices").get_by_role("row")).to_have_count(23)


def test_devices_are_held_against_each_other_the_farthest_first(page: Page, running: Running) -> None:
    """The buoy whose battery is emptiest stands first among its kind, with by how much."""
    page.goto(running.address + "/watch")
    page.get_by_role("link", name="Compare", exact=True).click()
    page.get_by_label("Device type").select_option("raft_buoy")
    page.get_by_label("Field").select_option("battery")
    listed = page.get_by_role("list", name="Devices").get_by_role("listitem")
    expect(listed.first).to_contain_text("buoy-07")
    expect(listed.first).to_contain_text("V below the middle")
    page.get_by_label("Site").select_option("gull-bank")
    expect(listed.first).to_contain_text("buoy-33")
    listed.first.get_by_role("link").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Buoy 33")


def test_a_shift_is_handed_over(page: Page, running: Running, untaken: str, tmp_path: Path) -> None:
    """An alarm is taken from here by its key, and what is left is handed over."""
    page.goto(running.address + "/watch")
    hand = page.get_by_role("grid", name="Open alarms by cause")
    row = hand.get_by_role("row").filter(has_text=untaken).first
    row.focus()
    page.keyboard.press("a")
    expect(page.get_by_role("status").filter(has_text="You took")).to_be_visible()
    page.get_by_role("button", name="give back").click()
    expect(row).to_contain_text("not taken")
    with page.expect_download() as found:
        page.get_by_role("button", name="Hand over").click()
    path = tmp_path / "hand-over.md"
    found.value.save_as(path)
    text = path.read_text("utf-8")
    assert text.startswith("# Hand-over") and "## Needs a hand" in text and "## Fades" in text


def test_curves_are_drawn_together_and_taken_away(page: Page, running: Running, tmp_path: Path) -> None:
    page.goto(running.address + "/devices/buoy-12?fields=oxygen")
    page.get_by_role("link", name="with others, an earlier span, as a picture").click()
    expect(page).to_have_url(re.compile(r"line=buoy-12(:|%3A)oxygen"))
    page.get_by_label("Field of a further curve").select_option("water_temperature")
    page.get_by_label("Device of a further curve").fill("buoy-13")
    page.get_by_label("Field of a further curve").select_option("oxygen")
    expect(page.get_by_role("list", name="Chosen").get_by_role("listitem")).to_have_count(4)
    page.get_by_label("all devices of its kind").check()
    expect(page.get_by_text(re.compile(r"the middle eight tenths of \d+ devices"))).to_be_visible()
    page.get_by_label("Earlier span").select_option("86400")
    plot = page.get_by_role("img", name=re.compile("Oxygen: .* values from"))
    expect(plot).to_be_visible()
    for button, begins in (
        ("Picture (PNG)", b"\x89PNG"),
        ("Drawing (SVG)", b"<svg"),
        ("Readings (CSV)", b"device,at,"),
    ):
        with page.expect_download() as download:
            page.get_by_role("button", name=button).or_(page.get_by_role("link", name=button)).click()
        download.value.save_as(tmp_path / "taken")
        body = (tmp_path / "taken").read_bytes()
        assert body.startswith(begins) and len(body) > 1000, button
    assert b"buoy-13" in body
    page.get_by_role("button", name="As a table").click()
    expect(page.get_by_role("table").get_by_role("row")).to_have_count(25)
    page.get_by_role("button", name="Leave out buoy-12 water_temperature").click()
    page.get_by_role("button", name="difference").click()
    expect(page.get_by_role("img", name=re.compile("Buoy 12: Oxygen − Buoy 13: Oxygen"))).to_be_visible()
    page.get_by_role("button", name="how often").click()
    expect(page.get_by_role("img", name="Buoy 13: Oxygen: how often each value came")).to_be_visible()
    page.get_by_role("button", name="one against the other").click()
    expect(page.get_by_text("correlation")).to_be_visible()
    # Dragging over a curve looks closer.
    page.get_by_role("button", name="over time").click()
    box = plot.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 80)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 90, steps=5)
    page.mouse.up()
    expect(page).to_have_url(re.compile("span="))


def test_the_stories_of_the_demo_are_found_from_the_first_screen(page: Page, running: Running) -> None:
    """Each in at most three acts from where one arrives in the morning; the outage of a gateway stands above."""
    begin = running.address + "/watch?span=1209600"
    fading, over = page.get_by_role("region", name="Fades"), page.get_by_role("region", name="Over", exact=True)
    hand = page.get_by_role("grid", name="Open alarms by cause")
    main = page.get_by_role("main")

    page.goto(begin)
    for name in ("Buoy 07", "Buoy 33", "Buoy 58"):  # batteries
        expect(fading).to_contain_text(name)
    expect(hand).to_contain_text("clock is wrong")  # clocks that drift since an update
    expect(page.get_by_role("region", name="Unlike its neighbours")).to_contain_text("Buoy 12")  # the chatterer
    expect(over).to_contain_text("water is turbid")

    expect(fading).to_contain_text("Boat Dunlin")  # a firmware that holds messages back
    fading.get_by_role("link", name="Boat Petrel").click()
    expect(main).to_contain_text("firmware=7")

    # A raft that dragged its mooring, a crate that stood in the sun, the rain that closed the beds.
    for told, who in (("off its place", "Buoy 31"), ("Crate", "too warm"), ("heavy rain", "mast")):
        page.goto(begin)
        over.get_by_role("link", name=re.compile(told)).click()
        expect(page.get_by_role("dialog")).to_contain_text(re.compile(who, re.I))


def test_the_rhythm_of_the_fleet_shows_an_outage_and_leads_to_a_message(page: Page, running: Running) -> None:
    page.goto(running.address + "/watch?span=604800")
    page.get_by_role("link", name="Rhythm", exact=True).click()
    rhythm = page.get_by_role("grid", name="Rhythm")
    expect(rhythm.get_by_role("row").first).to_be_visible()
    assert int(rhythm.get_attribute("aria-rowcount") or 0) > 150
    page.get_by_label("Order").select_option("availability")
    silent = rhythm.get_by_role("row").filter(has_text=re.compile("longest gap [0-9]+ h"))
    expect(silent.first).to_be_visible()
    page.get_by_label("Filter by words").fill("buoy")
    expect(silent).to_have_count(0)
    # By keys alone: down the list, and into a device.
    first = rhythm.get_by_role("row", selected=True).get_by_role("link").inner_text()
    page.keyboard.press("Enter")
    page.keyboard.press("ArrowDown")
    expect(rhythm.get_by_role("row", selected=True).get_by_role("link")).not_to_have_text(first)
    page.get_by_role("button", name="dense").click()
    expect(rhythm.get_by_role("row")).to_have_count(0)
    page.get_by_role("button", name="large rows").click()
    box = page.locator("canvas").first.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 3, box["y"] + 40
    page.mouse.move(x, y)
    expect(page.get_by_text(re.compile("to .*: [0-9,]+ message"))).to_be_visible()
    # A span is dragged over, then a stroke is pressed: what came in that part of the span.
    page.mouse.down()
    page.mouse.move(x + 90, y, steps=4)
    page.mouse.up()
    expect(page).to_have_url(re.compile("to="))
    expect(page.get_by_text(re.compile("a stroke is a message"))).to_be_visible()
    expect(rhythm.get_by_role("row").first).to_be_visible()
    page.locator("canvas").first.click(position={"x": box["width"] / 3, "y": 40})
    expect(page).to_have_url(re.compile("/arrivals.*device=buoy-"))
    expect(page.get_by_role("list", name="Arrivals").get_by_role("listitem").first).to_be_visible()


def test_a_note_stands_in_the_charts_of_its_device(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices/buoy-13")
    notes = page.get_by_role("region", name="Notes")
    notes.get_by_role("button", name="Write a note").click()
    notes.get_by_label("Note", exact=True).fill("sensor was cleaned")
    notes.get_by_role("button", name="Write it").click()
    written = notes.get_by_role("listitem").filter(has_text="sensor was cleaned")
    expect(written).to_contain_text("Ines Amarel")
    page.goto(running.address + "/watch/curves?line=buoy-13:oxygen")
    expect(page.get_by_label("limits, alarms and notes of the first")).to_be_checked()
    page.go_back()
    press_twice(written, "remove")
    expect(written).to_have_count(0)


def test_a_device_is_shown_where_it_is(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices/buoy-12")
    where = page.get_by_role("region", name="Where it is")
    expect(where).to_contain_text(re.compile(r"measured .*m from home; [0-9,]+ positions"))
    expect(where.locator(".map-land").first).to_be_attached()
    where.get_by_role("link", name="on the map").click()
    expect(page).to_have_url(re.compile("/places.*device=buoy-12"))
