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

from oculum.arrays import objects
from oculum.history.packing import Block, pack, unpack
from server.store.faults import of_the_database
from server.store.rows import COLUMNS, json_of, listed, named, row_values
from server.store.times import moment, us
from server.store.turns import writers_turn

log = logging.getLogger("oculum.again")

DAY_US = 86_400_000_000
EPOCH = date(1970, 1, 1)
SETTLES = timedelta(days=1)  # how long after its end a day is sealed
STILL_COMING = timedelta(hours=1)  # a day that something has come for since then waits for the next day
SEALED = "device_id, day, layout_id, rows, received, medians, body"
MOST_DAYS_BACK = 400
BEHIND = 5_000  # messages that wait: the engine goes first
AT_ONCE = 150  # days of devices that are sealed, or opened, in a transaction
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
class Part:
    """Sealed rows of a device and layout."""

    device: int
    layout: int
    block: Block


def measured(
    cursor: Any, devices: Sequence[int], wanted: Wanted, first: int, last: int, texts: bool = False, most: int = 0
) -> Iterator[Part]:
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
            "select s.device_id, s.layout_id, s.body from (select device_id, day, layout_id, sum(rows) over (partition"
            " by layout_id order by day desc) - sum(rows) over (partition by layout_id, day) as newer from"
            f" reading_sealed where {which}) x join reading_sealed s using (device_id, day, layout_id) where x.newer <"
            " %(most)s"
        )
    else:
        query = f"select device_id, layout_id, body from reading_sealed where {which}"
    cursor.execute(query, values)
    for device, layout, body in cursor.fetchall():
        block = unpack(body, wanted[layout], texts)
        if block.at[0] < first or block.at[-1] >= last:
            block = block.rows((block.at >= first) & (block.at < last))
        if len(block):
            yield Part(device, layout, block)


def page(
    cursor: Any, devices: Sequence[int], wanted: Wanted, first: int, last: int, newest_first: bool, most: int
) -> list[Part]:
    """Whole days of rows measured in [first, last) (µs), from its beginning or its end on, until more than `most` rows
    are found, or all there are; texts and all.
    """
    cursor.execute(
        "select day, sum(rows) from reading_sealed where device_id = any(%s) and layout_id = any(%s) and day between %s"
        " and %s group by 1 order by 1" + (" desc" if newest_first else ""),
        (list(devices), list(wanted), day_of(first), day_of(last - 1)),
    )
    parts: list[Part] = []
    days = [((day - EPOCH).days * DAY_US, int(rows)) for day, rows in cursor.fetchall()]
    count = start = 0
    while count <= most and start < len(days):
        some = [days[start][0]]
        expected, start = days[start][1], start + 1
        while expected <= most and start < len(days):
            some.append(days[start][0])
            expected, start = expected + days[start][1], start + 1
        inside = max(first, min(some)), min(last, max(some) + DAY_US)
        found = list(measured(cursor, devices, wanted, *inside, texts=True))
        count += sum(len(part.block) for part in found)
        parts += found
    return parts


def arrived(
    cursor: Any, devices: Sequence[int], wanted: Wanted | None, first: int, last: int, texts: bool = False
) -> Iterator[Part]:
    """Rows of some devices that arrived in [first, last) (µs), of all layouts and columns where none are said."""
    cursor.execute(
        "select device_id, layout_id, body from reading_sealed where received && tstzrange(to_timestamp(%s / 1e6),"
        " to_timestamp(%s / 1e6)) and device_id = any(%s) and (%s::int[] is null or layout_id = any(%s))",
        (first, last, list(devices), *[list(wanted) if wanted is not None else None] * 2),
    )
    for device, layout, body in cursor.fetchall():
        block = unpack(body, wanted[layout] if wanted is not None else None, texts)
        inside = (block.received >= first) & (block.received < last)
        if inside.any():
            yield Part(device, layout, block if inside.all() else block.rows(inside))


def backwards(
    cursor: Any, devices: set[int], wanted: Wanted, until: int, since: int, texts: bool = False
) -> Iterator[list[Part]]:
    """Day by day backwards, from each device its newest day that is not read yet, as long as it is in `devices`: rows
    measured in [since, until] (µs). Who has found what it looks for takes the device out.
    """
    before = {device: day_of(until) + timedelta(days=1) for device in devices}
    while devices:
        asked = sorted(devices & before.keys())
        cursor.execute(
            "select s.device_id, s.layout_id, s.day, s.body from unnest(%s::int[], %s::date[]) k(device, before),"
            " lateral (select max(day) as day from reading_sealed where device_id = k.device and day < k.before and"
            " day >= %s and layout_id = any(%s)) m join reading_sealed s on s.day = m.day"
            " where s.device_id = k.device and s.layout_id = any(%s)",
            (asked, [before[d] for d in asked], day_of(since), list(wanted), list(wanted)),
        )
        rows = cursor.fetchall()
        if not rows:
            return
        found = []
        before = {}
        for device, layout, day, body in rows:
            before[device] = day
            block = unpack(body, wanted[layout], texts)
            inside = (block.at >= since) & (block.at <= until)
            if inside.any():
                found.append(Part(device, layout, block if inside.all() else block.rows(inside)))
        yield found


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
def open_for(connection: psycopg.Connection[Any], keys: Iterable[tuple[int, int]]) -> None:
    """Opens the sealed days of devices and moments (µs) at which something is about to be written. Has the turn."""
    row = connection.execute("select day from sealed_before").fetchone()
    if row is None:
        return
    edge = (row[0] - EPOCH).days * DAY_US
    late = {(device, day_of(at)) for device, at in keys if at < edge}
    if late:
        devices, days = zip(*late, strict=True)
        _opened(
            connection,
            "delete from reading_sealed s using unnest(%s::int[], %s::date[]) k(device, day) where s.device_id ="
            " k.device and s.day = k.day returning s.device_id, s.layout_id, s.body",
            (list(devices), list(days)),
        )


def open_arrived(connection: psycopg.Connection[Any], devices: Sequence[int], first: int, last: int) -> None:
    """Opens all days of devices that hold something that arrived in [first, last] (µs). Has the turn."""
    _opened(
        connection,
        "delete from reading_sealed where received && tstzrange(to_timestamp(%s / 1e6), to_timestamp(%s / 1e6), '[]')"
        " and device_id = any(%s) returning device_id, layout_id, body",
        (first, last, list(devices)),
    )


def open_ahead(connection: psycopg.Connection[Any], devices: Sequence[int], first: int, last: int) -> None:
    """The same, some days at a time and each with a turn of its own, so that the stream goes on in between."""
    while True:
        with connection.transaction():
            writers_turn(connection)
            count = _opened(
                connection,
                "delete from reading_sealed where ctid = any(array(select ctid from reading_sealed where received &&"
                " tstzrange(to_timestamp(%s / 1e6), to_timestamp(%s / 1e6), '[]') and device_id = any(%s) limit %s))"
                " returning device_id, layout_id, body",
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
        for device, layout, body in packed:
            block = unpack(body)
            moments = [_moments(column) for column in (block.at, block.received)]
            for row in range(len(block)):
                nums, texts, missing = stored_row(block, row)
                numbers = int(block.version[row]), int(block.message[row])
                copy.write_row(
                    (device, moments[0][row], layout, *numbers, moments[1][row], nums, texts, _json(missing))
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
        portion, self.waiting = self.waiting[:AT_ONCE], self.waiting[AT_ONCE:]
        try:
            self.late |= _seal(connection, portion, clock - STILL_COMING)
        except Exception as error:
            if isinstance(error, psycopg.Error) and of_the_database(error, connection):
                raise
            log.exception("days of %d devices could not be sealed and stay as they are", len(portion))
            self.unable.update(portion)
        return True


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
    keys = [device for device, _ in days], [day for _, day in days]
    with connection.cursor(binary=True) as cursor:
        rows = cursor.execute(
            f"select k.day, {listed('r')}, {PRINT} from {OF_DAYS.format(',')} order by 2, 1, 4, 3", keys
        ).fetchall()
    late = {(row[1], row[0]) for row in rows if row[6] > quiet_since}
    rows = [row for row in rows if (row[1], row[0]) not in late]
    if not rows:
        return late
    days = [day for day in days if day not in late]
    keys = [device for device, _ in days], [day for _, day in days]
    seen = functools.reduce(operator.xor, (row[-1] for row in rows))
    packed = []
    for (device, day, layout), own in itertools.groupby(rows, lambda row: (row[1], row[0], row[3])):
        block = _block(list(own))
        received = Range(moment(int(block.received.min())), moment(int(block.received.max())), "[]")
        packed.append((device, day, layout, len(block), received, _medians(block.nums), pack(block)))
    with connection.transaction():
        writers_turn(connection)
        gone = connection.execute(
            f"with gone as (delete from {OF_DAYS.format(' using')} returning {PRINT} as print) select count(*),"
            " bit_xor(print) from gone",
            keys,
        ).fetchone()
        if gone != (len(rows), seen):
            raise psycopg.Rollback
        with (
            connection.cursor() as cursor,
            cursor.copy(f"copy reading_sealed ({SEALED}) from stdin (format binary)") as copy,
        ):
            copy.set_types(["int4", "date", "int4", "int4", "tstzrange", "float8[]", "bytea"])
            for one in packed:
                copy.write_row(one)
    return late


def _medians(nums: np.ndarray) -> list[float | None]:
    """Of each column; None where there is no number."""
    found: list[float | None] = []
    for column in nums.T:
        own = column[np.isfinite(column)]
        found.append(float(np.median(own)) if len(own) else None)
    return found


def _block(rows: list[Any]) -> Block:
    """Rows of one device, day and layout as columns: day, then as in COLUMNS."""
    _, _, at, _, version, message, received, nums, texts, missing, _ = zip(*rows, strict=True)
    return Block(
        np.array([us(value) for value in at], np.int64),
        np.array([us(value) for value in received], np.int64),
        np.array(message, np.int64),
        np.array(version, np.int64),
        np.array([[np.nan if v is None else v for v in row] for row in nums], float).reshape(len(rows), -1),
        [objects(column) for column in zip(*texts, strict=True)] if texts[0] is not None else [],
        objects([orjson.dumps(m) if m else None for m in missing]) if any(missing) else None,
    )
