"""The decoder screen on the demo: bytes read in every way, cases that hold a version back, a trial, and the way
back.
"""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from .conftest import Running

BUOY = (Path(__file__).resolve().parents[2] / "examples" / "raft_buoy.ocu").read_text()
TANK = (Path(__file__).resolve().parents[2] / "examples" / "sheets" / "purification_tank.ocu").read_text()


def write(page: Page, text: str) -> None:
    """A whole text as it is pasted: the lines come with their indentation."""
    page.get_by_label("Decoder text").click()
    page.keyboard.press("Control+a")
    page.keyboard.press("Delete")
    page.keyboard.insert_text(text)


def open_decoder(page: Page, running: Running, name: str) -> None:
    page.goto(running.address + "/decoders")
    page.get_by_role("link", name=name).first.click()
    page.wait_for_url("**/decoders/*")
    # By keys: what is told above the desk moves it down as it comes.
    page.get_by_role("button", name="others").press("Enter")
    page.get_by_role("group", name="Which messages").get_by_role("button", name="decoded").press("Enter")
    page.wait_for_url("**outcome=decoded**")
    page.keyboard.press("Escape")
    expect(page.get_by_role("list", name="Values")).to_be_visible()


def test_cases_trial_publish_and_back(page: Page, running: Running) -> None:
    open_decoder(page, running, "purification_tank")
    cases, trial = page.get_by_role("region", name="Cases"), page.get_by_role("region", name="Trial")
    cases.get_by_label("Name of the case").fill("an ordinary message")
    cases.get_by_role("button", name="Keep it as a case").click()
    expect(cases).to_contain_text("all 1 pass")

    # Another scale: the case says at once what comes out otherwise.
    write(page, TANK.replace("tank_level         i16 / 10", "tank_level         i16 / 5"))
    expect(cases).to_contain_text("1 of 1 fail")
    expect(cases.get_by_role("list", name="Kept cases")).to_contain_text("tank_level: expected")

    # The trial: which field, how many values, how far.
    trial.get_by_role("button", name="Run").click()
    differ = page.get_by_role("table", name="Values that differ")
    expect(differ.get_by_role("row")).to_have_count(2)
    expect(differ).to_contain_text("tank_level")
    expect(trial).to_contain_text("values differ, in 1 field")

    # Publishing says at once what it touches and which case fails, and goes on by name only.
    page.get_by_role("button", name="Publish version 2").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("6 devices")
    expect(dialog).to_contain_text("1 of 1 case fails: an ordinary message")
    dialog.get_by_role("button", name="Publish although they fail").click()
    expect(page.get_by_role("button", name="Version 2 is in force")).to_be_visible()

    # Back with one key; versions show what changed.
    page.get_by_role("heading", name="purification_tank").click()
    page.keyboard.press("Alt+z")
    expect(page.get_by_text("draft on version 1")).to_be_visible()
    page.get_by_role("button", name="Versions").click()
    changes = page.get_by_role("dialog", name="Versions").get_by_label("Differences").first
    expect(changes).to_contain_text("i16 / 5")
    page.keyboard.press("Escape")


def test_values_stand_with_their_check_their_course_and_their_times(page: Page, running: Running) -> None:
    open_decoder(page, running, "raft_buoy")
    message, values = page.get_by_role("region", name="Message", exact=True), page.get_by_role("list", name="Values")
    expect(message).to_contain_text("The check is right.")
    expect(message).to_contain_text("through gw-")
    expect(values.get_by_role("listitem").filter(has_text="salinity").get_by_role("img")).to_have_attribute(
        "aria-label", re.compile("from [0-9.]+ to [0-9.]+")
    )
    # The bytes of the check belong to the line that holds them against it.
    page.get_by_role("gridcell", name=re.compile("^byte 20: .*checked")).hover()
    expect(page.locator(".cm-line.cm-lit")).to_contain_text("the check is wrong")
    # A history is one row, which opens to each value with its time.
    open_decoder(page, running, "crate_logger")
    row = values.get_by_role("button").filter(has_text="crate_temperature")
    expect(row).to_have_count(1)
    expect(row).to_contain_text("24 values")
    row.click()
    expect(row).to_have_count(24)
    expect(row.nth(3)).to_contain_text(" at ")
    row.nth(3).click()
    expect(row).to_have_count(1)


def test_bytes_are_read_in_every_plausible_way(page: Page, running: Running) -> None:
    open_decoder(page, running, "raft_buoy")
    page.get_by_role("gridcell", name="byte 3:").click()
    page.get_by_role("gridcell", name="byte 4:").click()
    ways = page.get_by_role("region", name="Ways of reading")
    expect(ways).to_contain_text("Bytes 3 to 4")
    expect(ways.get_by_role("listitem").filter(has_text="u16 big").get_by_role("img")).to_be_visible()
    ways.get_by_label("name").fill("Salt")
    ways.get_by_role("button", name="use salt").click()
    ways.get_by_label("scale").fill("/ 1000")
    ways.get_by_role("combobox", name="unit").fill("gram per lit")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    ways.get_by_role("button", name="take u16 big").click()
    text = page.get_by_label("Decoder text")
    expect(text).to_contain_text("byte 3  salt  u16 big / 1000  g/L")
    expect(text).to_be_focused()  # with the cursor on the new line
    expect(page.locator(".cm-activeLine")).to_contain_text("byte 3  salt")
    expect(page.get_by_role("list", name="Values")).to_contain_text("salt")
    with page.expect_response(lambda answer: answer.request.method == "PATCH"):
        write(page, BUOY)


def test_a_document_is_a_tree_to_pick_from(page: Page, running: Running) -> None:
    open_decoder(page, running, "work_boat")
    tree = page.get_by_role("list", name="Payload")
    expect(tree.get_by_role("listitem").filter(has_text="sog_kn")).to_contain_text("speed")
    write(page, "decoder work_boat for json\n  at t  sent  time iso\n")
    expect(page.get_by_role("list", name="Values").get_by_role("listitem")).to_have_count(1)
    tree.get_by_role("listitem").filter(has_text="sog_kn").get_by_role("button", name="read it").click()
    expect(page.get_by_label("Decoder text")).to_contain_text("at nav.sog_kn  sog_kn  number")
    expect(page.get_by_role("list", name="Values").get_by_role("listitem")).to_have_count(2)


def test_a_line_as_a_form_is_the_same_text(page: Page, running: Running) -> None:
    open_decoder(page, running, "shore_gateway")
    page.get_by_label("Decoder text").get_by_text("uptime").click()
    form = page.get_by_role("region", name="Line as a form")
    expect(form.get_by_label("field", exact=True)).to_have_value("uptime")
    form.get_by_label("field", exact=True).fill("running_for")
    form.get_by_label("expected range").fill("0 to 99999999")
    expect(page.get_by_label("Decoder text")).to_contain_text("running_for  number  s")
    expect(page.get_by_label("Decoder text")).to_contain_text("within 0 to 99999999")
    expect(page.get_by_role("list", name="Values")).to_contain_text("running_for")
    form.get_by_label("hidden").check()
    expect(page.get_by_role("list", name="Values")).not_to_contain_text("running_for")
    # A mistake stands under the word while the form stays what it was.
    form.get_by_label("unit", exact=True).fill("Cell")
    expect(page.get_by_role("list", name="Problems")).to_contain_text("did you mean `Cel`?")
    expect(form.get_by_label("unit", exact=True)).to_have_value("Cell")


def test_a_case_is_changed_in_place(page: Page, running: Running) -> None:
    open_decoder(page, running, "tide_gauge")
    cases = page.get_by_role("region", name="Cases")
    # The demo keeps three that the data sheet works out.
    expect(cases).to_contain_text("all 3 pass")
    cases.get_by_label("Name of the case").fill("a pack")
    cases.get_by_role("button", name="Keep it as a case").click()
    expect(cases).to_contain_text("all 4 pass")
    own = cases.get_by_role("listitem").filter(has=page.get_by_text("a pack", exact=True))
    own.get_by_role("button", name="what it expects").click()
    level = cases.get_by_label("water_level expected")
    right = level.input_value()
    level.fill("99.5")
    level.press("Enter")
    expect(cases).to_contain_text(f"water_level: expected 99.5 m, found {right} m")
    cases.get_by_role("button", name="expect what it gives now").click()
    expect(cases).to_contain_text("all 4 pass")
    own.get_by_role("button", name="remove").click()
    expect(cases).to_contain_text("all 3 pass")
    cases.get_by_role("button", name="put it back").click()
    expect(cases).to_contain_text("all 4 pass")
    own.get_by_role("button", name="remove").click()
    expect(cases).to_contain_text("all 3 pass")


def test_a_rollout_is_narrowed_and_withdrawn_and_a_device_held(page: Page, running: Running) -> None:
    open_decoder(page, running, "weather_mast")
    write(
        page,
        (Path(__file__).resolve().parents[2] / "examples" / "sheets" / "weather_mast.ocu")
        .read_text()
        .replace('"RH"', '"RX"'),
    )
    page.get_by_role("button", name="Publish version 2").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("chosen devices first").check()
    dialog.get_by_label("labels").fill("units")
    expect(dialog).to_contain_text("write name=value")
    dialog.get_by_label("labels").fill("units=knots")
    expect(dialog).to_contain_text("1 of 3 devices")
    # A case of the data sheet has a humidity, which this text leaves out.
    expect(dialog).to_contain_text("cases fails: metric settings")
    dialog.get_by_role("button", name="Publish although they fail").click()
    strip = page.get_by_role("region", name="Rollout")
    expect(strip).to_contain_text("version 2 on 1 device")
    expect(page.get_by_role("button", name="Version 2 is rolling out")).to_be_disabled()

    strip.get_by_role("button", name="Widen or narrow").click()
    dialog.get_by_label("labels").fill("")
    dialog.get_by_label("site, with all below it").select_option(label="Sandrel Sound")
    expect(dialog).to_contain_text("3 of 3 devices")
    dialog.get_by_role("button", name="Change").click()
    expect(strip).to_contain_text("version 2 on 3 devices")

    page.get_by_role("button", name="Who runs which").click()
    listed = page.get_by_role("list", name="Devices and their versions")
    listed.get_by_label("Hold Quay mast").select_option(label="hold on 1")
    expect(listed.get_by_role("listitem").filter(has_text="Quay mast")).to_contain_text("held")
    page.keyboard.press("Escape")
    expect(strip).to_contain_text("version 2 on 2 devices")
    page.get_by_role("heading", name="weather_mast").click()
    page.keyboard.press("Alt+z")
    expect(strip).to_have_count(0)
