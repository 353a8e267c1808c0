"""The register under many hands: nothing is lost, nothing is changed that was not seen, nothing that is used goes
away.
"""

from __future__ import annotations

import random
from datetime import timedelta
from typing import Any

import psycopg
import pytest

from server.records.fleet.models import Device, DeviceType, Setpoint, Site
from server.rules.publishing import publish
from server.rules.registering import registry_changed
from tests.server.test_api import V1, Client, at_once, send, signed_in
from tests.server.world import DECODER, START, World, decode_again, payload, work_off


def change(client: Client, path: str, body: dict[str, Any], tag: str | None = None) -> Any:
    head: dict[str, Any] = {"HTTP_IF_MATCH": tag} if tag is not None else {}
    return client.patch(V1 + path, body, content_type="application/json", **head)


@pytest.mark.parametrize("path,field", [("devices/pod-0", "title"), ("types/pod", "title"), ("sites/reach", "title")])
def test_a_change_counts_from_the_state_that_was_seen(world: World, path: str, field: str) -> None:
    client, other = signed_in(world, "engineer"), signed_in(world, "admin")
    seen = client.get(V1 + path)
    tag = seen.headers["ETag"]
    assert tag == f'"{seen.json()["revision"]}"'
    assert change(other, path, {field: "Theirs"}, tag).headers["ETag"] != tag
    late = change(client, path, {field: "Mine"}, tag)
    assert late.status_code == 412 and late.json()["code"] == "changed meanwhile"
    assert late.json()["detail"].endswith("was changed meanwhile by admin, just now; look at it again")
    assert client.get(V1 + path).json()[field] == "Theirs"
    assert change(client, path, {field: "Mine"}, client.get(V1 + path).headers["ETag"]).status_code == 200
    assert change(client, path, {field: "Again"}, "*").status_code == 200
    assert change(client, path, {field: "Never"}, '"many"').status_code == 412


def test_changes_at_once_each_count_and_the_screen_shows_what_the_engine_uses(world: World, engine: Any) -> None:
    """Setpoints of type, site and device in parallel: the last in the tables is the last in the stream."""
    clients = [signed_in(world, role) for role in ("operator", "engineer", "admin")]
    places: list[dict[str, str]] = [{}, {"device": "pod-0"}, {"site": "reach"}]

    def put(n: int) -> int:
        body = {"value": float(n), **places[n % 3]}
        return send(clients[n % 2], "PUT", "types/pod/setpoints/level_max", body).status_code

    for turn in range(6):
        assert set(at_once(put, range(turn * 12, turn * 12 + 12))) == {200}
        work_off(engine)
        type_ = DeviceType.objects.get(key="pod")
        shown = {
            "type": next(s["value"] for s in type_.setpoints if s["name"] == "level_max"),
            "device": Setpoint.objects.get(device=world.pods[0]).value,
            "site": Setpoint.objects.get(site=world.site).value,
        }
        limits = engine.registry.world.limits
        used = {
            scope: limits[type_.pk, "level_max", scope, ident]
            for scope, ident in (("type", 0), ("device", world.pods[0].pk), ("site", world.site.pk))
        }
        assert shown == used


def test_two_changes_of_different_parts_both_stay(world: World) -> None:
    clients = [signed_in(world, "engineer"), signed_in(world, "admin")]
    bodies: list[dict[str, Any]] = [{"title": "Another"}, {"labels": {"row": "2"}}] * 5
    work = enumerate(bodies)
    codes = at_once(lambda one: change(clients[one[0] % 2], "devices/pod-0", one[1]).status_code, work)
    assert set(codes) == {200}
    device = Device.objects.get(name="pod-0")
    assert (device.title, device.labels, device.revision) == ("Another", {"row": "2"}, 11)


def test_sites_never_lie_in_each_other_in_a_ring(world: World, engine: Any) -> None:
    client, other = signed_in(world, "engineer"), signed_in(world, "admin")
    for name in ("north", "south"):
        assert send(client, "POST", "sites", {"name": name, "title": name.title()}).status_code == 201
    for _ in range(8):
        Site.objects.update(parent=None)
        pairs = [(client, "north", "south"), (other, "south", "north")]
        codes = at_once(lambda p: change(p[0], f"sites/{p[1]}", {"parent": p[2]}).status_code, pairs)
        assert sorted(codes) == [200, 400]
    assert change(client, "sites/north", {"parent": "north"}).status_code == 400
    for n in range(20):
        deep = {"name": f"deep-{n}", "title": "Deep", "parent": f"deep-{n - 1}" if n else None}
        code = send(client, "POST", "sites", deep).status_code
        assert code == (201 if n < 16 else 400)


def test_a_ring_from_elsewhere_hangs_nobody(world: World, engine: Any) -> None:
    from server.rules.selection import Selection

    other = Site.objects.create(name="other", title="Other", parent=world.site)
    Site.objects.filter(pk=world.site.pk).update(parent=other)
    client = signed_in(world, "viewer")
    registry_changed(None)
    work_off(engine)
    assert engine.registry.world.limit(world.pods[0].pk, "none") is None
    assert not Selection(site=999).takes("pod-0", {}, world.site.pk, engine.registry.parents)
    assert client.get(V1 + "devices", {"site": "reach"}).json()["count"] == 5
    assert client.get(V1 + "devices/pod-0").status_code == 200


def test_devices_speak_through_others_in_no_ring(world: World) -> None:
    client = signed_in(world, "engineer")
    second = {"name": "gate-2", "title": "Gate 2", "type": "gate", "gateway": "gate-1"}
    assert send(client, "POST", "devices", second).status_code == 201
    assert change(client, "devices/gate-1", {"gateway": "gate-1"}).status_code == 400
    assert change(client, "devices/gate-1", {"gateway": "gate-2"}).json()["detail"].startswith("a device cannot speak")


@pytest.mark.parametrize(
    "body",
    [
        {"fields": [{"name": "level"}]},
        {"fields": [{"kind": "number"}]},
        {"fields": [{}]},
        {"fields": ["level"]},
        {"fields": [{"name": "mode", "kind": "code", "codes": {"²": "on"}}]},
        {"fields": [{"name": "mode", "kind": "code", "codes": {"1" * 40: "on"}}]},
        {"fields": [{"name": "a", "kind": "number", "unit": "m\nx"}]},
        {"setpoints": [{"name": "level_max"}]},
        {"setpoints": [{"name": "level_max", "unit": "m", "value": "NaN"}]},
        {"setpoints": [{"name": "level_max", "unit": "m", "value": 1e300}]},
        {"cadence_s": 2**40},
        {"title": ""},
    ],
)
def test_half_a_change_of_a_type_is_refused_and_every_page_goes_on(world: World, body: dict[str, Any]) -> None:
    world.decoder()
    client = signed_in(world, "engineer")
    before = client.get(V1 + "types/pod").json()
    assert change(client, "types/pod", body).status_code == 400
    assert client.get(V1 + "types/pod").json() == before
    assert client.get(V1 + "devices/pod-0").status_code == 200
    assert send(client, "POST", "check", {"kind": "decoder", "text": DECODER, "type": "pod"}).json()["good"]


def test_what_a_running_version_uses_stays_what_it_is(world: World, engine: Any) -> None:
    world.decoder()
    definition = world.condition()
    client = signed_in(world, "engineer")
    type_ = client.get(V1 + "types/pod").json()
    fields, setpoints = type_["fields"], type_["setpoints"]
    gone = change(client, "types/pod", {"fields": [f for f in fields if f["name"] != "level"]})
    assert gone.status_code == 409 and gone.json()["code"] == "in use"
    assert "`level` would be removed" in gone.json()["detail"]
    assert gone.json()["uses"][0]["used_by"] == ["decoder version 1", "condition “level is high”"]
    other = [f | {"unit": "Cel"} if f["name"] == "level" else f for f in fields]
    assert "another unit" in change(client, "types/pod", {"fields": other}).json()["detail"]
    assert change(client, "types/pod", {"setpoints": []}).json()["uses"][0]["what"] == "setpoint"
    assert change(client, "types/pod", {"setpoints": [s | {"unit": "cm"} for s in setpoints]}).status_code == 409
    more = {"name": "spare", "unit": "m", "value": 1.0}
    assert change(client, "types/pod", {"setpoints": [*setpoints, more]}).status_code == 200
    assert change(client, "types/pod", {"setpoints": setpoints}).status_code == 200, "what nobody uses may go"
    assert send(client, "POST", f"definitions/{definition.pk}/retire").status_code == 200
    assert change(client, "types/pod", {"setpoints": []}).status_code == 200
    work_off(engine)
    assert not engine.registry.world.limits, "a setpoint that is gone is no limit any more"


def test_a_hold_ends_when_the_device_becomes_another_type(world: World, engine: Any) -> None:
    world.decoder()
    client = signed_in(world, "engineer")
    send(client, "POST", "types", {"key": "other", "title": "Other"})
    assert send(client, "PUT", "devices/pod-0/hold", {"number": 1}).status_code == 204
    work_off(engine)
    assert engine.registry.held
    assert change(client, "devices/pod-0", {"type": "other"}).status_code == 200
    work_off(engine)
    assert not engine.registry.held and engine.registry.version_of(world.pods[0].pk) is None
    # One that came into the stream otherwise is not followed either.
    engine.registry.held[world.pods[0].pk] = next(iter(engine.registry.sources))
    engine.registry.running.clear()
    assert engine.registry.version_of(world.pods[0].pk) is None


def test_a_device_with_a_message_that_waits_is_not_deleted(world: World) -> None:
    client = signed_in(world, "engineer")
    world.arrive((2, 0, payload(3)))
    refused = send(client, "DELETE", "devices/pod-2")
    assert refused.status_code == 409 and "has messages" in refused.json()["detail"]
    assert send(client, "DELETE", "devices/pod-1").status_code == 204


def test_publishing_over_somebody_elses_version_or_draft_is_noticed(world: World) -> None:
    definition = world.decoder()
    client, other = signed_in(world, "engineer"), signed_in(world, "admin")
    path = f"definitions/{definition.pk}"
    seen = client.get(V1 + path).json()
    base = {"base": seen["last_number"], "draft_number": seen["draft_number"]}
    theirs = DECODER.replace("u16 / 10", "u16 / 5")
    assert send(other, "POST", f"{path}/publish", {"text": theirs, **base}).status_code == 201
    late = send(client, "POST", f"{path}/publish", {"text": DECODER, **base})
    assert late.status_code == 409 and late.json()["code"] == "changed meanwhile"
    assert late.json()["detail"].startswith("admin published version 2 meanwhile")
    assert late.json()["theirs"]["version"] == 2 and "u16 / 5" in late.json()["theirs"]["text"]
    now = client.get(V1 + path).json()
    assert now["live"]["number"] == 2 and now["draft_who"] == "admin"
    fresh = {"base": 2, "draft_number": now["draft_number"]}
    kept = {"draft": "half a text", "draft_number": now["draft_number"]}
    assert send(other, "PATCH", path, kept).status_code == 200
    drafted = send(client, "POST", f"{path}/publish", {"text": DECODER, **fresh})
    assert drafted.status_code == 409 and drafted.json()["theirs"]["text"] == "half a text"
    fresh["draft_number"] += 1
    assert send(client, "POST", f"{path}/publish", {"text": DECODER, **fresh}).status_code == 201


def test_titles_and_texts_obey_no_mark_of_control_or_direction(world: World) -> None:
    client, admin = signed_in(world, "engineer"), signed_in(world, "admin")
    odd, shown = "a\u202eb\x07c", "a\\u{202e}b\\u{7}c"
    assert send(client, "POST", "sites", {"name": "odd", "title": odd}).json()["title"] == shown
    assert send(client, "POST", "types", {"key": "odd", "title": odd}).json()["title"] == shown
    device = {"name": "odd-1", "title": odd, "type": "pod", "labels": {"row": odd}}
    made = send(client, "POST", "devices", device).json()
    assert (made["title"], made["labels"]["row"]) == (shown, shown)
    assert send(client, "POST", "tokens", {"name": odd, "role": "viewer"}).json()["name"] == shown
    new = {"username": "odd", "name": odd, "role": "viewer", "password": "a long password of words"}
    assert send(admin, "POST", "people", new).json()["name"] == shown
    text = DECODER.replace('"odd mark"', '"odd \u202e mark"')
    problems = send(client, "POST", "check", {"kind": "decoder", "text": text, "type": "pod"}).json()["problems"]
    assert "control or direction character" in problems[0]["message"]


def test_decoding_again_is_queued_by_span_and_done_once_for_the_same(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    world.decoder()
    day = {"start": START.isoformat(), "end": START.replace(hour=13).isoformat()}
    first = send(client, "POST", "types/pod/decode-again", day).json()
    assert send(client, "POST", "types/pod/decode-again", day).json()["id"] == first["id"]
    second = send(client, "POST", "types/pod/decode-again", {}).json()
    assert second["id"] != first["id"] and second["behind"] == 1
    assert client.get(V1 + "types/pod/decode-again").json()["id"] == first["id"]
    assert send(client, "DELETE", "types/pod/decode-again").json()["state"] == "cancelled"


def test_decoding_again_while_versions_change_ends_with_one_of_them(world: World, engine: Any, again: Any) -> None:
    """A version that comes into force half way: what was done before is done once more, by that one."""

    client = signed_in(world, "engineer")
    definition = world.decoder()
    world.arrive(*[(0, i, payload(i)) for i in range(1, 9)])
    work_off(engine)
    span = {"start": START.isoformat(), "end": START.replace(hour=13).isoformat()}
    send(client, "POST", "types/pod/decode-again", span)
    assert again.step(3) and again.step(3)
    world.decoder(DECODER.replace("u16 / 10", "u16 / 5"))
    work_off(engine)
    decode_again(again, engine, 3)
    job = client.get(V1 + "types/pod/decode-again").json()
    assert (job["state"], job["done"], job["decoded"]) == ("done", 8, 8)
    newest = definition.versions.get(number=2).pk
    assert world.ask("select distinct version_id from reading_row") == [(newest,)]
    assert world.ask("select nums[1] from reading_row order by at") == [(2.0 * i,) for i in range(1, 9)]


@pytest.mark.parametrize("asked", ["what was refused", "a span"])
def test_a_message_that_cannot_be_decoded_again_is_set_aside_and_the_job_goes_on(
    world: World, engine: Any, again: Any, asked: str
) -> None:
    from server.records.again.models import DecodeAgain

    client = signed_in(world, "engineer")
    world.arrive(*[(0, i, payload(i / 10)) for i in range(30)])
    work_off(engine)
    world.decoder()
    work_off(engine)
    with psycopg.connect(world.url) as connection:
        connection.execute("alter table reading_row add constraint poison check (nums[1] is distinct from 1.3)")
    try:
        if asked == "a span":
            DecodeAgain.objects.create(type=world.type, start=START, end=START.replace(hour=13))
        else:
            send(client, "POST", "types/pod/decode-again", {})
        decode_again(again, engine)
    finally:
        with psycopg.connect(world.url) as connection:
            connection.execute("alter table reading_row drop constraint poison")
    job = client.get(V1 + "types/pod/decode-again").json()
    assert (job["state"], job["done"], job["decoded"]) == ("done", 30, 29)
    ((code, reason),) = world.ask("select code, reason from refused")
    assert code == "unwritable" and "poison" in reason


def test_a_message_that_ended_the_process_is_set_aside_by_the_next(world: World, engine: Any) -> None:
    """Whoever begins sees how much another had in hand that did not come to its end: half of that, at last one."""
    from server.again.worker import Again
    from server.records.again.models import DecodeAgain

    world.decoder()
    world.arrive(*[(0, i, payload(i / 10)) for i in range(12)])
    work_off(engine)
    job = DecodeAgain.objects.create(type=world.type, start=START, end=START.replace(hour=13))

    def seen(most: int) -> tuple[Any, int]:
        """A worker that is killed when it has told what it has in hand."""
        dying = Again(world.url)
        dying._read = lambda job, size: (_ for _ in ()).throw(SystemExit)  # type: ignore[method-assign]
        with pytest.raises(SystemExit):
            dying.step(most)
        dying.pool.shutdown()
        dying.connection.execute("select pg_advisory_unlock_all()")
        dying.connection.close()
        dying.reading.close()
        job.refresh_from_db()
        return job.trying, job.done

    assert [seen(10) for _ in range(4)] == [(10, 0), (5, 0), (2, 0), (1, 0)]
    last = Again(world.url)
    decode_again(last, engine)
    last.close()
    job.refresh_from_db()
    assert (job.state, job.done, job.decoded, job.trying) == ("done", 12, 11, None)
    assert world.ask("select code, reason from refused") == [("unwritable", "it ended the process that decoded it")]


@pytest.mark.parametrize("seed", range(3))
def test_decoding_again_among_arrivals_leaves_the_newest_of_what_is_stored(
    world: World, engine: Any, again: Any, seed: int
) -> None:
    from server.records.again.models import DecodeAgain
    from tests.server.test_engine import stream

    rng = random.Random(seed)
    definition = world.decoder()
    messages = stream(seed, 240, apart=0.01)
    world.arrive(*messages[:120])
    work_off(engine)
    publish(definition, DECODER.replace("within 0 to 6000", "within 0 to 5"), None)
    work_off(engine)
    job = DecodeAgain.objects.create(type=world.type, start=START, end=START + timedelta(days=1))
    place = 120
    while place < len(messages):
        match rng.randrange(3):
            case 0:
                more = rng.randint(1, 9)
                world.arrive(*messages[place : place + more])
                place += more
            case 1:
                engine.step(rng.randint(1, 30))
            case 2:
                again.step(rng.randint(1, 40))
    work_off(engine)
    decode_again(again, engine)
    job.refresh_from_db()
    assert job.state == "done"
    newest = definition.versions.get(number=2).pk
    assert world.ask("select distinct version_id from reading_row") == [(newest,)]
    stored = world.ask(
        "select distinct on (r.device_id, n) r.device_id, n, v, r.message_id from reading_row r cross join lateral"
        " unnest(r.nums) with ordinality u(v, n) where v is not null order by r.device_id, n, r.at desc"
    )
    held = world.ask("select device_id, fields from latest order by 1")
    names = {1: "level", 2: "temp"}
    assert sorted((d, names[n], v, m) for d, n, v, m in stored) == sorted(
        (d, name, entry[0], entry[2]) for d, fields in held for name, entry in fields.items()
    )
    kept = {key: (one.value, one.at) for key, one in engine.newest.items()}
    engine.load()
    assert {key: (one.value, one.at) for key, one in engine.newest.items()} == kept
    refused = world.ask("select count(*) from refused where device_id is not null")[0][0]
    assert world.ask("select sum(messages), sum(failed) from activity") == [(len(messages), refused)]
