"""Conditions on the server: each has a name of its own, and says itself which type it is on."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from oculum.language.conditions import CONDITION
from oculum.language.conditions.plan import ConditionPlan, Limit, Step
from oculum.quantities import parse_unit
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.rules.kinds import KindRules, NotFirst, Published, Running, Uses, take_name, watched_by
from server.rules.plans import plan_of
from server.rules.selection import Selection


def before_publishing(
    definition: Definition, plan: ConditionPlan, type_: DeviceType, despite_cases: bool
) -> DeviceType:
    """The definition takes the name that the text gives it. Raises NotPublishable where that is taken."""
    take_name(definition, plan.name)
    definition.type = DeviceType.objects.get(key=plan.device_type)
    return definition.type


def put_in_force(registry: Running, published: Published) -> None:
    plan = plan_of(published, published.key)
    if plan is not None:
        registry.watch(published, plan)


def give_first(registry: Running, published: Published, selection: Selection) -> None:
    plan = plan_of(published, published.key)
    if plan is not None:
        registry.watch_first(published, plan, selection)


def may_go_first(definition: Definition, version: Version) -> None:
    if definition.off_until is not None:
        raise NotFirst(f"{definition.name} is switched off: switch it on before chosen devices have another version")
    key = definition.type.key
    plan, live = plan_of(version, key), plan_of(definition.live, key) if definition.live else None
    if plan is None or live is None or plan.device_type != live.device_type:
        raise NotFirst("the version in force watches devices of another type: publish this one for all")
    if plan.each_site or live.each_site:
        raise NotFirst("a condition on sites looks at all devices of a site together: publish it for all")


def uses(version: Version, type_: DeviceType, found: Uses) -> None:
    plan = plan_of(version, type_.key)
    words = f"condition “{version.definition.name}”"
    for name in plan.fields if plan is not None else ():
        found.fields.setdefault(name, []).append(words)
    for name in plan.setpoints if plan is not None else ():
        found.setpoints.setdefault(name, []).append(words)


def unit_of(plan: ConditionPlan, field: str | None) -> str | None:
    """The unit of the value that an alarm names: that of its field, else of the first limit."""
    found = next((item.unit for item in plan.limits if field and item.field == field), None)
    return found if found is not None else plan.limits[0].unit if plan.limits else None


def handled(step: Step, limit: Limit) -> dict[str, Any]:
    """A limit with what goes with it, as it is drawn and dragged."""
    unit = parse_unit(limit.unit) if limit.unit else None
    apart = unit is not None and unit.offset  # a scale with a zero of its own: the band is a difference
    own = {name: value for name, value in asdict(limit).items() if name not in ("left", "right")}
    return own | {
        "priority": step.priority,
        "deadband": float(step.deadband / unit.factor) if unit is not None else step.deadband,
        "band_unit": "K" if apart and unit is not None and unit.factor == 1 else limit.unit,
        "held_s": step.held_us / 1e6,
    }


def facts(plan: ConditionPlan) -> dict[str, Any]:
    return {
        "limits": [handled(step, limit) for step in plan.steps for limit in step.compared],
        "draws": next((limit.field for limit in plan.limits if limit.field), next(iter(plan.fields), None)),
        "type": plan.device_type,
        "priority": plan.priority,
    }


def touches(definition: Definition) -> dict[str, int]:
    return watched_by(Definition.objects.filter(pk=definition.pk, live__isnull=False))


RULES_OF_CONDITIONS = KindRules(
    CONDITION, before_publishing, put_in_force, uses, facts, touches, give_first=give_first, may_go_first=may_go_first
)
