"""Where devices are: the newest stored position of each at a moment, and the way of one."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import connection

from server.store.rows import cell, json_of, slots, specs

FRESH = timedelta(days=7)  # an older position says nothing of where a device is
MOST_ROWS = 500_000


@dataclass(frozen=True)
class Fix:
    """A position by WGS 84 and when it was measured."""

    latitude: float
    longitude: float
    at: datetime


def _cells(cursor: Any) -> tuple[str, str, str] | None:
    """SQL of the latitude and the longitude of a row `r`, and the layouts that have them; None where none has."""
    cursor.execute('select id, fields from layout where fields @> \'[{"kind": "position"}]\'')
    places: dict[int, list[int]] = {}
    for ident, fields in cursor.fetchall():
        known = tuple(specs(json_of(fields)).values())
        first = next(k for k, spec in enumerate(known) if spec.kind == "position")
        places.setdefault(slots(known[:first]) + 1, []).append(int(ident))
    if not places:
        return None
    every = ",".join(str(ident) for ids in places.values() for ident in ids)
    return cell("nums", places), cell("nums", places, 1), f"'{{{every}}}'::int[]"


def newest_fixes(at: datetime) -> dict[int, Fix]:
    """The newest position of every device measured up to a moment and not older than a week; those at 0,0 are none."""
    with connection.cursor() as cursor:
        cells = _cells(cursor)
        if cells is None:
            return {}
        lat, lon, layouts = cells
        cursor.execute(
            "select d.id, p.lat, p.lon, p.at from fleet_device d cross join lateral ("
            f"select r.at, {lat} lat, {lon} lon from reading_row r where r.device_id = d.id and r.at <= %(at)s"
            f" and r.at > %(since)s and r.layout_id = any({layouts}) and {lat} is not null and {lon} is not null"
            f" and not ({lat} = 0 and {lon} = 0) order by r.at desc limit 1) p",
            {"at": at, "since": at - FRESH},
        )
        return {device: Fix(lat, lon, at) for device, lat, lon, at in cursor.fetchall()}


def track_of(device: int, start: datetime, end: datetime) -> list[Fix]:
    """All positions of a device in a span, in the order of time; those at 0,0 are none. At most 500,000."""
    with connection.cursor() as cursor:
        cells = _cells(cursor)
        if cells is None:
            return []
        lat, lon, layouts = cells
        cursor.execute(
            f"select {lat}, {lon}, r.at from reading_row r where r.device_id = %s and r.at > %s and r.at <= %s"
            f" and r.layout_id = any({layouts}) and {lat} is not null and {lon} is not null"
            f" and not ({lat} = 0 and {lon} = 0) order by r.at limit %s",
            (device, start, end, MOST_ROWS),
        )
        return [Fix(*row) for row in cursor.fetchall()]
