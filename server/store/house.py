"""Keeping house: days ahead, an end to what is older than its retention, and the clock that retention goes by."""

from __future__ import annotations

import logging
import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import psycopg

from server.store.keeping import MESSAGES, days_kept, end_counts, end_journal, end_readings

log = logging.getLogger("oculum.engine")
HOUSE_S = 600
LEAP = timedelta(days=1)
DAYS_AHEAD = 3


@dataclass(frozen=True)
class KeptClock:
    """The moment that retention counts from. leapt_from: where the clock stood before it leapt, where it did."""

    trusted: datetime
    leapt_from: datetime | None = None
    leapt_at: datetime | None = None


def followed(kept: KeptClock, wall: datetime, elapsed: timedelta) -> KeptClock:
    """The kept clock after `elapsed` of running, when the clock on the wall shows `wall`.

    It follows the wall while that is at most a day ahead of it. When the wall leaps further, it goes on only as fast
    as time passes, until the wall comes back or somebody accepts it: nothing is deleted because of a wrong clock.
    """
    if wall <= kept.trusted + elapsed + LEAP:
        return KeptClock(wall)
    return KeptClock(kept.trusted + elapsed, kept.leapt_from or kept.trusted, kept.leapt_at or wall)


def kept_clock(connection: psycopg.Connection[Any]) -> KeptClock | None:
    row = connection.execute("select trusted, leapt_from, leapt_at from kept_clock").fetchone()
    return KeptClock(*row) if row else None


def keep_clock(connection: psycopg.Connection[Any], elapsed: timedelta) -> KeptClock:
    """Moves the kept clock on and stores it."""
    row = connection.execute("select clock_timestamp()").fetchone()
    assert row is not None
    before = kept_clock(connection)
    after = followed(before or KeptClock(_newest_arrival(connection) or row[0]), row[0], elapsed)
    if after.leapt_at is not None and (before is None or before.leapt_at is None):
        log.warning("the clock leapt from %s to %s: nothing is deleted until it is accepted", after.leapt_from, row[0])
    connection.execute(
        "insert into kept_clock (trusted, leapt_from, leapt_at) values (%s, %s, %s) on conflict (single) do update"
        " set trusted = excluded.trusted, leapt_from = excluded.leapt_from, leapt_at = excluded.leapt_at",
        (after.trusted, after.leapt_from, after.leapt_at),
    )
    return after


def _newest_arrival(connection: psycopg.Connection[Any]) -> datetime | None:
    row = connection.execute("select received_at from message order by id desc limit 1").fetchone()
    return row[0] if row else None


def accept_clock(connection: psycopg.Connection[Any]) -> None:
    """The clock on the wall is right: retention follows it."""
    connection.execute(
        "update kept_clock set trusted = clock_timestamp(), leapt_from = null, leapt_at = null where leapt_at is not"
        " null"
    )


class House:
    """What is done every ten minutes. Time in which the machine sleeps is time that passes."""

    def __init__(self) -> None:
        self.at: float | None = None

    @property
    def due(self) -> bool:
        return self.at is None or time.clock_gettime(time.CLOCK_BOOTTIME) - self.at >= HOUSE_S

    def keep(self, connection: psycopg.Connection[Any]) -> None:
        """Never in the way of the stream: what cannot be done now is done the next time."""
        now = time.clock_gettime(time.CLOCK_BOOTTIME)
        elapsed = timedelta(seconds=now - self.at if self.at is not None else 0)
        self.at = now
        connection.execute("set lock_timeout = '2s'")
        try:
            clock = keep_clock(connection, elapsed)
            make_days(connection)
            tidy(connection, clock.trusted)
        except psycopg.errors.LockNotAvailable:
            log.info("somebody reads what is to be deleted; it is left until the next time")
        finally:
            if not connection.closed:
                connection.execute("reset lock_timeout")


def make_days(connection: psycopg.Connection[Any]) -> None:
    """Partitions for yesterday, today and the days ahead."""
    connection.execute(
        "select message_day((now() at time zone 'UTC')::date + d) from generate_series(-1, %s) d", (DAYS_AHEAD,)
    )


def tidy(connection: psycopg.Connection[Any], now: datetime) -> None:
    """An end to what is older than it is kept, counted from `now`."""
    days = days_kept(connection)
    oldest = now - timedelta(days=days[MESSAGES, 0])
    for (name,) in connection.execute(
        "select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid"
        " where i.inhparent = 'message'::regclass and c.relname < %s order by 1",
        (f"message_{oldest:%Y%m%d}",),
    ).fetchall():
        connection.execute(f'drop table "{name}"')
    connection.execute("delete from refused where received_at < %s", (oldest,))
    connection.execute("delete from intake_refusal where minute < %s", (now - timedelta(days=30),))
    connection.execute("delete from live_change where at < now() - interval '10 minutes' or at > now()")
    connection.execute("delete from django_session where expire_date < %s", (now,))
    end_readings(connection, now, days)
    end_counts(connection, now, days)
    end_journal(connection, now, days)
