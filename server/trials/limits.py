"""How often a condition would have been raised at other limits: the trade-off on which one chooses."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from django.conf import settings

from oculum.language.conditions.plan import ConditionPlan, Limit
from oculum.language.problems import Problem
from server.records.fleet.models import DeviceType
from server.rules.publishing import check
from server.rules.refusal import Refused
from server.store.columns import Columns, pieces
from server.store.rows import specs
from server.trials.room import Asked, looked_at

SHARES = (0.05, 0.2, 1, 5, 20, 50)  # percent of the values that lie beyond a limit that is tried
EVENLY = 7  # limits that are tried between the middle and the farthest value
LEAST = 50


@dataclass(frozen=True)
class Variant:
    """A text with another limit and another delay. held_s: how long the rule has to hold."""

    value: float
    held_s: float
    plan: ConditionPlan


def with_limit(text: str, limit: Limit, value: float) -> str:
    """The text with a number in place of a limit."""
    rows = text.split("\n")
    row = rows[limit.line - 1]
    unit = f" {limit.unit}" if limit.unit not in (None, "1") else ""
    rows[limit.line - 1] = row[: limit.column - 1] + f"{value:.12g}{unit}" + row[limit.end_column - 1 :]
    return "\n".join(rows)


def suggested(
    text: str, plan: ConditionPlan, type_: DeviceType, start: datetime, end: datetime, which: int = 0
) -> Iterator[dict[str, Any]]:
    """{"done", "total"} as it goes, at last {"result"}: alarms a day at some limits between what is rare and what is
    usual, for the delay as it is written, for none, and for three times as long.

    Every point is a trial of its own, all of them in one pass. Where the limit is a setpoint, one number is tried in
    place of it for all devices. which: the limit that is moved. Raises Refused where the condition has none, or
    nothing is stored.
    """
    if which >= len(plan.limits):
        raise Refused("invalid", "the rule compares nothing with a limit: there is none to be suggested")
    limit = plan.limits[which]
    values = _values(plan, type_, start, end, limit)
    variants = _variants(text, plan, type_, limit, _candidates(values, limit))
    [room] = yield from looked_at(Asked({k: v.plan for k, v in enumerate(variants)}, type_, start, end))
    days = (end - start).total_seconds() / 86_400
    found = []
    for k, variant in enumerate(variants):
        raised = [t for t in room.transitions(k) if t.raised]
        found.append(
            {
                "value": variant.value,
                "held_s": variant.held_s,
                "raised": len(raised),
                "a_day": len(raised) / days,
                "devices": len({t.subject for t in raised}),
            }
        )
    shown = np.percentile(values, [0, 1, 5, 25, 50, 75, 95, 99, 100]) if len(values) else []
    yield {
        "result": {
            "unit": limit.unit,
            "words": limit.words,
            "setpoint": limit.setpoint,
            "sign": limit.sign,
            "values": len(values),
            "percentiles": [float(v) for v in shown],
            "points": found,
        }
    }


def _values(plan: ConditionPlan, type_: DeviceType, start: datetime, end: datetime, limit: Limit) -> np.ndarray:
    """Readings of the field that a limit is about, float64 (n,), in its unit; those of the window's field where the
    limit is a mean of them. Raises Refused where it is about no field's own scale.
    """
    name = limit.field or next(iter(plan.fields), "")
    spec = specs(type_.fields).get(name)
    if spec is None or spec.kind not in ("number", "integer"):
        raise Refused("invalid", f"`{limit.words}` is no number of the type whose past could be looked at")
    parts = [p.readings for p in pieces(settings.INSTANCE.database_url(), type_.pk, start, end, [spec], False)]
    found = Columns.joined(parts).values[name].astype(float) if parts else np.zeros(0)
    found = found[np.isfinite(found)]
    if len(found) < LEAST:
        raise Refused("invalid", f"{name} has {len(found)} values in this span; {LEAST} are needed")
    return found


def _candidates(values: np.ndarray, limit: Limit) -> list[float]:
    """Limits to be tried, each other than the rest, rising: by the share of the values that lies beyond, evenly between
    the middle and the farthest value, and the one that is written.
    """
    above = limit.sign in (">", ">=")
    by_share = np.percentile(values, [100 - s for s in SHARES] if above else SHARES)
    evenly = np.linspace(np.median(values), values.max() if above else values.min(), EVENLY)
    found = {_rounded(float(v), values) for v in [*by_share, *evenly]}
    if limit.number is not None:
        found.add(limit.number)
    return sorted(found)


def _rounded(value: float, values: np.ndarray) -> float:
    """To a two-hundredth of what the values span."""
    low, high = np.percentile(values, [1, 99])
    step = 10.0 ** np.floor(np.log10(max(float(high - low), 1e-9) / 20))
    return float(f"{round(value / step) * step:.12g}")


def _variants(text: str, plan: ConditionPlan, type_: DeviceType, limit: Limit, values: list[float]) -> list[Variant]:
    step = next(s for s in plan.steps if limit in s.compared)
    delays = sorted({0, step.held_us, 3 * step.held_us})
    found, problems = [], list[Problem]()
    for value in values:
        other, problems = check("condition", with_limit(text, limit, value), type_)
        if not isinstance(other, ConditionPlan):
            continue  # steps of priority in the wrong order, as a rule
        for held in delays:
            steps = tuple(replace(s, held_us=held) if s.priority == step.priority else s for s in other.steps)
            found.append(Variant(value, held / 1e6, replace(other, steps=steps)))
    if not found:
        raise Refused("invalid", f"no other limit fits into the rule: {problems[0].message if problems else ''}")
    return found
