"""A first condition from a question, with numbers that the field's own past suggests."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from django.conf import settings

from oculum.arrays import in_order
from oculum.language.build import quoted
from oculum.language.fields import FieldSpec
from server.records.fleet.models import DeviceType, Fence
from server.rules.refusal import Refused
from server.store.columns import Columns, pieces
from server.store.rows import specs

QUESTIONS = ("too high", "too low", "mean", "changed fast", "outside", "quiet", "too little", "several")
OF_A_NUMBER = ("too high", "too low", "mean", "changed fast", "several")
PAST = timedelta(days=7)
RARE = 0.5  # percent of the values lie beyond a limit that is proposed
LEAST = 50  # values that a proposal is made from
WINDOW_S = 3 * 3600


@dataclass(frozen=True)
class Proposal:
    """because: on what its numbers rest."""

    name: str
    text: str
    because: str


def propose(type_: DeviceType, question: str, field: str, now: datetime) -> Proposal:
    """Raises Refused where the question does not suit the type, or a field is needed and none is named."""
    known = specs(type_.fields)
    if question in OF_A_NUMBER:
        spec = known.get(field)
        if spec is None or spec.kind not in ("number", "integer"):
            numbers = ", ".join(s.name for s in known.values() if s.kind in ("number", "integer")) or "none"
            raise Refused("invalid", f"`{field[:60]}` is no number of {type_.title}; it has {numbers}")
        return _of_a_number(type_, question, spec, now)
    if question == "outside":
        return _outside(type_, known)
    return _of_arrivals(type_, question)


def _draft(type_: DeviceType, name: str, priority: str, on: str, rule: str, more: str = "") -> str:
    return f"condition {quoted(name)} priority {priority}\n  on {on}{type_.key}\n  raise when {rule}\n{more}"


def _of_a_number(type_: DeviceType, question: str, spec: FieldSpec, now: datetime) -> Proposal:
    past = _past(type_, spec, now)
    values = past.values[spec.name].astype(float)
    values = values[np.isfinite(values)]
    unit = "" if spec.unit in (None, "1") else f" {spec.unit}"
    words = spec.name.replace("_", " ")
    held = _duration(2 * (type_.cadence_s or 300))
    if len(values) < LEAST:
        because = f"{words} has {len(values)} values in seven days: the limit is a guess, to be changed"
        low = high = 0.0
        band = 0.0
    else:
        low, high = (float(x) for x in np.percentile(values, (RARE, 100 - RARE)))
        band = _noise(past, spec.name)
        because = f"{len(values):,} values of seven days: one in two hundred lies beyond the limit"
    deadband = f" deadband {_number(band)}{unit}" if band > 0 else ""
    if question in ("too high", "too low"):
        sign, side, limit = (">", "max", _up(high)) if question == "too high" else ("<", "min", _down(low))
        own = next((s for s in type_.setpoints if s["name"] == f"{spec.name}_{side}"), None)
        compared = f"setpoint {own['name']}" if own else f"{_number(limit)}{unit}"
        if own:
            because = f"the type has the setpoint {own['name']}, {own['value']:g} {own['unit']}"
        name = f"{words} is {question}"
        return Proposal(
            name, _draft(type_, name, "medium", "", f"{spec.name} {sign} {compared}{deadband} held {held}"), because
        )
    if question == "mean":
        name = f"{words} is high for hours"
        rule = f"mean({spec.name}, 3 h) > {_number(_up(high))}{unit}{deadband}"
        return Proposal(name, _draft(type_, name, "medium", "", rule), because)
    if question == "changed fast":
        fast = _fastest(past, spec.name)
        name = f"{words} changes fast"
        said = f"{_number(_up(fast))} {spec.unit}/h" if unit else f"{_number(_up(fast))} /h"
        rule = f"rate({spec.name}, 3 h) > {said}"
        return Proposal(
            name,
            _draft(type_, name, "low", "", rule),
            f"in seven days one window of three hours in two hundred rose faster than {fast:.2g}{unit} an hour",
        )
    name = f"{words} is low at a site"
    rule = f"share_of({spec.name} < {_number(_down(low))}{unit}) > 20 %"
    return Proposal(name, _draft(type_, name, "high", "each site of ", rule), because)


def _outside(type_: DeviceType, known: dict[str, FieldSpec]) -> Proposal:
    fix = next((s.name for s in known.values() if s.kind == "position"), None)
    if fix is None:
        raise Refused("invalid", f"{type_.title} gives no position")
    fence = Fence.objects.order_by("name").first()
    if fence is None:
        raise Refused("invalid", "there is no fence yet: draw one on the map (Places)")
    name = f"{type_.title.lower()} is outside {fence.name}"[:120]
    rule = f"outside({fix}, {quoted(fence.name)}, 50 m) held 5 min"
    return Proposal(name, _draft(type_, name, "high", "", rule), "left only beyond a margin of 50 m, for five minutes")


def _of_arrivals(type_: DeviceType, question: str) -> Proposal:
    title = type_.title.lower()
    if question == "quiet":
        cadence = type_.cadence_s
        name = f"{title} is silent"
        rule = "silent(3 * cadence)" if cadence else "silent(1 h)"
        because = (
            f"three times its cadence, {_duration(3 * cadence)}" if cadence else "the type has no cadence: an hour"
        )
        return Proposal(name, _draft(type_, name, "medium", "", rule), because)
    expected = 6 * 3600 / (type_.cadence_s or 600)
    name = f"{title} sends too little"
    rule = f"messages(6 h) < {max(round(expected / 2), 1)}"
    return Proposal(
        name, _draft(type_, name, "low", "", rule), f"half of the {expected:.0f} messages that six hours should have"
    )


def _past(type_: DeviceType, spec: FieldSpec, now: datetime) -> Columns:
    """Seven days of a field, by device and in the order in which it was measured."""
    parts = [p.readings for p in pieces(settings.INSTANCE.database_url(), type_.pk, now - PAST, now, [spec], False)]
    found = Columns.joined(parts) if parts else None
    if found is None:
        raise Refused("invalid", "nothing was stored in seven days")
    order = in_order(found.at)
    order = order[in_order(found.device[order])]
    values = {name: column[order] for name, column in found.values.items()}
    return Columns(found.device[order], found.at[order], found.received[order], found.message[order], values)


def _noise(past: Columns, name: str) -> float:
    """How far values move from one to the next as a rule, thrice: within it a value is no other one."""
    values = past.values[name].astype(float)
    steps = np.abs(np.diff(values))[past.device[1:] == past.device[:-1]]
    steps = steps[np.isfinite(steps)]
    return _near(3 * float(np.median(steps))) if len(steps) else 0.0


def _fastest(past: Columns, name: str) -> float:
    """The rise an hour over three hours that one window in two hundred exceeds."""
    values, at = past.values[name].astype(float), past.at
    span = WINDOW_S * 1_000_000
    rank = np.concatenate([[0], np.cumsum(past.device[1:] != past.device[:-1])]) if len(at) else at
    since = at - (at.min() if len(at) else 0)
    key = rank * (int(since.max(initial=0)) + span + 1) + since
    begin = np.searchsorted(key, key - span)
    there = (past.device[begin] == past.device) & (at - at[begin] > span / 2)
    hours = (at - at[begin])[there] / 3.6e9
    rises = (values - values[begin])[there] / hours
    rises = rises[np.isfinite(rises)]
    return float(np.percentile(rises, 100 - RARE)) if len(rises) >= LEAST else 1.0


def _step(value: float) -> float:
    """What a number of this size is rounded to: two digits."""
    return 10.0 ** (math.floor(math.log10(abs(value))) - 1) if value and math.isfinite(value) else 1.0


def _up(value: float) -> float:
    step = _step(value)
    return math.ceil(value / step - 1e-9) * step


def _down(value: float) -> float:
    step = _step(value)
    return math.floor(value / step + 1e-9) * step


def _near(value: float) -> float:
    step = _step(value)
    return round(value / step) * step


def _number(value: float) -> str:
    return f"{float(f'{value:.6g}'):g}" if abs(value) < 1e6 else f"{value:.0f}"


def _duration(seconds: float) -> str:
    if seconds % 3600 == 0:
        return f"{seconds // 3600:.0f} h"
    return f"{seconds / 60:.0f} min" if seconds >= 60 else f"{seconds:.0f} s"
