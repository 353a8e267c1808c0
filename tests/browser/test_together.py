"""Two people at one desk: a first password, and what one changed while the other wrote."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from server.instance.instance import ROOT

from .conftest import Running, sign_in
from .test_decoder import open_decoder

OWN = "long tides and short ropes"


def newcomer(running: Running, chromium: Browser) -> Page:
    """Somebody added from the command line, signed in with the password it printed, now with an own one."""
    port = running.address.rsplit(":", 1)[1]
    where = ["--port", port, "--data", str(running.folder)]
    add = [str(ROOT / "oculum"), "person", *where, "add", "nell", "--role", "engineer", "--title", "Nell Oake"]
    said = subprocess.run(add, check=True, timeout=60, stdout=subprocess.PIPE, text=True).stdout
    found = re.search(r"sign in as nell with (\S+)", said)
    assert found, said
    page = chromium.new_context(viewport={"width": 1280, "height": 800}).new_page()
    page.set_default_timeout(20_000)
    page.goto(running.address + "/settings")
    page.get_by_label("name", exact=True).fill("nell")
    page.get_by_label("password").fill(found.group(1))
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Choose a password of your own, Nell Oake")).to_be_visible()
    page.goto(running.address + "/alarms")  # no other page goes around it
    page.get_by_label("the password so far").fill(found.group(1))
    page.get_by_label("new password").fill(OWN)
    page.get_by_label("the new one again").fill(OWN)
    page.get_by_role("button", name="Change it and go on").click()
    expect(page.get_by_role("heading", name="Alarms")).to_be_visible()
    return page


@pytest.fixture
def other(chromium: Browser, running: Running) -> Iterator[Page]:
    """Where somebody else is signed in."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    sign_in(page, running, "jory")
    yield page
    context.close()


def test_what_two_people_write_at_once_is_both_there(page: Page, running: Running, chromium: Browser) -> None:
    other = newcomer(running, chromium)
    open_decoder(page, running, "crate_logger")
    open_decoder(other, running, "crate_logger")

    def write(at: Page, line: str) -> None:
        at.get_by_label("Decoder text").click()
        at.keyboard.press("Control+End")
        at.keyboard.insert_text(f"\n# {line}")

    with page.expect_response(lambda r: r.request.method == "PATCH" and r.ok):
        write(page, "seen by Ines")
    write(other, "seen by Nell")
    choice = other.get_by_role("region", name="Changed meanwhile")
    expect(choice).to_contain_text("Ines")
    expect(choice.get_by_label("Differences")).to_contain_text("+ # seen by Nell")
    expect(choice.get_by_label("Differences")).to_contain_text("- # seen by Ines")
    with other.expect_response(lambda r: r.request.method == "PATCH" and r.ok):
        choice.get_by_role("button", name="Keep mine").click()
    expect(choice).to_have_count(0)

    # The first one hears of it at the next letter, and takes the other text.
    write(page, "seen again")
    mine = page.get_by_role("region", name="Changed meanwhile")
    expect(mine).to_contain_text("Nell Oake")
    mine.get_by_role("button", name="Take theirs").click()
    expect(page.get_by_label("Decoder text")).to_contain_text("seen by Nell")
    expect(page.get_by_label("Decoder text")).not_to_contain_text("seen again")


def test_a_type_changed_meanwhile_is_not_written_over(page: Page, running: Running, other: Page) -> None:
    for at in (page, other):
        at.goto(running.address + "/devices/types/crate_logger")
        expect(at.get_by_label("title", exact=True)).not_to_have_value("")
    page.get_by_label("title", exact=True).fill("Oyster crate")
    page.get_by_role("button", name="Save the type").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    other.get_by_label("title", exact=True).fill("Mussel crate")
    other.get_by_role("button", name="Save the type").click()
    expect(other.get_by_role("alert")).to_contain_text("changed meanwhile")
    other.get_by_role("button", name="Take theirs").click()
    expect(other.get_by_label("title", exact=True)).to_have_value("Oyster crate")
    other.get_by_label("title", exact=True).fill("Shellfish crate")
    other.get_by_role("button", name="Save the type").click()
    expect(other.get_by_text("Saved.")).to_be_visible()


def test_a_device_changed_meanwhile_keeps_what_one_has_written(page: Page, running: Running, other: Page) -> None:
    for at in (page, other):
        at.goto(running.address + "/devices/buoy-71/edit")
        expect(at.get_by_label("title", exact=True).first).not_to_have_value("")
    other.get_by_label("labels").fill("row=7")
    expect(other.get_by_text("Not saved yet.")).to_be_visible()
    page.get_by_label("title", exact=True).first.fill("Buoy 71 by the wall")
    page.get_by_role("button", name="Save the changes").click()
    page.wait_for_url("**/devices/buoy-71*")
    other.get_by_role("button", name="Save the changes").click()
    expect(other.get_by_role("alert")).to_contain_text("changed meanwhile")
    other.get_by_role("button", name="Keep mine").click()
    expect(other.get_by_role("alert")).to_have_count(0)
    expect(other.get_by_label("labels")).to_have_value("row=7")
    other.get_by_label("title", exact=True).first.fill("Buoy 71 again")
    other.get_by_role("button", name="Save the changes").click()
    expect(other.get_by_role("heading", name="Buoy 71 again")).to_be_visible()
    assert running.ask("select labels->>'row' from fleet_device where name = 'buoy-71'") == "7"
