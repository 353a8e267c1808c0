"""How long what is stored is kept, what it takes, and what ends with it."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

import psycopg
from django.conf import settings

MESSAGES, READINGS, COUNTS, JOURNAL = "messages", "readings", "counts", "journal"
KINDS = (MESSAGES, READINGS, COUNTS, JOURNAL)
TABLES = {
    MESSAGES: ("refused", "intake_refusal"),
    READINGS: ("reading_row", "reading_sealed", "replaced_reading", "latest"),
    COUNTS: ("activity", "activity_summed", "route_activity", "device_stretch", "device_stands"),
    JOURNAL: ("alarms_alarm", "alarms_journalentry", "alarms_shelf", "telling_delivery"),
}
LEAST_DAYS, MOST_DAYS = 1, 36_500
PORTION, AT_ONCE_S = 20_000, 2.0


def days_kept(connection: Any) -> dict[tuple[str, int], int]:
    """Days by what is kept, and for readings also by type; 0 stands for all types."""
    found = {
        (MESSAGES, 0): settings.RAW_RETENTION_DAYS,
        (READINGS, 0): settings.READING_RETENTION_DAYS,
        (COUNTS, 0): settings.READING_RETENTION_DAYS,
        (JOURNAL, 0): settings.READING_RETENTION_DAYS,
    }
    rows = connection.execute("select what, type_id, days from kept_for").fetchall()
    return found | {(what, type_): days for what, type_, days in rows}


def keep_for(connection: Any, wanted: Mapping[tuple[str, int], int | None]) -> None:
    """Sets days; None takes what was said back."""
    for (what, type_), days in wanted.items():
        if days is None:
            connection.execute("delete from kept_for where what = %s and type_id = %s", (what, type_))
        else:
            connection.execute(
                "insert into kept_for values (%s, %s, %s) on conflict (what, type_id) do update set days ="
                " excluded.days",
                (what, type_, days),
            )


@dataclass(frozen=True)
class Taken:
    """What one kind takes. since: the oldest of it; by_day: bytes by day (UTC), of messages and readings; the days of
    readings are a share of their whole by how many values arrived on each.
    """

    what: str
    size: int
    rows: int
    since: datetime | None
    by_day: dict[date, int]


def taken(connection: Any) -> list[Taken]:
    """What is stored, by kind."""
    found = []
    values = dict(
        connection.execute(
            "select (hour at time zone 'UTC')::date, sum(cells + gone) from activity group by 1 order by 1"
        ).fetchall()
    )
    days = {
        date.fromisoformat(name[-8:]): (size, rows)
        for name, size, rows in connection.execute(
            "select c.relname, pg_total_relation_size(c.oid), greatest(c.reltuples, 0)::bigint from pg_inherits i join"
            " pg_class c on c.oid = i.inhrelid where i.inhparent = 'message'::regclass"
        ).fetchall()
    }
    first = next(
        (
            day
            for day in sorted(days)
            if connection.execute(f'select exists (select 1 from "message_{day:%Y%m%d}")').fetchone()[0]
        ),
        None,
    )
    oldest = {
        MESSAGES: f'select min(received_at) from "message_{first:%Y%m%d}"' if first else "select null::timestamptz",
        READINGS: "select min(hour) from activity where cells > 0",
        COUNTS: "select min(hour) from activity",
        JOURNAL: "select min(raised_at) from alarms_alarm",
    }
    for what in KINDS:
        size, rows = connection.execute(
            "select coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint, coalesce(sum(greatest(c.reltuples, 0)),"
            " 0)::bigint from pg_class c where c.oid = any(%s::text[]::regclass[])",
            (list(TABLES[what]),),
        ).fetchone()
        by_day: dict[date, int] = {}
        if what == MESSAGES:
            by_day = {day: own for day, (own, _) in days.items()}
            size, rows = size + sum(own for own, _ in days.values()), sum(count for _, count in days.values())
        elif what == READINGS and values:
            whole = float(sum(values.values())) or 1.0
            by_day = {day: round(size * float(count) / whole) for day, count in values.items()}
        (since,) = connection.execute(oldest[what]).fetchone()
        found.append(Taken(what, int(size), int(rows), since, by_day))
    return found


def end_readings(connection: psycopg.Connection[Any], now: datetime, days: Mapping[tuple[str, int], int]) -> int:
    """Deletes readings that are older than they are kept, in portions, for two seconds; how many went."""
    gone = _end_sealed(connection, now, days)
    begun = time.monotonic()
    for device, type_ in connection.execute("select id, type_id from fleet_device order by id").fetchall():
        edge = now - timedelta(days=days.get((READINGS, type_), days[READINGS, 0]))
        for table in ("reading_row", "replaced_reading"):
            while time.monotonic() - begun < AT_ONCE_S:
                went = connection.execute(
                    f"delete from {table} where ctid = any(array(select ctid from {table} where device_id = %s and at <"
                    " %s limit %s))",
                    (device, edge, PORTION),
                ).rowcount
                gone += went
                if went < PORTION:
                    break
    return gone


def _end_sealed(connection: psycopg.Connection[Any], now: datetime, days: Mapping[tuple[str, int], int]) -> int:
    """Deletes sealed days, a type at a time: a row is a whole day of a device."""
    gone = 0
    for (type_,) in connection.execute("select id from fleet_devicetype order by id").fetchall():
        edge = now - timedelta(days=days.get((READINGS, type_), days[READINGS, 0]))
        row = connection.execute(
            "with gone as (delete from reading_sealed s using fleet_device d where d.id = s.device_id and d.type_id ="
            " %s and s.day < %s returning rows) select coalesce(sum(rows), 0)::bigint from gone",
            (type_, edge.astimezone(UTC).date()),
        ).fetchone()
        gone += row[0] if row else 0
    return gone


def end_journal(connection: psycopg.Connection[Any], now: datetime, days: Mapping[tuple[str, int], int]) -> None:
    """Deletes alarms that have long been over, with their journal and what was told of them."""
    edge = now - timedelta(days=days[JOURNAL, 0])
    rows = connection.execute("select id from alarms_alarm where cleared_at < %s order by id limit 2000", (edge,))
    old = [row[0] for row in rows.fetchall()]
    if not old:
        return
    with connection.transaction():
        for table in ("telling_delivery", "alarms_shelf", "alarms_journalentry"):
            connection.execute(f"delete from {table} where alarm_id = any(%s)", (old,))
        connection.execute("delete from alarms_alarm where id = any(%s)", (old,))


def end_counts(connection: psycopg.Connection[Any], now: datetime, days: Mapping[tuple[str, int], int]) -> None:
    """Deletes counts by the hour, and in which state devices were."""
    edge = now - timedelta(days=days[COUNTS, 0])
    connection.execute("delete from activity where hour < %s", (edge,))
    connection.execute("delete from activity_unsummed where hour < %s", (edge,))
    connection.execute("delete from activity_summed where first < %s", (edge,))
    connection.execute("delete from route_activity where hour < %s", (edge,))
    connection.execute("delete from device_stretch where until < %s", (edge,))


def size_of_all(connection: Any) -> int:
    """Bytes of the whole database."""
    return int(connection.execute("select pg_database_size(current_database())").fetchone()[0])
