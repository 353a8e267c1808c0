"""Readings of fields over time, by device: as columns of numbers, and row by row."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np

from server.store.arrays import arrays, as_table
from server.store.rows import is_text, json_of, named, placed, row_values, specs
from server.store.sealed import DAY_US, all_columns, backwards, in_one_view, measured, page, sealed_edge, stored_row
from server.store.times import US, us

Series = dict[tuple[int, str], tuple[np.ndarray, np.ndarray]]


def places_of(cursor: Any, names: Sequence[str]) -> list[tuple[int, dict[str, int]]]:
    """For every layout that has one of the fields as a number: where in `nums` each stands (from 1)."""
    cursor.execute("select id, fields from layout where fields @> any(%s::jsonb[])", (named(names),))
    found = []
    for layout, fields in cursor.fetchall():
        places = {
            spec.name: place + 1
            for spec, place in placed(specs(json_of(fields)).values())
            if spec.name in names and not is_text(spec) and spec.kind != "position"
        }
        if places:
            found.append((layout, places))
    return found


@in_one_view
def read_series(
    cursor: Any, devices: Sequence[int], names: Sequence[str], after: datetime, until: datetime, most: int
) -> tuple[Series, bool]:
    """Values measured in (after, until] by device and field: times in µs, int64 (n,), rising, and float (n,). Of each
    layout at most the newest `most` rows are read, of those that are sealed to the day; whether that left any out.
    """
    parts: dict[str, list[tuple[np.ndarray, np.ndarray, np.ndarray]]] = {name: [] for name in names}
    chosen_of = places_of(cursor, names)
    wanted = {layout: [slot - 1 for slot in places.values()] for layout, places in chosen_of}
    fields_of = {layout: list(places) for layout, places in chosen_of}
    rows_of: dict[int, int] = {}
    for part in measured(cursor, devices, wanted, us(after) + 1, us(until) + 1, most=most):
        rows_of[part.layout] = len(part)
        for slot, name in zip(wanted[part.layout], fields_of[part.layout], strict=True):
            parts[name].append((part.device, part.block.at, part.block.nums[:, slot]))
    cut = any(count >= most for count in rows_of.values())
    for layout, places in chosen_of:
        chosen = ", ".join(f"coalesce(nums[{slot}], 'NaN')" for slot in places.values())
        owner, at, *values = arrays(
            cursor,
            ("int", "time", *["float"] * len(places)),
            f"select device_id, at, {chosen} from reading_row where device_id = any(%s) and layout_id ="
            " %s and at > %s and at <= %s order by at desc limit %s",
            (list(devices), layout, after, until, most),
        )
        cut = cut or len(owner) == most
        for name, own in zip(places, values, strict=True):
            parts[name].append((owner, at, own))
    found: Series = {}
    for name, listed in parts.items():
        if not listed:
            continue
        owner, at, own = (np.concatenate([part[k] for part in listed]) for k in range(3))
        there = ~np.isnan(own)
        owner, at, own = owner[there], at[there], own[there]
        order = np.lexsort((at, owner))
        owner, at, own = owner[order], at[order], own[order]
        edges = np.append(np.flatnonzero(np.append(True, owner[1:] != owner[:-1])[: len(owner)]), len(owner))
        for first, last in zip(edges, edges[1:], strict=False):
            found[int(owner[first]), name] = at[first:last], own[first:last]
    return found, cut


LOOKED_BACK_US = 40 * DAY_US


@in_one_view
def values_before(cursor: Any, devices: Iterable[int], name: str, until: datetime) -> dict[int, float]:
    """The newest value of a field that each device had measured until a moment, within its last 40 days."""
    devices = list(devices)
    places = places_of(cursor, [name])
    if not places:
        return {}
    arms = " ".join(f"when {int(layout)} then r.nums[{place[name]}]" for layout, place in places)
    cursor.execute(
        "select d, x.at, x.v from unnest(%s::int[]) u(d) cross join lateral (select at, v from (select r.at, case"
        f" r.layout_id {arms} end as v from reading_row r where r.device_id = d and r.layout_id = any(%s) and r.at <="
        " %s and r.at > %s - interval '40 days' order by r.at desc limit 200) y where v is not null order by at desc"
        " limit 1) x",
        (devices, [layout for layout, _ in places], until, until),
    )
    found = {device: (us(at), float(value)) for device, at, value in cursor.fetchall()}
    edge = sealed_edge(cursor)
    open_ = {device for device in devices if device not in found or found[device][0] < edge}
    wanted = {layout: [own[name] - 1] for layout, own in places}
    for parts in backwards(cursor, open_, wanted, us(until), us(until) - LOOKED_BACK_US):
        for part in parts:
            column = wanted[part.layout][0]
            newest = part.newest(~np.isnan(part.block.nums[:, column]))
            told = (newest.device, newest.block.at, newest.block.nums[:, column])
            for device, at, value in zip(*(own.tolist() for own in told), strict=True):
                if device not in found or found[device][0] < at:
                    found[device] = at, value
                open_.discard(device)
    return {device: value for device, (_, value) in found.items()}


def daily_medians(cursor: Any, devices: list[int], name: str, first: date, days: int) -> tuple[np.ndarray, np.ndarray]:
    """Medians of a field by day (UTC), from `first` on: devices, int64 (n,), and values, float (n, days), NaN where
    there is none.
    """
    places = places_of(cursor, [name])
    if not places:
        return np.zeros(0, np.int64), np.zeros((0, days))
    arms = " ".join(f"when {int(layout)} then nums[{place[name]}]" for layout, place in places)
    sealed = " ".join(f"when {int(layout)} then medians[{place[name]}]" for layout, place in places)
    cursor.execute(
        "select device_id, day - %(first)s, v from (select device_id, (at at time zone 'UTC')::date"
        " as day, percentile_cont(0.5) within group (order by v) as v from (select device_id, at,"
        f" case layout_id {arms} end as v from reading_row where device_id = any(%(devices)s) and layout_id ="
        " any(%(layouts)s) and at >= %(first)s::timestamp at time zone 'UTC' and at < (%(first)s +"
        " %(days)s)::timestamp at time zone 'UTC') x where v is not null group by 1, 2 union all select device_id,"
        f" day, case layout_id {sealed} end from reading_sealed where device_id = any(%(devices)s) and layout_id"
        " = any(%(layouts)s) and day >= %(first)s and day < %(first)s + %(days)s) y where v is not null",
        {"first": first, "days": days, "devices": devices, "layouts": [layout for layout, _ in places]},
    )
    told: dict[tuple[int, int], list[float]] = {}
    for device, day, value in cursor.fetchall():
        told.setdefault((device, day), []).append(value)
    midnight = datetime(first.year, first.month, first.day, tzinfo=UTC) - timedelta(microseconds=1)
    for device, day in [key for key, values in told.items() if len(values) > 1]:  # sealed with several layouts
        start = midnight + timedelta(days=day)
        found, _ = read_series(cursor, [device], [name], start, start + timedelta(days=1), MOST_OF_A_DAY)
        told[device, day] = [float(np.median(value)) for _, value in found.values()]
    return as_table(
        np.array([device for device, _ in told], np.int64),
        np.array([day for _, day in told], np.int64),
        np.array([values[0] for values in told.values()], float),
        days,
    )


MOST_OF_A_DAY = 1_000_000


@dataclass(frozen=True)
class Place:
    """Behind which row a page begins."""

    at: int
    device: int
    layout: int


@dataclass(frozen=True)
class Row:
    """A stored row. at, received: µs."""

    device: int
    at: int
    received: int
    message: int
    layout: int
    values: dict[str, Any]


@in_one_view
def read_rows(
    cursor: Any,
    devices: Sequence[int],
    names: Sequence[str],
    start: datetime,
    end: datetime,
    newest_first: bool,
    place: Place | None,
    most: int,
) -> list[Row]:
    """Rows measured in [start, end) that may have one of the fields, by time, device and layout, at most `most`; values
    of other fields are left out.
    """
    cursor.execute("select id, fields from layout where fields @> any(%s::jsonb[])", (named(names),))
    layouts = {layout: json_of(fields) for layout, fields in cursor.fetchall()}
    order, sign = ("desc", "<") if newest_first else ("asc", ">")
    behind = f" and (at, device_id, layout_id) {sign} (to_timestamp(%(at)s::numeric / 1000000), %(device)s, %(layout)s)"
    cursor.execute(
        f"select device_id, {US.format('at')}, {US.format('received_at')}, message_id, layout_id, nums, texts from"
        " reading_row where device_id = any(%(devices)s) and layout_id = any(%(layouts)s) and at >= %(start)s and at <"
        f" %(end)s{behind if place is not None else ''} order by at {order}, device_id {order}, layout_id {order}"
        " limit %(most)s",
        {
            "devices": list(devices),
            "layouts": list(layouts),
            "start": start,
            "end": end,
            "most": most,
            **(vars(place) if place is not None else {}),
        },
    )
    found = []
    for device, at, received, message, layout, nums, texts in cursor.fetchall():
        values = {n: v for n, v in row_values(layouts[layout], nums, texts).items() if n in names}
        found.append(Row(device, at, received, message, layout, values))
    first, last = us(start), us(end)
    if place is not None:
        first, last = (first, min(last, place.at + 1)) if newest_first else (max(first, place.at), last)
    told = [
        (at, device, part.layout, part.block, k)
        for part in page(cursor, devices, all_columns(layouts), first, last, newest_first, most)
        for k, (at, device) in enumerate(zip(part.block.at.tolist(), part.device.tolist(), strict=True))
    ]
    if place is not None:
        behind_it = (place.at, place.device, place.layout)
        told = [row for row in told if (row[:3] < behind_it if newest_first else row[:3] > behind_it)]
    told.sort(key=lambda row: row[:3], reverse=newest_first)
    for at, device, layout, block, k in told[:most]:
        nums, texts, _ = stored_row(block, k)
        values = {n: v for n, v in row_values(layouts[layout], nums, texts).items() if n in names}
        found.append(Row(device, at, int(block.received[k]), int(block.message[k]), layout, values))
    found.sort(key=lambda row: (row.at, row.device, row.layout), reverse=newest_first)
    return found[:most]
