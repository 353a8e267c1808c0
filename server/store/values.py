"""Values as they were at a past moment."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

import orjson
import psycopg
from django.db import connection

from server.store.arrays import as_texts, as_times, as_whole, cells_of
from server.store.rows import json_of, row_values
from server.store.sealed import Known, one_view, with_sealed
from server.store.times import moment, us

Entry = list[Any]  # value, measured (µs), message, received (µs)
FEW = 200  # devices that are read by themselves
PAGE = 60
MOST_PAGES = 200


Found = dict[int, tuple[int, dict[str, Entry]]]  # by device: the last arrival (µs), and the newest value by field


def newest(cursor: Any, devices: Sequence[int] | None = None) -> Found:
    """By device, of all that have sent anything or of some: the last arrival (µs), and the newest value by field. What
    is given belongs to everybody who asks, and is not to be changed.
    """
    if devices is None:
        return _of_all(cursor)
    if len(devices) > FEW:
        found = _of_all(cursor)
        return {device: found[device] for device in devices if device in found}
    return {device: found for device, (_, found) in _read(cursor, devices).items()}


def _read(cursor: Any, devices: Sequence[int]) -> dict[int, tuple[int, tuple[int, dict[str, Entry]]]]:
    """By device: which state of its row this is, and what stands in it."""
    with psycopg.Cursor(cursor.connection) as own:
        own.execute(
            "select array_agg(device_id), array_agg(xmin), array_agg(received_at), array_agg(fields::text) from latest"
            " where device_id = any(%s)",
            (list(devices),),
            binary=True,
        )
        ids, states, received, fields = cells_of(own)
    told = orjson.loads(f"[{','.join(text or '{}' for text in as_texts(fields))}]")
    found = zip(as_whole(states, "u4").tolist(), zip(as_times(received).tolist(), told, strict=True), strict=True)
    return dict(zip(as_whole(ids, "i4").tolist(), found, strict=True))


# Of the whole fleet, as it was read last: another one stands here after each question, none is changed.
_kept: list[dict[int, tuple[int, tuple[int, dict[str, Entry]]]]] = [{}]


def _of_all(cursor: Any) -> Found:
    """Of all devices: rows that are as they were when somebody asked last are not read again. A row's state is the
    number of the transaction that wrote it.
    """
    with psycopg.Cursor(cursor.connection) as own:
        own.execute("select array_agg(device_id), array_agg(xmin) from latest", binary=True)
        ids, states = cells_of(own)
    now = dict(zip(as_whole(ids, "i4").tolist(), as_whole(states, "u4").tolist(), strict=True))
    known = {device: entry for device, entry in _kept[0].items() if now.get(device) == entry[0]}
    changed = [device for device in now if device not in known]
    _kept[0] = known = known | (_read(cursor, changed) if changed else {})
    return {device: found for device, (_, found) in known.items()}


def value_at(device_id: int, at: datetime, names: set[str]) -> dict[str, tuple[Any, datetime, int, datetime]]:
    """The newest value of every named field at a past moment: value, measured, message, received.

    Rows are read backwards from the moment, and further only those that can hold a field still wanted.
    """
    found: dict[str, Known] = {}
    with connection.cursor() as cursor, one_view(cursor):
        cursor.execute("select id, fields from layout")
        layouts = {layout: json_of(fields) for layout, fields in cursor.fetchall()}
        before: tuple[datetime, int] = (at, 2**31 - 1)
        for page in range(MOST_PAGES):
            able = [n for n, fields in layouts.items() if any(f["name"] in names - found.keys() for f in fields)]
            if not able:
                break
            cursor.execute(
                "select layout_id, nums, texts, at, message_id, received_at from reading_row"
                " where device_id = %s and (at, layout_id) <= (%s, %s) and received_at <= %s and layout_id = any(%s)"
                " order by at desc, layout_id desc limit %s",
                (device_id, *before, at, able, PAGE * min(page + 1, 10)),
            )
            rows = cursor.fetchall()
            for layout, nums, texts, measured, message, received in rows:
                for name, value in row_values(layouts[layout], nums, texts).items():
                    if name in names:
                        found.setdefault(name, (value, us(measured), message, us(received)))
            if len(rows) < PAGE * min(page + 1, 10):
                break
            before = (rows[-1][3], rows[-1][0] - 1)
        found = with_sealed(cursor, device_id, names, found, us(at), lambda block: block.received <= us(at))
    return {name: (value, moment(m), message, moment(r)) for name, (value, m, message, r) in found.items()}
