"""What state every device is in at a moment: from its last arrival, its cadence, and whether that decoded."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from django.db import connection

OVERDUE_CADENCES = 1.5
SILENT_CADENCES = 3.0
AHEAD_S = 300

NOW_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), l.received_at, l.failed, l.message_id
from fleet_device d join fleet_devicetype t on t.id = d.type_id left join latest l on l.device_id = d.id
"""

THEN_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), m.received_at,
  r.message_id is not null and r.code <> 'no decoder', m.id
from fleet_device d join fleet_devicetype t on t.id = d.type_id
left join lateral (
  select id, received_at from message
  where device_id = d.id and received_at <= %(at)s and received_at > %(at)s - interval '8 days'
  order by received_at desc limit 1
) m on true
left join refused r on r.message_id = m.id
"""


def json_of(value: Any) -> Any:
    """A jsonb column as Django's cursors hand it over."""
    return orjson.loads(value) if isinstance(value, str | bytes) else value


@dataclass(frozen=True)
class DeviceState:
    state: str
    received_at: datetime | None
    cadence_s: int | None
    message_id: int | None


def state_of(received: datetime | None, failed: bool, cadence_s: int | None, at: datetime) -> str:
    """reporting, overdue (past 1.5 cadences), silent (past 3), undecodable (the last message was refused), waiting
    (none yet).

    A message stamped more than five minutes ahead came by a wrong clock: nothing is known of its age.
    """
    if received is None:
        return "waiting"
    age = (at - received).total_seconds()
    if age < -AHEAD_S:
        return "overdue"
    if cadence_s and age > SILENT_CADENCES * cadence_s:
        return "silent"
    if failed:
        return "undecodable"
    if cadence_s and age > OVERDUE_CADENCES * cadence_s:
        return "overdue"
    return "reporting"


def device_states(at: datetime, past: bool) -> dict[int, DeviceState]:
    """States by device id, retired ones left out."""
    with connection.cursor() as cursor:
        cursor.execute(THEN_SQL if past else NOW_SQL, {"at": at} if past else None)
        rows = cursor.fetchall()
    found = {}
    for device_id, phase, cadence, received, failed, message in rows:
        if phase != "retired":
            found[device_id] = DeviceState(state_of(received, bool(failed), cadence, at), received, cadence, message)
    return found


def rhythm(device_ids: list[int], start: datetime, end: datetime, most: int) -> dict[int, tuple[list[int], list[int]]]:
    """Messages and refused ones by device and bucket of (start, end], in at most `most` buckets.

    Up to two days the messages themselves are counted, beyond that whole hours.
    """
    seconds = (end - start).total_seconds()
    fine = seconds <= 2 * 86_400
    buckets = most if fine else -(-int(seconds / 3600) // max(-(-int(seconds / 3600) // most), 1))
    span = seconds / buckets
    query = (
        "select m.device_id, least(floor(extract(epoch from (m.received_at - %(start)s)) / %(span)s), %(last)s)::int,"
        " count(*), count(r.message_id)"
        " from message m left join refused r on r.message_id = m.id where m.device_id = any(%(ids)s) and"
        " m.received_at > %(start)s and m.received_at <= %(end)s group by 1, 2"
        if fine
        else "select device_id, least(greatest(floor(extract(epoch from (hour - %(start)s)) / %(span)s), 0),"
        " %(last)s)::int, sum(messages), sum(failed) from activity"
        " where device_id = any(%(ids)s) and hour >= date_trunc('hour', %(start)s, 'UTC') and hour < %(end)s group by"
        " 1, 2"
    )
    with connection.cursor() as cursor:
        cursor.execute(query, {"start": start, "end": end, "span": span, "last": buckets - 1, "ids": device_ids})
        rows = cursor.fetchall()
    found: dict[int, tuple[list[int], list[int]]] = {d: ([0] * buckets, [0] * buckets) for d in device_ids}
    for device_id, bucket, messages, failed in rows:
        found[device_id][0][bucket] += int(messages)
        found[device_id][1][bucket] += int(failed)
    return found


PAGE = 60
MOST_PAGES = 200


def value_at(device_id: int, at: datetime, names: set[str]) -> dict[str, tuple[Any, datetime, int, datetime]]:
    """The newest value of every named field at a past moment: value, measured, message, received.

    Rows are read backwards from the moment, and further only those that can hold a field still wanted.
    """
    from server.engine.rows import row_values

    found: dict[str, tuple[Any, datetime, int, datetime]] = {}
    with connection.cursor() as cursor:
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
    return found
