"""Alarms of a span, counted by the conditions that raised them, and by device."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from server.store.arrays import arrays


@dataclass(frozen=True)
class Raised:
    """Alarms of one condition. untaken: cleared before anybody took them; most_device, most_count: who had most."""

    definition: int
    condition: str
    priority: str
    raised: int
    devices: int
    untaken: int
    last_at: datetime
    most_device: str | None
    most_count: int


def by_condition(cursor: Any, start: datetime, end: datetime, most: int) -> list[Raised]:
    """Of alarms raised in (start, end], the conditions with the most first."""
    cursor.execute(
        "select condition_id, d.name, min(a.priority), sum(a.n)::int, count(*)::int, sum(a.untaken)::int,"
        " max(a.last), (array_agg(coalesce(v.title, s.title) order by a.n desc))[1], max(a.n)::int"
        " from (select condition_id, device_id, min(priority) as priority, count(*) as n, count(*) filter"
        " (where cleared_at is not null and acknowledged_at is null) as untaken,"
        " max(raised_at) as last, max(site_id) as site_id from alarms_alarm where raised_at > %s and"
        " raised_at <= %s and not suppressed"
        " group by condition_id, device_id, case when device_id is null then site_id end) a"
        " join definitions_definition d on d.id = a.condition_id left join fleet_device v on v.id = a.device_id"
        " left join fleet_site s on s.id = a.site_id"
        " group by 1, 2 order by 4 desc limit %s",
        (start, end, most),
    )
    return [Raised(*row) for row in cursor.fetchall()]


def open_in(cursor: Any, start: datetime, end: datetime) -> list[tuple[int | None, datetime, datetime, str]]:
    """Alarms that were open in [start, end]: device (None: on a site), raised, cleared or else `end`, priority."""
    cursor.execute(
        "select device_id, raised_at, coalesce(cleared_at, %(end)s), priority from alarms_alarm where raised_at <="
        " %(end)s and not suppressed and (cleared_at is null or cleared_at >= %(start)s)",
        {"start": start, "end": end},
    )
    return list(cursor.fetchall())


def end_shelves(connection: Any) -> list[int]:
    """Puts shelves whose time is over on record; alarms that lay on them."""
    rows = connection.execute(
        "with over as (update alarms_shelf set ended_at = until where ended_at is null and until <="
        " clock_timestamp() returning alarm_id, until), told as (insert into alarms_journalentry (alarm_id, what,"
        " priority, at, learned_at, note) select alarm_id, 'off the shelf', '', until, clock_timestamp(), 'its time"
        " was over' from over) select alarm_id from over"
    ).fetchall()
    return [row[0] for row in rows]


def alarm_spans(
    cursor: Any, start: datetime, end: datetime, only: Sequence[int] | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """When devices, or some of them, were in an alarm during [start, end): device, from, until (µs), int64 (n,) each,
    by device and time; several may go on at once.
    """
    owner, raised, cleared = arrays(
        cursor,
        ("int", "time", "time"),
        "select device_id, greatest(raised_at, %(start)s), least(coalesce(cleared_at, %(end)s), %(end)s) from"
        " alarms_alarm where device_id is not null and raised_at < %(end)s and coalesce(cleared_at, %(end)s) >"
        " %(start)s and not suppressed" + (" and device_id = any(%(only)s)" if only is not None else "") + " order by"
        " 1, 2",
        {"start": start, "end": end, "only": only},
    )
    return owner, raised, cleared


def of_gateways(connection: Any, type_id: int, since_us: int) -> list[tuple[int, int, int | None, int]]:
    """What was raised for the gateways of devices of a type, where they are of another one, and not over before a
    moment: device, when it was raised and cleared (µs, None where it is open), and the version that raised it, in the
    order in which it was raised.
    """
    return connection.execute(  # type: ignore[no-any-return]
        "select a.device_id, (extract(epoch from a.raised_at) * 1000000)::bigint,"
        " (extract(epoch from a.cleared_at) * 1000000)::bigint, a.version_id from alarms_alarm a join fleet_device g"
        " on g.id = a.device_id where a.device_id in (select gateway_id from fleet_device where type_id = %(type)s)"
        " and g.type_id <> %(type)s and not a.suppressed and (a.cleared_at is null or a.cleared_at >="
        " to_timestamp(%(since)s / 1000000.0)) order by a.raised_at, a.id",
        {"type": type_id, "since": since_us},
    ).fetchall()
