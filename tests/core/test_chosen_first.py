"""A version of a condition that chosen devices have before the others: each device is watched by one of the two, and an
alarm stays the same alarm whichever watches it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.alarms.watched import Watched
from oculum.register.world import Device
from tests.core.rooms import TYPE, Driven, world_of
from tests.core.test_alarms import SECOND, Message, Reading, batch, plan_of
from tests.often import examples

LIMITS = {"in force": 3.0, "first": 2.0}
DEVICES = (1, 2, 3)


@dataclass(frozen=True)
class Choice:
    """Which devices have the other version first; None: nobody any more, and `given`: all have it."""

    devices: frozenset[int] | None
    given: bool = False


@st.composite
def streams(draw: Any) -> list[Message | Choice]:
    found: list[Message | Choice] = []
    clock = 1000
    for _ in range(draw(st.integers(1, 24))):
        clock += draw(st.sampled_from([0, 1, 2, 5]))
        if draw(st.integers(0, 2)) == 0:
            some = st.sets(st.sampled_from(DEVICES)).map(frozenset)
            found.append(Choice(draw(st.none() | some), draw(st.integers(0, 5)) == 0))
            continue
        back = draw(st.sampled_from([0, 0, 0, 3]))
        x = draw(st.sampled_from([1.0, 2.0, 2.5, 3.0, 3.5, None]))
        reading = Reading((clock - back) * SECOND, x, None)
        found.append(Message(draw(st.sampled_from(DEVICES)), clock * SECOND, (reading,)))
    return found


Told = tuple[int, int, bool]  # device, moment, whether it was raised


def slowly(stream: list[Message | Choice]) -> list[Told]:
    found: list[Told] = []
    limit, chosen = dict(LIMITS), frozenset[int]()
    newest: dict[int, tuple[int, float]] = {}
    is_open: set[int] = set()
    clock = 0

    def look(device: int, at: int) -> None:
        over = newest[device][1] > limit["first" if device in chosen else "in force"]
        if over != (device in is_open):
            found.append((device, at, over))
            is_open.symmetric_difference_update({device})

    for one in stream:
        if isinstance(one, Choice):
            if one.given:
                limit, chosen = {"in force": limit["first"], "first": limit["in force"]}, frozenset()
            else:
                chosen = one.devices or frozenset()
            for device in sorted(newest):
                look(device, clock)
            continue
        clock = one.arrival
        (reading,) = one.readings
        if reading.x is None or (one.device in newest and reading.at < newest[one.device][0]):
            continue
        newest[one.device] = (reading.at, reading.x)
        look(one.device, reading.at)
    return sorted(found)


def quickly(stream: list[Message | Choice], restarts: bool) -> list[Told]:
    plans = {name: plan_of(f"raise when x > {limit:g} V") for name, limit in LIMITS.items()}
    driven = Driven(world_of(DEVICES), [plans["in force"]], restarts=restarts)
    clock = 0
    for one in stream:
        if isinstance(one, Message):
            driven.take(batch([one]))
            clock = one.arrival
        elif one.given:
            plans = {"in force": plans["first"], "first": plans["in force"]}
            driven.publish(plans["in force"], clock)
        else:
            driven.divide(None if one.devices is None else plans["first"], one.devices or frozenset(), clock)
    return sorted((t.subject, t.at, t.raised) for t in driven.found)


@settings(max_examples=examples(120))
@given(streams(), st.booleans())
def test_each_device_is_watched_by_its_version_and_keeps_its_alarm(
    stream: list[Message | Choice], restarts: bool
) -> None:
    assert quickly(stream, restarts) == slowly(stream)


def test_a_device_that_neither_version_watches_has_its_alarm_closed() -> None:
    driven = Driven(world_of(DEVICES), [plan_of("raise when x > 3 V")])
    driven.take(batch([Message(d, 10 * SECOND, (Reading(10 * SECOND, 9.0, None),)) for d in DEVICES]))
    narrow = plan_of("raise when x > 3 V")
    elsewhere = type(narrow)(**{**vars(narrow), "labels": (("stage", "=", "growing"),)})
    driven.divide(elsewhere, frozenset({1, 2}), 20 * SECOND)
    closed = [(t.subject, t.what, t.at, t.reason) for t in driven.found if not t.raised]
    assert closed == [(d, "cleared", 20 * SECOND, "out of scope") for d in (1, 2)]


def test_an_alarm_goes_over_when_a_label_chooses_its_device() -> None:
    world = world_of(DEVICES)
    driven = Driven(world, [plan_of("raise when x > 3 V")], restarts=False)
    chosen: set[int] = set()

    def takes(device: Device) -> bool:
        return device.id in chosen

    own = Watched(-1, 99, TYPE, plan_of("raise when x > 2 V"), takes)
    main = replace(driven.watched[0], chosen=lambda device: not takes(device))
    driven.room.divide(main, own, SECOND, driven.newest)
    driven.take(batch([Message(1, 10 * SECOND, (Reading(10 * SECOND, 9.0, None),))]))
    driven.take(batch([Message(2, 11 * SECOND, (Reading(11 * SECOND, 2.5, None),))]))
    chosen |= {1, 2}
    told = driven.room.refresh(12 * SECOND, driven.newest)
    assert [(t.subject, t.key, t.raised, t.at) for t in told] == [(2, -1, True, 12 * SECOND)], "the other's goes on"
    chosen.clear()
    told = driven.room.refresh(13 * SECOND, driven.newest)
    assert [(t.subject, t.key, t.raised, t.at) for t in told] == [(2, 1, False, 13 * SECOND)]


def test_an_alarm_that_goes_over_has_the_priority_that_it_has_there() -> None:
    high = plan_of("raise when x > 3 V")
    low = replace(high, steps=tuple(replace(step, priority="low") for step in high.steps))
    driven = Driven(world_of(DEVICES), [high])
    driven.take(batch([Message(d, 10 * SECOND, (Reading(10 * SECOND, 9.0, None),)) for d in DEVICES]))
    driven.divide(low, frozenset({1}), 20 * SECOND)
    driven.divide(low, frozenset({1, 2}), 30 * SECOND)
    driven.divide(None, frozenset(), 40 * SECOND)
    driven.publish(low, 50 * SECOND)
    told = [(t.subject, t.what, t.priority, t.at // SECOND) for t in driven.found if not t.raised]
    assert told == [
        *((1, "priority_changed", "low", 20), (2, "priority_changed", "low", 30)),
        *((d, "priority_changed", "high", 40) for d in (1, 2)),
        *((d, "priority_changed", "low", 50) for d in DEVICES),
    ]
