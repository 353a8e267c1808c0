"""Limits of a type as one table: walked and written by keys, many at once, and brought in from a file."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running


def test_limits_are_set_by_keys_and_from_a_file(page: Page, running: Running, tmp_path: Path) -> None:
    page.goto(running.address + "/devices/types/weather_mast/setpoints")
    grid = page.get_by_role("grid", name="Setpoints")
    masts = grid.get_by_role("row").filter(has_text="mast")
    expect(masts.nth(2)).to_be_visible()
    chosen = page.get_by_role("complementary", name="The chosen value")
    expect(chosen).to_contain_text("17 for Weather mast, its own.")

    # Two masts marked and set together, by keys alone.
    cells = grid.get_by_role("gridcell")
    rows = grid.get_by_role("row")
    first = rows.filter(has_text="Merle mast").get_by_role("gridcell")
    first.click()
    page.keyboard.press("x")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("x")
    expect(page.get_by_role("status").filter(has_text="2 marked")).to_be_visible()
    page.keyboard.press("2")
    page.keyboard.type("1.5")
    page.keyboard.press("Enter")
    expect(cells.filter(has_text="21.5")).to_have_count(2)
    expect(chosen).to_contain_text("21.5")

    # Taken away again; what it was stays told.
    page.keyboard.press("Delete")
    expect(cells.filter(has_text="21.5")).to_have_count(1)
    expect(chosen).to_contain_text("taken away")

    # A file: a line that is wrong is refused with the reason, the other is taken.
    file = tmp_path / "limits.csv"
    file.write_text("of,name,wind_max\ndevice,mast-merle,19\ndevice,mast-nowhere,3\n")
    page.get_by_role("button", name="CSV in or out").click()
    page.get_by_label("bring in").set_input_files(file)
    lines = page.get_by_role("list", name="Lines of the file").get_by_role("listitem")
    expect(lines.nth(0)).to_contain_text("would be changed")
    expect(lines.nth(1)).to_contain_text("there is no device `mast-nowhere` of this type")
    page.get_by_role("button", name="Take 1 of 2 lines").click()
    expect(page.get_by_role("status").filter(has_text="1 taken, 1 refused")).to_be_visible()
    expect(first).to_have_text("19")
