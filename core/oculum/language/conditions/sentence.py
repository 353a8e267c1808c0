"""What a condition does, in plain words, made from what was checked."""

from __future__ import annotations

from ..wording import lasting, named, spoken_hours, words
from .plan import ConditionPlan, Step


def sentence(plan: ConditionPlan) -> str:
    """Sentences on what is watched, when it is raised, when it is cleared, and at which hours."""
    return " ".join(filter(None, (_watched(plan), *map(_raised, reversed(plan.steps)), _cleared(plan), _when(plan))))


def _watched(plan: ConditionPlan) -> str:
    what = f"each site with a {named(plan.device_type)}" if plan.each_site else f"every {named(plan.device_type)}"
    where = f" at “{plan.site}” and below" if plan.site else ""
    labels = [f"{name} {'is' if sign == '=' else 'is not'} {text}" for name, sign, text in plan.labels]
    return f"Watches {what}{where}{' whose ' + ' and '.join(labels) if labels else ''}."


def _raised(step: Step) -> str:
    held = f" for {lasting(step.held_us)} without a break" if step.held_us else ""
    return f"Raised as {step.priority} when {words(step.rule)}{held}."


def _cleared(plan: ConditionPlan) -> str:
    held = f" for {lasting(plan.clear_held_us)}" if plan.clear_held_us else ""
    if plan.clear is not None:
        return f"Cleared when {words(plan.clear)}{held}."
    band = any(step.still is not step.rule for step in plan.steps)
    how = "when it is back beyond the limit by the deadband" if band else "when that is over"
    return f"Cleared {how}{held}."


def _when(plan: ConditionPlan) -> str:
    told = []
    if plan.every_us:
        told.append(f"Looked at every {lasting(plan.every_us)} by the clock.")
    if not plan.hours.always:
        told.append(f"Only {spoken_hours(plan.hours)}.")
    if plan.exact is not None:
        told.append(f"Positions that are less exact than {plan.exact[0]:g} m do not count.")
    return " ".join(told)
