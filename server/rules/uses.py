"""What uses the fields and setpoints of a device type: the versions that run, in force, in a rollout or held."""

from __future__ import annotations

from typing import Any

from django.db.models import Q

from oculum.language.decoders.plan import DecoderPlan
from oculum.language.routes.check import SITE
from oculum.language.routes.plan import RoutePlan
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.rules.all_kinds import RULES
from server.rules.kinds import Uses
from server.rules.plans import decoder_plan
from server.rules.routes import plan_of


def uses_of(type_: DeviceType) -> Uses:
    found = Uses()
    running = Version.objects.filter(
        Q(pk__in=Definition.objects.filter(live__isnull=False).values("live_id"))
        | Q(pk__in=Definition.objects.filter(rollout__isnull=False).values("rollout__version_id"))
        | Q(holds__isnull=False),
        Q(definition__type=type_) | Q(definition__on=type_),
    )
    for version in running.select_related("definition").order_by("definition", "number").distinct():
        RULES[version.definition.kind].uses(version, type_, found)
    return found


def taken_away(
    before: list[dict[str, Any]], after: list[dict[str, Any]], same: tuple[str, ...], used: dict[str, list[str]]
) -> list[tuple[str, str, list[str]]]:
    """Of what is used: what is gone after a change, or is another thing by one of the keys `same`.

    Returns name, what happens to it, and what uses it.
    """
    now = {one["name"]: one for one in after}
    found = []
    for one in before:
        users = used.get(one["name"])
        if not users:
            continue
        if one["name"] not in now:
            found.append((one["name"], "would be removed", users))
            continue
        for key in same:
            if (one.get(key) or None) != (now[one["name"]].get(key) or None):
                found.append((one["name"], f"would have another {key}", users))
                break
    return found


def takes_away(plan: Any, type_: DeviceType | None) -> list[dict[str, Any]]:
    """The fields that the version in force gives, a draft lacks, and something else uses, with what does."""
    if isinstance(plan, RoutePlan):
        return _of_route(plan)
    return _of_decoder(plan, type_) if isinstance(plan, DecoderPlan) else []


def _of_route(plan: RoutePlan) -> list[dict[str, Any]]:
    found = Definition.objects.filter(kind="route", name=plan.name, live__isnull=False).select_related("live").first()
    before = plan_of(found.live) if found is not None and found.live is not None else None
    if before is None:
        return []
    listed: dict[str, list[str]] = {}
    for keys, was, now in ((before.types, before.derived, plan.derived), ((SITE,), before.gathered, plan.gathered)):
        gone = {spec.name for spec in was} - {spec.name for spec in now}
        for type_ in DeviceType.objects.filter(key__in=keys).order_by("pk") if gone else ():
            used = uses_of(type_).fields
            for name in sorted(gone):
                listed.setdefault(name, []).extend(u for u in used.get(name, ()) if u != f"route “{plan.name}”")
    return [{"field": name, "users": [*dict.fromkeys(users)]} for name, users in listed.items() if users]


def _of_decoder(plan: DecoderPlan, type_: DeviceType | None) -> list[dict[str, Any]]:
    found = Definition.objects.filter(kind="decoder", type=type_, live__isnull=False).select_related("live").first()
    if found is None or found.live is None or type_ is None:
        return []
    before = decoder_plan(found.live.text, found.live.fields)
    now = {spec.name for spec in plan.all_fields}
    gone = [spec.name for spec in before.all_fields if spec.name not in now] if before is not None else []
    used = uses_of(type_).fields if gone else {}
    listed = {name: [words for words in used.get(name, ()) if not words.startswith("decoder ")] for name in gone}
    return [{"field": name, "users": users} for name, users in listed.items() if users]
