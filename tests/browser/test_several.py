"""Many devices at once: chosen by keys, labelled, looked at, done, taken back; and brought in as a file."""

from __future__ import annotations

import re
from contextlib import suppress
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import Running


def test_chosen_devices_get_a_label_and_lose_it_again(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices?q=tank&order=name")
    grid = page.get_by_role("grid", name="Devices")
    expect(grid.get_by_role("row")).to_have_count(7)
    page.get_by_role("button", name="Change several").click()
    panel = page.get_by_role("region", name="Change several")
    expect(panel).to_contain_text("All 6 devices that match the filter")
    page.keyboard.press("Escape")
    grid.get_by_role("row").nth(1).focus()
    page.keyboard.press("Space")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")
    expect(panel).to_contain_text("2 chosen devices")
    panel.get_by_label("label", exact=True).fill("round")
    panel.get_by_label("its text, empty takes it off").fill("north")
    panel.get_by_role("button", name="Look at it first").click()
    expect(panel.get_by_role("list", name="What becomes of them").get_by_role("listitem")).to_have_count(2)
    expect(panel).to_contain_text("label round north")
    panel.get_by_role("button", name="Do it for 2 devices").click()
    expect(panel.get_by_role("status")).to_have_text("2 changed.")
    having = "select count(*) from fleet_device where labels->>'round' = 'north'"
    assert running.ask(having) == 2
    panel.get_by_role("button", name="Take it back").click()
    expect(panel.get_by_role("status")).to_have_text("Taken back: 2 changed.")
    assert running.ask(having) == 0


def test_a_file_registers_what_is_new_and_says_what_it_refuses(page: Page, running: Running, tmp_path: Path) -> None:
    page.goto(running.address + "/devices?q=tank")
    page.get_by_role("button", name="Change several").click()
    panel = page.get_by_role("region", name="Change several")
    with page.expect_download() as download:
        panel.get_by_role("link", name="These as a file").click()
    text = download.value.path().read_text()
    assert text.startswith("device,title,type,site,") and len(text.splitlines()) == 7
    file = tmp_path / "devices.csv"
    file.write_text("device,title,type,site\ntank-90,Tank 90,purification_tank,quay\ntank-91,Tank 91,tub,quay\n")
    panel.get_by_label("or a CSV file").set_input_files(file)
    panel.get_by_role("button", name="Look at it first").click()
    expect(panel).to_contain_text("type: there is no device type `tub`")
    panel.get_by_role("button", name="Do it for 1 device").click()
    expect(panel.get_by_role("status")).to_have_text("1 created, 1 refused.")
    expect(page.get_by_role("grid", name="Devices")).to_contain_text("Tank 90")
    head = {"X-CSRFToken": page.request.get(running.address + "/api/v1/me").json()["csrf"]}
    assert page.request.delete(running.address + "/api/v1/devices/tank-90", headers=head).ok


def test_devices_are_moved_between_sites_by_dragging_and_by_choice(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices/sites/quay")
    standing = page.get_by_role("region", name="How it is")
    expect(standing).to_contain_text("of the messages expected arrived")
    listed = standing.get_by_role("list", name="Devices here").get_by_role("listitem")
    boat = listed.filter(has_text="Boat Knot")
    moved_ = standing.get_by_role("status").filter(has_text="Moved boat-knot")
    for _ in range(5):  # what is drawn anew while it is dragged falls from the pointer
        if boat.count():
            boat.drag_to(page.get_by_role("link", name=re.compile("^Merle Reach")))
        with suppress(AssertionError):
            expect(moved_).to_be_visible(timeout=5_000)
            break
    expect(moved_).to_be_visible()
    expect(boat).to_have_count(0)
    standing.get_by_role("button", name="put back").click()
    expect(boat).to_have_count(1)
    standing.get_by_label("choose Boat Knot").check()
    standing.get_by_label("Move to").select_option("merle-reach")
    expect(boat).to_have_count(0)
    moved = "select s.name from fleet_device d join fleet_site s on s.id = d.site_id where d.name = 'boat-knot'"
    expect(standing.get_by_role("status")).to_contain_text("Moved boat-knot")
    assert running.ask(moved) == "merle-reach"
    standing.get_by_role("button", name="put back").click()
    expect(boat).to_have_count(1)
    assert running.ask(moved) == "quay"
    page.get_by_role("link", name=re.compile("^Merle Reach")).click()
    expect(page.get_by_role("list", name="Devices here")).to_contain_text("Buoy")
