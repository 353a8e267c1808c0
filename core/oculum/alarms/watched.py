"""Conditions in force, what happens to alarms, and why."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from oculum.errors import EvaluationFailed

from ..language.conditions.plan import PRIORITIES, ConditionPlan, Limit
from ..language.evaluate import Val
from ..language.expressions import Age, AtFence, Builtin, Ex, MessageCount, Named, Silent, Speed, Window, bare
from ..register.world import Device
from .machine import NO, UNKNOWN, YES

FOREVER = np.iinfo(np.int64).max


class ConditionFailed(EvaluationFailed):
    """A condition that could not be evaluated: its room is not to be used any more."""


@dataclass(frozen=True)
class Watched:
    """A condition in force. key: its definition, the negative of it for a version that chosen devices have first; type:
    the device type's number; chosen: which of the devices that it selects it watches, all where that is None.
    """

    key: int
    version: int
    type: int
    plan: ConditionPlan
    chosen: Callable[[Device], bool] | None = None


class Cause(NamedTuple):
    """What started something: the message, its arrival, the value and the limit it was held against."""

    message: int
    arrival: int
    value: Any = None
    limit: float | None = None
    field: str | None = None


class Transition(NamedTuple):
    """What happened to an alarm. `at` is its exact moment, `learned` when that could first be known.

    subject: a device's number, or (on_site) a site's. what: raised, cleared, priority_changed, suppressed. reason:
    why it was cleared otherwise than by its rule.
    """

    key: int
    subject: int
    what: str
    priority: str
    at: int
    learned: int
    cause: Cause
    on_site: bool = False
    reason: str = ""

    @property
    def raised(self) -> bool:
        return self.what == "raised"


WHAT = ("raised", "cleared", "priority_changed", "suppressed")
NOTHING = Cause(0, 0)


class Profile:
    """What a plan speaks of, worked out once."""

    def __init__(self, plan: ConditionPlan) -> None:
        self.plan = plan
        self.parts: tuple[Ex, ...] = tuple(part for rule in plan.rules for part in rule.walk())
        self.windows = [bare(p) for p in self.parts if isinstance(p, Window)]
        self.silences = {bare(p) for p in self.parts if isinstance(p, Silent)}
        self.widths = sorted({p.width for p in self.parts if isinstance(p, MessageCount)})
        self.calendar = any(w.calendar for w in self.windows)
        self.by_clock = bool(plan.every_us) or self.calendar or not plan.hours.always
        self.by_arrival = bool(self.widths) or any(s.field is None for s in self.silences)
        builtins = {p.name for p in self.parts if isinstance(p, Builtin)}
        self.by_reading = bool(builtins & {"arrival_lag", "learned_cadence"})
        self.positions: list[str] = []
        self.values: list[str] = []
        for name in plan.fields:
            if any(isinstance(p, AtFence | Speed) and p.field == name for p in self.parts) or any(
                isinstance(p, Named) and p.name == name and p.type.kind == "position" for p in self.parts
            ):
                self.positions.append(name)
            elif any(
                (isinstance(p, Named) and p.name == name) or (isinstance(p, Age) and p.field == name)
                for p in self.parts
            ):
                self.values.append(name)


def step_for(plan: ConditionPlan, priority: str) -> int:
    """The step at which an open alarm of a priority goes on: the one of it, or the nearest below."""
    rank = PRIORITIES.index(priority)
    return max([k for k, step in enumerate(plan.steps) if PRIORITIES.index(step.priority) <= rank], default=0)


def ternary(found: Val, count: int) -> np.ndarray:
    """int8 (count,): NO, YES or UNKNOWN."""
    values = np.broadcast_to(np.asarray(found.values, bool), (count,))
    known = np.broadcast_to(np.asarray(found.known, bool), (count,))
    return np.where(known, np.where(values, YES, NO), UNKNOWN).astype(np.int8)


def decisive(compared: Sequence[Limit], sides: Sequence[tuple[Any, Any]]) -> tuple[Limit, Any, Any] | None:
    """The first comparison that holds, with both its sides; else the first of which both are known."""
    chosen = None
    for limit, (left, right) in zip(compared, sides, strict=True):
        if left is None or right is None:
            continue
        if {"<": left < right, "<=": left <= right, ">": left > right, ">=": left >= right}[limit.sign]:
            return limit, left, right
        chosen = chosen or (limit, left, right)
    return chosen


def listed(found: Val, at: np.ndarray) -> list[Any]:
    """The values of some rows as plain ones, None where they are not known."""
    values, known = np.asarray(found.values), np.asarray(found.known, bool)
    values = np.broadcast_to(values, at.shape) if values.ndim == 0 else values[at]
    known = np.broadcast_to(known, at.shape) if known.ndim == 0 else known[at]
    return [v if k else None for v, k in zip(values.tolist(), known.tolist(), strict=True)]
