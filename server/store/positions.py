"""Where devices are: the newest stored position of each at a moment, and the way of one."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection

from server.store.rows import cell, json_of, slots, specs
from server.store.sealed import Sealed, Wanted, backwards, measured, one_view, sealed_edge
from server.store.times import moment, us

FRESH = timedelta(days=7)  # an older position says nothing of where a device is
MOST_ROWS = 500_000


@dataclass(frozen=True)
class Fix:
    """A position by WGS 84 and when it was measured."""

    latitude: float
    longitude: float
    at: datetime


def _cells(wanted: Wanted) -> tuple[str, str, str] | None:
    """SQL of the latitude and the longitude of a row `r`, and the layouts that have them; None where none has."""
    places: dict[int, list[int]] = {}
    for layout, (lat, _) in wanted.items():
        places.setdefault(lat + 1, []).append(layout)
    if not places:
        return None
    every = ",".join(str(layout) for layout in wanted)
    return cell("nums", places), cell("nums", places, 1), f"'{{{every}}}'::int[]"


def newest_fixes(at: datetime) -> dict[int, Fix]:
    """The newest position of every device measured up to a moment and not older than a week; those at 0,0 are none."""
    with connection.cursor() as cursor, one_view(cursor):
        wanted = _columns(cursor)
        cells = _cells(wanted)
        if cells is None:
            return {}
        edge, since = sealed_edge(cursor), us(at - FRESH)
        lat, lon, layouts = cells
        cursor.execute(
            "select d.id, p.lat, p.lon, p.at from fleet_device d cross join lateral ("
            f"select r.at, {lat} lat, {lon} lon from reading_row r where r.device_id = d.id and r.at <= %(at)s"
            f" and r.at > %(since)s and r.layout_id = any({layouts}) and {lat} is not null and {lon} is not null"
            f" and not ({lat} = 0 and {lon} = 0) order by r.at desc limit 1) p",
            {"at": at, "since": at - FRESH},
        )
        found = {device: Fix(lat, lon, at) for device, lat, lon, at in cursor.fetchall()}
        cursor.execute("select id from fleet_device")
        open_ = {device for (device,) in cursor.fetchall() if device not in found or us(found[device].at) < edge}
        for parts in backwards(cursor, open_, wanted, us(at), since + 1):
            for part in parts:
                for device, fix in _fixes(part.newest(_is_fix(part, wanted)), wanted):
                    if device not in found or found[device].at < fix.at:
                        found[device] = fix
                    open_.discard(device)
        return found


def _columns(cursor: Any) -> dict[int, tuple[int, int]]:
    """Where the first position of a layout stands among its numbers, from 0, for those that have one."""
    cursor.execute('select id, fields from layout where fields @> \'[{"kind": "position"}]\'')
    found = {}
    for layout, fields in cursor.fetchall():
        known = tuple(specs(json_of(fields)).values())
        place = slots(known[: next(k for k, spec in enumerate(known) if spec.kind == "position")])
        found[layout] = place, place + 1
    return found


def _is_fix(part: Sealed, wanted: Wanted) -> np.ndarray:
    """bool (n,): which sealed rows have a position; 0,0 is none."""
    lat, lon = part.block.nums[:, list(wanted[part.layout])].T
    return ~np.isnan(lat) & ~np.isnan(lon) & ((lat != 0) | (lon != 0))


def _fixes(part: Sealed, wanted: Wanted) -> list[tuple[int, Fix]]:
    """Devices and positions of sealed rows that all have one."""
    lat, lon = part.block.nums[:, list(wanted[part.layout])].T
    rows = zip(*(column.tolist() for column in (part.device, lat, lon, part.block.at)), strict=True)
    return [(device, Fix(latitude, longitude, moment(at))) for device, latitude, longitude, at in rows]


def track_of(device: int, start: datetime, end: datetime) -> list[Fix]:
    """All positions of a device in a span, in the order of time; those at 0,0 are none. At most 500,000."""
    with connection.cursor() as cursor, one_view(cursor):
        wanted = _columns(cursor)
        cells = _cells(wanted)
        if cells is None:
            return []
        parts = measured(cursor, [device], wanted, us(start) + 1, us(end) + 1)
        lat, lon, layouts = cells
        cursor.execute(
            f"select {lat}, {lon}, r.at from reading_row r where r.device_id = %s and r.at > %s and r.at <= %s"
            f" and r.layout_id = any({layouts}) and {lat} is not null and {lon} is not null"
            f" and not ({lat} = 0 and {lon} = 0) order by r.at limit %s",
            (device, start, end, MOST_ROWS),
        )
        found = [fix for part in parts for _, fix in _fixes(part.rows(_is_fix(part, wanted)), wanted)] + [
            Fix(*row) for row in cursor.fetchall()
        ]
        return sorted(found, key=lambda fix: fix.at)[:MOST_ROWS]
