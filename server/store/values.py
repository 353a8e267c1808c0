"""Values as they were at a past moment."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import connection

from server.store.rows import json_of, row_values
from server.store.sealed import newest_sealed, one_view, sealed_edge
from server.store.times import moment, us

PAGE = 60
MOST_PAGES = 200


def value_at(device_id: int, at: datetime, names: set[str]) -> dict[str, tuple[Any, datetime, int, datetime]]:
    """The newest value of every named field at a past moment: value, measured, message, received.

    Rows are read backwards from the moment, and further only those that can hold a field still wanted.
    """
    found: dict[str, tuple[Any, datetime, int, datetime]] = {}
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
                        found.setdefault(name, (value, measured, message, received))
            if len(rows) < PAGE * min(page + 1, 10):
                break
            before = (rows[-1][3], rows[-1][0] - 1)
        edge = moment(sealed_edge(cursor))
        older = {name for name in names if name not in found or found[name][1] < edge}
        able_ = {n: fields for n, fields in layouts.items() if any(f["name"] in older for f in fields)}
        sealed = (
            newest_sealed(cursor, device_id, able_, older, us(at), lambda block: block.received <= us(at))
            if older
            else {}
        )
        for name, (value, measured, message, received) in sealed.items():
            if name not in found or found[name][1] < moment(measured):
                found[name] = value, moment(measured), message, moment(received)
    return found
