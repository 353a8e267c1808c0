"""Messages that were refused, or turned away before they were taken, as they are counted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import psycopg
from django.db.models.expressions import RawSQL

MOST_COUNTED = 200_000
MOST_REASONS = 20
BARE = "no decoder"  # the code of messages that nothing was there to decode
_TODAY = (
    "case when definitions_definition.kind = 'decoder' then (select count(*) from refused r"
    " join fleet_device d on d.id = r.device_id where d.type_id = definitions_definition.type_id"
    " and r.received_at > %s::timestamptz - interval '1 day' and r.received_at <= %s and (r.code = %s) = %s) else 0 end"
)


def refused_today(until: datetime, waiting: bool) -> RawSQL:
    """Beside a definition: messages of the day before a moment that its decoder refused, or that wait for one."""
    return RawSQL(_TODAY, (until, until, BARE, waiting))


def of_devices(cursor: Any, devices: Sequence[int], since: datetime) -> tuple[int, int]:
    """Messages of devices since a moment, and how many were refused wholly or in part; at most 200,000 are counted."""
    counts = []
    for table in ("message", "refused"):
        cursor.execute(
            f"select count(*) from (select 1 from {table} where device_id = any(%s) and received_at >= %s limit %s) x",
            (list(devices), since, MOST_COUNTED),
        )
        counts.append(int(cursor.fetchone()[0]))
    return counts[0], counts[1]


@dataclass(frozen=True)
class Reason:
    """Messages refused for one reason. version: the number of the decoder's; last_at, example: the last of them."""

    code: str
    reason: str
    line: int | None
    version: int | None
    messages: int
    devices: int
    last_at: datetime
    example: int


def by_reason(cursor: Any, type_: int, start: datetime, end: datetime) -> tuple[int, int, list[Reason]]:
    """Messages of a device type that arrived in (start, end] and were refused, their devices, and the most frequent
    reasons.
    """
    of_type = (
        "refused r join fleet_device d on d.id = r.device_id{} where d.type_id = %(type)s and r.received_at > %(start)s"
        " and r.received_at <= %(end)s and r.code <> %(bare)s"
    )
    values = {"type": type_, "start": start, "end": end, "bare": BARE, "most": MOST_REASONS}
    cursor.execute(
        "select r.code, r.reason, r.line, v.number, count(*), count(distinct r.device_id), max(r.received_at),"
        f" max(r.message_id) from {of_type.format(' left join definitions_version v on v.id = r.version_id')}"
        " group by 1, 2, 3, 4 order by 5 desc limit %(most)s",
        values,
    )
    reasons = [Reason(*row) for row in cursor.fetchall()]
    cursor.execute(f"select count(*), count(distinct r.device_id) from {of_type.format('')}", values)
    messages, devices = cursor.fetchone()
    return int(messages), int(devices), reasons


def refused_before(cursor: Any, end: datetime, span: timedelta) -> int:
    """Messages that a decoder refused within a span before a moment."""
    cursor.execute(
        "select count(*) from refused where received_at > %s and received_at <= %s and code <> %s",
        (end - span, end, BARE),
    )
    return int(cursor.fetchone()[0])


def refused_lately(connection: psycopg.Connection[Any]) -> tuple[float, int]:
    """Of the last hour: the share of messages that were refused, in percent, and how many types' decoders refuse."""
    row = connection.execute(
        "select count(*), count(distinct d.type_id), (select count(*) from message where received_at > now() -"
        " interval '1 hour') from refused r left join fleet_device d on d.id = r.device_id"
        " where r.received_at > now() - interval '1 hour' and r.code <> %s",
        (BARE,),
    ).fetchone()
    refused, failing, messages = row if row is not None else (0, 0, 0)
    return (100 * refused / messages if messages else 0.0), failing


def failing_types(cursor: Any, end: datetime, span: timedelta, most: int) -> list[str]:
    """Types of devices whose messages were refused within a span before a moment, those of the most first."""
    cursor.execute(
        "select t.key from refused r join fleet_device d on d.id = r.device_id join fleet_devicetype t on t.id ="
        " d.type_id where r.received_at > %s and r.received_at <= %s and r.code <> %s group by 1 order by count(*) desc"
        " limit %s",
        (end - span, end, BARE, most),
    )
    return [row[0] for row in cursor.fetchall()]


def waiting_today(cursor: Any, types: Sequence[int]) -> dict[int, int]:
    """Messages of the last day by type of device that wait for a decoder."""
    cursor.execute(
        "select d.type_id, count(*) from refused r join fleet_device d on d.id = r.device_id where d.type_id = any(%s)"
        " and r.received_at > now() - interval '1 day' and r.code = %s group by 1",
        (list(types), BARE),
    )
    return dict(cursor.fetchall())


def turned_away(cursor: Any) -> list[tuple[str | None, str, int]]:
    """What was turned away in the last day: device, if it is one, why, and how many; those of the most first."""
    cursor.execute(
        "select d.name, i.reason, sum(i.count)::bigint from intake_refusal i left join fleet_device d on d.id ="
        " i.device_id where i.minute > now() - interval '1 day' group by 1, 2 order by 3 desc limit 100"
    )
    return [(device, reason, int(count)) for device, reason, count in cursor.fetchall()]
