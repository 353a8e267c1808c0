"""Readings of fields over time, by device: as columns of numbers, and row by row."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import orjson

from server.store.readings import US
from server.store.rows import is_text, json_of, row_values, specs

Series = dict[tuple[int, str], tuple[np.ndarray, np.ndarray]]


def places_of(cursor: Any, names: Sequence[str]) -> list[tuple[int, dict[str, int]]]:
    """For every layout that has one of the fields as a number: where in `nums` each stands (from 1)."""
    cursor.execute(
        "select id, fields from layout where fields @> any(%s::jsonb[])",
        ([orjson.dumps([{"name": n}]).decode() for n in names],),
    )
    found = []
    for layout, fields in cursor.fetchall():
        slot, places = 1, {}
        for spec in specs(json_of(fields)).values():
            if is_text(spec):
                continue
            if spec.name in names and spec.kind != "position":
                places[spec.name] = slot
            slot += 2 if spec.kind == "position" else 1
        if places:
            found.append((layout, places))
    return found


def read_series(
    cursor: Any, devices: Sequence[int], names: Sequence[str], after: datetime, until: datetime, most: int
) -> tuple[Series, bool]:
    """Values measured in (after, until] by device and field: times in µs, int64 (n,), rising, and float (n,). Of each
    layout at most the newest `most` rows are read; whether that left any out.
    """
    parts: dict[tuple[int, str], list[tuple[np.ndarray, np.ndarray]]] = {}
    cut = False
    for layout, places in places_of(cursor, names):
        chosen = ", ".join(f"nums[{slot}]" for slot in places.values())
        cursor.execute(
            f"select device_id, {US.format('at')}, {chosen} from reading_row where device_id = any(%s) and layout_id ="
            " %s and at > %s and at <= %s order by at desc limit %s",
            (list(devices), layout, after, until, most),
        )
        rows = cursor.fetchall()
        cut = cut or len(rows) == most
        if not rows:
            continue
        owner, at = np.array([row[:2] for row in rows], np.int64).T
        values = np.array([row[2:] for row in rows], float)
        order = np.lexsort((at, owner))
        owner, at, values = owner[order], at[order], values[order]
        edges = np.append(np.flatnonzero(np.append(True, owner[1:] != owner[:-1])), len(owner))
        for first, last in zip(edges, edges[1:], strict=False):
            for column, name in enumerate(places):
                own = values[first:last, column]
                there = ~np.isnan(own)
                if there.any():
                    parts.setdefault((int(owner[first]), name), []).append((at[first:last][there], own[there]))
    found: Series = {}
    for key, listed in parts.items():
        at, value = (np.concatenate([part[k] for part in listed]) for k in range(2))
        order = np.argsort(at, kind="stable")
        found[key] = at[order], value[order]
    return found, cut


def values_before(cursor: Any, devices: Iterable[int], name: str, until: datetime) -> dict[int, float]:
    """The newest value of a field that each device had measured until a moment, within its last 40 days."""
    places = places_of(cursor, [name])
    if not places:
        return {}
    arms = " ".join(f"when {int(layout)} then r.nums[{place[name]}]" for layout, place in places)
    cursor.execute(
        f"select d, (select v from (select r.at, case r.layout_id {arms} end as v from reading_row r where r.device_id"
        " = d and r.layout_id = any(%s) and r.at <= %s and r.at > %s - interval '40 days' order by r.at desc limit"
        " 200) x where v is not null order by at desc limit 1) from unnest(%s::int[]) u(d)",
        ([layout for layout, _ in places], until, until, list(devices)),
    )
    return {device: float(value) for device, value in cursor.fetchall() if value is not None}


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


def read_rows(
    cursor: Any,
    devices: Sequence[int],
    names: Sequence[str],
    start: datetime,
    end: datetime,
    backwards: bool,
    place: Place | None,
    most: int,
) -> list[Row]:
    """Rows measured in [start, end) that may have one of the fields, by time, device and layout, at most `most`; values
    of other fields are left out.
    """
    cursor.execute(
        "select id, fields from layout where fields @> any(%s::jsonb[])",
        ([orjson.dumps([{"name": n}]).decode() for n in names],),
    )
    layouts = {layout: json_of(fields) for layout, fields in cursor.fetchall()}
    order, sign = ("desc", "<") if backwards else ("asc", ">")
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
    return found
