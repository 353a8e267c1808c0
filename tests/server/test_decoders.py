"""What decoders do on the server: other devices, the message before, constants, cases, versions, decoding a span
again.
"""

from __future__ import annotations

import asyncio
import json
import struct
from datetime import timedelta
from typing import Any

import psycopg

from server.rules.publishing import publish
from tests.server.test_api import V1, send, signed_in
from tests.server.world import DECODER, GATEWAY, START, World, decode_again, payload, work_off

COUNTER = """decoder pod for bytes, big endian
  constant step number m = 0.5
  byte 0  pulses  u16
  derive moved = wrapped(pulses - before(pulses), 16) * step
"""


def levels(world: World, field: str = "level") -> list[tuple[str, Any]]:
    rows = world.ask("select d.name, l.fields from latest l join fleet_device d on d.id = l.device_id order by d.name")
    return [(name, fields[field][0]) for name, fields in rows if field in fields]


def test_a_sender_speaks_for_devices_behind_it_and_for_no_others(world: World, engine: Any) -> None:
    from server.records.fleet.models import Device
    from server.rules.registering import registry_changed

    world.decoder(GATEWAY)
    Device.objects.filter(name="pod-1").update(gateway=Device.objects.get(name="pod-0"))
    registry_changed()
    world.arrive((0, 0, b"".join(struct.pack(">BH", n, 30 + n) for n in (0, 1, 2))))
    work_off(engine)
    assert [
        row[:2]
        for row in world.ask(
            "select d.name, r.nums[1] from reading_row r join fleet_device d on d.id = r.device_id order by 1"
        )
    ] == [("pod-0", 3.0), ("pod-1", 3.1)]
    ((code, reason),) = world.ask("select code, reason from refused")
    assert code == "not assigned" and "pod-2" in reason
    assert ("pod-1", 3.1) in levels(world)


def test_counters_go_by_the_message_before_across_batches(world: World, engine: Any) -> None:
    """However the stream is cut: each message is held against the one before of the same device."""
    world.decoder(COUNTER)
    world.arrive(*[(n % 2, n, struct.pack(">H", (65_530 + 3 * n) % 65_536)) for n in range(8)])
    while engine.step(1):
        pass
    moved = world.ask(
        "select d.name, r.nums[2], r.missing->>'moved' from reading_row r join fleet_device d on d.id = r.device_id"
        " order by r.at"
    )
    assert moved[:2] == [("pod-0", None, "no earlier message"), ("pod-1", None, "no earlier message")]
    assert [m[1] for m in moved[2:]] == [3.0] * 6


def test_constants_of_a_device_are_valid_from_their_date(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    world.decoder(COUNTER)
    moment = (START + timedelta(seconds=15)).isoformat()
    assert (
        send(client, "POST", "devices/pod-0/constants", {"name": "step", "value": 2, "valid_from": moment}).status_code
        == 201
    )
    assert (
        "a constant is"
        in send(client, "POST", "devices/pod-0/constants", {"name": "step", "value": [1]}).json()["detail"]
    )
    world.arrive(*[(0, 10 * n, struct.pack(">H", n)) for n in range(4)])
    work_off(engine)
    assert [r[0] for r in world.ask("select nums[2] from reading_row order by at")] == [None, 0.5, 2.0, 2.0]
    (kept,) = client.get(V1 + "devices/pod-0/constants").json()
    assert send(client, "DELETE", f"devices/pod-0/constants/{kept['id']}").status_code == 204


def test_what_a_sender_tells_beside_a_message_is_there_for_the_decoder(world: World, engine: Any) -> None:
    """Live, in a trial, and when one asks why."""
    client = signed_in(world, "engineer")
    definition = world.decoder(
        "decoder pod for registers, big endian\n  header start  first  integer from text  hidden\n  origin first\n "
        " register 12  level  u16 / 10  m\n"
    )
    with psycopg.connect(world.url) as connection:
        for start, data in ((10, b"\x00\x01\x00\x02\x00\x1f"), (12, b"\x00\x29")):
            connection.execute(
                "insert into message (received_at, device_id, channel, headers, payload) values (%s, %s, 3,"
                " %s::jsonb, %s)",
                (START + timedelta(seconds=start), world.pods[0].pk, json.dumps({"start": str(start)}), data),
            )
    work_off(engine)
    assert [r[0] for r in world.ask("select nums[1] from reading_row order by at")] == [3.1, 4.1]
    ((message,),) = world.ask("select max(message_id) from reading_row")
    assert client.get(V1 + f"arrivals/{message}").json()["headers"] == {"start": "12", "topic": ""}
    why = client.get(V1 + f"why/reading?device=pod-0&field=level&message={message}").json()
    assert any("level = 4.1" in step["title"] for step in why["steps"]) and any(
        "register 12" in (step["text"] or "") for step in why["steps"]
    )
    trial = send(client, "POST", f"definitions/{definition.pk}/trial", {"text": definition.versions.get().text}).json()
    assert (trial["decoder"]["decoded"], trial["decoder"]["failed"]) == (2, 0)


def test_curves_are_those_of_the_draft_over_the_last_messages_of_the_device(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    checked = (
        'decoder pod for bytes, big endian\n  reject "sum" as checksum unless sum8(bytes 0 to 0) = u8 at byte'
        " 1\n  constant step number m = 0.5\n  byte 0  level  u8 * 2  m\n  derive moved = (level - before(level)) *"
        " step / (1 m)\n"
    )
    world.arrive(*[(n % 2, n, bytes([n, n])) for n in range(9)], (0, 20, b"\x05\x01"))
    asked = {"text": checked, "type": "pod", "device": "pod-0", "until": (START + timedelta(seconds=7)).isoformat()}
    found = send(client, "POST", "decode/curves", asked).json()
    level, moved = ({f["field"]: f for f in found["fields"]}[name] for name in ("level", "moved"))
    assert (found["messages"], found["decoded"], level["v"], level["unit"]) == (4, 4, [0.0, 4.0, 8.0, 12.0], "m")
    assert moved["v"] == [None, 2.0, 2.0, 2.0] and level["t"][1] - level["t"][0] == 2
    whole = send(client, "POST", "decode/curves", {**asked, "until": (START + timedelta(days=1)).isoformat()}).json()
    assert (whole["messages"], whole["decoded"]) == (6, 5)
    # What a message says of another device is none of the curve.
    other = 'decoder pod for bytes, big endian\n  byte 0  n  u8  hidden\n  device "pod-{n}"\n  byte 1  level  u8  m\n'
    world.arrive((2, 30, b"\x02\x07"), (2, 31, b"\x01\x09"))
    own = send(
        client,
        "POST",
        "decode/curves",
        {**asked, "device": "pod-2", "text": other, "until": (START + timedelta(days=1)).isoformat()},
    ).json()
    assert own["messages"] == 2 and [f["v"] for f in own["fields"]] == [[7.0]]
    assert send(client, "POST", "decode/curves", {**asked, "device": "gate-1"}).status_code == 404
    assert send(client, "POST", "decode/curves", {**asked, "text": "decoder"}).json()["code"] == "definition"
    assert world.ask("select count(*) from reading_row") == [(0,)]
    # Bytes that only a check reads are told, and whether the check was right.
    told = send(client, "POST", "decode", {"text": checked, "type": "pod", "payload_hex": "0505"}).json()
    assert told["checked"] and [(m["line"], m["places"][0]["first"]) for m in told["marks"] if not m["field"]] == [
        (2, 1)
    ]
    assert not send(client, "POST", "decode", {"text": checked, "type": "pod", "payload_hex": "0501"}).json()["checked"]


def test_cases_hold_a_version_back_until_that_is_wanted(world: World) -> None:
    client = signed_in(world, "engineer")
    definition = world.decoder()
    told = send(
        client,
        "POST",
        "decode",
        {"text": DECODER, "type": "pod", "payload_hex": payload(3.2, 11.5).hex(), "received_at": START.isoformat()},
    ).json()
    readings = [{"field": v["field"], "value": v["value"], "unit": v["unit"], "at": v["at"]} for v in told["values"]]
    case = {
        "name": "a usual one",
        "payload_hex": payload(3.2, 11.5).hex(),
        "received_at": START.isoformat(),
        "expect": {"readings": readings},
    }
    assert send(client, "POST", f"definitions/{definition.pk}/cases", case).status_code == 201
    assert send(client, "POST", f"definitions/{definition.pk}/cases", case).status_code == 409
    short = {**case, "name": "too short", "payload_hex": "00", "expect": {"error": "too short"}}
    assert send(client, "POST", f"definitions/{definition.pk}/cases", short).status_code == 201
    assert (
        "readings"
        in send(client, "POST", f"definitions/{definition.pk}/cases", {**case, "name": "x", "expect": {}}).json()[
            "detail"
        ]
    )
    run = send(client, "POST", f"definitions/{definition.pk}/cases/run", {"text": DECODER}).json()
    assert run["failing"] == 0 and [c["name"] for c in run["cases"]] == ["a usual one", "too short"]
    other = DECODER.replace("u16 / 10", "u16 / 5")
    run = send(client, "POST", f"definitions/{definition.pk}/cases/run", {"text": other}).json()
    assert [c["differences"] for c in run["cases"] if not c["passed"]] == [["level: expected 3.2 m, found 6.4 m"]]
    refused = send(client, "POST", f"definitions/{definition.pk}/publish", {"text": other})
    assert refused.status_code == 409 and refused.json()["names"] == ["a usual one"]
    assert (
        send(client, "POST", f"definitions/{definition.pk}/publish", {"text": other, "despite_cases": True}).status_code
        == 201
    )


def test_an_earlier_version_comes_back_with_one_request(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    definition = world.decoder()
    world.arrive((0, 0, payload(3)))
    work_off(engine)
    publish(definition, DECODER.replace("u16 / 10", "u16 / 5"), None)
    world.arrive((0, 10, payload(3)))
    work_off(engine)
    assert send(client, "GET", f"definitions/{definition.pk}/effect").json() == {
        "devices": 4,
        "conditions": 0,
        "open_alarms": 0,
        "routes": 0,
    }
    assert send(client, "POST", f"definitions/{definition.pk}/in-force", {"number": 7}).status_code == 404
    assert send(client, "POST", f"definitions/{definition.pk}/in-force", {"number": 1}).json()["live"]["number"] == 1
    world.arrive((0, 20, payload(3)))
    work_off(engine)
    assert [r[0] for r in world.ask("select nums[1] from reading_row order by at")] == [3.0, 6.0, 3.0]
    assert world.ask("select count(*) from definitions_version") == [(2,)]


def test_a_span_is_decoded_again_and_nothing_stands_twice(world: World, engine: Any, again: Any) -> None:
    """All messages of a span by the new version: what they gave before is on record, other messages are untouched."""
    client = signed_in(world, "engineer")
    definition = world.decoder()
    world.arrive(*[(0, 10 * n, payload(n)) for n in range(6)], (1, 100, b"\x00"))
    work_off(engine)
    publish(definition, DECODER.replace("level  u16 / 10", "height  u16 / 5").replace("level", "height"), None)
    work_off(engine)
    span = {"start": (START + timedelta(seconds=20)).isoformat(), "end": (START + timedelta(days=1)).isoformat()}
    assert send(client, "POST", "types/pod/decode-again", {"start": span["start"]}).status_code == 400
    assert send(client, "POST", "types/pod/decode-again", span).status_code == 202
    assert send(client, "PATCH", "types/pod/decode-again", {"state": "paused"}).json()["state"] == "paused"
    assert not again.step(), "it is paused"
    assert world.ask("select count(*) from replaced_reading") == [(0,)]
    assert send(client, "PATCH", "types/pod/decode-again", {"state": "waiting"}).json()["state"] == "waiting"
    decode_again(again, engine)
    done = client.get(V1 + "types/pod/decode-again").json()
    assert (done["state"], done["total"], done["done"], done["decoded"]) == ("done", 5, 5, 4)
    rows = world.ask(
        "select r.version_id = %s, r.nums[1] from reading_row r order by r.at", definition.versions.get(number=2).pk
    )
    assert rows == [(False, 0.0), (False, 1.0), (True, 4.0), (True, 6.0), (True, 8.0), (True, 10.0)]
    assert world.ask("select count(*) from replaced_reading") == [(4,)]
    assert world.ask("select count(*) from refused") == [(1,)]


def test_why_tells_what_a_reading_was_before(world: World, engine: Any, again: Any) -> None:
    """By another message of its moment, and by its own under an earlier version; what says the same is left out."""
    client = signed_in(world, "engineer")
    text = "decoder pod for json\n  at t  sent  time iso hidden\n  stamp sent\n  at v  level  number  m\n"
    definition = world.decoder(text + "  at w  temp  number  Cel\n")

    def sent(level: int, temp: int) -> bytes:
        return b'{"t":"%s","v":%d,"w":%d}' % (START.isoformat().encode(), level, temp)

    world.arrive((0, 1, sent(1, 12)), (0, 2, sent(3, 12)))
    work_off(engine)
    publish(definition, text.replace("number", "number * 2") + "  at w  temp  number  Cel\n", None)
    work_off(engine)
    span = {"start": (START - timedelta(days=1)).isoformat(), "end": (START + timedelta(days=1)).isoformat()}
    assert send(client, "POST", "types/pod/decode-again", span).status_code == 202
    decode_again(again, engine)
    ((message,),) = world.ask("select message_id from reading_row")

    def told(field: str) -> list[tuple[str, str, int]]:
        why = client.get(V1 + f"why/reading?device=pod-0&field={field}&message={message}").json()
        return [(s["title"], s["detail"], s["version"]) for s in why["steps"] if s["stage"] in ("reading", "before")]

    other, own = "until another message of this moment came", "until its message was decoded again"
    assert told("level") == [
        ("level = 6 m", "measured", None),
        ("It was 2 m", other, 2),
        ("It was 3 m", own, 1),
        ("It was 1 m", other, 1),
    ]
    assert told("temp") == [("temp = 12 °C", "measured", None)]


def test_a_trial_says_how_far_it_is(world: World, engine: Any) -> None:
    from oculum.language.decoders import check_decoder
    from server.trials.past import PastSpan, decoder_trial

    world.decoder()
    world.arrive(*[(0, n, payload(n % 40)) for n in range(30)])
    work_off(engine)
    plan, _ = check_decoder(DECODER.replace("u16 / 10", "u16 / 5"))
    before, _ = check_decoder(DECODER)
    assert plan is not None
    steps = list(decoder_trial(plan, before, PastSpan(world.type.pk, 25)))
    assert [s["done"] for s in steps if "done" in s] == [0, 25] and {s["total"] for s in steps if "total" in s} == {25}
    result = steps[-1]["result"]
    level = next(f for f in result["fields"] if f["field"] == "level")
    assert level["differ"] == 25 and sum(level["distribution"]["counts"]) == 25 and level["unit"] == "m"
    assert json.dumps(result, default=str)
    # New, lost, and one that no message has: neither.
    rare = "  when temp > 800 Cel\n    byte 0  rare  u8\n"
    other, _ = check_decoder(DECODER.replace("level  u16", "height  u16") + rare)
    known, _ = check_decoder(DECODER + rare)
    assert other is not None and known is not None
    *_, last = decoder_trial(other, known, PastSpan(world.type.pk, 25))
    assert {f["field"]: f["state"] for f in last["result"]["fields"]} == {
        "height": "new",
        "level": "lost",
        "temp": "same",
        "rare": "same",
    }


def test_senml_needs_no_decoder_written(world: World, engine: Any, again: Any) -> None:
    """Names, units and times become fields; what came before is not lost; more names are added; a person's draft is
    left alone.
    """
    from server.records.definitions.models import Definition
    from server.records.fleet.models import DeviceType

    def pack(at: int, *more: dict[str, Any]) -> bytes:
        return json.dumps(
            [
                {"bn": "pod-0/", "bt": int(START.timestamp()) + at, "n": "level", "u": "m", "v": at / 10},
                {"n": "hum", "u": "%RH", "v": 40},
                *more,
            ]
        ).encode()

    world.arrive((0, 1, pack(0)), (0, 11, pack(10)))
    work_off(engine)
    decode_again(again, engine)
    definition = Definition.objects.get(kind="decoder", type=world.type)
    assert definition.live is not None and definition.live.number == 1 and "SenML" in definition.live.why
    assert [(f["name"], f["unit"]) for f in DeviceType.objects.get(pk=world.type.pk).fields] == [
        ("level", "m"),
        ("hum", "%"),
    ]
    assert world.ask("select nums from reading_row order by at") == [([0.0, 40.0],), ([1.0, 40.0],)]
    assert world.ask("select count(*) from refused") == [(0,)]

    world.arrive((0, 21, pack(20, {"n": "gust", "u": "m/s", "v": 7})))
    work_off(engine)
    world.arrive((0, 31, pack(30, {"n": "gust", "u": "m/s", "v": 8})))
    work_off(engine)
    definition.refresh_from_db()
    assert definition.live.number == 2
    assert ("pod-0", 8.0) in levels(world, "gust")

    definition.draft += "  # mine\n"
    definition.save()
    world.arrive((0, 41, pack(40, {"n": "other", "v": 1})))
    work_off(engine)
    assert definition.versions.count() == 2, "somebody has begun a text of their own"


def test_what_is_no_senml_waits_for_a_decoder(world: World, engine: Any) -> None:
    world.arrive((0, 1, b"[1, 2]"), (0, 2, b'[{"v": 1}]'), (0, 3, b"\x81\x01"))
    work_off(engine)
    assert world.ask("select count(*) from definitions_definition") == [(0,)]
    assert [code for (code,) in world.ask("select code from refused")] == ["no decoder"] * 3


def test_what_decoding_again_would_change_is_told_first(world: World, engine: Any) -> None:
    """Held against what is stored, by the version that each device runs; nothing is written."""
    from server.trials.again import preview

    definition = world.decoder()
    world.arrive(*[(n % 3, 10 * n, payload(n)) for n in range(6)], (1, 100, b"\x00"))
    work_off(engine)
    unchanged = list(preview(world.type.pk, START, START + timedelta(days=1)))
    assert [s["done"] for s in unchanged if "done" in s] == [0, 7]
    result = unchanged[-1]["result"]
    assert (result["messages"], result["decoded"], result["decoded_before"]) == (7, 6, 6)
    assert {f["field"]: (f["differ"], f["state"]) for f in result["fields"]} == {
        "level": (0, "same"),
        "temp": (0, "same"),
    }

    publish(
        definition,
        DECODER.replace("level  u16 / 10", "height  u16 / 5")
        .replace("level", "height")
        .replace("i16 / 10 ", "i16 / 5 "),
        None,
    )
    client = signed_in(world, "engineer")
    send(client, "PUT", "devices/pod-2/hold", {"number": 1})
    work_off(engine)
    before = world.everything()
    result = list(preview(world.type.pk, START, START + timedelta(days=1)))[-1]["result"]
    found = {f["field"]: (f["values"], f["differ"], f["state"]) for f in result["fields"]}
    assert found["height"] == (4, 0, "new"), "of the four messages of the devices that run version 2"
    assert found["level"][:2] == (2, 4), "two stay as they are with the held device, four are gone"
    assert found["temp"][:2] == (6, 4)
    assert [(r["code"], r["count"]) for r in result["reasons"]] == [("too short", 1)]
    refused = list(preview(world.type.pk, None, None))[-1]["result"]
    assert (refused["messages"], refused["decoded"], refused["decoded_before"]) == (1, 0, 0)
    assert world.everything() == before


def test_newest_values_are_those_of_what_stands_after_decoding_again(world: World, engine: Any, again: Any) -> None:
    """A message that fails now, or says less, gives its place to the one before it; a restart finds the same."""
    client = signed_in(world, "engineer")
    definition = world.decoder()
    world.arrive((0, 0, payload(3, 11)), (0, 10, payload(4, 12)), (1, 10, payload(7, 20)))
    work_off(engine)
    assert levels(world) == [("pod-0", 4.0), ("pod-1", 7.0)]
    publish(
        definition,
        DECODER.replace(
            '"odd mark" as unknown layout when temp > 900 Cel', '"too high" when level > 3.5 m and level < 5 m'
        ),
        None,
    )
    work_off(engine)
    span = {"start": START.isoformat(), "end": (START + timedelta(days=1)).isoformat()}
    assert send(client, "POST", "types/pod/decode-again", span).status_code == 202
    decode_again(again, engine)
    assert levels(world) == [("pod-0", 3.0), ("pod-1", 7.0)] and levels(world, "temp") == [
        ("pod-0", 11.0),
        ("pod-1", 20.0),
    ]
    assert world.ask("select d.name, l.failed from latest l join fleet_device d on d.id = l.device_id order by 1") == [
        ("pod-0", True),
        ("pod-1", False),
    ]
    held = {key: (n.value, n.at) for key, n in engine.newest.items()}
    engine.load()
    assert {key: (n.value, n.at) for key, n in engine.newest.items()} == held

    publish(definition, DECODER, None)
    work_off(engine)
    send(client, "POST", "types/pod/decode-again", span)
    decode_again(again, engine)
    assert levels(world) == [("pod-0", 4.0), ("pod-1", 7.0)]
    assert world.ask("select bool_or(failed) from latest") == [(False,)]


def test_a_trial_takes_a_chosen_span(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    definition = world.decoder()
    world.arrive(*[(0, 60 * n, payload(n)) for n in range(10)])
    work_off(engine)

    def tried(**more: Any) -> Any:
        answer = send(client, "POST", f"definitions/{definition.pk}/trial/progress", {"text": DECODER, **more})
        if answer.status_code != 200:
            return answer.json()["detail"]

        async def lines() -> list[bytes]:
            return [line async for line in answer.streaming_content]

        return json.loads(asyncio.run(lines())[-1])["result"]["messages"]

    at = lambda seconds: (START + timedelta(seconds=seconds)).isoformat()  # noqa: E731
    assert tried(messages=4) == 4
    assert tried(start=at(60), end=at(300)) == 4
    assert tried(start=at(60)) == 9 and tried(start=at(60), messages=2) == 2
    assert "a later end" in tried(start=at(60), end=at(60))


def test_a_pack_of_several_devices_is_divided_without_a_decoder(world: World, engine: Any, again: Any) -> None:
    """A type whose packs spoke of the sender alone, until one speaks for others: each has its own, strangers are
    refused.
    """
    from server.records.definitions.models import Definition
    from server.records.fleet.models import Device
    from server.rules.registering import registry_changed

    Device.objects.filter(name="pod-1").update(gateway=Device.objects.get(name="pod-0"))
    registry_changed()
    record = {"n": "level", "u": "m"}
    own = [{**record, "bn": "pod-0/", "bt": int(START.timestamp()), "v": 1}]
    world.arrive((0, 1, json.dumps(own).encode()))
    work_off(engine)
    decode_again(again, engine)
    assert levels(world) == [("pod-0", 1.0)]
    several = [{**record, "bn": f"pod-{n}/", "bt": int(START.timestamp()) + 10, "v": 2 + n} for n in range(3)]
    for at in (11, 12):  # the first teaches the text, with which it is decoded again
        world.arrive((0, at, json.dumps(several).encode()))
        work_off(engine)
        decode_again(again, engine)
    assert "device before_last" in Definition.objects.get(kind="decoder", type=world.type).live.text  # type: ignore[union-attr]
    assert levels(world) == [("pod-0", 2.0), ("pod-1", 3.0)]
    assert {
        r[0] for r in world.ask("select code from refused where received_at > %s", START + timedelta(seconds=11.5))
    } == {"not assigned"}


def test_packs_of_which_no_decoder_can_be_made_keep_nothing_from_going_on(world: World, engine: Any) -> None:
    """The type declares its field otherwise than the packs have it: tried three times, then left for a person."""
    from server.records.definitions.models import Definition

    world.type.fields = [{"name": "level", "kind": "number", "unit": "m"}]
    world.type.save()
    world.condition()
    pack = json.dumps([{"n": "level", "vs": "high"}]).encode()
    for n in range(5):
        world.arrive((0, n, pack))
        work_off(engine)
    assert engine.failed_makes[world.type.pk] == 3
    assert Definition.objects.filter(kind="decoder").count() == 0
    assert world.ask("select count(*), min(code) from refused") == [(5, "no decoder")]
    world.decoder()
    world.arrive((0, 9, payload(3)))
    work_off(engine)
    assert levels(world) == [("pod-0", 3.0)] and not engine.failed_makes, "a version that a person publishes counts"
