"""Devices in brief, as lists of thousands need them: types, sites and gateways are read once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from django.db.models import QuerySet, TextField
from django.db.models.functions import Cast

from server.records.fleet.models import Device, DeviceType, Site


@dataclass(frozen=True, slots=True)
class Named:
    """A gateway, as those behind it tell of it."""

    name: str
    title: str


@dataclass(frozen=True, slots=True)
class Brief:
    """What lists tell of a device; named as in its record."""

    pk: int
    name: str
    title: str
    phase: str
    cadence_s: int | None
    latitude: float | None
    longitude: float | None
    registered_at: datetime
    written: str
    type: DeviceType
    site: Site | None
    gateway: Named | None

    @property
    def labels(self) -> dict[str, Any]:
        return orjson.loads(self.written)


COLUMNS = ("pk", "name", "title", "phase", "cadence_s", "latitude", "longitude", "registered_at", "written")


def briefs(found: QuerySet[Device]) -> list[Brief]:
    """In the order of a query."""
    types, sites = DeviceType.objects.in_bulk(), Site.objects.in_bulk()
    rows = list(
        found.annotate(written=Cast("labels", TextField())).values_list(*COLUMNS, "type_id", "site_id", "gateway_id")
    )
    behind = Device.objects.filter(pk__in={row[-1] for row in rows} - {None})
    gateways = {pk: Named(name, title) for pk, name, title in behind.values_list("pk", "name", "title")}
    return [Brief(*row[:-3], types[row[-3]], sites.get(row[-2]), gateways.get(row[-1])) for row in rows]  # type: ignore[call-arg]
