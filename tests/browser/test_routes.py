"""From what arrives to another system: a route begun from an arrival, tried, published, moved, seen in what follows."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from playwright.sync_api import Page, expect

from server.instance.instance import ROOT
from tests.browser.conftest import Running
from tests.instance import until

BOOK = "Routes in their order"


def write(page: Page, text: str) -> None:
    box = page.get_by_role("textbox", name="Route text")
    box.click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(text)


def test_the_book_shows_the_demo_s_routes_and_where_readings_go(page: Page, running: Running) -> None:
    page.goto(running.address + "/routes?span=604800")
    book = page.get_by_role("grid", name=BOOK)
    fix = book.get_by_role("row").filter(has_text="no fix is no place")
    expect(fix).to_contain_text("receiver has no fix yet")
    expect(fix).to_contain_text("dropped")
    expect(book.get_by_role("row").filter(has_text="boats of the old fleet")).to_contain_text("has seen nothing")
    flow = page.get_by_role("region", name="Where readings go")
    flow.get_by_role("button", name="quay buyers").click()
    expect(book.get_by_role("row")).to_have_count(2)  # the head, and the one route that sends there
    expect(book).to_contain_text("buyers see the cold chain")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="all routes again").click()
    expect(book.get_by_role("row")).to_have_count(11)


def test_a_mistake_in_a_route_is_said_where_it_stands(page: Page, running: Running) -> None:
    page.goto(running.address + "/routes/try")
    page.get_by_label("Device type").select_option("purification_tank")
    arrivals = page.get_by_role("grid", name="Arrivals")
    arrivals.get_by_role("row").first.click()
    becomes = page.get_by_role("region", name="What becomes of it")
    expect(becomes).to_contain_text("tanks only when they move")
    page.get_by_role("button", name="Begin a route with this").click()
    form = page.locator("form").filter(has=page.get_by_role("button", name="Begin it"))
    form.get_by_label("what for").select_option("derive")
    form.get_by_label("name").fill("tanks that warm")
    form.get_by_role("button", name="Begin it").click()
    expect(page.get_by_role("heading", name="tanks that warm")).to_be_visible()

    # A mistake is said where it stands, and the way of the message waits for it.
    write(page, 'route "tanks that warm"\n  on purification_tank\n  derive warm = water_temperature + 1 L\n')
    expect(page.get_by_text("Waits for a text without mistakes.")).to_be_visible()
    expect(page.get_by_role("button", name="Publish waits for line 3")).to_be_disabled()
    write(page, 'route "tanks that warm"\n  on purification_tank\n  derive warm = water_temperature + 1 K\n')
    expect(page.get_by_role("button", name="Publish version 1")).to_be_enabled()


def test_routes_are_put_into_another_order_by_keys_and_ended(page: Page, running: Running) -> None:
    page.goto(running.address + "/routes")
    book = page.get_by_role("grid", name=BOOK)
    names = book.get_by_role("row").locator("a")
    second = names.nth(1).inner_text()
    page.keyboard.press("ArrowDown")
    expect(book.locator('[aria-selected="true"]')).to_contain_text(second)
    page.keyboard.press("Alt+PageUp")
    expect(names.first).to_have_text(second)
    effect = page.get_by_role("region", name="Another order")
    expect(effect).to_contain_text("nothing would be otherwise.")
    page.keyboard.press("Escape")
    expect(names.nth(1)).to_have_text(second)
    page.keyboard.press("Alt+PageUp")
    effect.get_by_role("button", name="Put in this order").click()
    expect(effect).to_have_count(0)
    expect(names.first).to_have_text(second)
    page.reload()
    expect(names.first).to_have_text(second)
    until(
        lambda: running.ask("select count(*) from control_event where kind = 'order'") == 1, "the order in the stream"
    )
    page.keyboard.press("Alt+PageDown")
    expect(names.nth(1)).to_have_text(second)
    effect.get_by_role("button", name="Put in this order").click()
    expect(effect).to_have_count(0)


def test_a_table_comes_in_and_a_bad_row_keeps_it_out(page: Page, running: Running) -> None:
    page.goto(running.address + "/routes/tables")
    expect(page.get_by_role("region", name="bottle samples")).to_contain_text("looked up by salinity by the bottle")
    page.get_by_role("button", name="Add a table").click()
    form = page.get_by_role("form", name="A new table")
    form.get_by_label("name", exact=True).fill("owners")
    form.get_by_label("CSV", exact=True).fill("device, owner !\nboat-knot,Maud\nboat-knot,Jory\n")
    form.get_by_role("button", name="Look at it first").click()
    expect(form.get_by_role("list", name="Refused rows")).to_contain_text("`boat-knot` stands in line 2 already")
    form.get_by_label("CSV", exact=True).fill("device, owner !\nboat-knot,Maud\nboat-halyard,Jory\n")
    form.get_by_role("button", name="Take it").click()
    expect(page.get_by_role("region", name="owners").get_by_role("row")).to_have_count(3)


def test_an_outlet_that_fails_says_so_where_routes_send_to_it_and_comes_back(page: Page, running: Running) -> None:
    """The stand-in is told to fail, and to work again."""
    post = running.address.rsplit(":", 1)[0] + f":{int(running.address.rsplit(':', 1)[1]) + 4}"
    page.goto(running.address + "/routes?span=604800")
    page.request.get(f"{post}/mode/fail")
    body = {"name": "display", "kind": "webhook", "settings": {"url": f"{post}/display", "headers": {}}}
    head = {"X-CSRFToken": page.request.get(running.address + "/api/v1/me").json()["csrf"]}
    made = page.request.post(running.address + "/api/v1/outlets", headers=head, data=body)
    assert made.ok, made.text()
    text = 'route "display of the water"\n  on raft_buoy\n  send water_temperature to "display"\n'
    draft = {"kind": "route", "name": "display of the water", "type": "raft_buoy", "draft": text}
    route = page.request.post(running.address + "/api/v1/definitions", headers=head, data=draft).json()
    api = f"{running.address}/api/v1/definitions/{route['id']}"
    assert page.request.post(f"{api}/publish", headers=head, data={"text": text}).ok
    try:
        row = page.get_by_role("grid", name=BOOK).get_by_role("row").filter(has_text="display of the water")
        expect(row).to_contain_text("display is blocked: answered 503", timeout=90_000)
        page.request.get(f"{post}/mode/well")
        query = f"select coalesce(sum(readings), 0) from reading_out_log where good and outlet_id = {made.json()['id']}"
        until(lambda: (running.ask(query) or 0) > 0, "readings that went out at last", 90)
        came = page.request.get(f"{post}/came").json()["came"]
        told = next(json.loads(m["text"]) for m in came if m["to"] == "/display")
        assert told[0]["type"] == "oculum.reading" and "water_temperature" in told[0]["data"]["values"]
        page.reload()
        expect(row).not_to_contain_text("is blocked")
    finally:
        page.request.get(f"{post}/mode/well")
        page.request.post(f"{api}/retire", headers=head)
        page.request.delete(f"{running.address}/api/v1/outlets/{made.json()['id']}", headers=head)


def test_all_that_is_written_goes_out_as_text_is_checked_and_applied(
    page: Page, running: Running, tmp_path: Path
) -> None:
    page.goto(running.address + "/settings")
    head = {"X-CSRFToken": page.request.get(running.address + "/api/v1/me").json()["csrf"]}
    made = page.request.post(running.address + "/api/v1/tokens", headers=head, data={"name": "review", "role": "admin"})
    assert made.ok, made.text()
    told = {**os.environ, "OCULUM_TOKEN": made.json()["key"]}

    def oculum(*words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "server.runner", *words]
        return subprocess.run(command, cwd=ROOT, env=told, capture_output=True, text=True, check=False)

    out = tmp_path / "out"
    exported = oculum("export", str(out), "--url", running.address)
    assert exported.returncode == 0, exported.stderr
    assert "routes/01-no-fix-is-no-place.ocu" in {p.relative_to(out).as_posix() for p in out.rglob("*.ocu")}
    assert oculum("check", str(out)).returncode == 0
    same = oculum("apply", str(out), "--dry-run", "--url", running.address)
    assert same.returncode == 0 and same.stdout == "" and "0 differ" in same.stderr

    route = out / "routes" / "03-swinging-is-no-way.ocu"
    route.write_text(route.read_text().replace("0.6 [kn_i]", "0.5 [kn_i]"))
    plan = oculum("apply", str(out), "--dry-run", "--url", running.address)
    assert "~ changed" in plan.stdout and "+  when state" in plan.stdout and "nothing is applied" in plan.stderr
    assert oculum("apply", str(out), "--url", running.address).returncode == 0
    page.goto(running.address + "/routes")
    book = page.get_by_role("grid", name=BOOK)
    expect(book.get_by_role("row").filter(has_text="swinging is no way")).to_contain_text("0.5 kn")
    # The same on a screen: a folder is chosen, its plan is read, and nothing of it is applied while it is refused.
    route.write_text(route.read_text().replace("0.5 [kn_i]", "0.7 [kn_i]"))
    page.goto(running.address + "/settings/archive")
    page.locator("input[type=file]").set_input_files(out)
    plan_shown = page.get_by_role("list", name="What becomes of it")
    expect(plan_shown).to_contain_text("swinging is no way")
    page.get_by_text("the difference").click()
    expect(plan_shown).to_contain_text("0.7 [kn_i]")
    page.get_by_role("button", name="Apply 1").click()
    expect(page.get_by_text("Applied.")).to_be_visible()
    route.write_text(route.read_text().replace("speed", "sped"))
    checked = oculum("check", str(out))
    assert checked.returncode == 1 and "`sped` is not a field of `work_boat`: did you mean `speed`?" in checked.stdout
    refused = oculum("apply", str(out), "--url", running.address)
    assert refused.returncode == 1 and "! refused" in refused.stdout and "mend what is refused" in refused.stderr
    without = subprocess.run(
        [sys.executable, "-m", "server.runner", "export", str(out), "--url", running.address],
        cwd=ROOT,
        env={**os.environ, "OCULUM_TOKEN": "oct_no_such"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert without.returncode != 0 and without.stderr.startswith("oculum: ")
