"""Typed expressions over columns, in three values: each result comes with what of it is known.

A state is 0 for absent, 1 for a value, 2 and up for missing with a reason, -1 for a result that is no
number (a division by zero, say). Whatever an operation is given that is not known, its result is not
known for the same reason.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, Protocol

import numpy as np

from .functions import FUNCTIONS, bearing, distance_m
from .plan import Ex

NO_NUMBER = -1


class Val(NamedTuple):
    """Values (scalar or (m,), positions (m, 2)) and their states (True and False stand for 1 and 0)."""

    values: Any
    state: Any

    @property
    def known(self) -> Any:
        """bool, or bool (m,)."""
        if isinstance(self.state, np.ndarray):
            return self.state if self.state.dtype == bool else self.state == 1
        return bool(self.state == 1)


class Names(Protocol):
    """Where an expression finds what it speaks of, for the rows at hand."""

    def column(self, name: str) -> Val: ...
    def raw(self, name: str) -> Val: ...
    def setpoint(self, name: str) -> Val: ...
    def payload(self, ex: Ex) -> Val: ...


def joined(left: Any, right: Any) -> Any:
    """The state of a result that takes two: the first that is not known."""
    if not isinstance(left, np.ndarray):
        return right if left == 1 else left
    if not isinstance(right, np.ndarray):
        return left if right == 1 else np.where(left == 1, right, left)
    if left.dtype == bool and right.dtype == bool:
        return left & right
    return np.where(left == 1, right, left)


def _finite(values: Any, state: Any) -> Val:
    finite = np.isfinite(values)
    if np.all(finite):
        return Val(values, state)
    return Val(
        np.where(finite, values, 0.0),
        joined(np.asarray(state), np.where(finite, 1, NO_NUMBER))
        if isinstance(state, np.ndarray) or state == 1
        else state,
    )


def evaluate(ex: Ex, names: Names) -> Val:
    """The value of `ex`. Division by zero and whatever is missing come out as not known."""
    op = ex.op
    if op == "constant":
        return Val(ex.value, True)
    if op == "name":
        return names.column(ex.value)
    if op == "setpoint":
        return names.setpoint(ex.value)
    if op in ("length", "read", "check", "builtin", "before", "previous", "aggregate", "template", "table"):
        return names.payload(ex)
    if op == "call":
        return _call(ex, names)
    if op == "choice":
        rule, then, otherwise = (evaluate(a, names) for a in ex.args)
        truth = np.asarray(rule.values, bool)
        shaped = truth[..., None] if ex.type.kind == "position" else truth
        return Val(
            np.where(shaped, then.values, otherwise.values),
            joined(rule.state, np.where(truth, then.state, otherwise.state)),
        )
    parts = [evaluate(a, names) for a in ex.args]
    first = parts[0]
    if op == "missing":
        return Val(np.logical_not(first.known), True)
    if op == "not":
        return Val(np.logical_not(first.values), first.state)
    if op == "negative":
        return Val(-np.asarray(first.values), first.state)
    if op == "convert":
        a, b, c = ex.value
        return Val((first.values * a + b) / c, first.state)
    if op == "power":
        with np.errstate(all="ignore"):
            values = np.asarray(first.values, float) ** ex.value
        return _finite(values, first.state)
    second = parts[1]
    if op == "and":
        false = np.logical_or(
            np.logical_and(first.known, np.logical_not(first.values)),
            np.logical_and(second.known, np.logical_not(second.values)),
        )
        return Val(
            np.logical_and(first.values, second.values) & ~false,
            np.logical_or(false, np.logical_and(first.known, second.known)),
        )
    if op == "or":
        true = np.logical_or(np.logical_and(first.known, first.values), np.logical_and(second.known, second.values))
        return Val(true, np.logical_or(true, np.logical_and(first.known, second.known)))
    state = joined(first.state, second.state)
    a, b = first.values, second.values
    if op in ("=", "!="):
        same = (
            np.equal(a, b)
            if ex.args[0].type.kind != "text"
            else np.asarray(np.asarray(a, object) == np.asarray(b, object))
        )
        return Val(same if op == "=" else np.logical_not(same), state)
    if op in ("<", "<=", ">", ">="):
        compare = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}[op]
        return Val(compare(a, b), state)
    if op == "time difference":
        return Val((np.asarray(a, np.int64) - np.asarray(b, np.int64)) / 1e6, state)
    if op in ("time +", "time -"):
        step = np.rint(np.where(np.equal(state, 1), np.clip(b, -1e12, 1e12), 0) * 1e6).astype(np.int64)
        return Val(np.asarray(a, np.int64) + (step if op == "time +" else -step), state)
    with np.errstate(all="ignore"):
        if op == "+":
            values = np.add(a, b, dtype=float)
        elif op == "-":
            values = np.subtract(a, b, dtype=float)
        elif op == "*":
            values = np.multiply(a, b, dtype=float)
        elif op == "/":
            values = np.divide(a, b, dtype=float)
        else:
            raise AssertionError(op)
    return _finite(values, state)


def _call(ex: Ex, names: Names) -> Val:
    if ex.value == "raw":
        return names.raw(ex.args[0].value)
    parts = [evaluate(a, names) for a in ex.args]
    if ex.value == "first_known":
        return _first_known(parts, ex.type.kind)
    state: Any = True
    for part in parts:
        state = joined(state, part.state)
    if ex.value in ("latitude", "longitude"):
        return Val(np.asarray(parts[0].values)[..., 0 if ex.value == "latitude" else 1], state)
    if ex.value == "point":
        lat, lon = np.broadcast_arrays(np.asarray(parts[0].values, float), np.asarray(parts[1].values, float))
        return Val(np.stack([lat, lon], axis=-1), state)
    if ex.value in ("distance", "bearing"):
        compute: Callable[..., Any] = distance_m if ex.value == "distance" else bearing
        a, b = np.asarray(parts[0].values), np.asarray(parts[1].values)
        return Val(compute(a[..., 0], a[..., 1], b[..., 0], b[..., 1]), state)
    if ex.value in ("calendar", "second_pass"):
        return names.payload(Ex("clock", ex.args, ex.type, (ex.value, parts, state), ex.line))
    function = FUNCTIONS[ex.value]
    assert function.compute is not None
    if function.by_row:
        return _by_row(function.compute, parts, state, function.gives)
    with np.errstate(all="ignore"):
        if function.many:
            values = parts[0].values
            for part in parts[1:]:
                values = function.compute(values, part.values)
        else:
            values = function.compute(*(part.values for part in parts))
    return _finite(values, state)


def _first_known(parts: list[Val], kind: str) -> Val:
    values, state = parts[-1].values, parts[-1].state
    for part in parts[-2::-1]:
        known = np.asarray(part.known)
        shaped = known[..., None] if kind == "position" else known
        if kind == "time":
            values = np.where(shaped, np.asarray(part.values, np.int64), np.asarray(values, np.int64))
        else:
            values = np.where(shaped, part.values, values)
        state = np.where(known, 1, state)
    return Val(values, state)


def _by_row(compute: Callable[..., Any], parts: list[Val], state: Any, gives: str) -> Val:
    arrays = np.broadcast_arrays(*(np.asarray(p.values, object) for p in parts), np.asarray(state, object))
    states = np.atleast_1d(np.asarray(state)).astype(np.int16)
    states = np.broadcast_to(states, (arrays[0].size,)).copy()
    found = np.empty(arrays[0].size, object)
    for i, row in enumerate(zip(*(a.ravel() for a in arrays[:-1]), strict=True)):
        if states[i] == 1:
            found[i] = compute(*row)
            if found[i] is None:
                states[i] = NO_NUMBER
    if gives != "text":
        found = np.array([0 if v is None else v for v in found], bool if gives == "truth" else float)
    if arrays[0].ndim == 0:
        return Val(found[0], states[0].item())
    return Val(found, states)
