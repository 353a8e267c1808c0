"""Typed expressions over columns, in three values: each result comes with what of it is known."""

from __future__ import annotations

from typing import Any, NamedTuple, Protocol

import numpy as np

from .functions import FUNCTIONS, distance_m
from .plan import Ex


class Val(NamedTuple):
    """Values (scalar or (m,), positions (m, 2)) and whether each is known (bool or (m,))."""

    values: Any
    known: Any


class Names(Protocol):
    """Where an expression finds what it speaks of, for the rows at hand."""

    def column(self, name: str) -> Val: ...
    def raw(self, name: str) -> Val: ...
    def setpoint(self, name: str) -> Val: ...
    def payload(self, ex: Ex) -> Val: ...


def _both(left: Val, right: Val) -> Any:
    return np.logical_and(left.known, right.known)


def evaluate(ex: Ex, names: Names) -> Val:
    """The value of `ex`. Division by zero and whatever is missing come out as not known."""
    op = ex.op
    if op == "constant":
        return Val(ex.value, True)
    if op == "name":
        return names.column(ex.value)
    if op == "setpoint":
        return names.setpoint(ex.value)
    if op in ("length", "read", "check"):
        return names.payload(ex)
    if op == "call":
        return _call(ex, names)
    if op == "choice":
        rule, then, otherwise = (evaluate(a, names) for a in ex.args)
        truth = np.asarray(rule.values, bool)
        shaped = truth[..., None] if ex.type.kind == "position" else truth
        return Val(np.where(shaped, then.values, otherwise.values), np.logical_and(rule.known, np.where(truth, then.known, otherwise.known)))
    parts = [evaluate(a, names) for a in ex.args]
    first = parts[0]
    if op == "missing":
        return Val(np.logical_not(first.known), True)
    if op == "not":
        return Val(np.logical_not(first.values), first.known)
    if op == "negative":
        return Val(-np.asarray(first.values), first.known)
    if op == "convert":
        factor, offset = ex.value
        return Val(first.values * factor + offset, first.known)
    if op == "power":
        with np.errstate(all="ignore"):
            values = np.asarray(first.values, float) ** ex.value
        return Val(np.where(np.isfinite(values), values, 0.0), np.logical_and(first.known, np.isfinite(values)))
    second = parts[1]
    if op == "and":
        false = np.logical_or(np.logical_and(first.known, np.logical_not(first.values)), np.logical_and(second.known, np.logical_not(second.values)))
        return Val(np.logical_and(first.values, second.values) & ~false, np.logical_or(false, _both(first, second)))
    if op == "or":
        true = np.logical_or(np.logical_and(first.known, first.values), np.logical_and(second.known, second.values))
        return Val(true, np.logical_or(true, _both(first, second)))
    known = _both(first, second)
    a, b = first.values, second.values
    if op in ("=", "!="):
        same = np.equal(a, b) if ex.args[0].type.kind != "text" else np.asarray(np.asarray(a, object) == np.asarray(b, object))
        return Val(same if op == "=" else np.logical_not(same), known)
    if op in ("<", "<=", ">", ">="):
        compare = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}[op]
        return Val(compare(a, b), known)
    if op == "time difference":
        return Val((np.asarray(a, np.int64) - np.asarray(b, np.int64)) / 1e6, known)
    if op in ("time +", "time -"):
        step = np.rint(np.where(known, np.clip(b, -1e12, 1e12), 0) * 1e6).astype(np.int64)
        return Val(np.asarray(a, np.int64) + (step if op == "time +" else -step), known)
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
    finite = np.isfinite(values)
    return Val(np.where(finite, values, 0.0), np.logical_and(known, finite))


def _call(ex: Ex, names: Names) -> Val:
    if ex.value == "raw":
        return names.raw(ex.args[0].value)
    parts = [evaluate(a, names) for a in ex.args]
    known: Any = True
    for part in parts:
        known = np.logical_and(known, part.known)
    if ex.value in ("latitude", "longitude"):
        return Val(np.asarray(parts[0].values)[..., 0 if ex.value == "latitude" else 1], known)
    if ex.value == "point":
        lat, lon = np.broadcast_arrays(np.asarray(parts[0].values, float), np.asarray(parts[1].values, float))
        return Val(np.stack([lat, lon], axis=-1), known)
    if ex.value == "distance":
        a, b = np.asarray(parts[0].values), np.asarray(parts[1].values)
        return Val(distance_m(a[..., 0], a[..., 1], b[..., 0], b[..., 1]), known)
    compute = FUNCTIONS[ex.value].compute
    assert compute is not None
    with np.errstate(all="ignore"):
        if FUNCTIONS[ex.value].many:
            values = parts[0].values
            for part in parts[1:]:
                values = compute(values, part.values)
        else:
            values = compute(*(part.values for part in parts))
    finite = np.isfinite(values)
    return Val(np.where(finite, values, 0.0), np.logical_and(known, finite))
