"""What routes have done over a span, as it is asked for."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

MOST_BUCKETS = 48


@dataclass
class LineFigures:
    seen: int = 0
    took: int = 0
    failed: int = 0
    message: int | None = None
    last: datetime | None = None
    curve: list[int] = field(default_factory=list)


def by_line(cursor: Any, start: datetime, end: datetime) -> dict[tuple[int, int], LineFigures]:
    """By version and line; hours that the span touches count whole, and no part of a curve is shorter than one."""
    hours = (end - start).total_seconds() / 3600
    buckets = min(max(math.ceil(hours), 2), MOST_BUCKETS)
    cursor.execute(
        "select version_id, line, hour, sum(seen), sum(took), sum(failed), max(message_id) from route_activity where"
        " hour >= date_trunc('hour', %s::timestamptz) and hour <= %s group by 1, 2, 3 order by hour",
        (start, end),
    )
    found: dict[tuple[int, int], LineFigures] = {}
    for version, line, hour, seen, took, failed, message in cursor.fetchall():
        one = found.setdefault((version, line), LineFigures(curve=[0] * buckets))
        one.seen, one.took, one.failed = one.seen + int(seen), one.took + int(took), one.failed + int(failed)
        if took or failed:
            one.message, one.last = message, hour
        place = math.ceil((hour - start).total_seconds() / 3600 / hours * buckets)
        one.curve[min(max(place, 0), buckets - 1)] += int(took)
    return found


def by_type(cursor: Any, start: datetime, end: datetime) -> list[tuple[int, int, int, int, int, int]]:
    """definition, version, line, device type, seen, took over a span."""
    cursor.execute(
        "select definition_id, version_id, line, device_type, sum(seen)::bigint, sum(took)::bigint from route_activity"
        " where hour >= date_trunc('hour', %s::timestamptz) and hour <= %s group by 1, 2, 3, 4",
        (start, end),
    )
    return [tuple(row) for row in cursor.fetchall()]


def messages_by_type(cursor: Any, start: datetime, end: datetime) -> dict[int, int]:
    """Messages of a span, by device type."""
    cursor.execute(
        "select d.type_id, sum(a.messages) from activity a join fleet_device d on d.id = a.device_id where a.hour >="
        " date_trunc('hour', %s::timestamptz) and a.hour <= %s group by 1",
        (start, end),
    )
    return {int(type_): int(count) for type_, count in cursor.fetchall()}


@dataclass
class Waiting:
    readings: int = 0
    oldest: datetime | None = None
    lost: int = 0
    sent: int = 0


def waiting(cursor: Any, since: datetime) -> dict[int, Waiting]:
    """What waits for each outlet, and what it has lost and sent since a moment."""
    found: dict[int, Waiting] = {}
    cursor.execute("select outlet_id, count(*), min(queued_at) from reading_out group by 1")
    for outlet, count, oldest in cursor.fetchall():
        found[outlet] = Waiting(int(count), oldest)
    cursor.execute(
        "select outlet_id, sum(readings) from reading_out_lost where hour >= date_trunc('hour', %s::timestamptz)"
        " group by 1",
        (since,),
    )
    for outlet, lost in cursor.fetchall():
        found.setdefault(outlet, Waiting()).lost = int(lost)
    cursor.execute("select outlet_id, sum(readings) from reading_out_log where good and at >= %s group by 1", (since,))
    for outlet, sent in cursor.fetchall():
        found.setdefault(outlet, Waiting()).sent = int(sent)
    return found


def blocked(cursor: Any) -> tuple[int, int]:
    """Outlets that are on and whose last tries failed; readings that wait for outlets."""
    row = cursor.execute(
        'select (select count(*) from telling_outlet where "on" and failures > 0), (select count(*) from reading_out)'
    ).fetchone()
    return int(row[0]), int(row[1])
