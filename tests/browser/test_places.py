"""The map as its users have it: fences drawn by pointer and by keys alone, tried, used, brought in; devices found."""

from __future__ import annotations

import json
import re
from pathlib import Path

from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import Running
from tests.browser.test_tour import write

MAP = "[aria-label=Map]"


def opened(page: Page, running: Running, query: str = "") -> None:
    page.goto(f"{running.address}/places{query}")
    expect(page.get_by_text(re.compile(r"\d+ devices on the map"))).to_be_visible()
    expect(page.locator(f"{MAP} .map-land").first).to_be_attached()


def test_a_fence_is_drawn_tried_and_used(page: Page, running: Running) -> None:
    opened(page, running, "?span=604800")
    page.get_by_role("button", name="Draw a fence").click()
    page.get_by_label("name of the fence").fill("the bight")
    box = page.locator(MAP).bounding_box()
    assert box
    corners = page.get_by_role("list", name="Corners").get_by_role("button")
    for n, (x, y) in enumerate([(0.2, 0.2), (0.8, 0.2), (0.8, 0.75), (0.2, 0.75)], start=1):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        expect(corners).to_have_count(n)
    page.get_by_role("button", name="That is all").click()
    expect(page.get_by_text(re.compile(r"[\d,]+ crossings?; [\d,]+ devices? inside at the end"))).to_be_visible()

    # A corner is dragged; the table says where it is now.
    before = corners.nth(2).inner_text()
    handle = page.locator(".map-corner").nth(2).bounding_box()
    assert handle
    page.mouse.move(handle["x"] + 6, handle["y"] + 6)
    page.mouse.down()
    page.mouse.move(handle["x"] - 60, handle["y"] - 40, steps=5)
    page.mouse.up()
    expect(corners.nth(2)).not_to_have_text(before)
    page.get_by_role("button", name="Keep the fence").click()
    side = page.get_by_role("complementary", name="In words")
    expect(side).to_contain_text("the bight")
    expect(side).to_contain_text("No condition speaks of it.")

    # A condition speaks of it, and the fence says so; it cannot be deleted any more.
    page.goto(running.address + "/conditions")
    page.get_by_role("button", name="Begin a condition").click()
    page.get_by_label("name", exact=True).fill("boat in the bight")
    page.get_by_label("device type").select_option("work_boat")
    page.get_by_role("button", name="Begin it", exact=True).click()
    page.wait_for_url("**/conditions/*")
    write(
        page,
        "Condition text",
        'condition "boat in the bight" priority low\n  on work_boat\n  raise when inside(fix, "the bight")\n',
    )
    page.get_by_role("button", name="Publish version 1").click()
    page.get_by_role("dialog").get_by_role("button", name="Publish").click()
    expect(page.get_by_role("button", name="Version 1 is in force")).to_be_visible()
    opened(page, running)
    page.get_by_role("grid", name="Fences").get_by_role("row").filter(has_text="the bight").click()
    expect(side.get_by_role("link", name="boat in the bight")).to_be_visible()
    expect(side.get_by_role("button", name="Delete it")).to_have_count(0)


def test_a_fence_is_made_changed_and_deleted_by_keyboard_alone(page: Page, running: Running) -> None:
    opened(page, running)
    page.get_by_role("button", name="Draw a fence").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_label("name of the fence")).to_be_focused()
    page.keyboard.type("by keys")
    another = page.get_by_role("textbox", name="Another corner: latitude and longitude")
    another.focus()
    for corner in ("37.40 -42.63", "37.40 -42.60", "37.42 -42.60"):
        page.keyboard.type(corner)
        page.keyboard.press("Enter")
    corners = page.get_by_role("list", name="Corners").get_by_role("button")
    expect(corners).to_have_count(3)
    corners.nth(2).focus()
    page.keyboard.press("i")
    expect(corners).to_have_count(4)
    expect(corners.nth(3)).to_have_text("37.41000 \u221242.61500")
    page.keyboard.press("Shift+ArrowUp")
    expect(corners.nth(3)).to_have_text("37.41009 \u221242.61500")
    page.keyboard.press("Enter")
    page.keyboard.press("Control+a")
    page.keyboard.type("37.42 -42.63")
    page.keyboard.press("Enter")
    expect(corners.nth(3)).to_have_text("37.42000 \u221242.63000")
    page.get_by_role("button", name="Keep the fence").focus()
    page.keyboard.press("Enter")
    side = page.get_by_role("complementary", name="In words")
    expect(side).to_contain_text("Area of 4 corners")
    page.keyboard.press("Escape")
    fences = page.get_by_role("grid", name="Fences")
    row = fences.get_by_role("row").filter(has_text="by keys")
    row.focus()
    page.keyboard.press("Enter")
    delete = side.get_by_role("button", name="Delete it")
    delete.focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    expect(row).to_have_count(0)


def test_fences_come_in_from_a_file_with_what_is_wrong_said(page: Page, running: Running, tmp_path: Path) -> None:
    square = [[-42.64, 37.40], [-42.62, 37.40], [-42.62, 37.41], [-42.64, 37.41], [-42.64, 37.40]]
    good = {"type": "Feature", "properties": {"name": "from a file"},
            "geometry": {"type": "Polygon", "coordinates": [square]}}  # fmt: skip
    bad = {"type": "Feature", "properties": {}, "geometry": good["geometry"]}
    file = tmp_path / "areas.geojson"
    file.write_text(json.dumps({"type": "FeatureCollection", "features": [good, bad]}))
    opened(page, running)
    page.get_by_role("button", name="GeoJSON in or out").click()
    chooser = page.get_by_label("bring in")
    (tmp_path / "none.geojson").write_text("no json")
    chooser.set_input_files(tmp_path / "none.geojson")
    expect(page.get_by_role("alert")).to_contain_text("none.geojson is no JSON")
    chooser.set_input_files(file)
    rows = page.get_by_role("list", name="Features of the file").get_by_role("listitem")
    expect(rows.nth(0)).to_contain_text("would be added")
    expect(rows.nth(1)).to_contain_text("it has no name")
    page.get_by_role("button", name="Take 1 of 2").click()
    expect(page.get_by_role("status").filter(has_text="1 taken, 1 not")).to_be_visible()
    expect(page.get_by_role("grid", name="Fences")).to_contain_text("from a file")
    with page.expect_download() as got:
        page.get_by_role("link", name="All fences as a file").click()
    names = [f["properties"]["name"] for f in json.loads(Path(got.value.path()).read_text())["features"]]
    assert "from a file" in names and "closed harvest area" in names


def test_a_device_in_alarm_is_found_on_the_map_and_a_link_shows_the_same(page: Page, running: Running) -> None:
    opened(page, running)
    alarmed = page.get_by_role("grid", name=re.compile("^In alarm"))
    first = alarmed.get_by_role("row").first
    name = first.get_by_text(re.compile(r"\S")).first.inner_text()
    first.focus()
    page.keyboard.press("Enter")
    side = page.get_by_role("complementary", name="In words")
    expect(side).to_contain_text("position")
    expect(side.get_by_role("heading").first).to_contain_text(name.split("\n")[0])
    assert "device=" in page.url
    page.reload()
    expect(side.get_by_role("link", name="open the device")).to_be_visible()


def test_a_link_to_a_device_opens_whichever_answer_comes_first(page: Page, running: Running) -> None:
    """The way of the device is there before the map knows where anything is."""
    held: list[Route] = []
    free = False
    page.route(re.compile(r"/api/v1/map(\?|$)"), lambda route: route.continue_() if free else held.append(route))
    with page.expect_response(re.compile("/map/track")), page.expect_response(re.compile("/map/ground")):
        page.goto(f"{running.address}/places?device=boat-tern&span=604800")
    expect(page.locator(MAP)).to_be_visible()
    free = True
    for route in held:
        route.continue_()
    side = page.get_by_role("complementary", name="In words")
    expect(side.get_by_role("link", name="open the device")).to_be_visible()
    expect(page.locator(f"{MAP} .map-way")).to_be_attached()
    expect(page.locator(f"{MAP} .map-land").first).to_be_attached()
