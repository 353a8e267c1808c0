"""Which device runs which version of a decoder, or is watched by which of a condition, as the records say; the engine's
registry says the same of its place in the stream.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from django.db.models import QuerySet

from oculum.language.conditions import CONDITION
from oculum.register.world import matches
from server.records.definitions.models import Definition, Hold, Rollout
from server.records.fleet.models import Device, Site
from server.rules.plans import plan_of
from server.rules.selection import Selection, above


@dataclass(frozen=True)
class Runs:
    """A device with the version that its messages are decoded by, and because of what."""

    device: int
    name: str
    title: str
    site: str | None
    version: int | None  # its identity
    because: str


def runs(
    definition: Definition, selection: Selection | None = None, devices: QuerySet[Device] | None = None
) -> list[Runs]:
    """The devices of a decoder that are not retired, those that a condition selects, or those asked for, by name.

    With a selection: as if that were the rollout.
    """
    if devices is None:
        devices = Device.objects.filter(type=definition.type_id).exclude(phase="retired")
    rollout = Rollout.objects.filter(definition=definition).first()
    chosen = rollout.version_id if rollout else None
    if selection is None and rollout is not None:
        selection = Selection.of({"labels": rollout.labels, "site": rollout.site_id, "share": rollout.share})
    parents: dict[int, int | None] = dict(Site.objects.values_list("id", "parent_id"))
    held = dict(
        Hold.objects.filter(device__in=devices, version__definition=definition).values_list("device_id", "version_id")
    )
    watched = _selects(definition, rollout, parents)
    found = []
    for ident, name, title, labels, site, site_title in devices.order_by("name").values_list(
        "id", "name", "title", "labels", "site_id", "site__title"
    ):
        if not watched(labels, site):
            continue
        takes = selection is not None and selection.takes(name, labels, site, parents)
        because = "held" if ident in held else "chosen" if takes else "in force"
        version = held[ident] if because == "held" else chosen if takes else definition.live_id
        found.append(Runs(ident, name, title, site_title, version, because))
    return found


def _selects(
    definition: Definition, rollout: Rollout | None, parents: dict[int, int | None]
) -> Callable[[dict[str, str], int | None], bool]:
    """Whether a device, by its labels and site, is one that a condition selects: by the version in force, or by the one
    that chosen devices have first. A decoder reads all of its type.
    """
    if definition.kind != CONDITION.name:
        return lambda labels, site: True
    versions = [v for v in (definition.live, rollout.version if rollout else None) if v is not None]
    plans = [plan for v in versions if (plan := plan_of(v, definition.type.key)) is not None]
    names = dict(Site.objects.values_list("id", "name"))

    def selects(labels: dict[str, str], site: int | None) -> bool:
        around = {names[s] for s in above(site, parents)}
        return any(matches(labels, plan.labels) and (plan.site is None or plan.site in around) for plan in plans)

    return selects
