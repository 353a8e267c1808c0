"""Days that are over, packed by device and layout: sealing them, opening them for what comes late, and reading them.

A row stands in `reading_row` or in a sealed day, never in both: whoever writes into a sealed day opens it first, in the
same transaction, and who seals has the writers' turn. Who reads both does so in one view of the database (`one_view`).
"""

from __future__ import annotations

import functools
import itertools
import logging
import operator
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, Concatenate, ParamSpec, TypeVar

import numpy as np
import orjson
import psycopg
from psycopg.pq import TransactionStatus
from psycopg.types.json import Jsonb
from psycopg.types.range import Range

from oculum.arrays import middles, objects
from oculum.history.packing import Block, pack, unpack
from server.store.arrays import as_numbers_by_row, as_texts, as_times, as_whole
from server.store.faults import of_the_database
from server.store.rows import COLUMNS, json_of, named, row_values
from server.store.times import moment, us
from server.store.turns import writers_turn

log = logging.getLogger("oculum.again")

DAY_US = 86_400_000_000
EPOCH = date(1970, 1, 1)
SETTLES = timedelta(days=1)  # how long after its end a day is sealed
STILL_COMING = timedelta(hours=1)  # a day that something has come for since then waits for the next day
FOUND = "s.layout_id, s.device_id, s.day, s.body"
SEALED = "device_id, day, layout_id, rows, received, medians, body"
MOST_DAYS_BACK = 400
BEHIND = 5_000  # messages that wait: the engine goes first
AT_ONCE = 150  # days of devices that are sealed, or opened, in a transaction
MOST_AT_ONCE = 200_000  # rows that are sealed in one, if a day has no more
TYPES = ["int4", "timestamptz", "int4", "int4", "int8", "timestamptz", "float8[]", "text[]", "jsonb"]
_BEGIN, _END = -719_162, 2_932_896  # days of years 1 and 9999, counted from 1970
P = ParamSpec("P")
R = TypeVar("R")
Days = set[tuple[int, date]]  # of devices
Wanted = Mapping[int, Sequence[int]]  # by layout the columns of numbers that are wanted, from 0


@contextmanager
def one_view(cursor: Any) -> Iterator[None]:
    """What is read inside is as it was at one moment; inside a transaction it is left to that."""
    if cursor.connection.info.transaction_status != TransactionStatus.IDLE or not cursor.connection.autocommit:
        yield
        return
    cursor.execute("begin isolation level repeatable read read only")
    try:
        yield
    except BaseException:
        if cursor.connection.info.transaction_status in (TransactionStatus.INTRANS, TransactionStatus.INERROR):
            cursor.execute("rollback")
        raise
    cursor.execute("commit")


def in_one_view(read: Callable[Concatenate[Any, P], R]) -> Callable[Concatenate[Any, P], R]:
    """A function of a cursor and more whose reading is as it was at one moment."""

    @functools.wraps(read)
    def at_once(cursor: Any, *more: P.args, **named: P.kwargs) -> R:
        with one_view(cursor):
            return read(cursor, *more, **named)

    return at_once


def day_of(us: int) -> date:
    """The day (UTC) of a moment in µs; before year 1 and after 9999 the first and the last."""
    return EPOCH + timedelta(days=min(max(us // DAY_US, _BEGIN), _END))


# reading ------------------------------------------------------------------------
@dataclass(frozen=True)
class Sealed:
    """Sealed rows of a layout, by device and time. device: int64 (n,), of each row."""

    layout: int
    device: np.ndarray
    block: Block

    def __len__(self) -> int:
        return len(self.device)

    def rows(self, which: np.ndarray) -> Sealed:
        """Some of them; which: bool (n,)."""
        return self if which.all() else Sealed(self.layout, self.device[which], self.block.rows(which))

    def newest(self, which: np.ndarray) -> Sealed:
        """Of each device the newest of some rows; which: bool (n,)."""
        some = self.rows(which)
        owner = some.device
        return some.rows(np.append(owner[1:] != owner[:-1], True)[: len(owner)])


def _parts(rows: Iterable[tuple[int, int, date, bytes]], wanted: Wanted | None, texts: bool) -> Iterator[Sealed]:
    """Of layout, device, day and body, in any order."""
    for layout, own in itertools.groupby(sorted(rows, key=lambda row: row[:3]), key=lambda row: row[0]):
        _, devices, _, bodies = zip(*own, strict=True)
        block, edges = unpack(bodies, wanted[layout] if wanted is not None else None, texts)
        yield Sealed(layout, np.repeat(np.array(devices, np.int64), np.diff(edges)), block)


def measured(
    cursor: Any, devices: Sequence[int], wanted: Wanted, first: int, last: int, texts: bool = False, most: int = 0
) -> list[Sealed]:
    """Rows of some devices and layouts measured in [first, last) (µs). most: of each layout only so many of the
    newest, to the day; 0: all.
    """
    values = {
        "devices": list(devices),
        "layouts": list(wanted),
        "first": day_of(first),
        "last": day_of(last - 1),
        "most": most,
    }
    which = "device_id = any(%(devices)s) and layout_id = any(%(layouts)s) and day between %(first)s and %(last)s"
    if most:
        query = (
            f"select {FOUND} from (select device_id, day, layout_id, sum(rows) over (partition"
            " by layout_id order by day desc) - sum(rows) over (partition by layout_id, day) as newer from"
            f" reading_sealed where {which}) x join reading_sealed s using (device_id, day, layout_id) where x.newer <"
            " %(most)s"
        )
    else:
        query = f"select {FOUND} from reading_sealed s where {which}"
    cursor.execute(query, values)
    return [p.rows((p.block.at >= first) & (p.block.at < last)) for p in _parts(cursor.fetchall(), wanted, texts)]


def page(
    cursor: Any, devices: Sequence[int], wanted: Wanted, first: int, last: int, newest_first: bool, most: int
) -> list[Sealed]:
    """Whole days of rows measured in [first, last) (µs), from its beginning or its end on, until more than `most` rows
    are found, or all there are; texts and all.
    """
    cursor.execute(
        "select day, sum(rows) from reading_sealed where device_id = any(%s) and layout_id = any(%s) and day between %s"
        " and %s group by 1 order by 1" + (" desc" if newest_first else ""),
        (list(devices), list(wanted), day_of(first), day_of(last - 1)),
    )
    parts: list[Sealed] = []
    days = [((day - EPOCH).days * DAY_US, int(rows)) for day, rows in cursor.fetchall()]
    count = start = 0
    while count <= most and start < len(days):
        some = [days[start][0]]
        expected, start = days[start][1], start + 1
        while expected <= most and start < len(days):
            some.append(days[start][0])
            expected, start = expected + days[start][1], start + 1
        inside = max(first, min(some)), min(last, max(some) + DAY_US)
        found = measured(cursor, devices, wanted, *inside, texts=True)
        count += sum(map(len, found))
        parts += found
    return parts


def arrived(
    cursor: Any, devices: Sequence[int], wanted: Wanted | None, first: int, last: int, texts: bool = False
) -> list[Sealed]:
    """Rows of some devices that arrived in [first, last) (µs), of all layouts and columns where none are said."""
    found = whole_days(cursor, devices, wanted, first, last, texts)
    return [p.rows((p.block.received >= first) & (p.block.received < last)) for p in found]


def whole_days(
    cursor: Any, devices: Sequence[int], wanted: Wanted | None, first: int, last: int, texts: bool = False
) -> list[Sealed]:
    """As `arrived`, with all other rows of the days in which something is that arrived then."""
    cursor.execute(
        f"select {FOUND} from reading_sealed s where received && tstzrange(to_timestamp(%s / 1e6),"
        " to_timestamp(%s / 1e6)) and device_id = any(%s::int[]) and (%s::int[] is null or layout_id = any(%s))",
        # Written down here: a list is looked at number by number to find out what it is.
        (first, last, f"{{{','.join(map(str, devices))}}}", *[list(wanted) if wanted is not None else None] * 2),
    )
    return list(_parts(cursor.fetchall(), wanted, texts))


def backwards(
    cursor: Any, devices: set[int], wanted: Wanted, until: int, since: int, texts: bool = False
) -> Iterator[list[Sealed]]:
    """Day by day backwards, from each device its newest day that is not read yet, as long as it is in `devices`: rows
    measured in [since, until] (µs). Who has found what it looks for takes the device out.
    """
    before = {device: day_of(until) + timedelta(days=1) for device in devices}
    while devices:
        asked = sorted(devices & before.keys())
        cursor.execute(
            f"select {FOUND} from unnest(%s::int[], %s::date[]) k(device, before),"
            " lateral (select max(day) as day from reading_sealed where device_id = k.device and day < k.before and"
            " day >= %s and layout_id = any(%s)) m join reading_sealed s on s.day = m.day"
            " where s.device_id = k.device and s.layout_id = any(%s)",
            (asked, [before[d] for d in asked], day_of(since), list(wanted), list(wanted)),
        )
        rows = cursor.fetchall()
        if not rows:
            return
        before = {device: day for _, device, day, _ in rows}
        yield [p.rows((p.block.at >= since) & (p.block.at <= until)) for p in _parts(rows, wanted, texts)]


def all_columns(layouts: Mapping[int, list[dict[str, Any]]]) -> dict[int, range]:
    """What is wanted where everything is. layouts: fields by layout."""
    return {layout: range(2 * len(fields)) for layout, fields in layouts.items()}


def sealed_edge(cursor: Any) -> int:
    """The moment (µs) from which on nothing is sealed."""
    cursor.execute("select day from sealed_before")
    row = cursor.fetchone()
    return (row[0] - EPOCH).days * DAY_US if row is not None else -(2**63)


Known = tuple[Any, int, int, int]  # value, measured, message, received


def with_sealed(
    cursor: Any,
    device: int,
    names: set[str],
    found: dict[str, Known],
    until: int,
    may: Callable[[Block], np.ndarray],
    whole: bool = False,
) -> dict[str, Known]:
    """What was found in the open rows of some fields, or what is sealed of them where that is newer; measured until a
    moment (µs). may: of the rows of a block those that count; whole: wide integers as such, not as digits.
    """
    edge = sealed_edge(cursor)
    older = {name for name in names if name not in found or found[name][1] < edge}
    if not older:
        return found
    cursor.execute("select id, fields from layout where fields @> any(%s::jsonb[])", (named(older),))
    layouts = {layout: json_of(fields) for layout, fields in cursor.fetchall()}
    sealed = _newest_sealed(cursor, device, layouts, older, until, may, whole)
    return found | {name: new for name, new in sealed.items() if name not in found or found[name][1] < new[1]}


def _newest_sealed(
    cursor: Any,
    device: int,
    layouts: Mapping[int, list[dict[str, Any]]],
    names: set[str],
    until: int,
    may: Callable[[Block], np.ndarray],
    whole: bool,
) -> dict[str, Known]:
    found: dict[str, Known] = {}
    wide = {layout: {f["name"] for f in fields if f.get("wide")} for layout, fields in layouts.items()}
    devices = {device}
    for days, parts in enumerate(backwards(cursor, devices, all_columns(layouts), until, -(2**62), texts=True)):
        rows = [(int(p.block.at[k]), p, k) for p in parts for k in np.flatnonzero(may(p.block)).tolist()]
        for at, part, k in sorted(rows, key=lambda row: -row[0]):
            nums, texts, _ = stored_row(part.block, k)
            for name, value in row_values(layouts[part.layout], nums, texts).items():
                if name in names and name not in found:
                    told = int(value) if whole and name in wide[part.layout] else value
                    found[name] = told, at, int(part.block.message[k]), int(part.block.received[k])
            if found.keys() == names:
                return found
        if days == MOST_DAYS_BACK:
            break
    return found


def stored_row(block: Block, row: int) -> tuple[list[float | None], list[str | None] | None, dict[str, str]]:
    """nums, texts and missing of a row, as `reading_row` has them."""
    nums = [None if np.isnan(v) else v for v in block.nums[row].tolist()]
    texts = [t[row] for t in block.texts] if block.texts else None
    missing = block.missing[row] if block.missing is not None else None
    return nums, texts, orjson.loads(missing) if missing is not None else {}


# opening ------------------------------------------------------------------------
def open_for(connection: psycopg.Connection[Any], device: np.ndarray, at: np.ndarray) -> None:
    """Opens the sealed days in which something is about to be written. device, at: int64 (n,), µs. Has the turn."""
    row = connection.execute("select day from sealed_before").fetchone()
    if row is None:
        return
    edge = (row[0] - EPOCH).days * DAY_US
    own = np.flatnonzero(at < edge)
    late = {(device, day_of(us)) for device, us in zip(device[own].tolist(), at[own].tolist(), strict=True)}
    if late:
        devices, days = zip(*late, strict=True)
        _opened(
            connection,
            "delete from reading_sealed s using unnest(%s::int[], %s::date[]) k(device, day) where s.device_id ="
            " k.device and s.day = k.day returning " + FOUND,
            (list(devices), list(days)),
        )


def open_arrived(connection: psycopg.Connection[Any], devices: Sequence[int], first: int, last: int) -> None:
    """Opens all days of devices that hold something that arrived in [first, last] (µs). Has the turn."""
    _opened(
        connection,
        "delete from reading_sealed s where received && tstzrange(to_timestamp(%s / 1e6), to_timestamp(%s / 1e6), '[]')"
        " and device_id = any(%s) returning " + FOUND,
        (first, last, list(devices)),
    )


def open_ahead(connection: psycopg.Connection[Any], devices: Sequence[int], first: int, last: int) -> None:
    """The same, some days at a time and each with a turn of its own, so that the stream goes on in between."""
    while True:
        with connection.transaction():
            writers_turn(connection)
            count = _opened(
                connection,
                "delete from reading_sealed s where ctid = any(array(select ctid from reading_sealed where received &&"
                " tstzrange(to_timestamp(%s / 1e6), to_timestamp(%s / 1e6), '[]') and device_id = any(%s) limit %s))"
                " returning " + FOUND,
                (first, last, list(devices), AT_ONCE),
            )
        if count < AT_ONCE:
            return


def _opened(connection: psycopg.Connection[Any], query: str, values: Sequence[Any]) -> int:
    with connection.cursor(binary=True) as cursor:
        packed = cursor.execute(query, values).fetchall()
    if not packed:
        return 0
    with connection.cursor() as cursor, cursor.copy(f"copy reading_row ({COLUMNS}) from stdin (format binary)") as copy:
        copy.set_types(TYPES)
        for part in _parts(packed, None, True):
            block = part.block
            moments = [_moments(column) for column in (block.at, block.received)]
            for row, device in enumerate(part.device.tolist()):
                nums, texts, missing = stored_row(block, row)
                numbers = int(block.version[row]), int(block.message[row])
                copy.write_row(
                    (device, moments[0][row], part.layout, *numbers, moments[1][row], nums, texts, _json(missing))
                )
    return len(packed)


def _moments(us: np.ndarray) -> list[Any]:
    from server.store.times import moment

    return [moment(value) for value in us.tolist()]


def _json(missing: dict[str, str]) -> Jsonb | None:
    return Jsonb(missing) if missing else None


# sealing ------------------------------------------------------------------------
OVER = "select min(clock) from engine_cursor"
BUSY = (
    "select exists (select 1 from history_decodeagain where state in ('waiting', 'running')) or exists (select 1 from"
    f" message where id > (select min(id) from engine_cursor) offset {BEHIND})"
)
OLDEST = (
    "select d.id, (x.at at time zone 'UTC')::date from fleet_device d cross join lateral (select min(at) as at from"
    " reading_row where device_id = d.id) x where x.at < %s::timestamp at time zone 'UTC' order by 2, 1"
)
OF_DAYS = (
    "reading_row r{} unnest(%s::int[], %s::date[]) k(device, day) where r.device_id = k.device and r.at >="
    " k.day::timestamp at time zone 'UTC' and r.at < (k.day + 1)::timestamp at time zone 'UTC'"
)
# Which rows, and each as it is: what is written in between changes it.
PRINT = "hashtextextended(r.ctid::text || ' ' || r.xmin::text, 0)"
# Rows by device, day and layout, whose rows have as many numbers and texts each; texts only where there are some, and
# what is missing only where something is.
COLLECTED = (
    "select r.device_id, k.day - date '1970-01-01', r.layout_id, bit_xor(" + PRINT + "), count(*), array_agg(r.at),"
    " array_agg(r.received_at), array_agg(r.message_id), array_agg(r.version_id),"
    " array_agg(array_replace(r.nums, null, 'NaN')) filter (where cardinality(r.nums) > 0),"
    " case when bool_or(r.texts is not null) then array_agg(to_jsonb(r.texts)::text) end,"
    " case when bool_or(r.missing is not null) then array_agg(r.missing::text) end"
    " from {} group by 1, 2, 3"
)


class Sealer:
    """Seals what is over, a portion at a time, behind whatever else the process has to do."""

    def __init__(self) -> None:
        self.waiting: list[tuple[int, date]] = []
        self.through: date | None = None  # up to here nothing is left
        self.unable: Days = set()
        self.late: Days = set()  # wait for the next day

    def step(self, connection: psycopg.Connection[Any]) -> bool:
        """Seals a portion; False where nothing is to be sealed."""
        clock = _clock(connection)
        if clock is None:
            return False
        edge = (clock - SETTLES).date()
        if not self.waiting:
            if edge == self.through:
                return False
            found = connection.execute(OLDEST, (edge,)).fetchall()
            self.waiting = [one for one in found if one not in self.unable | self.late]
            if not self.waiting:  # until another day is over
                self.through, self.late = edge, set()
                return False
            connection.execute(
                "insert into sealed_before (day) values (%s) on conflict (single) do update set day ="
                " greatest(sealed_before.day, excluded.day)",
                (edge,),
            )
        portion = _few(connection, self.waiting[:AT_ONCE])
        self.waiting = self.waiting[len(portion) :]
        try:
            self.late |= _seal(connection, portion, clock - STILL_COMING)
        except Exception as error:
            if isinstance(error, psycopg.Error) and of_the_database(error, connection):
                raise
            log.exception("days of %d devices could not be sealed and stay as they are", len(portion))
            self.unable.update(portion)
        return True


def _few(connection: psycopg.Connection[Any], days: Sequence[tuple[int, date]]) -> list[tuple[int, date]]:
    """The first of these, at least one, that have together not too many rows."""
    keys = [device for device, _ in days], [day for _, day in days]
    rows: dict[tuple[int, date], int] = {
        (device, day): count
        for device, day, count in connection.execute(
            f"select k.device, k.day, count(*) from {OF_DAYS.format(',')} group by 1, 2", keys
        ).fetchall()
    }
    sums = itertools.accumulate(rows.get(one, 0) for one in days)
    return list(days[: max(sum(whole <= MOST_AT_ONCE for whole in sums), 1)])


def _clock(connection: psycopg.Connection[Any]) -> datetime | None:
    """How far the engine's clock is; None while messages are decoded again, or many wait for the engine."""
    row = connection.execute(f"select ({BUSY}), ({OVER})").fetchone()
    if row is None or row[0] or row[1] is None:
        return None
    found: datetime = row[1].astimezone(UTC)
    return found


def _seal(connection: psycopg.Connection[Any], days: Sequence[tuple[int, date]], quiet_since: datetime) -> Days:
    """Seals days of devices; returns those for which something has come since a moment, which stay open. Where
    something is written into one of them meanwhile, all wait for the next time.
    """
    asked = [device for device, _ in days], [day for _, day in days]
    with connection.cursor() as cursor:
        read = _read(cursor.execute(COLLECTED.format(OF_DAYS.format(",")), asked, binary=True))
    late = {(one.device, one.day) for one in read if one.block.received.max() > us(quiet_since)}
    read = [one for one in read if (one.device, one.day) not in late]
    if not read:
        return late
    days = [day for day in days if day not in late]
    keys = [device for device, _ in days], [day for _, day in days]
    count, seen = sum(len(one.block) for one in read), functools.reduce(operator.xor, (one.print for one in read))
    packed = []
    for one in read:
        block = one.block
        received = Range(moment(int(block.received.min())), moment(int(block.received.max())), "[]")
        packed.append((one.device, one.day, one.layout, len(block), received, _medians(block.nums), pack(block)))
    with connection.transaction():
        writers_turn(connection)
        gone = connection.execute(
            f"with gone as (delete from {OF_DAYS.format(' using')} returning {PRINT} as print) select count(*),"
            " bit_xor(print) from gone",
            keys,
        ).fetchone()
        if gone != (count, seen):
            raise psycopg.Rollback
        with (
            connection.cursor() as cursor,
            cursor.copy(f"copy reading_sealed ({SEALED}) from stdin (format binary)") as copy,
        ):
            copy.set_types(["int4", "date", "int4", "int4", "tstzrange", "float8[]", "bytea"])
            for row in packed:
                copy.write_row(row)
    return late


def _medians(nums: np.ndarray) -> list[float | None]:
    """Of each column; None where there is no number."""
    found = middles(np.where(np.isfinite(nums), nums, np.nan).T)
    return [None if np.isnan(value) else value for value in found.tolist()]


@dataclass(frozen=True)
class _Read:
    """Open rows of a device, day and layout; print: which they are, each as it was."""

    device: int
    day: date
    layout: int
    print: int
    block: Block


def _read(cursor: psycopg.Cursor[Any]) -> list[_Read]:
    """What COLLECTED answers."""
    found, answer = [], cursor.pgresult
    assert answer is not None
    for row in range(answer.ntuples):
        cells = [answer.get_value(row, column) for column in range(answer.nfields)]
        device, day, layout, print_, count = (int.from_bytes(c or b"", "big", signed=True) for c in cells[:5])
        at, received = as_times(cells[5]), as_times(cells[6])
        message, version = as_whole(cells[7], "i8"), as_whole(cells[8], "i4")
        nums = as_numbers_by_row(cells[9], count)
        texts = [objects(own) for own in zip(*map(_loads, as_texts(cells[10])), strict=True)]
        gone = [orjson.dumps(_loads(told)) if told is not None else None for told in as_texts(cells[11])]
        block = Block(at, received, message, version, nums, texts, objects(gone) if gone else None)
        block = block.rows(np.lexsort((message, at)))
        found.append(_Read(device, EPOCH + timedelta(days=day), layout, print_, block))
    return found


@functools.lru_cache(maxsize=1024)
def _loads(told: str) -> Any:
    return orjson.loads(told)
