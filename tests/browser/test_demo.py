"""The demo's load broken off, and gone on with: nothing that is there is ever dropped."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from .conftest import Running


def test_a_load_that_was_broken_off_is_gone_on_with_and_work_in_it_stays(running: Running) -> None:
    assert "sign in as ines" in running.first_said, "passwords are told, whatever becomes of the load"
    assert running.first_loaded > 10_000
    assert "messages loaded and worked off" in running.said.stderr, running.said.stderr
    assert "sign in as" not in running.said.stdout, "passwords are shown once"
    assert running.ask("select count(*) from access_person where username = 'mira'") == 1
    total = running.ask("select count(*) from message where channel = 3")
    assert total > 400_000
    assert running.ask("select count(distinct (device_id, received_at)) from message where channel = 3") == total
    assert running.ask("select next_us >= end_us from demo_load")
    waiting = "select count(*) from message where id > (select id from engine_cursor) and channel = 3"
    assert running.ask(waiting) == 0


def test_a_firmware_that_is_not_read_is_found_from_the_first_screen(page: Page, running: Running) -> None:
    page.goto(running.address + "/watch?span=604800")
    bands = page.get_by_role("region", name="States over time")
    bands.get_by_label("Group").select_option("firmware")
    bands.get_by_role("button", name="firmware 2").click()
    listed = bands.get_by_role("list", name="Devices of firmware 2").get_by_role("listitem")
    expect(listed).to_have_count(9)
    for text in listed.all_inner_texts():
        assert "undecodable" in text
