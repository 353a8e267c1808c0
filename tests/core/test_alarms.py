"""Conditions: the engine's evaluation equals a slow one that takes one message at a time, however the stream is cut."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Group
from oculum.language.conditions import check_condition
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.fields import FieldSpec
from tests.core.rooms import TYPE, Batch, Driven, world_of
from tests.often import examples

SECOND = 1_000_000
FIELDS = {"x": FieldSpec("x", "number", "V"), "y": FieldSpec("y", "number", "Cel")}
TYPES = {"thing": (FIELDS, {"x_max": "V"})}


def plan_of(text: str) -> ConditionPlan:
    plan, problems = check_condition(
        'condition "c" priority high\n  on thing\n  ' + text.replace("\n", "\n  ") + "\n", TYPES
    )
    assert plan is not None, [p.message for p in problems]
    return plan


@dataclass(frozen=True)
class Reading:
    at: int
    x: float | None
    y: float | None


@dataclass(frozen=True)
class Message:
    device: int
    arrival: int
    readings: tuple[Reading, ...]


CONDITIONS = [
    ("raise when x > 3 V", 0, 0),
    ("raise when x > setpoint x_max deadband 0.5 V held 10 s", 10, 0),
    ("raise when x > 3 V and y > 1 Cel held 5 s", 5, 0),
    ("raise when x > 3 V or y > 1 Cel", 0, 0),
    ("raise when x > 3 V\nclear when x < 2 V held 7 s", 0, 7),
    ("raise when x > 3 V held 4 s\nclear when y < 1 Cel held 4 s", 4, 4),
]
LIMIT = 3.0


def three(values: list[bool | None], word: str) -> bool | None:
    """`and` and `or` in three values."""
    decisive = word == "or"
    if any(v is decisive for v in values):
        return decisive
    return None if any(v is None for v in values) else not decisive


def over(value: float | None, limit: float) -> bool | None:
    return None if value is None else value > limit


def rules(number: int, x: float | None, y: float | None) -> tuple[bool | None, bool | None]:
    """(raise, clear) of condition `number`, written out by hand."""
    if number == 0:
        raising = over(x, 3)
        return raising, None if raising is None else not raising
    if number == 1:
        return over(x, LIMIT), None if x is None else x <= LIMIT - 0.5
    if number == 2:
        raising = three([over(x, 3), over(y, 1)], "and")
        return raising, None if raising is None else not raising
    if number == 3:
        raising = three([over(x, 3), over(y, 1)], "or")
        return raising, None if raising is None else not raising
    if number == 4:
        return over(x, 3), None if x is None else x < 2
    return over(x, 3), None if y is None else y < 1


def slowly(number: int, messages: list[Message], until: int) -> list[tuple[int, bool, int]]:
    """Every message by itself, every delay by the clock, as the semantics say it."""
    _, raise_held, clear_held = CONDITIONS[number]
    out: list[tuple[int, bool, int]] = []
    for device in sorted({m.device for m in messages}):
        values: dict[str, float | None] = {"x": None, "y": None}
        newest: dict[str, int] = {"x": -(10**18), "y": -(10**18)}
        is_open, since, quiet = False, None, None

        def pass_clock(passed: int) -> None:
            """A delay due at T is over once everything stamped T or earlier has been seen."""
            nonlocal is_open, since, quiet
            if since is not None and since + raise_held * SECOND < passed:
                out.append((device, True, since + raise_held * SECOND))  # noqa: B023
                is_open, since = True, None
            if quiet is not None and quiet + clear_held * SECOND < passed:
                out.append((device, False, quiet + clear_held * SECOND))  # noqa: B023
                is_open, quiet = False, None

        for message in (m for m in messages if m.device == device):
            first = True
            for reading in sorted(message.readings, key=lambda r: r.at):
                pass_clock(max(message.arrival, reading.at) if first else reading.at)
                first = False
                fresh = False
                for name, value in (("x", reading.x), ("y", reading.y)):
                    if value is not None and reading.at >= newest[name]:
                        newest[name], values[name], fresh = reading.at, value, True
                used = (
                    fresh
                    if number in (2, 3, 5)
                    else reading.x is not None and newest["x"] == reading.at and values["x"] == reading.x
                )
                if not used:
                    continue
                raising, clearing = rules(number, values["x"], values["y"])
                if not is_open:
                    if raising is True and since is None:
                        if raise_held == 0:
                            out.append((device, True, reading.at))
                            is_open = True
                        else:
                            since = reading.at
                    elif raising is False:
                        since = None
                elif raising is True or clearing is False:
                    quiet = None
                elif clearing is True and quiet is None:
                    if clear_held == 0:
                        out.append((device, False, reading.at))
                        is_open = False
                    else:
                        quiet = reading.at
        pass_clock(until)
    return sorted(out, key=lambda t: (t[0], t[2], not t[1]))


def batch(messages: list[Message]) -> Batch:
    rows = np.array([i for i, m in enumerate(messages) for _ in m.readings], np.int64)
    readings = [r for m in messages for r in m.readings]
    columns = {}
    for name in "xy":
        values = [getattr(r, name) for r in readings]
        columns[name] = Column(
            np.array([0.0 if v is None else v for v in values]),
            np.array([0 if v is None else 1 for v in values], np.int16),
        )
    group = Group(tuple(FIELDS.values()), rows, np.array([r.at for r in readings], np.int64), columns)
    device, arrival = (np.array(v, np.int64) for v in ([m.device for m in messages], [m.arrival for m in messages]))
    return Batch({TYPE: [group]}, device, arrival)


def quickly(number: int, messages: list[Message], cuts: list[int], until: int) -> list[tuple[int, bool, int]]:
    """The same through the engine's evaluation, the stream cut into batches at `cuts`."""
    driven = Driven(world_of([1, 2], {(1, "x_max"): LIMIT, (2, "x_max"): LIMIT}), [plan_of(CONDITIONS[number][0])])
    edges = [0, *sorted(set(cuts)), len(messages)]
    for start, end in zip(edges, edges[1:], strict=False):
        if end > start:
            driven.take(batch(messages[start:end]))
    driven.tick(until)
    found = ((t.subject, t.raised, t.at) for t in driven.found)
    return sorted(found, key=lambda t: (t[0], t[2], not t[1]))


values = st.one_of(st.none(), st.sampled_from([0.5, 1.0, 1.5, 2.0, 2.4, 2.5, 2.6, 3.0, 3.1, 4.0]))


@st.composite
def streams(draw: Any) -> list[Message]:
    messages, clock = [], 1000 * SECOND
    for _ in range(draw(st.integers(1, 25))):
        clock += draw(st.sampled_from([0, 1, 1, 2, 3, 5, 9, 10, 11, 30])) * SECOND
        count = draw(st.integers(1, 4))
        offsets = draw(st.lists(st.integers(-20, 2), min_size=count, max_size=count, unique=True))
        readings = tuple(Reading(clock + o * SECOND, draw(values), draw(values)) for o in offsets)
        messages.append(Message(draw(st.integers(1, 2)), clock, readings))
    return messages


@settings(max_examples=examples(100), deadline=None)
@given(
    st.integers(0, len(CONDITIONS) - 1),
    streams(),
    st.lists(st.integers(1, 24), max_size=8),
    st.sampled_from([0, 5, 12, 100]),
)
def test_any_cutting_equals_the_slow_evaluation(
    number: int, messages: list[Message], cuts: list[int], later: int
) -> None:
    until = messages[-1].arrival + later * SECOND
    wanted = slowly(number, messages, until)
    assert quickly(number, messages, [], until) == wanted
    assert quickly(number, messages, [c for c in cuts if c < len(messages)], until) == wanted
    assert quickly(number, messages, list(range(1, len(messages))), until) == wanted


def raised_at(number: int, *readings: tuple[int, float]) -> list[tuple[bool, int]]:
    """Transitions for readings (second, x) that arrive when they are measured, clock far ahead."""
    messages = [Message(1, t * SECOND, (Reading(t * SECOND, x, None),)) for t, x in readings]
    return [(r, at // SECOND) for _, r, at in quickly(number, messages, [], 10**9 * SECOND)]


def test_on_delay_is_raised_exactly_at_its_end_without_a_reading() -> None:
    assert raised_at(1, (100, 4.0)) == [(True, 110)]


def test_reading_exactly_at_the_deadline_is_seen_first() -> None:
    assert raised_at(1, (100, 4.0), (110, 1.0)) == []
    assert raised_at(1, (100, 4.0), (111, 1.0)) == [(True, 110), (False, 111)]


def test_deadband_holds_the_alarm_but_not_a_delay() -> None:
    assert raised_at(1, (100, 4.0), (120, 2.6)) == [(True, 110)]
    assert raised_at(1, (100, 4.0), (120, 2.5)) == [(True, 110), (False, 120)]
    assert raised_at(1, (100, 4.0), (105, 2.9), (106, 4.0)) == [(True, 116)]


def test_limits_are_strict() -> None:
    assert raised_at(0, (1, 3.0)) == []
    assert raised_at(0, (1, 3.0000001)) == [(True, 1)]


def test_late_reading_raises_nothing() -> None:
    messages = [
        Message(1, 100 * SECOND, (Reading(100 * SECOND, 1.0, None),)),
        Message(1, 101 * SECOND, (Reading(90 * SECOND, 9.0, None),)),
    ]
    assert quickly(0, messages, [], 200 * SECOND) == []


def test_history_in_one_message_counts_in_measured_order() -> None:
    """The bad spell was over before the message arrived, and shorter than the delay."""
    message = Message(1, 500 * SECOND, (Reading(108 * SECOND, 1.0, None), Reading(100 * SECOND, 4.0, None)))
    assert quickly(1, [message], [], 1000 * SECOND) == []


@pytest.mark.parametrize("cause_at,learned", [(100, 110), (80, 100)])
def test_a_delay_that_ended_before_its_reading_arrived_says_when_it_was_learned(cause_at: int, learned: int) -> None:
    driven = Driven(world_of([1], {(1, "x_max"): LIMIT}), [plan_of(CONDITIONS[1][0])])
    driven.take(batch([Message(1, 100 * SECOND, (Reading(cause_at * SECOND, 4.0, None),))]))
    driven.tick(10**6 * SECOND)
    (found,) = driven.found
    assert (found.at // SECOND, found.learned // SECOND) == (cause_at + 10, learned)
