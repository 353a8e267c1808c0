"""Expressions over columns equal the same expressions worked out one row at a time, in three values."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.language import tree
from oculum.language.conditions import check_condition, clauses
from oculum.language.definitions import parse
from oculum.language.evaluate import Val, evaluate
from oculum.language.expressions import Ex
from oculum.language.fields import FieldSpec
from tests.often import examples

FIELDS = {
    "x": FieldSpec("x", "number", "1"),
    "y": FieldSpec("y", "number", "1"),
    "f": FieldSpec("f", "flag"),
    "m": FieldSpec("m", "code", None, ((0, "off"), (1, "on"))),
}
TYPES = {"thing": (FIELDS, {"s": "1"})}
SETPOINT = 2.0

numbers = st.recursive(
    st.sampled_from(["x", "y", "setpoint s", "1", "2.5", "0"]),
    lambda inner: st.one_of(
        st.builds(lambda a, sign, b: f"({a} {sign} {b})", inner, st.sampled_from(["+", "-", "*", "/"]), inner),
        st.builds(lambda a: f"abs({a})", inner),
        st.builds(lambda a: f"-({a})", inner),
        st.builds(lambda a, b, name: f"{name}({a}, {b})", inner, inner, st.sampled_from(["min", "max"])),
        st.builds(lambda a: f"round({a})", inner),
        st.builds(lambda a: f"({a}) ^ 2", inner),
    ),
    max_leaves=5,
)
truths = st.recursive(
    st.one_of(
        st.builds(
            lambda a, sign, b: f"{a} {sign} {b}", numbers, st.sampled_from(["<", "<=", "=", "!=", ">=", ">"]), numbers
        ),
        st.sampled_from(["f", "m = `on`", "m != `off`", "x is missing", "m in { `on`, `off` }", "true"]),
    ),
    lambda inner: st.one_of(
        st.builds(lambda a, word, b: f"({a}) {word} ({b})", inner, st.sampled_from(["and", "or"]), inner),
        st.builds(lambda a: f"not ({a})", inner),
        st.builds(lambda a, b, c: f"(if {a} then {b} else {c})", inner, inner, inner),
    ),
    max_leaves=5,
)
rows_of = st.lists(
    st.tuples(
        st.one_of(st.none(), st.sampled_from([-2.0, 0.0, 0.5, 1.0, 2.0, 7.25])),
        st.one_of(st.none(), st.sampled_from([-1.5, 0.0, 1.0, 3.0])),
        st.one_of(st.none(), st.booleans()),
        st.one_of(st.none(), st.sampled_from([0, 1])),
    ),
    min_size=1,
    max_size=8,
)


def half_away(value: float) -> float:
    return math.copysign(math.floor(abs(value) + 0.5), value)


def slowly(node: Any, row: dict[str, Any]) -> Any:
    """The value of a written expression for one row; None is unknown."""
    match node:
        case tree.Quantity():
            return float(node.number)
        case tree.Truth():
            return node.value
        case tree.CodeText():
            return {"off": 0.0, "on": 1.0}[node.text]
        case tree.Name():
            return row[node.name]
        case tree.Setpoint():
            return SETPOINT
        case tree.Unary(sign="is missing"):
            return slowly(node.value, row) is None
        case tree.Unary():
            value = slowly(node.value, row)
            return None if value is None else (not value) if node.sign == "not" else -value
        case tree.Choice():
            rule, then, otherwise = (slowly(n, row) for n in (node.rule, node.then, node.otherwise))
            return None if rule is None else then if rule else otherwise
        case tree.Membership():
            value = slowly(node.value, row)
            return None if value is None else any(value == slowly(o, row) for o in node.options)
        case tree.Power():
            value = slowly(node.value, row)
            return None if value is None else value ** float(node.exponent)
        case tree.Call():
            values = [slowly(a, row) for a in node.arguments]
            if any(v is None for v in values):
                return None
            known: dict[str, Any] = {"abs": abs, "min": min, "max": max, "round": half_away}
            return known[node.function](*values)
        case tree.Binary(sign="and" | "or"):
            pair = [slowly(node.left, row), slowly(node.right, row)]
            decisive = node.sign == "or"
            return (
                decisive if decisive in [p for p in pair if p is not None] else None if None in pair else not decisive
            )
        case tree.Binary():
            a, b = slowly(node.left, row), slowly(node.right, row)
            if a is None or b is None or (node.sign == "/" and b == 0):
                return None
            return {
                "+": lambda: a + b,
                "-": lambda: a - b,
                "*": lambda: a * b,
                "/": lambda: a / b,
                "<": lambda: a < b,
                "<=": lambda: a <= b,
                "=": lambda: a == b,
                "!=": lambda: a != b,
                ">=": lambda: a >= b,
                ">": lambda: a > b,
            }[node.sign]()
    raise AssertionError(node)


class Rows:
    """Columns for the evaluation."""

    def __init__(self, rows: list[tuple]) -> None:
        self.count = len(rows)
        self.columns = {}
        for i, name in enumerate("xyfm"):
            values = [r[i] for r in rows]
            self.columns[name] = Val(
                np.array([0.0 if v is None else float(v) for v in values]), np.array([v is not None for v in values])
            )

    def column(self, name: str) -> Val:
        return self.columns[name]

    raw = column

    def setpoint(self, name: str) -> Val:
        return Val(np.full(self.count, SETPOINT), np.ones(self.count, bool))

    def special(self, ex: Ex) -> Val:
        raise AssertionError(ex)


@settings(max_examples=examples(200), deadline=None)
@given(truths, rows_of)
def test_columns_equal_one_row_at_a_time(rule: str, rows: list[tuple]) -> None:
    text = f'condition "c" priority low\n  on thing\n  raise when x = x and ({rule})\n'
    plan, problems = check_condition(text, TYPES)
    if plan is None:  # random rules may go beyond the bounds, and nothing else
        assert all("nest at most" in p.message or "characters; at most" in p.message for p in problems), (
            rule,
            problems,
        )
        return
    written = next(c.rule for c in parse(text)[0].clauses if isinstance(c, clauses.Raise))  # type: ignore[union-attr]
    found = evaluate(plan.steps[0].rule, Rows(rows))
    values = np.broadcast_to(np.asarray(found.values, bool), (len(rows),))
    known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
    for i, row in enumerate(rows):
        wanted = slowly(written, dict(zip("xyfm", row, strict=True)))
        assert (bool(values[i]) if known[i] else None) == wanted, (rule, row)


@pytest.mark.parametrize(
    "rule,outcome",
    [
        ("x > 1 and y > 1", None),
        ("x > 9 and y > 1", False),
        ("x > 1 or y > 1", True),
        ("x > 9 or y > 1", None),
        ("not (y > 1)", None),
        ("x / 0 > 1", None),
        ("y is missing", True),
        ("x / 0 is missing", True),
        ("x > 1 and (y > 1 or true)", True),
    ],
)
def test_three_values(rule: str, outcome: bool | None) -> None:
    """x is 2, y is missing."""
    plan, problems = check_condition(f'condition "c" priority low\n  on thing\n  raise when {rule}\n', TYPES)
    assert plan is not None, problems
    found = evaluate(plan.steps[0].rule, Rows([(2.0, None, None, None)]))
    known = bool(np.broadcast_to(found.known, (1,))[0])
    assert (bool(np.broadcast_to(found.values, (1,))[0]) if known else None) == outcome
