"""The first tour of the README, in the real interface, with the real programs: from a new type to a cleared alarm."""

from __future__ import annotations

import os
import signal
import subprocess
import time

import httpx
from playwright.sync_api import BrowserContext, Page, expect

from server.instance.processes import alive
from tests.instance import until

from .conftest import Running, sign_in

DECODER = (
    "decoder bore_probe for bytes, big endian\nbyte 0  level  u16 / 100  m  within 0 to 50\nbyte 2  battery  u8 / 50  V"
)
CONDITION = (
    'condition "bore runs dry" priority critical\non bore_probe\nraise when level < setpoint level_min deadband 0.2 m'
)


def command(page: Page, word: str) -> str:
    """A command that the screen shows filled in, as a person would copy it."""
    return page.locator(f"[data-command='{word}']").inner_text()


def send(shown: str, payload: bytes) -> None:
    """Runs a shown command with `payload` in the place of hello, bytes in octal."""
    written = "".join(f"\\{byte:03o}" for byte in payload)
    done = subprocess.run(["sh", "-c", shown.replace("hello", written)], capture_output=True, timeout=20, check=False)
    assert done.returncode == 0, done.stderr


def write(page: Page, label: str, text: str) -> None:
    editor = page.get_by_label(label)
    editor.click()
    page.keyboard.press("Control+a")
    page.keyboard.press("Delete")
    # The editor indents by itself as one types.
    lines = text.split("\n")
    page.keyboard.insert_text(lines[0] + "".join("\n  " + line for line in lines[1:]) + "\n")


def test_tour_from_a_new_type_to_a_cleared_alarm(page: Page, running: Running) -> None:
    address = running.address
    # A device type with a field and a setpoint.
    page.goto(address + "/devices/types/new")
    page.get_by_label("key").fill("bore_probe")
    page.get_by_label("title", exact=True).fill("Bore probe")
    page.get_by_label("reports every").fill("60")
    page.get_by_role("button", name="add a field").click()
    page.get_by_label("field name").fill("level")
    page.get_by_label("unit", exact=True).fill("m")
    page.get_by_role("button", name="add a setpoint").click()
    page.get_by_label("setpoint name").fill("level_min")
    page.get_by_label("default").fill("2")
    page.get_by_label("setpoint unit").fill("m")
    page.get_by_role("button", name="Add the type").click()
    page.wait_for_url("**/devices/types/bore_probe*")

    # A device; its key is shown once, with both commands filled in.
    page.goto(address + "/devices/add")
    page.get_by_label("name", exact=True).fill("bore-1")
    page.get_by_label("title", exact=True).fill("Bore 1")
    page.get_by_label("device type").select_option("bore_probe")
    page.get_by_label("site", exact=True).select_option("quay")
    page.get_by_label("labels").fill("depth=deep")
    page.get_by_role("button", name="Add and give it a key").click()
    expect(page.get_by_text("it is shown this once")).to_be_visible()
    mqtt, http = command(page, "over MQTT"), command(page, "over HTTP")

    # Arrivals: seen within a second of being sent, though nothing can decode them.
    page.get_by_role("link", name="Watch its arrivals").click()
    expect(page.get_by_text("Nothing arrived here.")).to_be_visible()
    send(mqtt, bytes([0x01, 0x90, 200]))
    arrivals = page.get_by_role("list", name="Arrivals").get_by_role("listitem")
    expect(arrivals).to_have_count(1)
    send(http, bytes([0x01, 0x91, 200]))
    expect(arrivals).to_have_count(2)
    expect(arrivals.first).to_contain_text("no decoder")

    # Its decoder, against that arrival: an error under the word first, then right.
    page.get_by_role("navigation", name="Places").get_by_role("link", name="Decoders").click()
    page.get_by_role("button", name="Begin a decoder").click()
    page.get_by_label("device type").select_option("bore_probe")
    page.get_by_role("button", name="Begin it", exact=True).click()
    page.wait_for_url("**/decoders/*")
    write(page, "Decoder text", DECODER.replace(" m ", " metres "))
    problems = page.get_by_role("list", name="Problems")
    expect(problems).to_contain_text("`metres` is written `m`")
    expect(page.get_by_role("button", name="Publish waits for line 2")).to_be_disabled()
    write(page, "Decoder text", DECODER)
    expect(problems).to_have_count(0)
    values = page.get_by_role("list", name="Values").get_by_role("listitem")
    expect(values.first).to_contain_text("level")
    expect(values.first).to_contain_text("4.01")
    expect(values.nth(1)).to_contain_text("4 V")
    expect(page.get_by_role("gridcell", name="byte 0: 01, level")).to_be_visible()
    trial = page.get_by_role("region", name="Trial")
    trial.get_by_role("button", name="Run").click()
    expect(trial).to_contain_text("2 messages")
    page.get_by_role("button", name="Publish version 1").click()
    page.get_by_role("dialog").get_by_role("button", name="Publish").click()
    expect(page.get_by_role("button", name="Version 1 is in force")).to_be_visible()

    # The older messages are decoded too.
    again = page.get_by_role("region", name="Decode again")
    again.get_by_role("button", name="Decode them again").click()
    expect(again).to_contain_text("2 of 2 decoded")

    # The device is live: a new reading is on its page within a second or so.
    page.goto(address + "/devices/bore-1")
    expect(page.get_by_role("button", name="Level", exact=True)).to_be_visible()
    row = page.get_by_role("row").filter(has=page.get_by_role("button", name="Level", exact=True))
    expect(row).to_contain_text("4.01")
    send(mqtt, bytes([0x01, 0xF4, 200]))
    expect(row).to_contain_text("5")
    expect(page.get_by_role("img", name="Level:")).to_be_visible()

    # A setpoint of its own.
    page.get_by_role("button", name="change level_min").click()
    page.get_by_label("level_min in m").fill("3")
    page.get_by_role("button", name="Set here").click()
    expect(page.get_by_text("this device")).to_be_visible()

    # A condition: drawn, tried over the last week, published.
    page.get_by_role("navigation", name="Places").get_by_role("link", name="Conditions").click()
    page.get_by_role("button", name="Begin a condition").click()
    page.get_by_label("name", exact=True).fill("bore runs dry")
    page.get_by_label("device type").select_option("bore_probe")
    page.get_by_role("button", name="Begin it", exact=True).click()
    page.wait_for_url("**/conditions/*")
    write(page, "Condition text", CONDITION)
    expect(page.get_by_role("img", name="Level:")).to_be_visible()
    expect(page.get_by_role("region", name="Trial")).to_contain_text("Nothing would have been raised for 1 device")
    page.get_by_role("button", name="Publish version 1").click()
    page.get_by_role("dialog").get_by_role("button", name="Publish").click()
    expect(page.get_by_role("button", name="Version 1 is in force")).to_be_visible()

    # Over the limit: the alarm is on screen within two seconds; a key takes it; under the limit it clears.
    page.goto(address + "/alarms")
    alarm = page.get_by_role("grid", name="Alarms").get_by_role("row").filter(has_text="bore runs dry")
    expect(page.get_by_role("heading", name="Alarms")).to_be_visible()
    began = time.monotonic()
    send(mqtt, bytes([0x00, 0xFA, 200]))
    expect(alarm).to_be_visible(timeout=4000)
    assert time.monotonic() - began < 4
    expect(alarm.get_by_role("img", name="critical priority, unacknowledged")).to_be_visible()
    alarm.click(position={"x": 600, "y": 8})  # beside its words, which open it
    page.keyboard.press("a")
    expect(alarm).to_contain_text("taken by Ines Amarel")
    page.keyboard.press("w")
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("Line 2 of decoder bore_probe")
    expect(sheet).to_contain_text("The limit was 3 m")
    page.keyboard.press("Escape")
    send(mqtt, bytes([0x02, 0x58, 200]))
    expect(alarm).to_have_count(0)
    page.get_by_role("button", name="Journal").click()
    journal = page.get_by_role("table", name="Journal").get_by_role("row").filter(has_text="Bore 1")
    expect(journal).to_have_count(3)
    expect(journal.nth(0)).to_contain_text("cleared")
    expect(journal.nth(1)).to_contain_text("acknowledged")
    expect(journal.nth(1)).to_contain_text("by Ines Amarel")
    expect(journal.nth(2)).to_contain_text("raised")


def test_unknown_device_comes_in_through_a_named_key_and_is_adopted(page: Page, running: Running) -> None:
    page.goto(running.address + "/arrivals")
    page.get_by_label("name of a new one").fill("shed")
    page.get_by_role("button", name="Make the key").click()
    send(command(page, "over HTTP").replace("your-device", "Stray_7"), b"\x10\x20")
    unknown = page.get_by_role("listitem").filter(has_text="through shed")
    expect(unknown).to_contain_text("Stray_7")
    unknown.get_by_role("button", name="Adopt as a device").click()
    form = page.locator("form").filter(has=page.get_by_role("button", name="Adopt", exact=True))
    expect(form.get_by_label("name", exact=True)).to_have_value("stray-7")
    form.get_by_role("button", name="Adopt", exact=True).click()
    expect(page.get_by_label("The key").filter(has_text="User name stray-7")).to_be_visible()
    page.goto(running.address + "/devices/stray-7")
    expect(page.get_by_text("came as Stray_7 through shed")).to_be_visible()
    expect(page.get_by_text("no decoder").or_(page.get_by_text("refused")).first).to_be_visible()


def test_the_lookback_shows_the_fleet_as_it_was(page: Page, running: Running) -> None:
    """At the gateway's outage 22 buoys and their gateway were silent; pressing once comes back to now."""
    moment = page.evaluate("new Date(Date.now() - 3.45 * 86400000).toISOString()")
    page.goto(f"{running.address}/devices?to={moment}")
    expect(page.get_by_role("button", name="silent 23")).to_be_visible()
    expect(page.get_by_text("The past.")).to_be_visible()
    expect(page.get_by_role("navigation", name="Places")).to_contain_text("23 of 1")
    page.get_by_role("button", name="Now Alt Home").click()
    expect(page.get_by_text("The past.")).to_have_count(0)
    assert "to=" not in page.url
    slider = page.get_by_role("slider", name="Moment shown")
    slider.focus()
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_text("The past.")).to_be_visible()
    page.keyboard.press("End")
    expect(page.get_by_text("The past.")).to_have_count(0)


def test_palette_goes_anywhere_by_keys(page: Page, running: Running) -> None:
    page.goto(running.address + "/devices")
    page.get_by_role("grid", name="Devices").wait_for()
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Find or do anything").fill("buoy 31")
    expect(page.get_by_role("option", name="Buoy 31")).to_be_visible()
    page.keyboard.press("Enter")
    page.wait_for_url("**/devices/buoy-31*")


def test_a_viewer_looks_and_cannot_act(context: BrowserContext, running: Running) -> None:
    page = context.new_page()
    sign_in(page, running, "odo")
    page.goto(running.address + "/alarms")
    expect(page.get_by_role("heading", name="Alarms")).to_be_visible()
    expect(page.get_by_role("button", name="Acknowledge")).to_have_count(0)
    page.goto(running.address + "/devices")
    expect(page.get_by_role("link", name="Buoy 01")).to_be_visible()
    expect(page.get_by_role("link", name="Add a device")).to_have_count(0)


def test_the_screen_says_when_it_is_not_live_and_catches_up(context: BrowserContext, running: Running) -> None:
    page = context.new_page()
    sign_in(page, running, "ines")
    page.goto(running.address + "/arrivals")
    expect(page.get_by_role("status").filter(has_text="live").first).to_be_visible()
    pid = alive(running.folder, "web")
    assert pid is not None
    os.kill(pid, signal.SIGKILL)
    expect(page.get_by_text("Not live.")).to_be_visible()
    # The keeper starts the process again, and the page comes back by itself.
    until(lambda: answers(running), "the web process to be back", 60)
    expect(page.get_by_text("Not live.")).to_have_count(0)


def answers(running: Running) -> bool:
    try:
        return httpx.get(running.address + "/alive").status_code == 200
    except httpx.TransportError:
        return False
