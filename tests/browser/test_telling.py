"""Telling people: an outlet tried, a contact and a way of telling made, and what comes out at the other end."""

from __future__ import annotations

from urllib.parse import urlsplit

from playwright.sync_api import BrowserContext, Page, expect

from tests.browser.conftest import Running, sign_in
from tests.browser.pressing import tab_to
from tests.instance import until


def post_of(running: Running) -> str:
    """The stand-in for the world outside."""
    return f"http://127.0.0.1:{(urlsplit(running.address).port or 0) + 4}"


def test_an_outlet_is_tried_and_the_other_end_shows_what_came(page: Page, running: Running) -> None:
    post = post_of(running)
    page.goto(running.address + "/telling?show=outlets")
    page.get_by_role("button", name="growers' mail").click()
    test = page.get_by_role("region", name="Test")
    test.get_by_label("To").fill("maud@sandrel.invalid")
    test.get_by_role("button", name="Send a test").click()
    expect(test.get_by_role("status")).to_contain_text("It was taken.")
    assert "test of growers' mail" in page.request.get(post + "/came").text()
    page.request.get(post + "/mode/fail")
    try:
        test.get_by_role("button", name="Send a test").click()
        expect(test.get_by_role("status")).to_contain_text("It was not taken. the mail server said: 451")
    finally:
        page.request.get(post + "/mode/well")


def test_a_contact_and_a_way_of_telling_are_made_and_foreseen(context: BrowserContext, running: Running) -> None:
    page = context.new_page()  # with a refusal on purpose, which a browser complains of
    sign_in(page, running, "ines")
    page.goto(running.address + "/telling?show=contacts")
    page.get_by_role("button", name="Add a contact").click()
    page.get_by_label("Name", exact=True).fill("the night desk")
    page.get_by_label("Address 1").fill("nobody")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("alert")).to_contain_text("`nobody` is no mail address")
    page.get_by_label("Address 1").fill("night@sandrel.invalid")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("list", name="Contacts")).to_contain_text("the night desk")
    page.get_by_role("button", name="Ways of telling").click()
    page.get_by_role("button", name="Add a way of telling").click()
    page.get_by_label("Name", exact=True).fill("engines at night")
    page.get_by_role("checkbox", name="the night desk").check()
    page.get_by_label("Condition").select_option("engine is hot")
    page.get_by_role("checkbox", name="still open").check()
    page.get_by_label("Minutes until it is told that an alarm is still open").fill("30")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("list", name="Ways of telling")).to_contain_text("engines at night")
    page.get_by_role("button", name="Who is told when").click()
    page.get_by_label("Condition").select_option("engine is hot")
    told = page.get_by_role("table", name="Who is told when")
    expect(told).to_contain_text("the night desk")
    expect(told.get_by_role("row").filter(has_text="if still open")).to_contain_text("the night desk")
    expect(told).to_contain_text("Maud Varn")


def test_a_webhook_of_ones_own_words_is_shown_as_it_would_go_out(page: Page, running: Running) -> None:
    page.goto(running.address + "/telling?show=outlets")
    page.get_by_role("button", name="quay buyers").click()
    body = page.get_by_label("Body for each alarm, JSON")
    body.fill('{"title": "{what}: {text}", "level": {number}}')
    expect(page.get_by_label("As it would read")).to_contain_text('{"title": "raised: ')
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_way_of_telling_is_made_used_and_removed_by_keyboard_alone(page: Page, running: Running) -> None:
    page.goto(running.address + "/telling")
    keys = page.keyboard
    ways = page.get_by_role("list", name="Ways of telling")
    tab_to(page, page.get_by_role("button", name="Add a way of telling"))
    keys.press("Enter")
    tab_to(page, page.get_by_label("Name", exact=True))
    keys.type("by keys alone")
    tab_to(page, page.get_by_role("checkbox", name="Maud Varn"))
    keys.press("Space")
    tab_to(page, page.get_by_role("button", name="one more step"))
    keys.press("Enter")
    minutes = page.get_by_label("Minutes before step 2")
    tab_to(page, minutes, back=True)
    keys.press("Control+a")
    keys.type("25")
    tab_to(page, page.get_by_role("checkbox", name="the ice store").nth(1))
    keys.press("Space")
    tab_to(page, page.get_by_role("group", name="Of which priorities").get_by_role("checkbox").first)
    keys.press("Space")
    tab_to(page, page.get_by_role("combobox", name="Condition"))
    keys.type("engine is hot")
    expect(page.get_by_role("button", name="engine is hot \u00d7")).to_be_visible()
    tab_to(page, page.get_by_role("button", name="Add it"))
    keys.press("Enter")
    own = ways.get_by_role("button").filter(has_text="by keys alone")
    expect(own).to_contain_text("Maud Varn, then the ice store after 25 min")
    expect(own).to_be_focused()  # one goes on where the new one stands
    tab_to(page, page.get_by_role("button", name="Remove"))
    keys.press("Enter")
    keys.press("Enter")
    expect(own).to_have_count(0)
    expect(ways.get_by_role("button").first).to_be_focused()


def test_who_comes_next_is_told_while_nobody_takes_an_alarm(page: Page, running: Running) -> None:
    """Seen at the other end: the first contact, and seconds later, which the interface cannot say, the second."""
    page.goto(running.address + "/telling")
    api, name = running.address + "/api/v1", "a mast is looked at"
    head = {"X-CSRFToken": page.request.get(f"{api}/me").json()["csrf"]}
    contacts = {c["name"]: c["id"] for c in page.request.get(f"{api}/contacts").json()}
    text = f'condition "{name}" priority low\n  on weather_mast\n  raise when wind_speed >= 0 m/s\n'
    body = {"kind": "condition", "name": name, "type": "weather_mast", "draft": text}
    made = page.request.post(f"{api}/definitions", headers=head, data=body)
    assert made.ok, made.text()
    steps = [
        {"after_s": 0, "contacts": [contacts["Maud Varn"]]},
        {"after_s": 3, "contacts": [contacts["Jory Teal"]]},
    ]
    chain = {"name": "masts", "steps": steps, "conditions": [made.json()["id"]], "tells": ["raised"]}
    way = page.request.post(f"{api}/chains", headers=head, data=chain)
    assert way.ok, way.text()
    published = page.request.post(f"{api}/definitions/{made.json()['id']}/publish", headers=head, data={"text": text})
    assert published.ok, published.text()
    post = post_of(running)

    def told() -> list[str]:
        """Whom, the first one first."""
        came = page.request.get(post + "/came").json()["came"]
        return [m["to"] for m in reversed(came) if m["kind"] == "mail" and name in m["subject"] + m["text"]]

    until(lambda: {"maud@sandrel.invalid", "jory@sandrel.invalid"} <= set(told()), "both to be told", 60)
    assert told()[0] == "maud@sandrel.invalid"
    page.goto(post)
    expect(
        page.get_by_role("article").filter(has_text=name).filter(has_text="to jory@sandrel.invalid")
    ).not_to_have_count(0)
