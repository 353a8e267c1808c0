"""When an alarm is raised and cleared: two rules, their delays, and the order in which all counts.

The rules are evaluated over all events at once; only where their result changes does a device's
state machine take a step. Any cutting of the stream into batches gives the same transitions.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..history.events import Events, Newest, plain
from ..language.evaluate import Val, evaluate
from ..language.plan import ConditionPlan, Ex

NO, YES, UNKNOWN = 0, 1, -1


@dataclass
class Cause:
    """What started something: the message, its arrival, the value and the limit it was held against."""

    message: int
    arrival: int
    value: Any = None
    limit: float | None = None
    field: str | None = None


@dataclass
class DeviceState:
    """One condition on one device between batches. Times are measured times in µs."""

    open: bool = False
    raise_since: int | None = None
    clear_since: int | None = None
    cause: Cause | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_dict(cls, found: Mapping[str, Any]) -> DeviceState:
        cause = found.get("cause")
        return cls(bool(found["open"]), found["raise_since"], found["clear_since"], Cause(**cause) if cause else None)

    @property
    def idle(self) -> bool:
        return not self.open and self.raise_since is None and self.clear_since is None


@dataclass(frozen=True)
class Transition:
    """An alarm raised or cleared. `at` is its exact moment, `learned` when that could first be known."""

    device: int
    raised: bool
    at: int
    learned: int
    cause: Cause


class _View:
    """Fields and setpoints of the events for expressions: each field's newest value at every event."""

    def __init__(
        self, events: Events, newest: Mapping[tuple[int, str], Newest], setpoint: Callable[[int, str], float | None]
    ) -> None:
        self.events, self.newest, self.lookup = events, newest, setpoint
        self.devices, self.index = np.unique(events.device, return_inverse=True)
        self.kept: dict[str, Val] = {}

    def column(self, name: str) -> Val:
        if name not in self.kept:
            self.kept[name] = self._column(name)
        return self.kept[name]

    def _column(self, name: str) -> Val:
        before = [self.newest.get((int(d), name)) for d in self.devices]
        track = self.events.tracks.get(name)
        sample = track.column.values if track is not None else None
        filled = next((b.value for b in before if b is not None), None)
        if sample is None:
            sample = (
                np.zeros((0, 2))
                if isinstance(filled, list | tuple)
                else np.zeros(0, object if isinstance(filled, str) else float)
            )
        start = np.zeros((len(self.devices), *sample.shape[1:]), sample.dtype)
        has = np.zeros(len(self.devices), bool)
        for i, found in enumerate(before):
            if found is not None:
                start[i], has[i] = found.value, True
        values, known = start[self.index], has[self.index]
        if track is not None:
            inside = track.source >= 0
            values[inside] = track.column.values[track.source[inside]]
            known = known | inside
        return Val(values, known)

    def setpoint(self, name: str) -> Val:
        found = [self.lookup(int(d), name) for d in self.devices]
        values = np.array([0.0 if v is None else v for v in found], float)
        known = np.array([v is not None for v in found], bool)
        return Val(values[self.index], known[self.index])

    def raw(self, name: str) -> Val:
        return self.column(name)

    def payload(self, ex: Ex) -> Val:
        raise AssertionError("a condition has no payload")


def _ternary(found: Val, count: int) -> np.ndarray:
    values = np.broadcast_to(np.asarray(found.values, bool), (count,))
    known = np.broadcast_to(np.asarray(found.known, bool), (count,))
    return np.where(known, np.where(values, YES, NO), UNKNOWN).astype(np.int8)


def evaluate_condition(
    plan: ConditionPlan,
    events: Events,
    newest: Mapping[tuple[int, str], Newest],
    setpoint: Callable[[int, str], float | None],
    selected: Callable[[int], bool],
    states: dict[int, DeviceState],
    until: int,
) -> list[Transition]:
    """The transitions of one condition over a batch; `states` is moved on in place.

    newest: what was known before the batch. setpoint: device, name to the limit in force, in the
    setpoint's unit. selected: whether the condition watches a device. until: all arrivals stamped
    before it are in this batch or earlier ones; delays that end before it are over.
    """
    out: list[Transition] = []
    touched: set[int] = set()
    if len(events):
        used = np.zeros(len(events), bool)
        for name in plan.fields:
            track = events.tracks.get(name)
            if track is not None:
                used |= track.fresh
        bound = np.where(events.first, np.maximum(events.arrival, events.at), events.at)
        view = _View(events, newest, setpoint)
        count = len(events)
        raising = _ternary(evaluate(plan.rule, view), count)
        if plan.clear is not None:
            clearing = _ternary(evaluate(plan.clear, view), count)
        else:
            still = raising if plan.still is plan.rule else _ternary(evaluate(plan.still, view), count)
            clearing = np.where(still == UNKNOWN, UNKNOWN, 1 - still).astype(np.int8)
        value, limit, names = _shown(plan, view, count)
        for start, end in _segments(events):
            device = int(events.device[start])
            if not selected(device):
                continue
            touched.add(device)
            index = np.flatnonzero(used[start:end]) + start
            state = states.setdefault(device, DeviceState())
            if len(index) == 0:
                _fire(plan, device, state, int(bound[start:end].max()), out)
                continue
            r, c = raising[index], clearing[index]
            changed = np.ones(len(index), bool)
            changed[1:] = (r[1:] != r[:-1]) | (c[1:] != c[:-1])
            kept = index[changed]
            # Only where the rule's result changes does the state machine take a step; but the clock goes on over the
            # readings between, and a delay may end there: for each step, how far the clock had come before it.
            reach = np.maximum.reduceat(bound[: int(kept[-1]) + 1], np.concatenate([[start], kept[:-1] + 1]))
            for k, i in enumerate(kept.tolist()):
                _fire(plan, device, state, int(reach[k]), out)
                cause = Cause(
                    int(events.ids[events.message[i]]),
                    int(events.arrival[i]),
                    plain(value[i]) if names[i] else None,
                    float(limit[i]) if names[i] else None,
                    names[i],
                )
                _step(plan, device, state, int(events.at[i]), int(raising[i]), int(clearing[i]), cause, out)
            _fire(plan, device, state, int(bound[int(kept[-1]) : end].max()), out)
    for device, state in states.items():
        _fire(plan, device, state, until, out)
    for device in touched:
        if states[device].idle:
            del states[device]
    return out


def set_back(states: Mapping[int, DeviceState], clock: int) -> None:
    """The clock was set back to `clock`: a delay that began later begins again with the next evaluation."""
    for state in states.values():
        if max(state.raise_since or 0, state.clear_since or 0) > clock:
            state.raise_since = state.clear_since = state.cause = None


def _segments(events: Events) -> list[tuple[int, int]]:
    heads = np.flatnonzero(events.segment == np.arange(len(events)))
    return list(zip(heads.tolist(), [*heads[1:].tolist(), len(events)], strict=True))


def _shown(plan: ConditionPlan, view: _View, count: int) -> tuple[np.ndarray, np.ndarray, list[str | None]]:
    """The value and limit that an alarm names: of the first comparison that holds, else of the first."""
    value, limit = np.zeros(count), np.zeros(count)
    chosen = np.full(count, -1)
    settled = np.zeros(count, bool)
    for k, item in enumerate(plan.limits):
        left, right = evaluate(item.left, view), evaluate(item.right, view)
        compare = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}[item.sign]
        known = np.broadcast_to(np.logical_and(left.known, right.known), (count,))
        holds = known & compare(left.values, right.values)
        take = ~settled & (holds | ((chosen < 0) & known))
        value = np.where(take, left.values, value)
        limit = np.where(take, right.values, limit)
        chosen = np.where(take, k, chosen)
        settled |= holds
    return value, limit, [plan.limits[k].field if k >= 0 else None for k in chosen.tolist()]


def _fire(plan: ConditionPlan, device: int, state: DeviceState, passed: int, out: list[Transition]) -> None:
    """Ends delays that were due before `passed`."""
    if state.raise_since is not None and state.raise_since + plan.raise_held_us < passed:
        assert state.cause is not None
        due = state.raise_since + plan.raise_held_us
        out.append(Transition(device, True, due, max(due, state.cause.arrival), state.cause))
        state.open, state.raise_since, state.clear_since, state.cause = True, None, None, None
    if state.clear_since is not None and state.clear_since + plan.clear_held_us < passed:
        assert state.cause is not None
        due = state.clear_since + plan.clear_held_us
        out.append(Transition(device, False, due, max(due, state.cause.arrival), state.cause))
        state.open, state.raise_since, state.clear_since, state.cause = False, None, None, None


def _step(
    plan: ConditionPlan,
    device: int,
    state: DeviceState,
    at: int,
    raising: int,
    clearing: int,
    cause: Cause,
    out: list[Transition],
) -> None:
    """One evaluation at measured time `at`."""
    if not state.open:
        if raising == YES and state.raise_since is None:
            if plan.raise_held_us == 0:
                out.append(Transition(device, True, at, max(at, cause.arrival), cause))
                state.open = True
            else:
                state.raise_since, state.cause = at, cause
        elif raising == NO:
            state.raise_since = state.cause = None
        return
    if raising == YES or clearing == NO:
        state.clear_since = state.cause = None
    elif clearing == YES and state.clear_since is None:
        if plan.clear_held_us == 0:
            out.append(Transition(device, False, at, max(at, cause.arrival), cause))
            state.open = False
        else:
            state.clear_since, state.cause = at, cause
