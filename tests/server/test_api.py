"""The API: roles enforced on the server, errors with reasons, everything on record, nothing harmful echoed."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from django import test as django_test
from django.db import connections
from django.urls import URLPattern

from oculum.language.conditions.plan import ConditionPlan
from oculum.text import harmless
from server.instance.instance import ROOT
from server.requests.text import spreadsheet_safe
from tests.server.world import CONDITION, DECODER, START, World, payload, spans_of, work_off

PASSWORD = "a long password of words"
V1 = "/api/v1/"


class Client(django_test.Client):
    """A caller on loopback, as the product listens."""

    def __init__(self, **options: Any) -> None:
        super().__init__(SERVER_NAME="127.0.0.1", **options)


def signed_in(world: World, role: str) -> Client:
    world.person(role)
    client = Client()
    answer = client.post(V1 + "sign-in", {"username": role, "password": PASSWORD}, content_type="application/json")
    assert answer.status_code == 200, answer.content
    return client


def send(client: Client, method: str, path: str, body: object = None) -> Any:
    return client.generic(
        method, V1 + path, json.dumps(body if body is not None else {}), content_type="application/json"
    )


def at_once(work: Callable[[Any], Any], things: Iterable[Any], threads: int = 6) -> list[Any]:
    """Calls made at the same time; each gives its connection to the database back."""

    def one(thing: Any) -> Any:
        try:
            return work(thing)
        finally:
            connections.close_all()

    with ThreadPoolExecutor(threads) as pool:
        return list(pool.map(one, things))


WRITES = [
    ("POST", "devices", "engineer"),
    ("PATCH", "devices/pod-0", "engineer"),
    ("DELETE", "devices/pod-0", "engineer"),
    ("POST", "devices/pod-0/key", "engineer"),
    ("POST", "types", "engineer"),
    ("PATCH", "types/pod", "engineer"),
    ("PUT", "types/pod/setpoints/level_max", "operator"),
    ("POST", "types/pod/decode-again", "engineer"),
    ("DELETE", "types/pod/decode-again", "engineer"),
    ("POST", "sites", "engineer"),
    ("PATCH", "sites/reach", "engineer"),
    ("POST", "definitions", "engineer"),
    ("PATCH", "definitions/1", "engineer"),
    ("POST", "definitions/1/publish", "engineer"),
    ("POST", "definitions/1/retire", "engineer"),
    ("POST", "alarms/acknowledge", "operator"),
    ("POST", "alarms/give-back", "operator"),
    ("POST", "alarms/note", "operator"),
    ("POST", "alarms/shelve", "operator"),
    ("POST", "alarms/unshelve", "operator"),
    ("POST", "alarms/assign", "operator"),
    ("PUT", "definitions/1/instruction", "engineer"),
    ("POST", "people", "admin"),
    ("PATCH", "people/1", "admin"),
    ("POST", "onboarding", "engineer"),
    ("POST", "definitions/1/cases", "engineer"),
    ("DELETE", "definitions/1/cases/1", "engineer"),
    ("POST", "definitions/1/in-force", "engineer"),
    ("PATCH", "types/pod/decode-again", "engineer"),
    ("POST", "devices/pod-0/constants", "engineer"),
    ("DELETE", "devices/pod-0/constants/1", "engineer"),
    ("PUT", "definitions/1/rollout", "engineer"),
    ("DELETE", "definitions/1/rollout", "engineer"),
    ("PUT", "devices/pod-0/hold", "engineer"),
    ("DELETE", "devices/pod-0/hold", "engineer"),
    ("PATCH", "definitions/1/cases/1", "engineer"),
    ("POST", "unknown-senders/1/adopt", "engineer"),
    ("GET", "people", "admin"),
    ("GET", "record", "engineer"),
    ("GET", "onboarding", "engineer"),
]
ROLES = ["viewer", "operator", "engineer", "admin"]


def test_roles_are_enforced_on_the_server(world: World) -> None:
    clients = {role: signed_in(world, role) for role in ROLES}
    for method, path, needed in WRITES:
        for role in ROLES[: ROLES.index(needed)]:
            answer = send(clients[role], method, path)
            assert answer.status_code == 403, (method, path, role, answer.content)
            assert answer.json()["detail"] == f"this takes the role {needed}; yours is {role}"


def test_nothing_is_open_to_strangers(world: World) -> None:
    from server.api.urls import urlpatterns

    open_paths = {"api/v1/sign-in", "api/v1/schema", "api/v1/docs"}
    for pattern in urlpatterns:
        assert isinstance(pattern, URLPattern)
        route = str(pattern.pattern)
        if route in open_paths:
            continue
        path = "/" + route.replace("<id:ident>", "1").replace("<id:pk>", "1").replace("<str:name>", "x").replace(
            "<str:key>", "x"
        ).replace("<id:case>", "1").replace("<id:incident>", "1")
        assert Client().get(path).status_code == 401, path


def test_a_person_locked_out_is_out_at_once(world: World) -> None:
    client = signed_in(world, "engineer")
    assert client.get(V1 + "me").status_code == 200
    admin = signed_in(world, "admin")
    person = next(p for p in admin.get(V1 + "people").json()["results"] if p["username"] == "engineer")
    assert send(admin, "PATCH", f"people/{person['id']}", {"is_active": False}).status_code == 200
    assert client.get(V1 + "me").status_code == 401


def test_sessions_need_the_csrf_token(world: World) -> None:
    world.person("engineer")
    client = Client(enforce_csrf_checks=True)
    client.post(V1 + "sign-in", {"username": "engineer", "password": PASSWORD}, content_type="application/json")
    assert send(client, "POST", "sites", {"name": "x-1", "title": "X"}).status_code == 403


def test_tokens_carry_no_more_than_their_role_and_are_kept_hashed(world: World) -> None:
    client = signed_in(world, "engineer")
    made = send(client, "POST", "tokens", {"name": "script", "role": "viewer"}).json()
    head: dict[str, Any] = {"HTTP_AUTHORIZATION": f"Bearer {made['key']}"}
    assert Client().get(V1 + "devices", **head).status_code == 200
    assert Client().post(V1 + "sites", "{}", content_type="application/json", **head).status_code == 403
    assert Client().get(V1 + "devices", HTTP_AUTHORIZATION="Bearer oct_0000000000_" + "a" * 32).status_code == 401
    assert send(client, "POST", "tokens", {"name": "more", "role": "admin"}).status_code == 403
    ((stored,),) = world.ask("select row_to_json(t)::text from access_token t")
    assert made["key"] not in stored


def test_keys_of_devices_are_kept_as_hashes_only(world: World) -> None:
    ((stored,),) = world.ask("select string_agg(row_to_json(c)::text, ' ') from fleet_credential c")
    assert all(key not in stored and key.split("_")[2] not in stored for key in world.keys.values())


@pytest.mark.parametrize(
    "body,field",
    [
        ({"name": "No Spaces", "title": "x", "type": "pod"}, "name"),
        ({"name": "a/b", "title": "x", "type": "pod"}, "name"),
        ({"name": "x#", "title": "x", "type": "pod"}, "name"),
        ({"name": "ok-1", "title": "x", "type": "nothing"}, "type"),
        ({"name": "ok-1", "title": "x", "type": "pod", "latitude": 91, "longitude": 0}, "latitude"),
        ({"name": "ok-1", "title": "x", "type": "pod", "gateway": "pod-1"}, "gateway"),
        ({"name": "pod-0", "title": "x", "type": "pod"}, "name"),
        ({"name": "ok-1", "title": "x", "type": "pod", "latitude": 9}, "latitude"),
        ({}, "name"),
    ],
)
def test_a_device_that_cannot_be_is_refused_with_the_field(world: World, body: dict, field: str) -> None:
    answer = send(signed_in(world, "engineer"), "POST", "devices", body)
    assert answer.status_code == 400 and field in answer.json()["fields"], answer.content


def test_units_of_fields_are_checked(world: World) -> None:
    client = signed_in(world, "engineer")
    bad = send(
        client,
        "POST",
        "types",
        {"key": "thing", "title": "T", "fields": [{"name": "a", "kind": "number", "unit": "Celsius"}]},
    )
    assert bad.status_code == 400 and "`Celsius` is not a unit" in bad.content.decode()
    good = send(
        client,
        "POST",
        "types",
        {
            "key": "thing",
            "title": "T",
            "fields": [{"name": "a", "kind": "number", "unit": "Cel"}],
            "setpoints": [{"name": "a_max", "unit": "Cel", "value": 3}],
        },
    )
    assert good.status_code == 201 and good.json()["fields"][0]["unit"] == "Cel"


def test_publishing_makes_versions_that_never_change_and_is_on_record(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    made = send(
        client, "POST", "definitions", {"kind": "decoder", "name": "pod", "type": "pod", "draft": DECODER}
    ).json()
    bad = send(
        client, "POST", f"definitions/{made['id']}/publish", {"text": "decoder pod for bytes\n  byte 0  a  u8 Cell\n"}
    )
    assert bad.status_code == 400 and bad.json()["problems"][0]["line"] == 2
    assert (
        send(client, "POST", f"definitions/{made['id']}/publish", {"text": DECODER, "why": "first"}).status_code == 201
    )
    assert (
        send(
            client,
            "POST",
            f"definitions/{made['id']}/publish",
            {"text": DECODER.replace("within 0 to 6000", "within 0 to 50")},
        ).status_code
        == 201
    )
    versions = client.get(V1 + f"definitions/{made['id']}/versions").json()["results"]
    assert [(v["number"], v["why"]) for v in versions] == [(2, ""), (1, "first")] and "6000" in versions[1]["text"]
    assert world.ask("select count(*) from access_record where what = 'published'") == [(2,)]
    world.arrive((0, 0, payload(80)))
    work_off(engine)
    assert world.ask("select missing->>'level' from reading_row") == [("outside 0 to 50",)]


def test_two_people_editing_one_draft_notice_each_other(world: World) -> None:
    client = signed_in(world, "engineer")
    made = send(client, "POST", "definitions", {"kind": "decoder", "name": "pod", "type": "pod", "draft": "a"}).json()
    assert send(client, "PATCH", f"definitions/{made['id']}", {"draft": "b", "draft_number": 0}).status_code == 200
    late = send(client, "PATCH", f"definitions/{made['id']}", {"draft": "c", "draft_number": 0})
    assert late.status_code == 409 and late.json()["detail"] == "engineer changed this draft meanwhile"
    assert late.json()["theirs"] == {"text": "b", "draft_number": 1, "version": None}, "both texts are there"


def test_trial_of_a_condition_equals_what_the_engine_did(world: World, engine: Any) -> None:
    from server.rules.publishing import check
    from server.trials.conditions import condition_trial
    from tests.server.test_engine import stream

    world.decoder()
    world.condition()
    world.arrive(*stream(5, 200))
    work_off(engine)
    plan, _ = check("condition", CONDITION, world.type)
    assert isinstance(plan, ConditionPlan)
    *_, last = condition_trial(plan, world.type, START - timedelta(days=1), START + timedelta(days=1))
    found = last["result"]
    live = world.ask(
        "select d.name, a.raised_at, a.cleared_at from alarms_alarm a join fleet_device d on d.id = a.device_id"
    )
    assert live and {(s["device"], s["raised_at"], s["cleared_at"]) for s in spans_of(found)} == set(live)


def test_a_trial_knows_what_a_silent_gateway_explains(world: World, engine: Any) -> None:
    from server.records.definitions.models import Definition
    from server.records.fleet.models import Device
    from server.rules.publishing import check, publish
    from server.rules.registering import registry_changed
    from server.trials.conditions import condition_trial

    quiet = 'condition "pod is silent" priority low\n  on pod\n  raise when silent(90 s)\n'
    world.decoder()
    world.condition(quiet)
    gate = Definition.objects.create(kind="condition", name="gate is silent", type=world.gate_type)
    publish(gate, 'condition "gate is silent" priority high\n  on gate\n  raise when silent(60 s)\n', None)
    Device.objects.filter(name__in=["pod-1", "pod-2"]).update(gateway=world.gateway)
    registry_changed()
    # Pod 0 speaks for itself, the others through a gateway that is away from 30 to 600 seconds, pod 2 longer still.
    rows: list[tuple[int | None, int]] = [(None, at) for at in (*range(0, 31, 30), *range(600, 1200, 30))]
    rows += [(pod, at + pod) for pod in (0, 1, 3) for at in (*range(0, 31, 30), *range(600, 1200, 30))]
    rows += [(2, at) for at in (0, 30, 1100)]
    with psycopg.connect(world.url) as own, own.cursor() as cursor:
        cursor.executemany(
            "insert into message (received_at, device_id, channel, payload) values (%s, %s, 3, %s)",
            [
                (START + timedelta(seconds=at), (world.gateway if pod is None else world.pods[pod]).pk, payload(1))
                for pod, at in sorted(rows, key=lambda row: row[1])
            ],
        )
    work_off(engine)
    live = world.ask(
        "select d.name, a.raised_at, a.cleared_at, suppressed from alarms_alarm a join fleet_device d on d.id ="
        " a.device_id where d.name <> 'gate-1'"
    )
    assert {(name, suppressed) for name, _, _, suppressed in live} == {
        ("pod-0", False), ("pod-1", True), ("pod-2", True), ("pod-2", False), ("pod-3", True)
    }  # fmt: skip
    plan, _ = check("condition", quiet, world.type)
    assert isinstance(plan, ConditionPlan)
    end = START + timedelta(seconds=1190)
    *_, last = condition_trial(plan, world.type, START - timedelta(days=1), end)
    told = {(s["device"], s["raised_at"], s["cleared_at"]) for s in spans_of(last["result"])}
    assert told == {row[:3] for row in live if not row[3] and row[1] < end}


def test_trial_of_a_decoder_groups_failures_and_counts_differences(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    definition = world.decoder()
    world.arrive(*[(0, i, payload(i)) for i in range(10)], (1, 20, b"\x00"), (1, 21, b"\x00"))
    work_off(engine)
    answer = send(
        client, "POST", f"definitions/{definition.pk}/trial", {"text": DECODER.replace("u16 / 10", "u16 / 5")}
    ).json()["decoder"]
    assert (answer["messages"], answer["decoded"], answer["failed"], answer["decoded_before"]) == (12, 10, 2, 10)
    assert [(r["code"], r["count"]) for r in answer["reasons"]] == [("too short", 2)]
    assert {f["field"]: f["differ"] for f in answer["fields"]} == {"level": 9, "temp": 0}
    assert world.ask("select count(*) from definitions_version") == [(1,)]


def test_why_leads_from_bytes_to_the_person(world: World, engine: Any) -> None:
    client = signed_in(world, "operator")
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(6)), (0, 61, payload(6)))
    work_off(engine)
    ((alarm,),) = world.ask("select id from alarms_alarm")
    taken = send(client, "POST", "alarms/acknowledge", {"alarms": [alarm], "note": "on my way"}).json()["alarms"]
    assert [a["acknowledged_by"] for a in taken] == ["operator"]
    assert send(client, "POST", "alarms/acknowledge", {"alarms": [alarm]}).status_code == 200
    why = client.get(V1 + f"why/alarm/{alarm}").json()
    assert [s["stage"] for s in why["steps"]] == [
        "message",
        "bytes",
        "reading",
        "limit",
        "condition",
        "alarm",
        "person",
    ]
    assert why["steps"][1]["detail"] == "bytes 0 to 1, raw 60" and why["steps"][1]["version"] == 1
    assert why["steps"][2]["title"] == "level = 6 m" and why["steps"][3]["title"] == "The limit was 5 m"
    assert why["steps"][6]["detail"] == "on my way"
    assert world.ask("select count(*) from alarms_journalentry where what = 'acknowledged'") == [(1,)]


def test_an_acknowledgement_can_be_given_back_for_a_while_by_who_gave_it(world: World, engine: Any) -> None:
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(6)), (0, 61, payload(6)))
    work_off(engine)
    ((alarm,),) = world.ask("select id from alarms_alarm")
    one = {"alarms": [alarm]}
    client, other = signed_in(world, "operator"), signed_in(world, "engineer")
    (taken,) = send(client, "POST", "alarms/acknowledge", one).json()["alarms"]
    assert taken["undo_until"] is not None
    assert other.get(V1 + f"alarms/{alarm}").json()["undo_until"] is None
    refused = send(other, "POST", "alarms/give-back", one)
    assert refused.status_code == 409 and "operator took this alarm" in refused.json()["detail"]
    (back,) = send(client, "POST", "alarms/give-back", one).json()["alarms"]
    assert back["acknowledged_at"] is None and back["acknowledged_by"] is None and back["undo_until"] is None
    assert send(client, "POST", "alarms/give-back", one).status_code == 200, "giving back twice changes nothing"
    journal = client.get(V1 + f"journal?alarm={alarm}").json()["results"]
    assert [(e["what"], e["who"]) for e in journal][:2] == [("given back", "operator"), ("acknowledged", "operator")]
    send(client, "POST", "alarms/acknowledge", one)
    world.ask("update alarms_alarm set acknowledged_at = acknowledged_at - interval '11 minutes' returning id")
    late = send(client, "POST", "alarms/give-back", one)
    assert late.status_code == 409 and "ten minutes" in late.json()["detail"]
    send(client, "POST", "alarms/note", {**one, "note": "the float sticks"})
    assert client.get(V1 + f"alarms/{alarm}").json()["notes"] == 1


def test_why_says_whose_setpoint_it_was_and_who_set_it(world: World, engine: Any) -> None:
    client = signed_in(world, "operator")
    world.decoder()
    world.condition(CONDITION.replace("held 60 s", "held 10 s"))
    name = world.pods[0].name
    send(client, "PUT", "types/pod/setpoints/level_max", {"value": 2.5, "device": name})
    world.arrive((0, 0, payload(6)), (0, 61, payload(6)))
    work_off(engine)
    send(client, "PUT", "types/pod/setpoints/level_max", {"value": 9, "device": name})
    ((alarm,),) = world.ask("select id from alarms_alarm")
    steps = client.get(V1 + f"why/alarm/{alarm}").json()["steps"]
    limit = next(s for s in steps if s["stage"] == "limit")
    assert limit["title"] == "The limit was 2.5 m"
    assert limit["detail"].startswith(f"setpoint level_max of {world.pods[0].title}, set by operator on ")
    assert next(s for s in steps if s["stage"] == "condition")["detail"].endswith("held for 10 s")


def test_setpoints_have_their_source(world: World, engine: Any) -> None:
    client = signed_in(world, "operator")
    path = "types/pod/setpoints/level_max"
    assert send(client, "PUT", path, {"value": 7.5, "device": "pod-0"}).status_code == 200
    assert send(client, "PUT", path, {"value": 0, "site": "reach"}).status_code == 200

    def of(name: str) -> tuple[float, str]:
        (found,) = client.get(V1 + f"devices/{name}").json()["setpoints"]
        return found["value"], found["source"]

    assert (of("pod-0"), of("pod-1")) == ((7.5, "device"), (0.0, "site"))
    work_off(engine)
    assert (
        engine.registry.world.limit(world.pods[0].pk, "level_max"),
        engine.registry.world.limit(world.pods[1].pk, "level_max"),
    ) == (7.5, 0.0)
    send(client, "PUT", path, {"value": None, "device": "pod-0"})
    assert of("pod-0") == (0.0, "site")


def test_device_states_follow_the_cadence(world: World, engine: Any) -> None:
    from server.rules.states import NEVER, STATES, standing

    def told(received: Any, failed: Any, at: int) -> list[str]:
        every = np.full(len(received), 60)
        return [STATES[k] for k in standing(np.array(received) * 1_000_000, np.array(failed), every, at * 1_000_000)]

    ages = [0, 90, 91, 180, 181]
    found = told([1000 - age for age in ages], [False] * 5, 1000)
    assert found == ["reporting", "reporting", "overdue", "overdue", "silent"]
    assert told([1000, 800, 910], [True] * 3, 1000) == ["undecodable", "silent", "undecodable"]
    assert STATES[standing(np.array([NEVER]), np.array([False]), np.array([60]), 0)[0]] == "waiting"
    client = signed_in(world, "viewer")
    world.decoder()
    world.arrive((0, 0, payload(1)), (1, 0, b"\x00"))
    work_off(engine)
    then = client.get(
        V1 + "devices", {"to": (START + timedelta(seconds=30)).isoformat().replace("+00:00", "Z"), "type": "pod"}
    ).json()
    assert {r["name"]: r["state"] for r in then["results"]} == {
        "pod-0": "reporting",
        "pod-1": "undecodable",
        "pod-2": "waiting",
        "pod-3": "waiting",
    }


def test_series_are_bounded_and_keep_extremes(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.decoder()
    world.arrive(*[(0, i, payload(i % 7)) for i in range(3000)])
    work_off(engine)
    span = {"from": (START - timedelta(seconds=1)).isoformat(), "to": (START + timedelta(hours=1)).isoformat()}
    (field,) = client.get(V1 + "devices/pod-0/series", {**span, "field": "level", "points": "200"}).json()["fields"]
    assert field["count"] == 3000 and len(field["t"]) <= 101 and (min(field["low"]), max(field["high"])) == (0, 6)
    assert client.get(V1 + "devices/pod-0/series", {"field": "nothing"}).status_code == 404
    assert client.get(V1 + "devices", {"from": "yesterday"}).status_code == 400


def test_adopting_gives_a_key_and_brings_the_messages_along(world: World, engine: Any) -> None:
    from server.records.fleet.models import Credential
    from server.records.senders.models import UnknownSender

    client = signed_in(world, "engineer")
    gate = Credential.objects.get(device=world.gateway)
    unknown = UnknownSender.objects.create(name="stray", through=gate, messages=2)
    for _ in range(2):
        world.ask(
            "insert into message (received_at, unknown_id, via_id, channel, payload) values (now(), %s, %s,"
            " 1, 'x') returning id",
            unknown.pk,
            world.gateway.pk,
        )
    answer = send(
        client, "POST", f"unknown-senders/{unknown.pk}/adopt", {"name": "stray", "title": "Stray", "type": "pod"}
    )
    assert answer.status_code == 201 and answer.json()["key"].startswith("ocd_")
    device = client.get(V1 + "devices/stray").json()
    assert (device["adopted_from"], device["gateway"]) == ("stray through gate-1", "gate-1")
    assert len(client.get(V1 + "arrivals", {"device": "stray"}).json()["results"]) == 2
    assert client.get(V1 + "unknown-senders").json()["count"] == 0


NASTY = "\x1b[31mred\u202egpj.exe\r\nSet-Cookie: x\x00"


def test_strangers_text_is_harmless(world: World, engine: Any) -> None:
    assert harmless(NASTY) == "\\u{1b}[31mred\\u{202e}gpj.exe\\u{d}\\u{a}Set-Cookie: x\\u{0}"
    assert spreadsheet_safe("=1+1") == "'=1+1" and spreadsheet_safe("plain") == "plain"
    client = signed_in(world, "engineer")
    made = send(client, "POST", "devices", {"name": "odd-1", "title": "a\u202eb<script>", "type": "pod"}).json()
    assert made["title"] == "a\\u{202e}b<script>"
    world.arrive((0, 0, NASTY.encode()))
    work_off(engine)
    (found,) = client.get(V1 + "arrivals", {"device": "pod-0"}).json()["results"]
    assert found["text"] is None and found["hex"] == NASTY.encode().hex()


def test_answers_carry_a_strict_policy(world: World) -> None:
    answer = signed_in(world, "viewer").get(V1 + "me")
    policy = answer.headers["Content-Security-Policy"]
    assert (
        "default-src 'self'" in policy
        and "unsafe-inline'; img" in policy
        and "script-src" not in policy
        and "unsafe-eval" not in policy
    )
    assert answer.headers["X-Content-Type-Options"] == "nosniff" and answer.headers["X-Frame-Options"] == "DENY"


def test_the_document_names_every_path_and_the_hot_ones(world: World) -> None:
    import yaml

    document = yaml.safe_load(Client().get(V1 + "schema").content)
    assert document["openapi"].startswith("3.")
    assert {"/in/", "/live/", "/api/v1/devices", "/api/v1/definitions/{ident}/publish"} <= document["paths"].keys()


def test_migrations_are_those_of_the_models(world: World) -> None:
    from django.core.management import call_command

    call_command("makemigrations", check=True, dry_run=True, verbosity=0)


def test_the_documents_problem_is_the_one_that_comes(world: World) -> None:
    (block,) = re.findall(r"```json\n(\{\"type\".*?)```", (ROOT / "docs" / "api.md").read_text(), re.S)
    told = json.loads(block)
    client = signed_in(world, "engineer")
    definition = send(client, "POST", "definitions", {"kind": "decoder", "name": "pod", "type": "pod"}).json()
    text = "decoder pod for bytes\n  byte 0  x  u8  Cell\n"
    answer = send(client, "POST", f"definitions/{definition['id']}/publish", {"text": text})
    found = answer.json()
    assert answer["Content-Type"] == "application/problem+json" and answer.status_code == told["status"]
    assert found.keys() == told.keys() and found["problems"][0].keys() >= told["problems"][0].keys()
    assert [found[k] for k in ("type", "title", "code", "detail")] == [
        told[k] for k in ("type", "title", "code", "detail")
    ]
    assert found["instance"].endswith(found["number"]) and told["instance"].endswith(told["number"])
