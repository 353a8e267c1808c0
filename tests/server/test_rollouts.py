"""A version for chosen devices first: compared, widened, given to all, withdrawn; devices held on a version."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone

from server.engine.worker import Engine
from server.records.definitions.models import Definition, Rollout
from server.records.fleet.models import Device, Site
from server.rules.registering import registry_changed
from server.rules.selection import Selection
from tests.server.test_api import V1, send, signed_in
from tests.server.world import DECODER, START, World, decode_again, payload, work_off

DOUBLE = DECODER.replace("u16 / 10", "u16 / 5")


def found(world: World) -> list[tuple[str, float, int]]:
    return world.ask(
        "select d.name, r.nums[1], v.number from reading_row r join fleet_device d on d.id = r.device_id join"
        " definitions_version v on v.id = r.version_id order by r.at, d.name"
    )


def begin(world: World, client: Any, **first: Any) -> int:
    definition = Definition.objects.filter(kind="decoder", live__isnull=False).first() or world.decoder()
    Device.objects.filter(name="pod-1").update(labels={"firmware": "2"})
    registry_changed()
    answer = send(
        client,
        "POST",
        f"definitions/{definition.pk}/publish",
        {"text": DOUBLE, "first": first or {"labels": {"firmware": "2"}}},
    )
    assert answer.status_code == 201, answer.content
    assert (answer.json()["live"]["number"], answer.json()["rolling_out"]) == (1, 2)
    return int(definition.pk)


def test_chosen_devices_have_a_version_first(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    ident = begin(world, client)
    world.arrive((0, 0, payload(3)), (1, 1, payload(3)), (2, 2, b"\x00"), (1, 3, b"\x00"))
    work_off(engine)
    assert found(world) == [("pod-0", 3.0, 1), ("pod-1", 6.0, 2)]
    told = client.get(V1 + f"definitions/{ident}/rollout").json()
    assert (
        told["number"] == 2
        and told["labels"] == {"firmware": "2"}
        and told["chosen"]["version"] == 2
        and told["others"]["version"] == 1
    )
    assert told["chosen"]["devices"] == 1 and told["others"]["devices"] == 3
    versions = world.ask(
        "select d.name, v.number from refused r join fleet_device d on d.id = r.device_id join definitions_version v"
        " on v.id = r.version_id order by 1"
    )
    assert versions == [("pod-1", 2), ("pod-2", 1)]
    assert client.get(V1 + "devices/pod-1").json()["decoder_because"] == "chosen"

    again = Engine.__new__(Engine)  # a restart reads the same from the stream
    again.__dict__.update(engine.__dict__)
    again.load()
    assert [again.registry.version_of(d.pk) for d in world.pods] == [
        engine.registry.version_of(d.pk) for d in world.pods
    ]


def test_a_rollout_is_widened_withdrawn_and_given_to_all(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    ident = begin(world, client)
    Device.objects.update(site=None)
    assert send(client, "POST", f"definitions/{ident}/chosen", {"site": "reach"}).json()["devices"] == 0
    Device.objects.filter(name__in=["pod-0", "pod-1"]).update(
        site=Site.objects.create(name="inlet", title="Inlet", parent=world.site)
    )
    registry_changed()
    assert send(client, "POST", f"definitions/{ident}/chosen", {"site": "reach"}).json() == {
        "devices": 2,
        "of": 4,
        "held": 0,
        "names": ["pod-0", "pod-1"],
    }
    assert (
        send(client, "PUT", f"definitions/{ident}/rollout", {"number": 2, "site": "reach"}).json()["chosen"]["devices"]
        == 2
    )
    world.arrive((0, 0, payload(3)), (2, 1, payload(3)))
    work_off(engine)
    assert send(client, "DELETE", f"definitions/{ident}/rollout").json()["number"] is None
    assert send(client, "DELETE", f"definitions/{ident}/rollout").status_code == 404
    world.arrive((0, 10, payload(3)))
    work_off(engine)
    assert send(client, "POST", f"definitions/{ident}/in-force", {"number": 2}).json()["live"]["number"] == 2
    world.arrive((2, 20, payload(3)))
    work_off(engine)
    assert found(world) == [("pod-0", 6.0, 2), ("pod-2", 3.0, 1), ("pod-0", 3.0, 1), ("pod-2", 6.0, 2)]


def test_a_held_device_stays_on_its_version(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    definition = world.decoder()
    assert send(client, "PUT", "devices/pod-2/hold", {"number": 5}).status_code == 404
    assert send(client, "PUT", "devices/pod-2/hold", {"number": 1, "why": "old board"}).status_code == 204
    assert send(client, "POST", f"definitions/{definition.pk}/publish", {"text": DOUBLE}).status_code == 201
    world.arrive((1, 0, payload(3)), (2, 1, payload(3)))
    work_off(engine)
    listed = client.get(V1 + f"definitions/{definition.pk}/runs?because=held").json()
    assert listed["results"] == [
        {"device": "pod-2", "title": "Pod 2", "site": "The Reach", "version": 1, "because": "held", "why": "old board"}
    ]
    assert client.get(V1 + f"definitions/{definition.pk}/runs?version=2&limit=2").json()["count"] == 3
    assert send(client, "DELETE", "devices/pod-2/hold").status_code == 204
    world.arrive((2, 10, payload(3)))
    work_off(engine)
    assert found(world) == [("pod-1", 6.0, 2), ("pod-2", 3.0, 1), ("pod-2", 6.0, 2)]


def test_each_device_is_decoded_again_by_the_version_it_runs(world: World, engine: Any, again: Any) -> None:
    client = signed_in(world, "engineer")
    world.decoder()
    world.arrive((0, 0, payload(3)), (1, 1, payload(3)))
    work_off(engine)
    begin(world, client)
    work_off(engine)
    send(
        client,
        "POST",
        "types/pod/decode-again",
        {"start": START.isoformat(), "end": (START + timedelta(hours=1)).isoformat()},
    )
    decode_again(again, engine)
    assert [(name, value) for name, value, _ in found(world)] == [("pod-0", 3.0), ("pod-1", 6.0)]


def test_a_rollout_needs_a_version_in_force_and_an_engineer(world: World) -> None:
    definition = Definition.objects.create(kind="decoder", name="pod", type=world.type)
    client = signed_in(world, "engineer")
    refused = send(client, "POST", f"definitions/{definition.pk}/publish", {"text": DECODER, "first": {"share": 10}})
    assert refused.status_code == 409 and "no version is in force" in refused.json()["detail"]
    assert definition.versions.count() == 0
    assert send(client, "PUT", f"definitions/{definition.pk}/rollout", {"number": 1, "share": 0}).status_code == 400
    viewer = signed_in(world, "viewer")
    assert send(viewer, "PUT", f"definitions/{definition.pk}/rollout", {"number": 1}).status_code == 403
    assert send(viewer, "PUT", "devices/pod-1/hold", {"number": 1}).status_code == 403


def test_a_wider_share_keeps_the_devices_of_a_smaller_one() -> None:
    names = [f"buoy-{n:02d}" for n in range(300)]
    chosen = [{n for n in names if Selection(share=share).takes(n, {}, None, {})} for share in (10, 30, 100)]
    assert chosen[0] < chosen[1] < chosen[2] == set(names)
    assert 10 < len(chosen[0]) < 55


# conditions -------------------------------------------------------------------------------
WATCH = 'condition "level is high" priority high\n  on pod\n  raise when level > 5 m\n'
STRICT = WATCH.replace("> 5 m", "> 2 m").replace("priority high", "priority low")


def alarms(world: World) -> list[tuple[str, str, int, bool]]:
    """Device, priority, version that raised it, whether it is open."""
    return world.ask(
        "select d.name, a.priority, v.number, a.cleared_at is null from alarms_alarm a join fleet_device d on d.id ="
        " a.device_id join definitions_version v on v.id = a.version_id order by a.id"
    )


def begin_strict(world: World, client: Any, **first: Any) -> int:
    world.decoder()
    definition = world.condition(WATCH)
    Device.objects.filter(name="pod-1").update(labels={"firmware": "2"})
    registry_changed()
    body = {"text": STRICT, "first": first or {"labels": {"firmware": "2"}}}
    answer = send(client, "POST", f"definitions/{definition.pk}/publish", body)
    assert answer.status_code == 201, answer.content
    assert (answer.json()["live"]["number"], answer.json()["rolling_out"]) == (1, 2)
    return int(definition.pk)


def test_chosen_devices_are_watched_by_a_version_first(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    ident = begin_strict(world, client)
    world.arrive((0, 0, payload(3)), (1, 1, payload(3)), (2, 2, payload(8)))
    work_off(engine)
    assert alarms(world) == [("pod-1", "low", 2, True), ("pod-2", "high", 1, True)]
    Rollout.objects.update(began_at=START)
    told = client.get(V1 + f"definitions/{ident}/rollout").json()
    assert (told["chosen"]["devices"], told["chosen"]["raised"]) == (1, 1)
    assert (told["others"]["devices"], told["others"]["raised"]) == (3, 1)
    runs = client.get(V1 + f"definitions/{ident}/runs?because=chosen").json()["results"]
    assert [r["device"] for r in runs] == ["pod-1"]

    # A restart goes on with both; a label brings a device under the other version, which keeps its alarm.
    engine.load()
    Device.objects.filter(name="pod-2").update(labels={"firmware": "2"})
    registry_changed()
    world.arrive((2, 10, payload(3)), (0, 11, payload(3)))
    work_off(engine)
    assert alarms(world) == [("pod-1", "low", 2, True), ("pod-2", "low", 1, True)]

    # Withdrawn: what only the other version holds against is over, and nothing is raised twice.
    assert send(client, "DELETE", f"definitions/{ident}/rollout").json()["number"] is None
    work_off(engine)
    assert [(name, is_open) for name, _, _, is_open in alarms(world)] == [("pod-1", False), ("pod-2", False)]
    world.arrive((2, 20, payload(8)))
    work_off(engine)
    assert alarms(world)[-1] == ("pod-2", "high", 1, True)


def test_what_was_raised_first_goes_on_when_all_have_the_version(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    ident = begin_strict(world, client)
    world.arrive((0, 0, payload(3)), (1, 1, payload(3)))
    work_off(engine)
    assert send(client, "POST", f"definitions/{ident}/in-force", {"number": 2}).json()["rolling_out"] is None
    work_off(engine)
    assert alarms(world) == [("pod-1", "low", 2, True), ("pod-0", "low", 2, True)]
    assert world.ask("select count(*) from alarms_journalentry where what = 'cleared'") == [(0,)]


def test_what_cannot_go_first_says_why(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    ident = begin_strict(world, client)
    each = 'condition "level is high" priority high\n  on each site of pod\n  raise when share_of(level > 2 m) > 50 %\n'
    first = {"labels": {"firmware": "2"}}
    answer = send(client, "POST", f"definitions/{ident}/publish", {"text": each, "first": first})
    assert answer.status_code == 400 and "publish it for all" in answer.json()["detail"], answer.content
    until = (timezone.now() + timedelta(hours=2)).isoformat()
    assert send(client, "POST", f"definitions/{ident}/off", {"until": until, "why": "mooring work"}).status_code == 200
    assert client.get(V1 + f"definitions/{ident}/rollout").json()["number"] is None, "it is over with it"
    answer = send(client, "PUT", f"definitions/{ident}/rollout", {"number": 2, **first})
    assert answer.status_code == 400 and "switched off" in answer.json()["detail"], answer.content
    work_off(engine)
    assert [key for key in engine.registry.conditions if abs(key) == ident] == []
