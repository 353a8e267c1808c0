"""The first hour: types that wait for a decoder, units that are taken over, things that end, and are found."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType, Setpoint
from server.records.telling.models import Outlet
from server.store.values import value_at
from tests.server.test_api import V1, Client, send, signed_in
from tests.server.test_register import asked, names
from tests.server.world import CONDITION, DECODER, START, World, decode_again, payload, work_off


# types that wait ------------------------------------------------------------------
def test_nothing_is_undecodable_where_a_type_has_no_decoder_yet(world: World, engine: Any, again: Any) -> None:
    """Its messages wait, which is said of the type; they are no refusals, now and at a past moment."""
    client = signed_in(world, "engineer")
    world.arrive((0, 0, payload(3)), (0, 30, b"\x00"), (1, 40, payload(2)))
    work_off(engine)
    states = {
        d["name"]: d["state"]
        for d in asked(client, "devices", to=(START + timedelta(seconds=45)).isoformat())["results"]
    }
    assert states["pod-0"] == states["pod-1"] == "reporting"
    assert asked(client, "overview")["states"].get("undecodable") is None
    assert world.ask("select sum(failed) from activity") == [(0,)]
    (pod,) = [t for t in asked(client, "types")["results"] if t["key"] == "pod"]
    assert pod["decoder"] is None

    # Once there is a decoder, what it cannot read is refused, and what was waiting is decoded again.
    world.decoder()
    begun = send(client, "POST", "types/pod/decode-again", {})
    assert begun.status_code in (200, 201, 202), begun.content
    work_off(engine)
    decode_again(again, engine)
    assert world.ask("select sum(failed) from activity") == [(1,)]
    assert [r[0] for r in world.ask("select code from refused")] == ["too short"]
    world.arrive((0, 60, b"\x01"))
    work_off(engine)
    past = asked(client, "devices", to=(START + timedelta(seconds=61)).isoformat())["results"]
    assert {d["name"]: d["state"] for d in past}["pod-0"] == "undecodable"


def test_types_say_how_many_messages_wait_for_a_decoder(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.arrive((0, 0, payload(3)), (1, 1, payload(3)))
    work_off(engine)
    world.ask("update refused set received_at = now() returning message_id")
    waiting = {t["key"]: t["waiting_today"] for t in asked(client, "types")["results"]}
    assert waiting == {"pod": 2, "gate": 0}
    begun = Definition.objects.create(kind="decoder", name="pod", type=world.type, draft=DECODER)
    (row,) = asked(client, "definitions", kind="decoder")["results"]
    assert (row["id"], row["waiting_today"], row["refused_today"]) == (begun.pk, 2, 0)


def test_a_condition_that_no_longer_reads_well_is_marked(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.decoder()
    world.condition()
    assert asked(client, "definitions", kind="condition")["results"][0]["trouble"] is None
    assert asked(client, "overview")["conditions_in_trouble"] == 0
    # As after a restore from elsewhere: no request may do this.
    DeviceType.objects.filter(key="pod").update(setpoints=[])
    trouble = asked(client, "definitions", kind="condition")["results"][0]["trouble"]
    assert trouble is not None and "line 3" in trouble and "level_max" in trouble
    assert asked(client, "overview")["conditions_in_trouble"] == 1


# things that take over, and that end --------------------------------------------------
def test_another_unit_takes_a_devices_place(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    world.decoder()
    world.condition()
    send(client, "PATCH", "devices/pod-0", {"labels": {"row": "2"}, "latitude": 37.4, "longitude": -42.6})
    send(client, "PUT", "types/pod/setpoints/level_max", {"value": 2.5, "device": "pod-0"})
    send(client, "POST", "devices/pod-0/constants", {"name": "offset", "value": 0.5})
    world.arrive((0, 0, payload(3)), (0, 70, payload(3)))
    work_off(engine)
    made = send(client, "POST", "devices/pod-0/successor", {"name": "pod-9"})
    assert made.status_code == 201, made.content
    after = made.json()
    assert (after["title"], after["site"], after["labels"]) == ("Pod 0", "reach", {"row": "2"})
    assert (after["latitude"], after["longitude"], after["has_key"]) == (37.4, -42.6, False)
    (limit,) = after["setpoints"]
    assert (limit["value"], limit["source"]) == (2.5, "device")
    assert [(c["name"], c["value"]) for c in asked(client, "devices/pod-9/constants")] == [("offset", 0.5)]
    # The one before retires, with what it measured.
    before = asked(client, "devices/pod-0")
    assert before["phase"] == "retired"
    assert world.ask("select count(*) from reading_row where device_id = %s", world.pods[0].pk) == [(2,)]
    told = [(r["what"], r["detail"].get("by")) for r in asked(client, "record", about="pod-0")["results"]]
    assert ("replaced by another unit", "pod-9") in told
    assert {r["about"] for r in asked(client, "record", about="pod-9")["results"]} == {"pod-9"}


def test_a_gateways_successor_speaks_for_those_behind_it(world: World) -> None:
    client = signed_in(world, "engineer")
    assert send(client, "POST", "devices/gate-1/successor", {"name": "gate-2", "title": "New gate"}).status_code == 201
    assert Device.objects.get(name="pod-3").gateway == Device.objects.get(name="gate-2")
    for wrong in ({"name": "gate-2"}, {"name": "oculum-intake"}, {"name": "sites"}, {"name": "Gate 3"}, {}):
        refused = send(client, "POST", "devices/pod-1/successor", wrong)
        assert refused.status_code == 400, refused.content
    assert Device.objects.get(name="pod-1").phase == "in service"
    viewer = signed_in(world, "operator")
    assert send(viewer, "POST", "devices/pod-1/successor", {"name": "pod-7"}).status_code == 403


def test_sites_and_types_go_only_when_nothing_is_in_them(world: World) -> None:
    client = signed_in(world, "engineer")
    send(client, "POST", "sites", {"name": "quay", "title": "Quay", "zone": "UTC", "parent": "reach"})
    full = send(client, "DELETE", "sites/reach")
    assert full.status_code == 409 and "Quay" in full.json()["detail"] and "Pod 0" in full.json()["detail"]
    send(client, "PUT", "types/pod/setpoints/level_max", {"value": 3, "site": "quay"})
    assert send(client, "DELETE", "sites/quay").status_code == 204
    assert not Setpoint.objects.filter(value=3).exists()
    used = send(client, "DELETE", "types/pod")
    assert used.status_code == 409 and "pod-0" in used.json()["detail"]
    send(client, "POST", "types", {"key": "spare", "title": "Spare"})
    Definition.objects.create(kind="decoder", name="spare", type=DeviceType.objects.get(key="spare"))
    assert "the decoder spare" in send(client, "DELETE", "types/spare").json()["detail"]
    Definition.objects.filter(name="spare").delete()
    assert send(client, "DELETE", "types/spare").status_code == 204
    assert client.get(V1 + "types/spare").status_code == 404


# finding ----------------------------------------------------------------------------
def test_labels_are_found_as_they_are_shown_and_gateways_by_what_is_behind_them(world: World) -> None:
    client = signed_in(world, "viewer")
    Device.objects.filter(name="pod-0").update(labels={"firmware": "2", "row": "10"})
    Device.objects.filter(name="pod-1").update(labels={"firmware": "1", "row": "2"})
    assert names(asked(client, "devices", q="firmware=2")) == ["pod-0"]
    assert names(asked(client, "devices", q="row=1 firmware=2")) == ["pod-0"]
    assert names(asked(client, "devices", q="row=2")) == ["pod-1"]
    assert names(asked(client, "devices", q="id__gt=0")) == []
    assert set(names(asked(client, "devices", q="gate 1"))) == {"gate-1", "pod-3"}


def test_what_begins_with_the_words_comes_first(world: World) -> None:
    client = signed_in(world, "viewer")
    for number in (4, 40, 41):
        Device.objects.create(name=f"buoy-{number:02}", title=f"Buoy {number:02}", type=world.type, site=world.site)
    assert names(asked(client, "devices", q="buoy 4", order="match")) == ["buoy-40", "buoy-41", "buoy-04"]


# the past ---------------------------------------------------------------------------
def test_a_field_that_is_sent_rarely_does_not_vanish_from_the_past(world: World, engine: Any) -> None:
    world.decoder(
        "decoder pod for bytes, big endian\n  next  level  u16 / 10  m\n  when length = 4\n    next  temp  i16 / 10 "
        " Cel\n"
    )
    world.arrive((0, 0, payload(3, 14)), *[(0, 1 + i, payload(3)[:2]) for i in range(400)])
    work_off(engine)
    found = value_at(world.pods[0].pk, START + timedelta(seconds=500), {"level", "temp"})
    assert found["temp"][0] == 14.0 and found["temp"][1] == START
    assert found["level"][1] == START + timedelta(seconds=400)
    assert value_at(world.pods[0].pk, START - timedelta(seconds=1), {"level"}) == {}


# alarms -----------------------------------------------------------------------------
def test_an_alarm_without_words_of_its_own_has_device_value_and_limit(world: World, engine: Any) -> None:
    world.decoder()
    world.condition("\n".join(line for line in CONDITION.split("\n") if "say" not in line).replace(" held 60 s", ""))
    world.arrive((0, 0, payload(6.5)))
    work_off(engine)
    assert world.ask("select text from alarms_alarm") == [("Pod 0: level 6.5 m, limit 5 m",)]


# what is said of mistakes ---------------------------------------------------------------
@pytest.mark.parametrize(
    ("body", "said"),
    [
        ({"fields": [{"name": "level", "kind": "flag", "unit": "m"}]}, "in the 1st, a flag has no unit"),
        (
            {"fields": [{"name": "a", "kind": "text"}, {"name": "level", "kind": "number", "unit": "metres"}]},
            "in the 2nd, `metres` is not a unit",
        ),
        ({"fields": [{"name": "Water level", "kind": "number"}]}, "a field's name has letters a-z"),
    ],
)
def test_no_word_of_the_machinery_reaches_a_person(world: World, body: dict[str, Any], said: str) -> None:
    client = signed_in(world, "engineer")
    refused = send(client, "PATCH", "types/pod", body)
    assert refused.status_code == 400
    sentence = refused.json()["detail"]
    assert said in sentence, sentence
    assert "non_field_errors" not in sentence and "ErrorDetail" not in sentence


def test_a_person_chooses_the_zone_in_which_times_are_shown(world: World) -> None:
    client = signed_in(world, "viewer")
    assert asked(client, "me")["zone"] == "", "that of the browser, until another is chosen"
    assert send(client, "PATCH", "me", {"zone": "UTC"}).json()["zone"] == "UTC"
    refused = send(client, "PATCH", "me", {"zone": "Sandrel"})
    assert refused.status_code == 400 and "`Sandrel` is no zone" in refused.json()["detail"]
    assert send(client, "PATCH", "me", {"role": "admin", "zone": ""}).json()["role"] == "viewer"


# budgets ------------------------------------------------------------------------------
PATHS = ["devices", "types", "sites", "alarms", "journal", "definitions", "overview", "arrivals", "lookback", "record"]


def queries(client: Client, path: str) -> int:
    with CaptureQueriesContext(connection) as captured:
        answer = client.get(V1 + path)
    assert answer.status_code == 200, answer.content
    return len(captured)


def test_a_list_takes_no_more_queries_when_it_is_longer(world: World, engine: Any) -> None:
    client = signed_in(world, "admin")
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(6)), (0, 61, payload(6)))
    work_off(engine)
    before = {path: queries(client, path) for path in PATHS}
    for i in range(20):
        type_ = DeviceType.objects.create(key=f"type_{i}", title=f"Type {i}")
        Definition.objects.create(kind="decoder", name=f"type_{i}", type=type_)
        Device.objects.create(name=f"more-{i}", title=f"More {i}", type=type_, site=world.site, gateway=world.gateway)
    world.arrive(*[(pod, 100 + pod * 3 + i * 61, payload(6)) for pod in (1, 2) for i in (0, 1)])
    work_off(engine)
    after = {path: queries(client, path) for path in PATHS}
    assert after == before
    assert max(after.values()) <= 16, after


def test_oculum_is_watched_like_a_device(world: World, engine: Any) -> None:
    """What it reports becomes readings, and conditions on it raise alarms like any other."""
    from server.rules.itself import own_device
    from server.runner.itself import Report

    client = signed_in(world, "admin")
    assert client.get(V1 + "itself").json() == {"device": None}
    assert not Report(world.instance).step(engine.connection), "there is no device for it"
    world.decoder()
    world.arrive((0, 0, b"\x00"))  # cannot be read: but that was long ago
    work_off(engine)
    assert send(client, "POST", "itself", {}).status_code == 201
    again = send(client, "POST", "itself", {})
    assert again.status_code == 409 and "already" in again.json()["detail"]
    assert client.get(V1 + "itself").json() == {"device": "oculum"}
    work_off(engine)
    Outlet.objects.create(name="dead", kind="webhook", failures=3)
    report = Report(world.instance)
    assert report.step(engine.connection) and not report.step(engine.connection), "once a minute"
    work_off(engine)
    own = own_device()
    assert own is not None
    ((fields,),) = world.ask("select fields from latest where device_id = %s", own.pk)
    assert fields.keys() == {
        "lag", "waiting", "refused_share", "failing_decoders", "disk_free", "parts_away", "blocked_outlets",
        "unsent_readings",
    }  # fmt: skip
    assert (fields["blocked_outlets"][0], fields["unsent_readings"][0]) == (1, 0)
    assert fields["refused_share"][0] == 0 and 0 < fields["disk_free"][0] < 100
    assert fields["parts_away"][0] > 0, "web, intake and keeper do not run here"
    assert world.ask("select channel from message where device_id = %s", own.pk) == [(4,)]
    words = {d["name"]: d["sentence"] for d in asked(client, "definitions", kind="condition")["results"]}
    assert words["Oculum's disk fills"].startswith("Watches every oculum. Raised as critical when disk free is below")


def test_nobody_is_silent_for_the_time_in_which_oculum_did_not_listen(world: World, engine: Any) -> None:
    """On the list, in the figures and in the lookback, while it does not listen and afterwards."""
    client = signed_in(world, "viewer")
    now = datetime.now(UTC)
    DeviceType.objects.update(cadence_s=600)
    Device.objects.update(cadence_s=None, registered_at=now - timedelta(days=1))
    Device.objects.exclude(name="pod-0").update(phase="retired")
    world.decoder()
    heard, away = now - timedelta(minutes=181), now - timedelta(minutes=180)
    for minute in range(90, -1, -1):
        world.arrive((0, (heard - timedelta(minutes=minute) - START).total_seconds(), payload(3)))
    work_off(engine)
    span = {"from": (now - timedelta(minutes=240)).isoformat(), "to": now.isoformat()}

    def told() -> tuple[Any, Any, int]:
        band = asked(client, "lookback", **span)["buckets"]
        (pod,) = asked(client, "devices")["results"]
        return pod["state"], asked(client, "overview")["states"], sum(bucket["silent"] for bucket in band)

    state, states, silent = told()
    assert state == "silent" and states == {"silent": 1} and silent >= 2
    with psycopg.connect(world.url) as beside:
        beside.execute("insert into intake_life (at) values (%s)", (away,))
        beside.execute("select unheard()")
    assert told() == ("reporting", {"reporting": 1}, 0)
    with psycopg.connect(world.url) as beside:
        beside.execute("select listening()")
    assert told() == ("reporting", {"reporting": 1}, 0)
