"""From the first screen to what needs a hand: the night's outage, what fades, and a shift that is handed over."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running


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
