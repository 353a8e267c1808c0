"""Conditions over every kind of field: codes, flags, positions, wide integers, text; with limits that devices have of
their own. Held against rules written out by hand, one reading after the other."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Group
from oculum.language.conditions import check_condition
from oculum.language.fields import FieldSpec
from tests.core.rooms import TYPE, Batch, Driven, world_of
from tests.often import examples

SECOND = 1_000_000
MODES = ((0, "normal"), (1, "storm"), (3, "saving"))
FIELDS = {
    "mode": FieldSpec("mode", "code", None, MODES),
    "slack": FieldSpec("slack", "flag"),
    "fix": FieldSpec("fix", "position"),
    "count": FieldSpec("count", "integer", "1"),
    "level": FieldSpec("level", "number", "m"),
    "name": FieldSpec("name", "text"),
}
TYPES = {"buoy": (FIELDS, {"level_min": "cm", "count_max": "1"})}
HOME = (37.4, -42.6)
Values = dict[str, Any]


def metres(fix: tuple[float, float]) -> float:
    """The distance from HOME on a sphere: within half a percent of that on the ellipsoid."""
    (a, b), (c, d) = (tuple(map(math.radians, p)) for p in (fix, HOME))
    inner = math.sin((a - c) / 2) ** 2 + math.cos(a) * math.cos(c) * math.sin((b - d) / 2) ** 2
    return 2 * 6_371_008.8 * math.asin(math.sqrt(inner))


def known(rule: Any, *names: str) -> Any:
    """A rule of values that is unknown where one of them is."""
    return lambda v, limits: None if any(v.get(n) is None for n in names) else rule(v, limits)


# The rule as a person writes it, and the same by hand, over the newest value of each field and the device's limits.
RULES: list[tuple[str, Any]] = [
    ("mode = `storm`", known(lambda v, _: v["mode"] == 1, "mode")),
    ("mode in { `storm`, `saving` }", known(lambda v, _: v["mode"] in (1, 3), "mode")),
    ("mode != `normal`", known(lambda v, _: v["mode"] != 0, "mode")),
    ("slack", known(lambda v, _: bool(v["slack"]), "slack")),
    ("not slack", known(lambda v, _: not v["slack"], "slack")),
    ("count > setpoint count_max", known(lambda v, limits: v["count"] > limits["count_max"], "count")),
    ("level < setpoint level_min", known(lambda v, limits: v["level"] * 100 < limits["level_min"], "level")),
    ("level < 250 cm", known(lambda v, _: v["level"] < 2.5, "level")),
    ('name = "tank a"', known(lambda v, _: v["name"] == "tank a", "name")),
    (
        f"distance(fix, point({HOME[0]} deg, {HOME[1]} deg)) > 5000 m",
        known(lambda v, _: metres(v["fix"]) > 5000, "fix"),
    ),
]
LIMITS = {1: {"level_min": 250.0, "count_max": 100.0}, 2: {"level_min": 120.0, "count_max": 3.0}}

values = st.fixed_dictionaries(
    {},
    optional={
        "mode": st.sampled_from([0, 1, 3]),
        "slack": st.sampled_from([0, 1]),
        # Far enough from 5 km on either side that a sphere says the same as the ellipsoid.
        "fix": st.sampled_from([HOME, (37.43, -42.6), (37.46, -42.6), (37.4, -42.5), (-37.4, 137.0)]),
        "count": st.sampled_from([0, 3, 4, 100, 101, 2**31]),
        "level": st.sampled_from([0.5, 1.1, 1.2, 1.3, 2.4, 2.6, 9.0]),
        "name": st.sampled_from(["tank a", "tank b", ""]),
    },
)
streams = st.lists(st.tuples(st.sampled_from([1, 2]), values), min_size=1, max_size=20)


def batch(part: list[tuple[int, Values]], first: int) -> Batch:
    """Messages with one reading each, ten seconds apart."""
    count = len(part)
    columns = {}
    for field, spec in FIELDS.items():
        there = [field in v for _, v in part]
        if spec.kind == "position":
            column = np.array([v.get(field, (0.0, 0.0)) for _, v in part], float).reshape(count, 2)
        elif spec.kind == "text":
            column = np.array([v.get(field, "") for _, v in part], object)
        else:
            column = np.array([float(v.get(field, 0)) for _, v in part])
        columns[field] = Column(column, np.array(there, np.int16))
    at = (1000 + 10 * np.arange(first, first + count)) * SECOND
    group = Group(tuple(FIELDS.values()), np.arange(count), at, columns)
    return Batch({TYPE: [group]}, np.array([d for d, _ in part], np.int64), at)


def quickly(text: str, messages: list[tuple[int, Values]], cuts: list[int]) -> list[tuple[int, bool, int]]:
    plan, problems = check_condition(f'condition "c" priority low\n  on buoy\n  raise when {text}\n', TYPES)
    assert plan is not None, [p.message for p in problems]
    driven = Driven(world_of([1, 2], {(d, n): v for d, own in LIMITS.items() for n, v in own.items()}), [plan])
    edges = [0, *sorted(set(cuts)), len(messages)]
    for start, end in zip(edges, edges[1:], strict=False):
        if end > start:
            driven.take(batch(messages[start:end], start))
    return sorted(((t.subject, t.raised, t.at) for t in driven.found), key=lambda t: (t[2], t[0]))


def slowly(rule: Any, fields: set[str], messages: list[tuple[int, Values]]) -> list[tuple[int, bool, int]]:
    newest: dict[int, Values] = {1: {}, 2: {}}
    is_open = {1: False, 2: False}
    out = []
    for i, (device, told) in enumerate(messages):
        newest[device] |= told
        if not fields & told.keys():
            continue
        result = rule(newest[device], LIMITS[device])
        if result is not None and result != is_open[device]:
            is_open[device] = result
            out.append((device, result, (1000 + 10 * i) * SECOND))
    return out


@pytest.mark.parametrize(("text", "rule"), RULES, ids=[text for text, _ in RULES])
@settings(max_examples=examples(60), deadline=None)
@given(messages=streams, cuts=st.lists(st.integers(1, 19), max_size=5))
def test_a_rule_over_any_kind_of_field_is_what_it_says(
    text: str, rule: Any, messages: list[tuple[int, Values]], cuts: list[int]
) -> None:
    fields = {name for name in FIELDS if name in text.replace("level_min", "").replace("count_max", "")}
    wanted = slowly(rule, fields, messages)
    assert quickly(text, messages, []) == wanted
    assert quickly(text, messages, [c for c in cuts if c < len(messages)]) == wanted


@pytest.mark.parametrize(("digits", "raised"), [(2**64 - 1, True), (2**53 + 1, True), (5, False), (6, True)])
def test_a_wide_integer_is_compared_as_the_number_it_is(digits: int, raised: bool) -> None:
    spec = FieldSpec("energy", "integer", "W.h", (), True)
    types: dict[str, Any] = {"meter": ({"energy": spec}, {})}
    plan, problems = check_condition('condition "c" priority low\n  on meter\n  raise when energy > 5 W.h\n', types)
    assert plan is not None, [p.message for p in problems]
    column = Column(np.array([digits], np.uint64), np.array([1], np.int16))
    at = np.array([1000 * SECOND])
    group = Group((spec,), np.zeros(1, np.int64), at, {"energy": column})
    driven = Driven(world_of([1]), [plan], restarts=False)
    driven.take(Batch({TYPE: [group]}, np.array([1]), at))
    assert [t.raised for t in driven.found] == ([True] if raised else [])
