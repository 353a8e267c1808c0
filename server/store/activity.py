"""How many messages came when, how many of them were refused, how much they told and how late."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import psycopg
from django.db import connection

from oculum.arrays import distinct
from server.store.arrays import arrays
from server.store.sealed import open_arrived
from server.store.summed import HOUR_US, unsummed
from server.store.times import moment

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
    keys, which = distinct(owners, when)
    first, most = which[: len(device)], keys.shape[1]
    columns = [
        np.bincount(first, minlength=most),
        np.bincount(first, weights=failed, minlength=most).astype(int),
        *_figures(said, which[len(device) :], most),
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
            keys[0].tolist(),
            [moment(h * HOUR_US) for h in keys[1].tolist()],
            *(column.tolist() for column in columns),
        ),
    )


def _figures(said: Said, which: np.ndarray, most: int) -> list[np.ndarray]:
    """FIGURES of what was said. which: int64 (n,), the hour of each row, one of `most`."""
    delay = (said.received - said.newest) / 1e6
    low, high = np.full(most, np.inf), np.full(most, -np.inf)
    np.minimum.at(low, which, delay)
    np.maximum.at(high, which, delay)
    return [
        np.bincount(which, weights=said.cells, minlength=most).astype(int),
        np.bincount(which, weights=said.gone, minlength=most).astype(int),
        np.bincount(which, minlength=most),
        np.bincount(which, weights=delay, minlength=most),
        low,
        high,
    ]


def count_again(connection: psycopg.Connection[Any], device: np.ndarray, received: np.ndarray, said: Said) -> None:
    """What was said in the hours of messages that were decoded again (their senders and arrivals, int64 (n,)): as these
    say it where they are all of an hour, else from what is stored.
    """
    owners, when = np.concatenate([device, said.device]), np.concatenate([received, said.received]) // HOUR_US
    keys, which = distinct(owners, when)
    most = keys.shape[1]
    hours = [moment(h * HOUR_US) for h in keys[1].tolist()]
    with connection.cursor() as cursor:
        place, messages, *stored = arrays(
            cursor,
            ("int", "int", "int", "int", "int", "float", "float", "float"),
            f"select place - 1, messages, {FIGURES} from unnest(%(devices)s::int[], %(hours)s::timestamptz[]) with"
            " ordinality k(device_id, hour, place) join activity using (device_id, hour)",
            {"devices": keys[0].tolist(), "hours": hours},
        )
    figures = [column[place] for column in _figures(said, which[len(device) :], most)]
    sent = np.bincount(which[: len(device)], minlength=most)[place]
    whole = (sent > 0) & (sent == messages)
    with np.errstate(invalid="ignore"):  # the shortest of no delays is no number
        same = [(a == b) | (np.abs(a - b) < 1e-6) for a, b in zip(figures, stored, strict=True)]
    other = np.flatnonzero(whole & ~np.logical_and.reduce(same))
    if len(other):
        changed = place[other]
        unsummed(connection, keys[1][changed])
        connection.execute(
            f"update activity a set ({FIGURES}) = (x.cells, x.gone, x.delays, x.delay_sum, x.delay_min, x.delay_max)"
            " from unnest(%s::int[], %s::timestamptz[], %s::int[], %s::int[], %s::int[], %s::float8[], %s::float8[],"
            f" %s::float8[]) x(device_id, hour, {FIGURES}) where a.device_id = x.device_id and a.hour = x.hour",
            (
                keys[0][changed].tolist(),
                [hours[k] for k in changed.tolist()],
                *(column[other].tolist() for column in figures),
            ),
        )
    rest = np.delete(keys, place[whole], axis=1)
    count_anew(connection, rest[0].tolist(), (rest[1] * HOUR_US).tolist())


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
        " sum(cardinality(r.nums) - cardinality(array_positions(r.nums, null))"
        " + coalesce(cardinality(r.texts) - cardinality(array_positions(r.texts, null)), 0)) as cells,"
        " sum(case when r.missing is not null then (select count(*) from jsonb_object_keys(r.missing)) else 0 end)"
        " as gone,"
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


def known_from(registered: datetime, counts: Sequence[int], start: datetime, end: datetime) -> int:
    """From which part of (start, end] on a device was known: that of its registration, or of a message before it."""
    into = (registered - start) / (end - start) * len(counts)
    first = next((part for part, count in enumerate(counts) if count), len(counts))
    return min(max(int(into), 0), first)


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
