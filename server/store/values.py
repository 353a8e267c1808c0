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
PAGE = 60
MOST_PAGES = 200


def newest(cursor: Any, devices: Sequence[int] | None = None) -> dict[int, tuple[int, dict[str, Entry]]]:
    """By device, of all that have sent anything or of some: the last arrival (µs), and the newest value by field."""
    asked = "select array_agg(device_id), array_agg(received_at), array_agg(fields::text) from latest"
    with psycopg.Cursor(cursor.connection) as own:
        own.execute(
            asked if devices is None else f"{asked} where device_id = any(%s)",
            None if devices is None else (list(devices),),
            binary=True,
        )
        ids, received, fields = cells_of(own)
    told = orjson.loads(f"[{','.join(text or '{}' for text in as_texts(fields))}]")
    return dict(zip(as_whole(ids, "i4").tolist(), zip(as_times(received).tolist(), told, strict=True), strict=True))


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
