"""In which state devices were: written by the engine, read for any moment, made anew when messages are read anew."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import psycopg
import pytest
from django.db import connection

from server.records.again.models import DecodeAgain
from server.rules.states import device_states
from server.store.activity import count_anew
from tests.server.test_api import signed_in
from tests.server.world import DECODER, START, World, decode_again, payload, work_off

FAILS = b"\x01"


def came(world: World, engine: Any) -> int:
    """Pod 0 reports, is quiet for ten minutes, fails twice and reports again."""
    world.decoder()
    at = [(0, n * 60, payload(2)) for n in range(3)]
    at += [(0, 720, FAILS), (0, 780, FAILS), (0, 840, payload(2)), (0, 900, payload(2))]
    world.arrive(*at)
    work_off(engine)
    return int(world.pods[0].pk)


def test_a_device_goes_through_its_states(world: World, engine: Any) -> None:
    pod = came(world, engine)
    found = [row[1:] for row in world.states() if row[0] == pod][:6]
    assert found == [
        ("reporting", 0, 210),
        ("overdue", 210, 300),
        ("silent", 300, 720),
        ("undecodable", 720, 840),
        ("reporting", 840, 990),
        ("overdue", 990, 1080),
    ]
    for second, state in ((-1, "waiting"), (0, "reporting"), (299, "overdue"), (719, "silent"), (720, "undecodable")):
        assert device_states(START + timedelta(seconds=second), past=True)[pod].state == state


def test_messages_that_are_read_anew_heal_the_past(world: World, engine: Any, again: Any) -> None:
    pod = came(world, engine)
    before = world.states()
    world.decoder("decoder pod for bytes, big endian\n  byte 0 level u8 m\n")
    work_off(engine)
    assert world.states() == before
    DecodeAgain.objects.create(type=world.type)
    decode_again(again, engine)
    found = [row[1:] for row in world.states() if row[0] == pod][:4]
    assert found[2:] == [("silent", 300, 720), ("reporting", 720, 990)]


def test_all_is_made_anew_as_it_was(world: World, engine: Any, again: Any) -> None:
    """An installation from before states were kept has them once the messages have been gone through."""
    came(world, engine)
    before = world.states()
    with connection.cursor() as cursor:
        cursor.execute("delete from device_stretch")
        cursor.execute("insert into device_unmade select device_id, '-infinity' from device_stands")
    decode_again(again, engine)
    assert world.states() == before


def test_what_messages_say_is_counted_anew_as_it_was(world: World, engine: Any) -> None:
    """Cells, missing ones and delays by the hour: counted message by message and from what is stored."""
    came(world, engine)
    world.arrive((1, 4_000, payload(2)), (1, 7_300, payload(6553.5)), (1, 7_360, payload(3)))
    work_off(engine)
    columns = "cells, gone, delays, delay_sum, delay_min, delay_max"
    before = world.ask(f"select device_id, hour, {columns} from activity order by 1, 2")
    assert [row[2:5] for row in before] == [(10, 0, 5), (2, 0, 1), (3, 1, 2)]
    with psycopg.connect(world.url) as own:
        hours = own.execute("select device_id, (extract(epoch from hour) * 1000000)::bigint from activity").fetchall()
        own.execute("update activity set cells = 77, gone = 77, delays = 77, delay_sum = 7, delay_min = 7")
        count_anew(own, *([*column] for column in zip(*hours, strict=True)))
    assert world.ask(f"select device_id, hour, {columns} from activity order by 1, 2") == before


@pytest.mark.parametrize("most", [10_000, 3, 1])
def test_what_messages_say_when_they_are_decoded_again_is_counted(
    world: World, engine: Any, again: Any, most: int
) -> None:
    """As from what is stored then, whatever the portions; one device's hour is not all in the span."""
    columns = "cells, gone, delays, delay_sum, delay_min, delay_max"
    ask = f"select device_id, hour, {columns} from activity order by 1, 2"
    came(world, engine)
    world.arrive(*((n % 2, 4_000 + 400 * n, payload(6553.5 if n % 5 == 4 else n)) for n in range(20)))
    work_off(engine)
    before = world.ask(ask)
    world.decoder(DECODER.replace("  byte 2  temp   i16 / 10  Cel\n", "").replace("  reject", "  # reject"))
    work_off(engine)
    DecodeAgain.objects.create(
        type=world.type, start=START + timedelta(seconds=6_000), end=START + timedelta(seconds=10_000)
    )
    decode_again(again, engine, most)
    found = world.ask(ask)
    assert found != before
    with psycopg.connect(world.url) as own:
        hours = own.execute("select device_id, (extract(epoch from hour) * 1000000)::bigint from activity").fetchall()
        count_anew(own, *([*column] for column in zip(*hours, strict=True)))
    assert world.ask(ask) == [(*row[:5], pytest.approx(row[5]), *row[6:]) for row in found]


def test_a_past_moment_knows_the_phases_that_devices_had(world: World) -> None:
    """Retired since, it is there; retired then, it is not; under maintenance then, it is counted so."""
    engineer = signed_in(world, "engineer")

    def phase(pod: int, phase: str) -> None:
        answer = engineer.patch(f"/api/v1/devices/pod-{pod}", {"phase": phase}, content_type="application/json")
        assert answer.status_code == 200, answer.content

    def listed(at: Any, **more: str) -> dict[str, str]:
        answer = engineer.get("/api/v1/devices", {"type": "pod", **({"to": at.isoformat()} if at else {}), **more})
        assert answer.status_code == 200, answer.content
        return {row["name"]: row["phase"] for row in answer.json()["results"]}

    def moment_now() -> Any:
        return world.ask("select clock_timestamp()")[0][0]

    phase(0, "maintenance")
    phase(1, "retired")
    first = moment_now()
    phase(0, "in service")
    phase(1, "in service")
    phase(2, "retired")
    serving = "in service"
    assert listed(first) == {"pod-0": "maintenance", "pod-2": serving, "pod-3": serving}
    assert listed(None) == {"pod-0": serving, "pod-1": serving, "pod-3": serving}
    assert listed(first, phase="retired") == {"pod-1": "retired"}
    assert listed(None, phase="retired") == {"pod-2": "retired"}
    for at, count in ((first, 1), (None, 0)):
        answer = engineer.get("/api/v1/overview", {"to": at.isoformat()} if at else {})
        assert answer.json()["maintenance"] == count
    assert engineer.get("/api/v1/devices/pod-0", {"to": first.isoformat()}).json()["phase"] == "maintenance"
    assert int(world.pods[2].pk) in device_states(first, past=True)
    assert int(world.pods[1].pk) not in device_states(first, past=True)
