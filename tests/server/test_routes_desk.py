"""Routes as they are asked about: the book, a message line by line, the trial, tables, readings on their way out."""

from __future__ import annotations

import csv
import io
import json
from datetime import timedelta
from typing import Any

import pytest

from server.delivery.files import folder_of
from server.delivery.worker import Worker
from server.records.definitions.models import Definition, ReferenceTable
from server.records.people.models import Record
from server.records.telling.models import Outlet
from server.rules.publishing import publish
from tests.server.test_api import V1, Client, send, signed_in
from tests.server.test_routes import CLEAN, DERIVE, GATHER, SEND, THIN, at_sites, harbour, lines, readings
from tests.server.test_telling import Out
from tests.server.test_telling import out as out
from tests.server.test_telling import worker as worker
from tests.server.world import START, World, payload, work_off

SPAN = {"from": (START - timedelta(hours=1)).isoformat(), "to": (START + timedelta(hours=3)).isoformat()}
TABLE = "device, offset [m] !, depth number, tidal flag\npod-0,0.5,12,yes\npod-1,-1,,no\n"


@pytest.fixture
def engineer(world: World) -> Client:
    return signed_in(world, "engineer")


def test_the_book_shows_what_each_line_did(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    harbour()
    for text in (CLEAN, SEND):
        world.route(text)
    world.arrive((0, 0, payload(5.6)), (0, 60, payload(5.2)), (0, 120, payload(5.3)), (0, 7200, payload(5.3)))
    work_off(engine)
    book = engineer.get(V1 + "routes", SPAN).json()
    assert book["messages"] == 4
    clean, sending = book["rows"]
    assert (clean["place"], clean["ends"], clean["seen"], clean["took"], clean["failed"]) == (1, "dropped", 4, 1, 0)
    assert [(line["line"], line["act"], line["seen"], line["took"]) for line in clean["lines"]] == [
        (3, "when", 4, 1),
        (4, "drop", 1, 1),
    ]
    assert clean["curve"] == [0, 1, 0, 0]
    assert sending["ends"] == "marked, sent" and sending["took"] == 1
    assert sending["failed"] == 1, "where its level was dropped, nothing is known of the sum"
    assert [outlet["name"] for outlet in sending["outlets"]] == ["harbour"]
    assert sending["outlets"][0]["waiting"] == 1 and not sending["outlets"][0]["blocked"]
    assert "Of every pod: when level is above 5.4 m, drop level" in clean["definition"]["sentence"]
    later = engineer.get(V1 + "routes", {"from": SPAN["to"], "to": (START + timedelta(hours=9)).isoformat()}).json()
    assert [row["seen"] for row in later["rows"]] == [0, 0]


def test_the_flow_says_where_readings_went(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    harbour()
    for text in (CLEAN, SEND):
        world.route(text)
    world.arrive((0, 0, payload(5.6)), (0, 60, payload(5.2)), (0, 120, payload(5.3)))
    work_off(engine)
    flow = engineer.get(V1 + "routes/flow", SPAN).json()
    titles = {node["id"]: node["title"] for node in flow["nodes"]}
    links = {(titles[x["source"]], titles.get(x["target"], x["target"]), x["what"]): x["count"] for x in flow["links"]}
    assert links["Pod", "no level above the rim", "seen"] == 3
    assert links["no level above the rim", "dropped", "dropped"] == 1
    assert links["to the harbour", "harbour", "sent"] == 1
    assert flow["unrouted"] == []


def test_the_order_is_changed_as_a_whole(world: World, engineer: Client) -> None:
    world.decoder()
    first, second = world.route(CLEAN), world.route(THIN)
    assert send(engineer, "PUT", "routes/order", {"routes": [second.pk]}).status_code == 409
    assert send(engineer, "PUT", "routes/order", {"routes": [second.pk, first.pk]}).status_code == 204
    assert [row["definition"]["id"] for row in engineer.get(V1 + "routes").json()["rows"]] == [second.pk, first.pk]
    assert Record.objects.filter(what="put in order").exists()
    assert send(signed_in(world, "viewer"), "PUT", "routes/order", {"routes": []}).status_code == 403


def test_what_another_order_would_change_is_seen_before(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    harbour()
    double = world.route('route "double"\n  on pod\n  when temp > 10 Cel\n    correct level = level * 2\n')
    more = world.route('route "more"\n  on pod\n  correct level = level + 1 m\n')
    out = world.route('route "out"\n  on pod\n  when level > 6 m\n    send level to "harbour"\n')
    aside = Definition.objects.create(kind="route", name="gates", type=world.gate_type)
    publish(aside, 'route "gates"\n  on gate\n  mark seen "yes"\n', None)
    world.arrive((0, 0, payload(2.0)), (0, 60, payload(2.0, 5.0)), (1, 120, payload(2.5)))
    work_off(engine)
    asked = send(engineer, "POST", "routes/order/trial", {"routes": [more.pk, double.pk, out.pk, aside.pk]}).json()
    assert asked["types"] == ["Pod"] and asked["messages"] == 3
    assert [(f["field"], f["differ"], f["values"]) for f in asked["fields"]] == [("level", 2, 3)]
    assert asked["sent"] == [{"outlet": "harbour", "now": 0, "then": 1}]
    same = send(engineer, "POST", "routes/order/trial", {"routes": [double.pk, more.pk, aside.pk, out.pk]}).json()
    assert same == {"types": [], "messages": 0, "fields": [], "sent": []}
    assert world.ask("select count(*) from control_event where kind = 'order'") == [(0,)]


def test_a_message_goes_through_line_by_line_and_nothing_is_kept(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    harbour()
    for text in (CLEAN, DERIVE, SEND):
        world.route(text)
    world.arrive((0, 0, payload(5.2)), (0, 60, payload(5.3)), (0, 120, payload(5.6)))
    work_off(engine)
    before = (readings(world), lines(world), world.ask("select count(*) from reading_out"))
    (number,) = world.ask("select max(id) from message")[0]
    found = send(engineer, "POST", "routes/try", {"message": str(number)}).json()
    assert [(r["field"], r["value"]) for r in found["before"]] == [("level", 5.6), ("temp", 12.0)]
    after = {r["field"]: (r["value"], r["missing"]) for r in found["after"]}
    assert after == {"level": (None, "above the rim"), "temp": (12.0, None), "warmth": (2.0, None)}
    steps = [(s["route"], s["line"], s["what"]) for s in found["steps"]]
    assert steps[:2] == [("no level above the rim", 3, "took"), ("no level above the rim", 4, "took")]
    drop = found["steps"][1]
    assert drop["fields"] == {"level": [5.6, None]} and drop["version"] == 1 and drop["device"] == "pod-0"
    failed = next(s for s in found["steps"] if s["what"] == "failed")
    assert failed["because"] == "`level` is missing"
    assert [x["values"] for x in found["sent"]] == [{"temp": {"value": 12, "unit": "Cel"}}], "its level was dropped"
    draft = SEND.replace("10 m", "5 m").replace("when total(level, 5 min)", "when temp > 0 Cel or total(level, 5 min)")
    asked = {"message": str(number), "definition": Definition.objects.get(name="to the harbour").pk, "text": draft}
    sent = send(engineer, "POST", "routes/try", asked).json()
    assert [x["values"]["temp"]["value"] for x in sent["sent"]] == [12] and sent["steps"][-1]["version"] is None
    written = {"device": "pod-0", "payload_hex": payload(5.5).hex(), "topic": "x"}
    by_hand = send(engineer, "POST", "routes/try", written).json()
    assert next(r for r in by_hand["after"] if r["field"] == "level")["missing"] == "above the rim"
    assert before == (readings(world), lines(world), world.ask("select count(*) from reading_out"))


def test_why_tells_of_the_routes_that_touched_a_reading(world: World, engine: Any, engineer: Client) -> None:
    """As they were when the message came, whatever is in force now."""
    world.decoder()
    world.route('route "more"\n  on pod\n  correct level = level + 1 m\n')
    world.route(CLEAN)
    world.arrive((0, 0, payload(2.0)), (0, 60, payload(5.0)))
    work_off(engine)
    world.route('route "more"\n  on pod\n  correct level = level + 9 m\n')
    first, second = (row[0] for row in world.ask("select id from message order by id"))
    why = engineer.get(V1 + "why/reading", {"device": "pod-0", "field": "level", "message": str(first)}).json()
    routed = [s for s in why["steps"] if s["stage"] == "route"]
    assert [(s["title"], s["detail"], s["version"]) for s in routed] == [
        ("Corrected by route “more”, line 3", "2 to 3", 1)
    ]
    why = engineer.get(V1 + "why/reading", {"device": "pod-0", "field": "level", "message": str(second)}).json()
    routed = [s["title"] for s in why["steps"] if s["stage"] == "route"]
    assert routed == ["Corrected by route “more”, line 3", "Dropped by route “no level above the rim”, line 4"]
    assert why["steps"][-1]["title"] == "level = missing: above the rim"


def test_why_tells_of_what_a_site_is_made_of(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    at_sites(world)
    world.route(GATHER)
    world.arrive((0, 0, payload(3.0)), (1, 60, payload(2.0)), (0, 3660, payload(1.0)))
    work_off(engine)
    (second,) = world.ask("select id from message order by id offset 1 limit 1")[0]
    about = {"device": "site-cove", "field": "level_highest", "message": str(second)}
    steps = {s["stage"]: s for s in engineer.get(V1 + "why/reading", about).json()["steps"]}
    assert steps["route"]["title"] == "Gathered by route “levels of sites”, line 3"
    assert steps["route"]["detail"] == "from pod-1 2, pod-0 3; it was worked out when pod-1 reported"
    assert steps["reading"]["title"] == "level_highest = 3 m"


def test_a_trial_gathers_for_sites_that_are_no_devices_yet(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    at_sites(world)
    world.arrive((0, 0, payload(3.0)), (1, 60, payload(2.0)))
    work_off(engine)
    draft = Definition.objects.create(kind="route", name="levels of sites", type=world.type)
    body = {"text": GATHER, "start": SPAN["from"], "end": SPAN["to"], "messages": 100}
    found = send(engineer, "POST", f"definitions/{draft.pk}/trial", body).json()["route"]
    assert [(f["field"], f["values"], f["state"]) for f in found["fields"]] == [("level_highest", 4, "new")]


def test_what_cannot_be_tried_is_said(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    refused = send(engineer, "POST", "routes/try", {"device": "pod-0", "payload_hex": "00"}).json()
    assert refused["error"].startswith("the payload has 1 byte") and refused["steps"] == []
    assert send(engineer, "POST", "routes/try", {"message": "77"}).status_code == 404
    assert send(engineer, "POST", "routes/try", {}).status_code == 400
    odd = send(engineer, "POST", "routes/try", {"device": "pod-0", "text": 'route "a"\n  on pod\n  thin x\n'})
    assert odd.json()["code"] == "definition" and odd.json()["problems"][0]["line"] == 3


def test_a_trial_counts_lines_and_what_would_differ(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    clean = world.route(CLEAN)
    world.arrive(*[(0, 60 * k, payload(level)) for k, level in enumerate((5.0, 5.3, 5.6, 5.2, 5.5))])
    work_off(engine)
    body = {"text": CLEAN.replace("5.4 m", "5.25 m"), "start": SPAN["from"], "end": SPAN["to"], "messages": 100}
    trial = send(engineer, "POST", f"definitions/{clean.pk}/trial", body).json()["route"]
    assert (trial["messages"], trial["values"], trial["gone"]) == (5, 10, 3)
    assert [(x["line"], x["seen"], x["took"], x["failed"]) for x in trial["lines"]] == [(3, 5, 3, 0), (4, 3, 3, 0)]
    assert trial["reasons"] == [{"reason": "above the rim", "count": 3}]
    assert [(x["field"], x["differ"]) for x in trial["fields"]] == [("level", 1)]
    assert len(readings(world)) == 5 and lines(world) == [
        ("no level above the rim", 3, 5, 2, 0),
        ("no level above the rim", 4, 2, 2, 0),
    ]


def test_a_trial_looks_back_before_its_span_and_sends_nothing(world: World, engine: Any, engineer: Client) -> None:
    world.decoder()
    harbour()
    route = world.route(SEND)
    world.arrive(*[(0, 60 * k, payload(3.0)) for k in range(6)])
    work_off(engine)
    waiting = world.ask("select count(*) from reading_out")
    body = {"text": SEND, "start": (START + timedelta(seconds=270)).isoformat(), "end": SPAN["to"], "messages": 100}
    trial = send(engineer, "POST", f"definitions/{route.pk}/trial", body).json()["route"]
    assert trial["messages"] == 1 and trial["sent"] == [{"outlet": "harbour", "readings": 1}]
    assert waiting == world.ask("select count(*) from reading_out")


def test_tables_come_in_as_files_and_go_out_the_same(world: World, engineer: Client) -> None:
    dry = send(engineer, "POST", "tables", {"name": "samples", "text": TABLE, "dry_run": True})
    assert dry.status_code == 200 and dry.json()["rows"] == 2 and not ReferenceTable.objects.exists()
    made = send(engineer, "POST", "tables", {"name": "samples", "text": TABLE}).json()["table"]
    assert [(c["name"], c["kind"], c["unit"], c["required"]) for c in made["columns"]] == [
        ("device", "text", None, True),
        ("offset", "number", "m", True),
        ("depth", "number", "1", False),
        ("tidal", "flag", None, False),
    ]
    assert made["values"] == [["pod-0", 0.5, 12.0, True], ["pod-1", -1.0, None, False]]
    text = engineer.get(f"{V1}tables/{made['id']}/file").content.decode()
    again = send(engineer, "PUT", f"tables/{made['id']}", {"text": text}).json()["table"]
    assert again["values"] == made["values"] and again["columns"] == made["columns"]


@pytest.mark.parametrize(
    ("text", "line", "why"),
    [
        ("device, offset [m] !\npod-0,0.5\npod-0,1\n", 3, "device: `pod-0` stands in line 2 already"),
        ("device, offset [m] !\npod-0,\n", 2, "offset: found nothing, expected a value"),
        ("device, offset [m]\npod-0,much\n", 2, "offset: found `much`, expected a number"),
        ("device, tidal flag\npod-0,maybe\n", 2, "tidal: found `maybe`, expected yes or no"),
        ("device, offset [m]\npod-0,1,2\n", 2, "found 3 cells, expected 2"),
    ],
)
def test_a_bad_row_is_refused_with_line_and_reason(engineer: Client, text: str, line: int, why: str) -> None:
    found = send(engineer, "POST", "tables", {"name": "samples", "text": text}).json()
    assert found["refused"] == [{"line": line, "why": why}] and found["table"] is None
    assert not ReferenceTable.objects.exists()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "line 1: the file is empty"),
        ("Device Name,x\n", "line 1, column 1: found `Device Name`"),
        ("device, offset [bananas]\n", "line 1, column 2:"),
        ("device, device\n", "line 1: `device` stands twice"),
    ],
)
def test_a_head_that_cannot_be_read_is_refused(engineer: Client, text: str, says: str) -> None:
    answer = send(engineer, "POST", "tables", {"name": "samples", "text": text})
    assert answer.status_code == 400 and (text == "" or answer.json()["detail"].startswith(says))


def test_what_a_route_speaks_of_cannot_be_taken_from_it(world: World, engineer: Client) -> None:
    world.decoder()
    outlet = harbour()
    made = send(engineer, "POST", "tables", {"name": "samples", "text": TABLE}).json()["table"]
    world.route('route "by sample"\n  on pod\n  correct level = level + entry("samples", offset, device)\n')
    world.route(SEND)
    assert send(engineer, "DELETE", f"tables/{made['id']}").status_code == 409
    assert send(engineer, "PUT", f"tables/{made['id']}", {"text": "device\npod-0\n"}).status_code == 409
    assert send(engineer, "DELETE", f"outlets/{outlet.pk}").status_code == 409
    renamed = send(engineer, "PATCH", f"outlets/{outlet.pk}", {"name": "quay"})
    assert renamed.status_code == 400 and "sends to this outlet" in renamed.content.decode()
    less = {"kind": "decoder", "type": "pod", "text": "decoder pod for bytes\n  byte 2  temp  i16 / 10  Cel\n"}
    gone = send(engineer, "POST", "check", less).json()["takes_away"]
    assert gone == [{"field": "level", "users": ["route “by sample”", "route “to the harbour”"]}]


# readings on their way out --------------------------------------------------------------------
def queue(world: World, engine: Any, count: int, kind: str = "webhook", **settings: Any) -> Outlet:
    world.decoder()
    outlet = Outlet.objects.create(name="harbour", kind=kind, settings=settings)
    world.route('route "all"\n  on pod\n  send level to "harbour"\n')
    world.arrive(*[(0, k, payload(1.0 + k / 10)) for k in range(count)])
    work_off(engine)
    return outlet


def test_readings_go_out_in_their_order_and_in_batches(world: World, engine: Any, worker: Worker, out: Out) -> None:
    outlet = queue(world, engine, 1200)
    worker.step()
    sizes = [len(message.events) for _, message in out.sent]
    assert sizes == [500, 500, 200]
    numbers = [int(event["id"]) for _, message in out.sent for event in message.events]
    assert numbers == sorted(numbers) and len(set(numbers)) == 1200
    assert out.sent[0][1].events[0]["data"]["values"] == {"level": {"value": 1, "unit": "m"}}
    assert world.ask("select count(*) from reading_out") == [(0,)]
    assert world.ask("select readings, good from reading_out_log order by id") == [(n, True) for n in sizes]
    outlet.refresh_from_db()
    assert outlet.failures == 0 and outlet.last_at is not None


def test_an_outlet_that_is_down_loses_nothing_and_is_tried_again(
    world: World, engine: Any, worker: Worker, out: Out, engineer: Client
) -> None:
    outlet = queue(world, engine, 30)
    out.fails = 1
    worker.step()
    outlet.refresh_from_db()
    assert outlet.failures == 1 and outlet.last_error == "451 later"
    blocked = engineer.get(V1 + "routes").json()["rows"][0]["outlets"][0]
    assert blocked["blocked"] and blocked["waiting"] == 30 and blocked["why"] == "451 later"
    worker.step()
    assert not out.sent, "it is let be for a while"
    worker.readings.next_at.clear()
    worker.step()
    assert [len(message.events) for _, message in out.sent] == [30]
    told = engineer.get(f"{V1}outlets/{outlet.pk}/readings").json()
    assert told["waiting"] == 0 and told["sent"] == 30
    assert [(row["good"], row["readings"]) for row in told["log"]] == [(True, 30), (False, 30)]


def test_what_waits_for_a_day_or_is_given_up_is_said_to_be_lost(
    world: World, engine: Any, worker: Worker, out: Out, engineer: Client
) -> None:
    outlet = queue(world, engine, 10)
    with world_connection(world) as connection:
        connection.execute("update reading_out set queued_at = now() - interval '25 hours' where id <= 4")
    out.fails = 1
    worker.step()
    told = engineer.get(f"{V1}outlets/{outlet.pk}/readings").json()
    assert told["waiting"] == 6 and told["lost"] == [{"why": "waited for a day", "readings": 4}]
    assert send(signed_in(world, "viewer"), "DELETE", f"outlets/{outlet.pk}/readings").status_code == 403
    assert send(engineer, "DELETE", f"outlets/{outlet.pk}/readings").status_code == 204
    told = engineer.get(f"{V1}outlets/{outlet.pk}/readings").json()
    assert told["waiting"] == 0 and {x["why"]: x["readings"] for x in told["lost"]}["given up by a person"] == 6


def world_connection(world: World) -> Any:
    import psycopg

    return psycopg.connect(world.url)


@pytest.mark.parametrize("kind", ["jsonl", "csv"])
def test_files_are_begun_anew_where_one_is_full_and_old_ones_go(
    world: World, engine: Any, kind: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("server.delivery.readings.TOGETHER", 100)
    outlet = queue(world, engine, 1000, "file", format=kind, rotate_mb=0.05, keep=2)
    worker = Worker()
    while worker.step():
        pass
    worker.pool.shutdown()
    files = sorted(folder_of(f"{outlet.name}-{outlet.pk}").glob(f"*.{kind}"))
    assert len(files) == 2 and all(file.stat().st_size <= 50_000 + 200 for file in files)
    text = files[-1].read_text()
    if kind == "csv":
        rows = list(csv.DictReader(io.StringIO(text)))
        assert rows[-1]["device"] == "pod-0" and rows[-1]["field"] == "level" and rows[-1]["unit"] == "m"
        assert float(rows[-1]["value"]) == pytest.approx(100.9)
    else:
        last = json.loads(text.splitlines()[-1])
        assert last["values"]["level"] == {"value": 100.9, "unit": "m"} and last["device"] == "pod-0"
    for file in files:
        file.unlink()
