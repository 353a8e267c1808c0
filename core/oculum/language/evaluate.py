"""Typed expressions over columns, in three values: each result comes with what of it is known.

A state is 0 for absent, 1 for a value, 2 and up for missing with a reason, -1 for a result that is no
number (a division by zero, say). Whatever an operation is given that is not known, its result is not
known for the same reason.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, Protocol

import numpy as np

from ..arrays import objects
from ..clocks import calendar_us
from .expressions import (
    Called,
    Chosen,
    Combined,
    Compared,
    Constant,
    Converted,
    Ex,
    IsMissing,
    Logical,
    Named,
    Negative,
    Not,
    Powered,
    SetpointValue,
    TimeDifference,
    TimeMoved,
)
from .functions import EXACT, FUNCTIONS, bearing, distance_m

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
    def special(self, ex: Ex) -> Val: ...


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
    match ex:
        case Constant():
            return Val(ex.value, True)
        case Named():
            return names.column(ex.name)
        case SetpointValue():
            return names.setpoint(ex.name)
        case Called():
            return _called(ex, names)
        case Chosen():
            return _chosen(ex, names)
        case Not() | Negative() | IsMissing() | Converted() | Powered():
            return _of_one(ex, evaluate(ex.value, names))
        case Logical():
            return _logical(ex.sign, evaluate(ex.left, names), evaluate(ex.right, names))
        case Compared() | Combined() | TimeDifference():
            return _of_two(ex, evaluate(ex.left, names), evaluate(ex.right, names))
        case TimeMoved():
            return _moved(ex, evaluate(ex.time, names), evaluate(ex.seconds, names))
    return names.special(ex)


def _of_one(ex: Not | Negative | IsMissing | Converted | Powered, found: Val) -> Val:
    match ex:
        case IsMissing():
            return Val(np.logical_not(found.known), True)
        case Not():
            return Val(np.logical_not(found.values), found.state)
        case Negative():
            values = as_digits(ex.value, found) if ex.type.wide else np.asarray(found.values)
            return Val(-values, found.state)
        case Converted():
            return Val((as_floats(ex.value, found) * ex.a + ex.b) / ex.c, found.state)
        case Powered():
            with np.errstate(all="ignore"):
                values = np.asarray(as_floats(ex.value, found), float) ** ex.exponent
            return _finite(values, found.state)


def as_digits(ex: Ex, found: Val) -> Any:
    """Whole numbers of any size, which Python calculates exactly; others as they are."""
    if isinstance(ex, Constant) and ex.digits is not None:
        return ex.digits
    values = np.asarray(found.values)
    if values.dtype.kind in "iu":
        return values.astype(object)
    plain = [
        v if isinstance(v, int) else 0 if v is None or not np.isfinite(v) else int(v) if v == int(v) else v
        for v in values.ravel().tolist()
    ]
    if values.ndim == 0:
        return plain[0]
    return objects(plain)


def as_floats(ex: Ex, found: Val) -> Any:
    """Numbers for what works with 53 bits."""
    return np.asarray(as_digits(ex, found), float) if ex.type.wide else found.values


def within_64_bits(ex: Ex, found: Val, count: int) -> tuple[np.ndarray, Val]:
    """Whole numbers as a column keeps them (objects (count,)); what has more than 64 bits has no value."""
    values = np.broadcast_to(np.asarray(as_digits(ex, found), object), (count,)).copy()
    fits = np.array([-(2**63) <= v < 2**64 for v in values.tolist()], bool)
    values[~fits] = 0
    return values, Val(values, joined(np.broadcast_to(np.asarray(found.state), (count,)), np.where(fits, 1, NO_NUMBER)))


def _logical(sign: str, first: Val, second: Val) -> Val:
    """`and` and `or` in three values."""
    if sign == "and":
        false = np.logical_or(
            np.logical_and(first.known, np.logical_not(first.values)),
            np.logical_and(second.known, np.logical_not(second.values)),
        )
        return Val(
            np.logical_and(first.values, second.values) & ~false,
            np.logical_or(false, np.logical_and(first.known, second.known)),
        )
    true = np.logical_or(np.logical_and(first.known, first.values), np.logical_and(second.known, second.values))
    return Val(true, np.logical_or(true, np.logical_and(first.known, second.known)))


COMPARE = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}
COMBINE = {"+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide}


def _of_two(ex: Compared | Combined | TimeDifference, first: Val, second: Val) -> Val:
    state = joined(first.state, second.state)
    a, b = first.values, second.values
    exact = ex.type.wide or isinstance(ex, Compared)
    if ex.left.type.wide or ex.right.type.wide:
        change = as_digits if exact else as_floats
        a, b = change(ex.left, first), change(ex.right, second)
    match ex:
        case Compared(sign="=" | "!="):
            same = (
                np.equal(a, b)
                if ex.left.type.kind != "text"
                else np.asarray(np.asarray(a, object) == np.asarray(b, object))
            )
            return Val(same if ex.sign == "=" else np.logical_not(same), state)
        case Compared():
            return Val(np.asarray(COMPARE[ex.sign](a, b), bool), state)
        case TimeDifference():
            return Val((np.asarray(a, np.int64) - np.asarray(b, np.int64)) / 1e6, state)
        case Combined():
            with np.errstate(all="ignore"):
                if ex.type.wide:
                    return Val(COMBINE[ex.sign](np.asarray(a, object), b), state)
                return _finite(COMBINE[ex.sign](a, b, dtype=float), state)


def _moved(ex: TimeMoved, time: Val, seconds: Val) -> Val:
    state = joined(time.state, seconds.state)
    moved = np.clip(as_floats(ex.seconds, seconds), -1e12, 1e12)
    step = np.rint(np.where(np.equal(state, 1), moved, 0) * 1e6).astype(np.int64)
    return Val(np.asarray(time.values, np.int64) + (step if ex.sign == "+" else -step), state)


def _chosen(ex: Chosen, names: Names) -> Val:
    rule, then, otherwise = (evaluate(part, names) for part in (ex.rule, ex.then, ex.otherwise))
    truth = np.asarray(rule.values, bool)
    shaped = truth[..., None] if ex.type.kind == "position" else truth
    change = as_digits if ex.type.wide else as_floats
    return Val(
        np.where(shaped, change(ex.then, then), change(ex.otherwise, otherwise)),
        joined(rule.state, np.where(truth, then.state, otherwise.state)),
    )


def _called(ex: Called, names: Names) -> Val:
    if ex.function == "raw":
        named = ex.arguments[0]
        assert isinstance(named, Named)
        return names.raw(named.name)
    parts = [evaluate(a, names) for a in ex.arguments]
    if any(a.type.wide for a in ex.arguments):
        change = as_digits if ex.type.wide else as_floats
        parts = [Val(change(a, part), part.state) for a, part in zip(ex.arguments, parts, strict=True)]
    if ex.function == "first_known":
        return _first_known(parts, ex.type.kind)
    state: Any = True
    for part in parts:
        state = joined(state, part.state)
    match ex.function:
        case "latitude" | "longitude":
            return Val(np.asarray(parts[0].values)[..., 0 if ex.function == "latitude" else 1], state)
        case "point":
            lat, lon = np.broadcast_arrays(np.asarray(parts[0].values, float), np.asarray(parts[1].values, float))
            return Val(np.stack([lat, lon], axis=-1), state)
        case "distance" | "bearing":
            compute: Callable[..., Any] = distance_m if ex.function == "distance" else bearing
            a, b = np.asarray(parts[0].values), np.asarray(parts[1].values)
            return Val(compute(a[..., 0], a[..., 1], b[..., 0], b[..., 1]), state)
        case "calendar":
            us, good = calendar_us(*(part.values for part in parts))
            return Val(us, joined(np.broadcast_to(np.asarray(state), us.shape), np.where(good, 1, NO_NUMBER)))
    function = FUNCTIONS[ex.function]
    if ex.type.wide:
        return _exactly(EXACT[ex.function], parts, state)
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


def _exactly(compute: Callable[..., int | None], parts: list[Val], state: Any) -> Val:
    """A function of whole numbers of any size; None where it has no value."""
    *arrays, states = np.broadcast_arrays(*(np.asarray(p.values, object) for p in parts), np.asarray(state, np.int16))
    found = [
        compute(*row) if known == 1 else 0
        for *row, known in zip(*(a.ravel().tolist() for a in arrays), states.ravel().tolist(), strict=True)
    ]
    odd = np.array([v is None for v in found], bool).reshape(states.shape)
    values = objects(0 if v is None else v for v in found).reshape(states.shape)
    return Val(values, np.where(odd, NO_NUMBER, states).astype(np.int16))


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
