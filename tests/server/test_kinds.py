"""Readings of every kind through store and restart: what was the newest before is so after, also for the conditions."""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any

import pytest

from server.engine.worker import Engine
from server.rules.registering import registry_changed, set_setpoint
from tests.server.world import START, World, spans_of, work_off

EVERYTHING = """decoder pod for bytes, big endian
  byte 0 bit 7             open    flag
  byte 0 bits 6 to 4       mode    code { 0 calm, 1 storm, 2 night }
  byte 0 bits 3 to 0       parts   u4    hidden
  when parts != 1
    byte 1  total  u64
    byte 9  level  i16 / 10  m
    byte 11  fix  position i32 / 1e7, i32 / 1e7
  when parts != 0
    byte -2  temp  i16 / 10  Cel
"""
RULES = {
    "total": "total > 10000000000000000000 and temp > 5 Cel",
    "mode": "mode = `storm` and temp > 5 Cel",
    "open": "open and temp > 5 Cel",
    "level": "level > setpoint level_max and temp > 5 Cel",
    "fix": "distance(fix, point(37.4 deg, -42.6 deg)) > 1000 m and temp > 5 Cel",
}


def whole(total: int, level: float, lat: float, lon: float) -> bytes:
    """A message with all fields but the temperature."""
    return struct.pack(">BQhii", 0b1001_0000, total, round(level * 10), round(lat * 1e7), round(lon * 1e7))


def warm(temp: float) -> bytes:
    """A message with flag, mode and temperature only."""
    return struct.pack(">Bh", 0b1001_0001, round(temp * 10))


@contextmanager
def restarted(engine: Engine) -> Iterator[Engine]:
    """Another engine in the place of one that is gone: it has nothing but the database."""
    engine.close()
    again = Engine(engine.url)
    try:
        yield again
    finally:
        again.close()


@pytest.mark.parametrize("field", RULES)
def test_the_newest_values_of_every_kind_count_after_a_restart(world: World, engine: Any, field: str) -> None:
    """One field comes before the restart, the other after it; both are in the rule, and the limit is the device's
    own.
    """
    world.decoder(EVERYTHING)
    set_setpoint(world.type, "level_max", 2.0, None, device=world.pods[0].pk)
    world.condition(f'condition "both" priority low\n  on pod\n  raise when {RULES[field]}\n')
    world.arrive((0, 0, whole(2**64 - 1, 3.0, 37.5, -42.6)), (1, 1, whole(3, 1.0, 37.4, -42.6)))
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm") == [(0,)]
    with restarted(engine) as again:
        world.arrive((0, 60, warm(9)), (1, 61, warm(9)))
        work_off(again)
    raised = world.ask("select d.name from alarms_alarm a join fleet_device d on d.id = a.device_id order by 1")
    both = [("pod-0",), ("pod-1",)]
    assert raised == (both if field in ("mode", "open") else both[:1]), raised
    assert not again.broken, "every condition could be evaluated"


def test_setpoints_and_labels_of_the_register_are_the_same_after_a_restart(world: World, engine: Any) -> None:
    """Changed while the engine was away: the next evaluation goes by what holds then, as if it had never stopped."""
    from server.records.fleet.models import Device

    world.decoder(EVERYTHING)
    text = (
        'condition "labelled" priority low\n  on pod with label stage = "growing"\n  raise when level > setpoint'
        " level_max\n"
    )
    world.condition(text)
    world.arrive((0, 0, whole(1, 4.0, 37.4, -42.6)), (1, 1, whole(1, 4.0, 37.4, -42.6)))
    work_off(engine)
    Device.objects.filter(name="pod-0").update(labels={"stage": "growing"})
    registry_changed(None)
    set_setpoint(world.type, "level_max", 3.0, None, site=world.site.pk)
    with restarted(engine) as again:
        world.arrive((0, 60, whole(1, 4.0, 37.4, -42.6)), (1, 61, whole(1, 4.0, 37.4, -42.6)))
        work_off(again)
    raised = world.ask('select d.name, a."limit" from alarms_alarm a join fleet_device d on d.id = a.device_id')
    assert raised == [("pod-0", 3.0)]


TRIED = {
    **RULES,
    "window": "mean(temp, 2 min) > 8 Cel",
    "step": "temp > 12 Cel held 1 min\n  raise critical when temp > 15 Cel",
    "silence": "silent(80 s)",
    "silent field": "silent(level, 2 min)",
    "count": "messages(3 min) > 2",
    "members": "max_of(temp) > 14 Cel",
}


@pytest.mark.parametrize("kind", TRIED)
def test_a_trial_of_every_kind_is_what_the_engine_did(world: World, engine: Any, kind: str) -> None:
    """Also where messages were refused, and where a limit was changed on the way."""
    from server.records.fleet.models import Device
    from server.rules.publishing import check
    from server.trials.conditions import condition_trial

    Device.objects.update(registered_at=START - timedelta(hours=1))
    registry_changed(None)
    rng = random.Random(7)
    world.decoder(EVERYTHING)
    set_setpoint(world.type, "level_max", 2.0, None)
    scope = "each site of pod" if kind == "members" else "pod"
    text = f'condition "tried" priority low\n  on {scope}\n  raise when {TRIED[kind]}\n'
    world.condition(text)
    clock = 0
    for _ in range(4):
        some = []
        for _ in range(30):
            clock += rng.choice([1, 5, 20, 70])
            fix = rng.choice([37.4, 37.5])
            data = [warm(rng.choice([3, 7, 13, 16])), whole(rng.choice([3, 2**64 - 1]), rng.choice([1, 4]), fix, -42.6)]
            some.append((rng.randrange(3), clock, rng.choice([*data, *data, b"\x00"])))
        world.arrive(*some)
        set_setpoint(world.type, "level_max", rng.choice([0.5, 2.0, 5.0]), None)
    work_off(engine)
    plan, problems = check("condition", text, world.type)
    assert plan is not None, problems
    *steps, last = condition_trial(plan, world.type, START - timedelta(days=1), START + timedelta(days=1))
    shares = [step["done"] for step in steps]
    assert shares == sorted(shares) and shares[-1] == 100
    live = world.ask(
        "select coalesce(d.name, s.name), a.raised_at, a.cleared_at, a.value from alarms_alarm a left join fleet_device"
        " d on d.id = a.device_id left join fleet_site s on s.id = a.site_id"
    )
    found = last["result"]
    assert live and {(s["device"], s["raised_at"], s["cleared_at"], s["value"]) for s in spans_of(found)} == set(live)
    assert found["raised"] == len(live) and found["messages"] > 60
