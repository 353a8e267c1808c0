"""What the checker of conditions hands to the engine."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from ..expressions import Ex
from ..hours import ALWAYS, Hours

PRIORITIES = ("low", "medium", "high", "critical")  # rising


@dataclass(frozen=True)
class Limit:
    """A comparison of a quantity with a limit in a raise rule: what a chart draws and a drag moves.

    field: where the quantity is a field as it is. number: the limit in `unit`, where it is one. words: the quantity as
    it is written. line to end_column: where the limit stands.
    """

    field: str
    sign: str
    setpoint: str | None
    number: float | None
    unit: str | None
    left: Ex
    right: Ex
    line: int = 0
    column: int = 0
    end_column: int = 0
    words: str = ""


@dataclass(frozen=True)
class Step:
    """A rule by which the alarm is raised with a priority. `still` is the rule with its limits moved by the deadband.

    compared: value and limit of the comparisons in the rule, in the order in which they are written, to be shown.
    deadband: in units without a factor, as of the limits' dimension.
    """

    priority: str
    rule: Ex
    still: Ex
    held_us: int
    compared: tuple[Limit, ...] = ()
    deadband: float = 0.0


@dataclass(frozen=True)
class ConditionPlan:
    """A checked condition.

    steps: by rising priority. each_site: it watches the sites at which devices of the type are. exact: how exact a
    position must be, m, and by which field (empty: that called like the position with `_accuracy`). every_us: looked
    at by the clock only.
    """

    name: str
    priority: str
    device_type: str
    labels: tuple[tuple[str, str, str], ...]
    steps: tuple[Step, ...]
    clear: Ex | None
    clear_held_us: int
    say: str | None
    fields: tuple[str, ...]
    setpoints: tuple[str, ...]
    site: str | None = None
    each_site: bool = False
    exact: tuple[float, str] | None = None
    every_us: int = 0
    hours: Hours = ALWAYS
    fences: tuple[str, ...] = ()
    silence: bool = False  # whether it speaks of the silence of the device itself

    @cached_property
    def limits(self) -> tuple[Limit, ...]:
        return tuple(limit for step in self.steps for limit in step.compared)

    @property
    def rules(self) -> tuple[Ex, ...]:
        """All that is evaluated."""
        own = tuple(rule for step in self.steps for rule in (step.rule, step.still))
        return own if self.clear is None else (*own, self.clear)
