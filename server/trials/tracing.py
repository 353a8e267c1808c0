"""What a draft of a condition compares for one device or site: its curves, its limits, and when its rule held."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Any

import numpy as np

from oculum.alarms.machine import YES
from oculum.alarms.trace import Trace
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.expressions import Silent
from server.records.fleet.models import DeviceType
from server.store.times import moment
from server.trials.conditions import stretches
from server.trials.room import Asked, PastRoom, looked_at

MOST_POINTS = 1_500
MOST_STRETCHES = 500
JUST_AFTER_US = 1_000  # so that no two points of a curve stand at one moment


def condition_trace(
    plan: ConditionPlan, type_: DeviceType, subject: int, start: datetime, end: datetime, supposed: dict[str, float]
) -> Iterator[dict[str, Any]]:
    """{"done", "total"} as it goes, at last {"result"}: curves thinned out to at most 1,500 points, the lowest and the
    highest of each stretch among them. Of a device only its own messages are read. Raises Refused.
    """
    trace = Trace(0, subject, plan.each_site)
    only = None if plan.each_site else [subject]
    [room] = yield from looked_at(Asked({0: plan}, type_, start, end, supposed, trace, only))
    yield {"result": _result(plan, trace, room)}


def _result(plan: ConditionPlan, trace: Trace, room: PastRoom) -> dict[str, Any]:
    start, end = (int(at.timestamp() * 1e6) for at in (room.asked.start, room.asked.end))
    at, sides, rules = trace.compared(plan)
    seen = np.flatnonzero((at >= start) & (at <= end))
    # The last moment before the span stands at its edge: what held then holds on.
    before = int(np.searchsorted(at, start))
    some = np.concatenate([[before - 1], seen]) if before else seen
    times = np.maximum(at[some], start)
    curves = [
        _curve(limit.words, limit.unit, times, sides[2 * k, some], sides[2 * k + 1, some])
        for k, limit in enumerate(plan.limits)
    ]
    for node, (heard, limit) in trace.silences().items():
        curves.append(_silence(node, heard, limit, room, start, end))
    alarms = stretches(room.transitions(0)).get(trace.subject, [])
    return {
        "curves": curves,
        "holds": [
            {"from": moment(a), "to": moment(b), "priority": step.priority}
            for k, step in enumerate(plan.steps)
            for a, b in _held(times, rules[k, some] == YES, end)
        ][-MOST_STRETCHES:],
        "alarms": [
            {
                "raised_at": moment(one.begin),
                "cleared_at": moment(one.end) if one.cleared is not None else None,
                "priority": one.priority,
            }
            for one in alarms[-MOST_STRETCHES:]
        ],
        "looked": len(seen),
    }


def _curve(words: str, unit: str | None, at: np.ndarray, values: np.ndarray, limits: np.ndarray) -> dict[str, Any]:
    kept = _thinned(values)
    return {
        "words": words,
        "unit": unit,
        "t": (at[kept] / 1e6).tolist(),
        "v": _plain(values[kept]),
        "limit": _plain(limits[kept]),
    }


def _silence(
    node: Silent, heard: np.ndarray, limit: np.ndarray, room: PastRoom, start: int, end: int
) -> dict[str, Any]:
    """How long nothing had arrived: a line that rises and falls to nothing at each arrival, in seconds."""
    first = np.searchsorted(heard, start)
    heard, limit = heard[max(first - 1, 0) :], limit[max(first - 1, 0) :]
    before = heard - np.concatenate([heard[:1], heard[:-1]]) - room.unheard(heard)
    at = np.concatenate([np.stack([heard, heard + JUST_AFTER_US], axis=1).reshape(-1), [end]])
    values = np.concatenate([np.stack([before, np.zeros(len(before))], axis=1).reshape(-1), [0.0]])
    limits = np.concatenate([np.stack([np.concatenate([limit[:1], limit[:-1]]), limit], axis=1).reshape(-1), [np.nan]])
    if len(heard):
        values[-1] = end - heard[-1] - room.unheard(np.array([heard[-1], end]))[-1]
        limits[-1] = limit[-1]
    words = f"silence of {node.field}" if node.field is not None else "silence"
    inside = at >= start
    return _curve(words, "s", at[inside], values[inside] / 1e6, np.where(limits > 0, limits, np.nan)[inside] / 1e6)


def _thinned(values: np.ndarray) -> np.ndarray:
    """int64 (k,): which points are kept: of each stretch its first, lowest and highest."""
    count = len(values)
    if count <= MOST_POINTS:
        return np.arange(count)
    edges = np.linspace(0, count, MOST_POINTS // 3 + 1).astype(np.int64)
    kept = []
    for a, b in zip(edges, edges[1:], strict=False):
        part = values[a:b]
        kept.append(a)
        if np.isfinite(part).any():
            kept += [a + int(np.nanargmin(part)), a + int(np.nanargmax(part))]
    return np.unique(np.array([*kept, count - 1]))


def _held(at: np.ndarray, holds: np.ndarray, end: int) -> list[tuple[int, int]]:
    """The spans in which a rule held, from one look at it to the next."""
    edge = np.diff(np.concatenate([[False], holds, [False]]).astype(np.int8))
    begins, ends = np.flatnonzero(edge == 1), np.flatnonzero(edge == -1)
    until = np.concatenate([at, [end]])
    return [(int(at[a]), int(until[b])) for a, b in zip(begins.tolist(), ends.tolist(), strict=True)]


def _plain(values: np.ndarray) -> list[float | None]:
    return [v if np.isfinite(v) else None for v in values.tolist()]
