"""What people do with alarms: many at once, put aside, found by cause, and judged."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest

from server.rules.causes import Group, Line, Open, lines
from server.rules.shelves import end_those_over
from tests.server.test_api import V1, Client, send, signed_in
from tests.server.world import START, World, payload, work_off

CONDITION = 'condition "level is high" priority high\n  on pod\n  raise when level > 5 m\n'


@pytest.fixture
def client(world: World, engine: Any) -> Client:
    """Four pods whose level is too high."""
    world.decoder()
    world.condition(CONDITION)
    world.arrive(*[(pod, pod, payload(8)) for pod in range(4)])
    work_off(engine)
    return signed_in(world, "operator")


def ids(client: Client, **query: Any) -> list[int]:
    return sorted(a["id"] for a in client.get(V1 + "alarms", query).json()["results"])


def later(**more: float) -> str:
    return (datetime.now(UTC) + timedelta(**more)).isoformat()


# many at once ---------------------------------------------------------------------------
def test_many_are_taken_at_once_and_what_cannot_be_is_told(world: World, client: Client) -> None:
    own = ids(client)
    found = send(
        client, "POST", "alarms/acknowledge", {"alarms": [*own, 999_999], "note": "a boat is on its way"}
    ).json()
    assert {a["acknowledged_by"] for a in found["alarms"]} == {"operator"} and len(found["alarms"]) == 4
    assert found["refused"] == [{"alarm": 999_999, "why": "there is no such alarm"}]
    other = signed_in(world, "engineer")
    assert send(other, "POST", "alarms/give-back", {"alarms": own}).status_code == 409
    assert len(send(client, "POST", "alarms/give-back", {"alarms": own}).json()["alarms"]) == 4
    assert send(client, "POST", "alarms/acknowledge", {"alarms": [999_999]}).status_code == 404
    assert send(client, "POST", "alarms/acknowledge", {"alarms": []}).status_code == 400
    assert world.ask(
        "select what, count(*) from alarms_journalentry where person_id is not null group by 1 order by 1"
    ) == [
        ("acknowledged", 4),
        ("given back", 4),
    ]


def test_an_alarm_is_assigned_and_found_by_who_has_it(world: World, client: Client) -> None:
    first, *_ = own = ids(client)
    world.person("engineer")
    found = send(client, "POST", "alarms/assign", {"alarms": [first], "person": "engineer"}).json()
    assert [a["assigned_to"] for a in found["alarms"]] == ["engineer"]
    assert ids(client, person="engineer") == [first] and ids(client, person="nobody") == own[1:]
    assert send(client, "POST", "alarms/assign", {"alarms": [first], "person": "stranger"}).status_code == 400
    send(client, "POST", "alarms/assign", {"alarms": [first], "person": None})
    journal = client.get(V1 + "journal", {"alarm": first}).json()["results"]
    assert [e["note"] for e in journal if e["what"] == "assigned"] == ["to nobody", "to engineer"]


# put aside ------------------------------------------------------------------------------
def test_what_is_shelved_is_off_the_list_until_its_time_is_over(world: World, client: Client, engine: Any) -> None:
    first, *_ = own = ids(client)
    found = send(
        client, "POST", "alarms/shelve", {"alarms": [first], "until": later(hours=2), "why": "a diver is down"}
    )
    (shelved,) = found.json()["alarms"]
    assert (shelved["shelved_by"], shelved["shelved_why"]) == ("operator", "a diver is down")
    assert ids(client) == own[1:] and ids(client, show="shelved") == [first]
    assert client.get(V1 + "overview").json()["open_alarms"] == 3
    assert client.get(V1 + "alarms/lines").json()["shelved"] == 1
    # Raised anew meanwhile, it stays where it was put.
    world.arrive((0, 60, payload(2)), (0, 120, payload(9)))
    work_off(engine)
    assert len(ids(client)) == 3 and len(ids(client, show="shelved")) == 1
    world.ask("update alarms_shelf set until = now() - interval '1 second' returning id")
    assert len(ids(client)) == 4, "it is back by itself, before anybody puts that on record"
    with psycopg.connect(world.url, autocommit=True) as connection:
        assert [end_those_over(connection), end_those_over(connection)] == [1, 0]
    journal = client.get(V1 + "journal", {"alarm": first}).json()["results"]
    kept = [(e["what"], e["who"]) for e in journal if "shel" in e["what"]]
    assert sorted(kept) == [("off the shelf", None), ("shelved", "operator")]


def test_a_shelf_is_replaced_ended_and_bounded(world: World, client: Client) -> None:
    first = ids(client)[0]
    one = {"alarms": [first], "why": "noise"}
    assert send(client, "POST", "alarms/shelve", {**one, "until": later(days=40)}).status_code == 409
    assert send(client, "POST", "alarms/shelve", {**one, "until": later(hours=-1)}).status_code == 409
    assert send(client, "POST", "alarms/shelve", {"alarms": [first], "until": later(hours=1)}).status_code == 400
    for hours in (1, 3):
        send(client, "POST", "alarms/shelve", {**one, "until": later(hours=hours)})
    assert world.ask("select count(*) from alarms_shelf where ended_at is null") == [(1,)]
    then = later(seconds=0)
    send(client, "POST", "alarms/unshelve", {"alarms": [first]})
    assert first in ids(client) and first not in ids(client, show="shelved")
    assert ids(client, show="shelved", to=then) == [first], "as of then it was"


# found ------------------------------------------------------------------------------------
def test_alarms_are_found_by_words_site_priority_and_age(world: World, client: Client, engine: Any) -> None:
    own = ids(client)
    assert len(ids(client, q="pod 2")) == 1 and ids(client, q="nowhere") == []
    assert ids(client, site="reach") == own and ids(client, type="pod", priority="high,low") == own
    assert ids(client, priority="low") == [] and ids(client, longer=60) == own
    assert ids(client, ids=",".join(map(str, own[:2]))) == own[:2]
    for query in ({"priority": "urgent"}, {"show": "closed"}, {"longer": "soon"}, {"ids": "x"}):
        assert client.get(V1 + "alarms", query).status_code == 400
    world.arrive((0, 100, payload(1)))
    work_off(engine)
    span = {"from": (START - timedelta(hours=1)).isoformat(), "to": (START + timedelta(hours=1)).isoformat()}
    assert len(ids(client, show="returned", **span)) == 1


def test_one_condition_on_many_devices_is_one_line(client: Client) -> None:
    found = client.get(V1 + "alarms/lines").json()
    assert (found["count"], found["lines"], found["unacknowledged"]) == (4, 1, 4)
    group = found["results"][0]["group"]
    assert (group["kind"], group["title"], group["where"], group["devices"]) == (
        "condition",
        "level is high",
        "The Reach",
        4,
    )
    assert group["alarms"] == ids(client) and group["unacknowledged"] == 4


def one(ident: int, condition: int, device: int, raised: float, **more: Any) -> Open:
    found = Open(ident, condition, f"c{condition}", device, f"d{device}", 1, "A", (), False, "medium", raised)
    return replace(found, **more)


def shape(found: list[Line]) -> list[tuple[str, list[int]]]:
    return [(g.kind, sorted(a.id for a in g.alarms)) if isinstance(g, Group) else ("alone", [g.id]) for g in found]


def test_what_a_silent_gateway_explains_is_one_line() -> None:
    alarms = [
        one(1, 1, 10, 1000, offline=True, priority="high"),
        one(2, 1, 11, 1300, gateways=(10,), offline=True),
        one(3, 2, 12, 1400, gateways=(10,)),
        one(4, 2, 13, 500, gateways=(10,)),  # of before, and no silence
        one(5, 2, 14, 1400),
    ]
    assert shape(lines(alarms)) == [("gateway", [1, 2, 3]), ("alone", [5]), ("alone", [4])]


def test_alarms_belong_together_by_condition_device_or_site() -> None:
    same = [one(n, 1, n, 600 * n) for n in range(1, 5)]
    assert shape(lines(same)) == [("condition", [1, 2, 3, 4])]
    assert shape(lines([one(n, 1, n, 1000 * n) for n in (1, 2, 3)])) == [("alone", [3]), ("alone", [2]), ("alone", [1])]
    assert shape(lines([one(n, n, 7, 5000 * n) for n in (1, 2, 3)])) == [("device", [1, 2, 3])]
    assert shape(lines([one(n, n, n, 100 * n) for n in range(1, 5)])) == [("site", [1, 2, 3, 4])]
    assert shape(lines([one(n, n, n, 100 * n, site=n) for n in range(1, 5)])) == [("alone", [n]) for n in (4, 3, 2, 1)]


# one alarm, and all of them ---------------------------------------------------------------
def test_the_sheet_of_an_alarm_tells_what_to_do_and_what_it_was_before(
    world: World, client: Client, engine: Any
) -> None:
    first = ids(client)[0]
    send(client, "POST", "alarms/note", {"alarms": [first], "note": "the float sticks"})
    world.arrive((0, 60, payload(2)), (0, 120, payload(9)))
    work_off(engine)
    again = next(i for i in ids(client) if i > max(first, 4))
    ((condition,),) = world.ask("select distinct condition_id from alarms_alarm")
    engineer = signed_in(world, "engineer")
    told = {"instruction": "# Go\nLook at the *float*.\n\x07"}
    assert send(engineer, "PUT", f"definitions/{condition}/instruction", told).status_code == 200
    sheet = client.get(V1 + f"alarms/{again}/sheet").json()
    assert sheet["instruction"] == "# Go\nLook at the *float*.\n\\u{7}"
    assert "level" in sheet["sentence"] and [e["what"] for e in sheet["entries"]] == ["raised"]
    (before,) = sheet["earlier"]
    assert before["alarm"]["id"] == first and [n["note"] for n in before["notes"]] == ["the float sticks"]
    assert sheet["earlier_count"] == 1
    ((decoder,),) = world.ask("select id from definitions_definition where kind = 'decoder'")
    assert send(engineer, "PUT", f"definitions/{decoder}/instruction", told).status_code == 400


def test_the_journal_as_a_table_holds_no_formulas(world: World, client: Client) -> None:
    first = ids(client)[0]
    send(client, "POST", "alarms/note", {"alarms": [first], "note": '=HYPERLINK("x"), "quoted"'})
    span = {"from": (START - timedelta(hours=1)).isoformat()}
    answer = client.get(V1 + "journal/file", span)
    rows = list(csv.DictReader(io.StringIO(b"".join(answer.streaming_content).decode())))  # type: ignore[attr-defined]
    assert [r["what"] for r in rows] == ["noted", *["raised"] * 4]
    assert rows[0]["note"] == '\'=HYPERLINK("x"), "quoted"' and rows[0]["who"] == "operator"
    assert {r["device"] for r in rows[1:]} == {f"pod-{n}" for n in range(4)}
    assert [e["what"] for e in client.get(V1 + "journal", {**span, "q": "quoted"}).json()["results"]] == ["noted"]
    assert client.get(V1 + "journal", {**span, "what": "raised", "person": "operator"}).json()["count"] == 0


def test_quality_of_the_lookback_beside_the_span_before(world: World, client: Client, engine: Any) -> None:
    world.arrive(*[(0, 200 + 10 * n, payload(2 if n % 2 == 0 else 9)) for n in range(8)])
    work_off(engine)
    span = {"from": START.isoformat(), "to": (START + timedelta(hours=1)).isoformat()}
    found = client.get(V1 + "alarms/quality", span).json()
    now, before = found["now"], found["before"]
    assert (now["count"], now["chattering"], now["priorities"]["high"]) == (8, 1, 8)
    assert (now["peak"], now["flood_share"], now["fleeting"]) == (8, 0, 3)
    assert (before["count"], before["taking_median_s"], found["people"]) == (0, None, 1)
    assert [(d["title"], d["count"], d["chatters"]) for d in found["devices"]][0] == ("Pod 0", 5, True)
    assert found["conditions"][0]["share"] == 1 and found["worst_share"] == 1
