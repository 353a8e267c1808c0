"""How many messages came when, how many of them were refused, how much they told and how late."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg
from django.db import connection

from server.store.sealed import open_arrived
from server.store.times import moment
from server.store.turns import writers_turn

HOUR_US = 3_600_000_000
DAY_HOURS = 24
FEW = 200
FINE = timedelta(days=2, minutes=10)  # two days that somebody has asked for a moment ago, too
FIGURES = "cells, gone, delays, delay_sum, delay_min, delay_max"


@dataclass(frozen=True)
class Said:
    """What messages said of devices, a row a message and device; int64 (n,) each.

    received, newest: µs, the newest that was measured; cells: how many values, a position counts two; gone: how many
    are missing with a reason.
    """

    device: np.ndarray
    received: np.ndarray
    newest: np.ndarray
    cells: np.ndarray
    gone: np.ndarray


def write_activity(
    connection: psycopg.Connection[Any], device: np.ndarray, received: np.ndarray, failed: np.ndarray, said: Said
) -> None:
    """Messages and failures by device and hour of arrival, and what was said in them. int64 (n,), bool (n,)."""
    if not len(device):
        return
    unsummed(connection, received // HOUR_US)
    owners, when = np.concatenate([device, said.device]), np.concatenate([received, said.received]) // HOUR_US
    keys, which = np.unique(np.stack([owners, when], axis=1), axis=0, return_inverse=True)
    which = which.reshape(-1)
    first, rest, most = which[: len(device)], which[len(device) :], len(keys)
    delay = (said.received - said.newest) / 1e6
    low, high = np.full(most, np.inf), np.full(most, -np.inf)
    np.minimum.at(low, rest, delay)
    np.maximum.at(high, rest, delay)
    columns = [
        np.bincount(first, minlength=most),
        np.bincount(first, weights=failed, minlength=most).astype(int),
        np.bincount(rest, weights=said.cells, minlength=most).astype(int),
        np.bincount(rest, weights=said.gone, minlength=most).astype(int),
        np.bincount(rest, minlength=most),
        np.bincount(rest, weights=delay, minlength=most),
        low,
        high,
    ]
    connection.execute(
        f"insert into activity (device_id, hour, messages, failed, {FIGURES}) select * from unnest(%s::int[],"
        " %s::timestamptz[], %s::int[], %s::int[], %s::int[], %s::int[], %s::int[], %s::float8[], %s::float8[],"
        " %s::float8[])"
        " on conflict (device_id, hour) do update set messages = activity.messages + excluded.messages,"
        " failed = activity.failed + excluded.failed, cells = activity.cells + excluded.cells,"
        " gone = activity.gone + excluded.gone, delays = activity.delays + excluded.delays,"
        " delay_sum = activity.delay_sum + excluded.delay_sum,"
        " delay_min = least(activity.delay_min, excluded.delay_min),"
        " delay_max = greatest(activity.delay_max, excluded.delay_max)",
        (
            keys[:, 0].tolist(),
            [moment(int(h) * HOUR_US) for h in keys[:, 1]],
            *(column.tolist() for column in columns),
        ),
    )


def unsummed(connection: psycopg.Connection[Any], hours: np.ndarray) -> None:
    """Days of which hours have changed are summed (anew) when they are over. hours: int64 (n,), since 1970."""
    days = [moment(day * DAY_HOURS * HOUR_US).date() for day in np.unique(hours // DAY_HOURS).tolist()]
    connection.execute(
        "insert into activity_unsummed select d from unnest(%s::date[]) u(d) where d not in (select day from"
        " activity_unsummed) on conflict do nothing",
        (days,),
    )


def sum_a_day(connection: psycopg.Connection[Any]) -> bool:
    """Sums the newest day that is over and waits for it; False if none does. A day is over when all engines have gone
    beyond it.
    """
    row = connection.execute(
        "select u.day from activity_unsummed u where (u.day + 1)::timestamp at time zone 'UTC' <= (select"
        " min(coalesce(clock, '-infinity')) from engine_cursor) order by u.day desc limit 1"
    ).fetchone()
    if row is None:
        return False
    with connection.transaction():
        writers_turn(connection)
        connection.execute("delete from activity_unsummed where day = %s", row)
        rows = connection.execute(
            f"select {SUMMED}, percentile_cont(0.5) within group (order by delay_min) filter (where delays > 0) from"
            " activity where hour >= %s::date::timestamp at time zone 'UTC' and hour < (%s::date + 1)::timestamp at"
            " time zone 'UTC' group by device_id order by device_id",
            (*row, *row),
        ).fetchall()
        connection.execute(
            "insert into activity_summed values (%s, %s) on conflict (day) do update set body = excluded.body",
            (*row, _packed(rows)),
        )
    return True


# Of the rows of a device: its number, and what they count together.
SUMMED = (
    "device_id, sum(messages), sum(failed), sum(cells), sum(gone), sum(delays), sum(delay_sum), max(delay_max) filter"
    " (where delays > 0)"
)


def _packed(rows: Sequence[Any]) -> bytes:
    """Rows of SUMMED and a median as a file of arrays: whole numbers, then floats, NaN where there is none."""
    table = np.array([[np.nan if cell is None else cell for cell in row] for row in rows], float).reshape(-1, 9)
    whole, broken = table[:, :6].astype(np.int64), table[:, 6:]
    return zlib.compress(np.ascontiguousarray(whole.T).tobytes() + np.ascontiguousarray(broken.T).tobytes(), 1)


def _unpacked(body: bytes) -> tuple[np.ndarray, np.ndarray]:
    """int64 (6, n): device, messages, failed, cells, gone, delays; float (3, n): delay_sum, delay_max, median."""
    data = zlib.decompress(body)
    count = len(data) // 72
    whole = np.frombuffer(data, np.int64, 6 * count).reshape(6, count)
    return whole, np.frombuffer(data, float, offset=48 * count).reshape(3, count)


@dataclass
class Sums:
    """What was counted of devices, an entry each. messages, failed, cells, gone, delays: int64 (n,); delay_sum: float
    (n,), s; delay_max, clock: float (n,), s, NaN where nothing is known: clock is the median of the shortest delays
    of each hour (of whole days: of their medians). tells: bool (n,), whether payloads have a time of their own.
    """

    counts: np.ndarray  # int64 (5, n)
    delay_sum: np.ndarray
    delay_max: np.ndarray
    clock: np.ndarray
    tells: np.ndarray

    @classmethod
    def of(cls, n: int) -> Sums:
        nothing = np.full(n, np.nan)
        return cls(np.zeros((5, n), np.int64), np.zeros(n), nothing, nothing.copy(), np.zeros(n, bool))

    def add(self, place: np.ndarray, counts: np.ndarray, delay_sum: np.ndarray, delay_max: np.ndarray) -> None:
        """place: int64 (k,), each once; counts: int64 (5, k)."""
        self.counts[:, place] += counts
        self.delay_sum[place] += delay_sum
        self.delay_max[place] = np.fmax(self.delay_max[place], delay_max)
        self.tells[place] |= (counts[4] > 0) & (delay_sum != 0)


def sums(cursor: Any, first: datetime, end: datetime, devices: np.ndarray) -> Sums:
    """Of each device what was counted in whole hours from `first` on. devices: int64 (n,), rising."""
    cursor.execute(
        "select day, body from activity_summed where day not in (select day from activity_unsummed) and day::timestamp"
        " at time zone 'UTC' >= %s and (day + 1)::timestamp at time zone 'UTC' <= %s order by 1",
        (first, end),
    )
    found = Sums.of(len(devices))
    owners, shortest = [], []

    def places(ids: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which of some are among the devices, and where."""
        place = np.searchsorted(devices, ids)
        there = np.flatnonzero((place < len(devices)) & (devices[np.minimum(place, len(devices) - 1)] == ids))
        return there, place[there]

    # What lies between the days that are summed is counted by the hour.
    spans, since = [], first
    for day, body in cursor.fetchall() if len(devices) else []:
        whole, broken = _unpacked(bytes(body))
        there, place = places(whole[0])
        found.add(place, whole[1:, there], broken[0, there], broken[1, there])
        owners.append(place)
        shortest.append(broken[2, there])
        begin = datetime(day.year, day.month, day.day, tzinfo=UTC)
        if begin > since:
            spans.append((since, begin))
        since = begin + timedelta(days=1)
    if since < end:
        spans.append((since, end))
    few = len(devices) <= FEW
    rows = (
        " from unnest(%s::timestamptz[], %s::timestamptz[]) k(low, high) join activity on hour >= low and hour < high"
        f"{' where device_id = any(%s)' if few else ''}"
    )
    values: tuple[Any, ...] = [span[0] for span in spans], [span[1] for span in spans]
    values = (*values, devices.tolist()) if few else values
    cursor.execute(f"select {SUMMED}{rows} group by device_id", values)
    table = np.array([[np.nan if cell is None else cell for cell in row] for row in cursor.fetchall()], float)
    table = table.reshape(-1, 8)
    there, place = places(table[:, 0].astype(np.int64))
    found.add(place, table[there, 1:6].T.astype(np.int64), table[there, 6], table[there, 7])
    cursor.execute(
        "select array_agg(device_id), array_agg(delay_min) from (select device_id, delay_min"
        f"{rows} {'and' if few else 'where'} delays > 0) x",
        values,
    )
    owner, least = (np.array(column or [], float) for column in cursor.fetchone())
    there, place = places(owner.astype(np.int64))
    owners.append(place)
    shortest.append(least[there])
    owner, least = np.concatenate(owners), np.concatenate(shortest)
    known = ~np.isnan(least)
    place, middle = medians(owner[known], least[known])
    found.clock[place] = -middle
    return found


def medians(owner: np.ndarray, value: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The median of what each has: owners, rising, and medians. owner: int64 (n,); value: float (n,)."""
    if not len(owner):
        return owner, value
    order = np.lexsort((value, owner))
    owner, value = owner[order], value[order]
    heads = np.flatnonzero(np.diff(owner, prepend=owner[0] - 1))
    counts = np.diff(np.append(heads, len(owner)))
    return owner[heads], (value[heads + (counts - 1) // 2] + value[heads + counts // 2]) / 2


def count_anew(connection: psycopg.Connection[Any], device: Sequence[int], received: Sequence[int]) -> None:
    """What was said in the hours of some messages (int, µs each) is counted once more from what is stored."""
    hours = sorted({(d, t // HOUR_US) for d, t in zip(device, received, strict=True)})
    if not hours:
        return
    edges = min(hour for _, hour in hours), max(hour for _, hour in hours) + 1
    open_arrived(connection, sorted({d for d, _ in hours}), *(hour * HOUR_US for hour in edges))
    unsummed(connection, np.array([hour for _, hour in hours], np.int64))
    connection.execute(
        "with k as (select * from unnest(%s::int[], %s::timestamptz[]) k(device_id, hour)),"
        " s as (select device_id, min(hour) as first, max(hour) + interval '1 hour' as last from k group by 1),"
        " m as (select r.device_id, date_trunc('hour', r.received_at, 'UTC') as hour,"
        " sum((select count(v) from unnest(r.nums) v)"
        " + coalesce((select count(t) from unnest(r.texts) t), 0)) as cells,"
        " sum(coalesce((select count(*) from jsonb_object_keys(r.missing)), 0)) as gone,"
        " extract(epoch from min(r.received_at) - max(r.at))::float8 as delay"
        " from s join reading_row r on r.device_id = s.device_id and r.received_at >= s.first"
        " and r.received_at < s.last and r.at > s.first - interval '40 days' and r.at < s.last + interval '2 hours'"
        " group by 1, 2, r.message_id),"
        " x as (select k.device_id, k.hour, coalesce(sum(cells), 0) as cells, coalesce(sum(gone), 0) as gone,"
        " count(m.delay) as delays, coalesce(sum(delay), 0) as delay_sum, coalesce(min(delay), 'infinity') as"
        " delay_min, coalesce(max(delay), '-infinity') as delay_max from k left join m using (device_id, hour)"
        " group by 1, 2)"
        " update activity a set cells = x.cells, gone = x.gone, delays = x.delays, delay_sum = x.delay_sum,"
        " delay_min = x.delay_min, delay_max = x.delay_max from x where a.device_id = x.device_id and a.hour = x.hour",
        ([d for d, _ in hours], [moment(h * HOUR_US) for _, h in hours]),
    )


def buckets(start: datetime, end: datetime, most: int) -> int:
    """In how many equal parts (start, end] is counted: up to two days as asked for, beyond that no finer than hours."""
    hours = int((end - start).total_seconds() / 3600)
    return most if end - start <= FINE else -(-hours // max(-(-hours // most), 1))


def rhythm(device_ids: list[int], start: datetime, end: datetime, most: int) -> dict[int, tuple[list[int], list[int]]]:
    """Messages and refused ones by device and bucket of (start, end], in at most `most` buckets.

    Up to two days the messages themselves are counted, beyond that whole hours from the first that begins in it.
    """
    fine, count = end - start <= FINE, buckets(start, end, most)
    span = (end - start).total_seconds() / count
    query = (
        "select m.device_id, least(floor(extract(epoch from (m.received_at - %(start)s)) / %(span)s), %(last)s)::int,"
        " count(*), count(r.message_id)"
        " from message m left join refused r on r.message_id = m.id and not r.part where m.device_id = any(%(ids)s) and"
        " m.received_at > %(start)s and m.received_at <= %(end)s group by 1, 2"
        if fine
        else "select device_id, least(floor(extract(epoch from (hour - %(start)s)) / %(span)s), %(last)s)::int,"
        " sum(messages), sum(failed) from activity"
        " where device_id = any(%(ids)s) and hour >= %(start)s and hour < %(end)s group by"
        " 1, 2"
    )
    with connection.cursor() as cursor:
        cursor.execute(query, {"start": start, "end": end, "span": span, "last": count - 1, "ids": device_ids})
        rows = cursor.fetchall()
    found: dict[int, tuple[list[int], list[int]]] = {d: ([0] * count, [0] * count) for d in device_ids}
    for device_id, bucket, messages, failed in rows:
        found[device_id][0][bucket] += int(messages)
        found[device_id][1][bucket] += int(failed)
    return found


def lateness(
    device_ids: list[int], start: datetime, end: datetime, most: int
) -> dict[int, list[tuple[int, int, float]]]:
    """How late the quickest messages were, in seconds, by device: from and to which bucket of (start, end], where it is
    more than half a bucket. It is known by the hour; a clock that runs ahead makes it negative.
    """
    count = buckets(start, end, most)
    span = (end - start).total_seconds() / count
    with connection.cursor() as cursor:
        cursor.execute(
            "select device_id, floor(extract(epoch from (hour - %(start)s)) / %(span)s)::int, ceil(extract(epoch from"
            " (hour + interval '1 hour' - %(start)s)) / %(span)s)::int, min(delay_min) from activity where device_id ="
            " any(%(ids)s) and hour >= date_trunc('hour', %(start)s, 'UTC') and hour < %(end)s and delays > 0 group by"
            " 1, 2, 3 having abs(min(delay_min)) > %(span)s / 2 order by 1, 2",
            {"start": start, "end": end, "span": span, "ids": device_ids},
        )
        rows = cursor.fetchall()
    found: dict[int, list[tuple[int, int, float]]] = {}
    for device, first, last, delay in rows:
        found.setdefault(device, []).append((max(first, 0), min(last, count), delay))
    return found
