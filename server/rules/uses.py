"""What uses the fields and setpoints of a device type: the versions that run, in force, in a rollout or held."""

from __future__ import annotations

from typing import Any

from django.db.models import Q

from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.rules.all_kinds import RULES
from server.rules.kinds import Uses


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
