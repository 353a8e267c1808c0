"""What activity counts, of all devices together: hours and days that are over stand packed by column, and are read as
arrays; what is not packed yet is read by the hour.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any
from uuid import UUID

import numpy as np
import psycopg

from oculum.arrays import among, middles
from server.store.arrays import NEVER, arrays, as_table
from server.store.kept import Kept
from server.store.times import moment
from server.store.turns import writers_turn

HOUR_US = 3_600_000_000
HOUR = timedelta(hours=1)
DAY = 24  # hours
FEW = 200  # devices: of more, all are read
MOST_KEPT = 64 * 2**20
KINDS = ("int", *["int"] * 5, "float", "float", "float")
COUNTED = (
    "device_id, sum(messages), sum(failed), sum(cells), sum(gone), sum(delays), sum(delay_sum),"
    " coalesce(max(delay_max) filter (where delays > 0), 'NaN'),"
    " coalesce(percentile_cont(0.5) within group (order by delay_min) filter (where delays > 0), 'NaN')"
)


@dataclass(frozen=True)
class Counts:
    """Of some hours from `first` on, an entry a device. device: int64 (n,), rising; counts: int64 (5, n): messages,
    refused ones, values, missing values, delays; delay_sum, delay_max, quickest: float (n,), s: quickest is the median
    of the shortest delay of each hour, NaN where nothing came.
    """

    first: datetime
    hours: int
    device: np.ndarray
    counts: np.ndarray
    delay_sum: np.ndarray
    delay_max: np.ndarray
    quickest: np.ndarray

    @classmethod
    def of(cls, first: datetime, hours: int, columns: Sequence[np.ndarray]) -> Counts:
        """Of columns as they are asked for."""
        return cls(first, hours, columns[0], np.array(columns[1:6]).reshape(5, -1), *columns[6:])

    def packed(self) -> bytes:
        """Whole numbers, then floats, column by column."""
        whole = np.concatenate([self.device[None, :], self.counts]).astype(np.int64)
        return zlib.compress(whole.tobytes() + np.stack([self.delay_sum, self.delay_max, self.quickest]).tobytes(), 1)

    @classmethod
    def unpacked(cls, first: datetime, hours: int, body: bytes) -> Counts:
        data = zlib.decompress(body)
        count = len(data) // 72
        whole = np.frombuffer(data, np.int64, 6 * count).reshape(6, count)
        return cls(first, hours, whole[0], whole[1:], *np.frombuffer(data, float, offset=48 * count).reshape(3, count))


kept: Kept[Counts] = Kept(MOST_KEPT)  # by `made`


def unsummed(connection: psycopg.Connection[Any], hours: np.ndarray) -> None:
    """Hours that have changed are packed (anew) when they are over. hours: int64 (n,), since 1970."""
    connection.execute(
        "insert into activity_unsummed select h from unnest(%s::timestamptz[]) u(h) where h not in (select hour from"
        " activity_unsummed) on conflict do nothing",
        ([moment(hour * HOUR_US) for hour in np.unique(hours).tolist()],),
    )


def sum_an_hour(connection: psycopg.Connection[Any]) -> bool:
    """Packs the newest hour that is over and waits for it, and its day when that is over and waits for none; False if
    none does. An hour is over when all engines have gone beyond it.
    """
    row = connection.execute(
        "select u.hour, c.clock from activity_unsummed u, (select min(coalesce(clock, '-infinity')) as clock from"
        " engine_cursor) c where u.hour + interval '1 hour' <= c.clock order by u.hour desc limit 1"
    ).fetchone()
    if row is None:
        return False
    hour, clock = row[0].astimezone(UTC), row[1]
    with connection.transaction():
        writers_turn(connection)
        connection.execute("delete from activity_unsummed where hour = %s", (hour,))
        _pack(connection, hour, 1)
        day = hour.replace(hour=0)
        waits = connection.execute(
            "select 1 from activity_unsummed where hour >= %s and hour < %s limit 1", (day, day + DAY * HOUR)
        ).fetchone()
        if waits is None and day + DAY * HOUR <= clock:
            _pack(connection, day, DAY)
    return True


def _pack(connection: psycopg.Connection[Any], first: datetime, hours: int) -> None:
    with connection.cursor() as cursor:
        columns = arrays(
            cursor,
            KINDS,
            f"select {COUNTED} from activity where hour >= %s and hour < %s group by device_id order by device_id",
            (first, first + hours * HOUR),
        )
    found = Counts.of(first, hours, columns)
    connection.execute(
        "insert into activity_summed (first, hours, messages, body) values (%s, %s, %s, %s) on conflict (first, hours)"
        " do update set messages = excluded.messages, body = excluded.body, made = excluded.made",
        (first, hours, int(found.counts[0].sum()), found.packed()),
    )


def messages_by_hour(cursor: Any, first: datetime, end: datetime) -> dict[datetime, int]:
    """How many messages came in each hour, of all devices."""
    cursor.execute(
        "with u as (select hour from activity_unsummed where hour >= %(first)s and hour < %(end)s)"
        " select first, messages from activity_summed where hours = 1 and first >= %(first)s and first < %(end)s and"
        " first not in (select hour from u) union all"
        " select hour, sum(messages) from activity join u using (hour) group by 1",
        {"first": first, "end": end},
    )
    return {hour: int(count) for hour, count in cursor.fetchall()}


def counts(cursor: Any, first: datetime, end: datetime, only: np.ndarray | None = None) -> Iterator[Counts]:
    """What was counted in a span that begins with a whole hour, in its order: by the day where that is packed, else by
    the hour. only: int64 (n,), devices; where they are few, what is not packed is read of these alone.
    """
    cursor.execute(
        "select first, hours, made from activity_summed s where first >= %(first)s and first < %(end)s and (hours = 1"
        " or first + hours * interval '1 hour' <= %(end)s) and not exists (select 1 from activity_unsummed u where"
        " u.hour >= s.first and u.hour < s.first + s.hours * interval '1 hour') order by first, hours desc",
        {"first": first, "end": end},
    )
    chosen, spans, since = [], [], first
    for begin, hours, made in cursor.fetchall():
        if begin >= since:
            if begin > since:
                spans.append((since, begin))
            chosen.append((begin, hours, made))
            since = begin + hours * HOUR
    if since < end:
        spans.append((since, end))
    found = [*_read(cursor, chosen), *_by_hour(cursor, spans, only)]
    yield from sorted(found, key=lambda part: part.first)


def _read(cursor: Any, chosen: Sequence[tuple[datetime, int, UUID]]) -> Iterator[Counts]:
    known = {made: kept.get(made) for _, _, made in chosen}
    wanted = [one for one in chosen if known[one[2]] is None]
    yield from (found for found in known.values() if found is not None)
    if wanted:
        cursor.execute(
            "select s.first, s.hours, s.made, s.body from unnest(%s::timestamptz[], %s::smallint[]) u(first, hours)"
            " join activity_summed s using (first, hours)",
            ([first for first, _, _ in wanted], [hours for _, hours, _ in wanted]),
        )
        for first, hours, made, body in cursor.fetchall():
            found = Counts.unpacked(first, hours, bytes(body))
            kept.put(made, found, 72 * len(found.device))
            yield found


def _by_hour(cursor: Any, spans: Sequence[tuple[datetime, datetime]], only: np.ndarray | None) -> Iterator[Counts]:
    if not spans:
        return
    few = only.tolist() if only is not None and len(only) <= FEW else None
    hour, *columns = arrays(
        cursor,
        ("time", *KINDS),
        "select hour, device_id, messages, failed, cells, gone, delays, delay_sum, case when delays > 0 then delay_max"
        " else 'NaN' end, case when delays > 0 then delay_min else 'NaN' end from unnest(%(low)s::timestamptz[],"
        " %(high)s::timestamptz[]) k(low, high) join activity on hour >= low and hour < high"
        f"{' where device_id = any(%(only)s)' if few is not None else ''}",
        {
            "low": [low for low, _ in spans],
            "high": [high for _, high in spans],
            "only": few,
        },
    )
    order = np.lexsort((columns[0], hour))
    hour, columns = hour[order], [column[order] for column in columns]
    edges = np.flatnonzero(np.diff(hour, prepend=NEVER, append=NEVER))
    for a, b in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        yield Counts.of(moment(int(hour[a])), 1, [column[a:b] for column in columns])


@dataclass
class Sums:
    """What was counted of devices, an entry each. counts: int64 (5, n), as in Counts; delay_sum: float (n,), s;
    delay_max, clock: float (n,), s, NaN where nothing is known: clock is how far ahead it is, by the median of the
    shortest delays of the hours (of whole days: of their medians). tells: bool (n,), whether payloads have a time of
    their own.
    """

    counts: np.ndarray
    delay_sum: np.ndarray
    delay_max: np.ndarray
    clock: np.ndarray
    tells: np.ndarray


def sums(cursor: Any, first: datetime, end: datetime, devices: np.ndarray) -> Sums:
    """Of each device what was counted in whole hours from `first` on. devices: int64 (n,), rising."""
    n = len(devices)
    found = Sums(np.zeros((5, n), np.int64), np.zeros(n), np.full(n, np.nan), np.full(n, np.nan), np.zeros(n, bool))
    alike: dict[bytes, list[Counts]] = {}  # most parts tell of the same devices: those are added up first
    for part in counts(cursor, first, end, devices) if n else []:
        alike.setdefault(part.device.tobytes(), []).append(part)
    quickest = []
    for parts in alike.values():
        own, place = among(devices, parts[0].device)
        found.counts[:, place] += np.sum([part.counts for part in parts], axis=0)[:, own]
        found.delay_sum[place] += np.sum([part.delay_sum for part in parts], axis=0)[own]
        found.delay_max[place] = np.fmax(
            found.delay_max[place], np.fmax.reduce([part.delay_max for part in parts])[own]
        )
        found.tells[place] |= np.any([(part.counts[4] > 0) & (part.delay_sum != 0) for part in parts], axis=0)[own]
        table = np.full((n, len(parts)), np.nan)
        table[place] = np.stack([part.quickest for part in parts], axis=1)[own]
        quickest.append(table)
    found.clock[:] = -middles(np.concatenate([np.zeros((n, 0)), *quickest], axis=1))
    return found


@dataclass(frozen=True)
class Daily:
    """How late messages of devices were, by day (UTC). device: int64 (n,), rising; quickest: float (n, days), s, the
    median of the shortest delays of the hours; delay: the mean. NaN where nothing came, or has no time of its own.
    """

    device: np.ndarray
    quickest: np.ndarray
    delay: np.ndarray


def by_day(cursor: Any, first: date, end: datetime) -> Daily:
    """Of all devices, from a day on."""
    begin = datetime(first.year, first.month, first.day, tzinfo=UTC)
    days = (end.astimezone(UTC).date() - first).days + 1
    parts = list(counts(cursor, begin, end))
    none = np.zeros(0, np.int64)
    device = np.unique(np.concatenate([none, *(part.device for part in parts)]))
    total, count = np.zeros((2, len(device), days))
    quickest = np.full((len(device), days), np.nan)
    hourly: dict[int, list[Counts]] = {}
    for part in parts:
        day = (part.first - begin).days
        place = np.searchsorted(device, part.device)
        total[place, day] += part.delay_sum
        count[place, day] += part.counts[4]
        if part.hours == DAY:
            quickest[place, day] = part.quickest
        else:
            hourly.setdefault(day, []).append(part)
    for day, own in hourly.items():
        number = np.repeat(np.arange(len(own)), [len(part.device) for part in own])
        owner = np.concatenate([part.device for part in own])
        owners, table = as_table(owner, number, np.concatenate([part.quickest for part in own]), len(own))
        quickest[np.searchsorted(device, owners), day] = middles(table)
    late = (count > 0) & (total != 0)
    delay = np.divide(total, count, out=np.full(total.shape, np.nan), where=late)
    return Daily(device, np.where(late, quickest, np.nan), delay)
