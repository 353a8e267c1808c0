"""Stored readings and arrivals of a span by columns, as arrays."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg

from oculum.arrays import objects
from oculum.history.packing import Block
from oculum.language.fields import FieldSpec
from server.store.arrays import as_numbers, as_texts, as_times, as_whole, cells_of
from server.store.kept import Kept
from server.store.rows import cell, is_text, slots, specs
from server.store.sealed import one_view, whole_days
from server.store.times import us

READERS = 2
PIECE = timedelta(days=1)
KEPT_S, MOST_KEPT = 90.0, 256 * 2**20  # how long days are kept, and how many bytes of them
OPTIONS = "-c statement_timeout=60s -c max_parallel_workers_per_gather=0"


@dataclass
class Columns:
    """Stored rows in the order of the stream. device, at, received (µs), message: int64 (n,).

    values: by field; numbers (n,) with NaN where there is none, positions (n, 2); texts, and integers of which some
    are wide, as objects (n,) with None where there is none.
    """

    device: np.ndarray
    at: np.ndarray
    received: np.ndarray
    message: np.ndarray
    values: dict[str, np.ndarray] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.device)

    @classmethod
    def joined(cls, parts: Sequence[Columns]) -> Columns:
        """At least one part; all of the same fields."""

        def whole(name: str) -> np.ndarray:
            return np.concatenate([getattr(part, name) for part in parts])

        values = {n: np.concatenate([part.values[n] for part in parts]) for n in parts[0].values}
        return cls(whole("device"), whole("at"), whole("received"), whole("message"), values).ordered()

    def ordered(self) -> Columns:
        """In the order of the messages."""
        if not (self.message[1:] < self.message[:-1]).any():
            return self
        return self._taken(np.argsort(self.message, kind="stable"))

    def rows(self, which: np.ndarray) -> Columns:
        """Some of them; which: bool (n,)."""
        return self if which.all() else self._taken(np.flatnonzero(which))

    def _taken(self, place: np.ndarray) -> Columns:
        values = {name: column[place] for name, column in self.values.items()}
        return Columns(self.device[place], self.at[place], self.received[place], self.message[place], values)

    def size(self) -> int:
        """About how many bytes they take."""
        arrays = (self.device, self.at, self.received, self.message, *self.values.values())
        return sum(a.nbytes * (8 if a.dtype == object else 1) for a in arrays)


@dataclass
class Piece:
    """A day of a span by arrival, in the order of its messages. share: how much of the span is read with it, 0 to 1.

    readings: values of the fields asked for. arrivals: every message, also those without readings; None where they
    were not asked for.
    """

    share: float
    readings: Columns
    arrivals: Columns | None


def pieces(
    url: str,
    type_: int,
    start: datetime,
    end: datetime,
    fields: Sequence[FieldSpec],
    arrivals: bool,
    only: Sequence[int] | None = None,
) -> Iterator[Piece]:
    """What devices of a type, or only some of them, sent that arrived in [start, end), with the readings measured since
    `start`.

    A day at a time, by several connections at once. Leaving off reading it ends the queries. Days that are over are
    kept for a minute and a half (`days`): a trial that is repeated while a limit is dragged reads them once.
    """
    with psycopg.connect(url, autocommit=True) as own:
        layouts = {i: specs(found) for i, found in own.execute("select id, fields from layout").fetchall()}
        found = own.execute(
            "select id from fleet_device where type_id = %s and (%s::int[] is null or id = any(%s))",
            (type_, only, only),
        ).fetchall()
    ids = [row[0] for row in found]
    # As a constant, which PostgreSQL looks up in a table of hashes; a parameter it would walk through. Added to nothing
    # below, so that it does not read the whole index by device for every day; a few are looked up in it.
    devices = f"'{{{','.join(map(str, ids))}}}'::int[]"
    cells = {spec: _cells(spec, layouts) for spec in fields}
    sql = (
        "select array_agg(r.device_id), array_agg(r.at), array_agg(r.received_at), array_agg(r.message_id)"
        + "".join(f", {cell}" for own_cells in cells.values() for cell in own_cells)
        + f" from reading_row r where r.received_at >= %s and r.received_at < %s and r.device_id"
        f"{'' if only is not None else ' + 0'} = any({devices})"
    )

    def read(cursor: psycopg.Cursor[Any], first: datetime, last: datetime) -> Day:
        with one_view(cursor):
            sealed = sealed_columns(cursor, ids, fields, cells, layouts, us(first), us(last))
            stored = stored_columns(cursor, first, last)
            heard = _arrivals(cursor, devices, first, last) if arrivals else None
        return Columns.joined([*sealed, stored]), heard

    def stored_columns(cursor: psycopg.Cursor[Any], first: datetime, last: datetime) -> Columns:
        row = cells_of(cursor.execute(sql, (first, last)))
        stored = Columns(as_whole(row[0], "i4"), as_times(row[1]), as_times(row[2]), as_whole(row[3], "i8"))
        place = 4
        for spec, own_cells in cells.items():
            stored.values[spec.name] = _values(spec, row[place : place + len(own_cells)])
            place += len(own_cells)
        return stored

    since = us(start)
    for share, (readings, heard) in _in_pieces(url, start, end, read, (url, sql, arrivals)):
        yield Piece(share, readings.rows(readings.at >= since), heard)


def sealed_columns(
    cursor: psycopg.Cursor[Any],
    devices: Sequence[int],
    fields: Sequence[FieldSpec],
    cells: dict[FieldSpec, list[str]],
    layouts: dict[int, dict[str, FieldSpec]],
    first: int,
    last: int,
) -> list[Columns]:
    """What is sealed of the fields, of rows that arrived in [first, last) (µs)."""
    places = {layout: {spec: _place(spec, known) for spec in fields} for layout, known in layouts.items()}
    wanted = {
        layout: [
            place[1] + more
            for spec, place in known.items()
            if place is not None and not place[0]
            for more in range(_size(spec))
        ]
        for layout, known in places.items()
    }
    texts = any(place[0] for known in places.values() for place in known.values() if place is not None)
    found = []
    for part in whole_days(cursor, devices, wanted, first, last, texts):
        block = part.block
        own = Columns(part.device, block.at, block.received, block.message)
        for spec in fields:
            own.values[spec.name] = _of_block(spec, block, places[part.layout][spec], len(cells[spec]) > _size(spec))
        found.append(own.rows((block.received >= first) & (block.received < last)))
    return found


def _size(spec: FieldSpec) -> int:
    return 2 if spec.kind == "position" else 1


def _place(spec: FieldSpec, known: dict[str, FieldSpec]) -> tuple[bool, int] | None:
    """Whether a field stands among the texts of a layout, and where, from 0."""
    found = known.get(spec.name)
    if found is None or found.kind != spec.kind:
        return None
    before = tuple(known.values())[: list(known).index(spec.name)]
    return is_text(found), sum(map(is_text, before)) if is_text(found) else slots(before)


def _of_block(spec: FieldSpec, block: Block, place: tuple[bool, int] | None, mixed: bool) -> np.ndarray:
    """Values of a field in sealed rows. mixed: whole numbers of which some are wide."""
    count = len(block)
    if spec.kind == "text":
        return block.texts[place[1]] if place is not None else np.full(count, None, object)
    if mixed:
        found = np.full(count, None, object)
        if place is not None and place[0]:
            found[:] = [None if v is None else int(v) for v in block.texts[place[1]]]
        elif place is not None:
            own = block.nums[:, place[1]]
            found = own.astype(object)
            found[np.isnan(own)] = None
        return found
    shape = (count, 2) if spec.kind == "position" else (count,)
    if place is None:
        return np.full(shape, np.nan)
    own = block.nums[:, place[1] : place[1] + _size(spec)]
    return own if spec.kind == "position" else own[:, 0]


def _arrivals(cursor: psycopg.Cursor[Any], devices: str, first: datetime, last: datetime) -> Columns:
    """Every message of some devices (an array in SQL) received in [first, last)."""
    row = cells_of(
        cursor.execute(
            "select array_agg(device_id), array_agg(received_at), array_agg(id) from message"
            f" where received_at >= %s and received_at < %s and device_id = any({devices})",
            (first, last),
        )
    )
    received = as_times(row[1])
    return Columns(as_whole(row[0], "i4"), received, received, as_whole(row[2], "i8")).ordered()


def _cells(spec: FieldSpec, layouts: dict[int, dict[str, FieldSpec]]) -> list[str]:
    """SQL for a field's values, whatever layout a row has: as number, two for a position; as text where it is so."""
    places: dict[str, dict[int, list[int]]] = {"nums": {}, "texts": {}}
    for ident, known in layouts.items():
        found = _place(spec, known)
        if found is not None:
            places["texts" if found[0] else "nums"].setdefault(found[1] + 1, []).append(ident)
    size = _size(spec)
    numbers = [f"array_agg(coalesce({cell('nums', places['nums'], k)}, 'NaN'))" for k in range(size)]
    texts = [f"array_agg({cell('texts', places['texts'])})"] if places["texts"] or spec.kind == "text" else []
    return texts if spec.kind == "text" else [*numbers, *texts]


def _values(spec: FieldSpec, cells: Sequence[bytes | None]) -> np.ndarray:
    if spec.kind == "text":
        return objects(as_texts(cells[0]))
    size = 2 if spec.kind == "position" else 1
    parts = [as_numbers(cell, "f8") for cell in cells[:size]]
    if len(cells) == size:
        return parts[0] if size == 1 else np.stack(parts, axis=1)
    found = parts[0].astype(object)  # some as digits, some as numbers
    found[np.isnan(parts[0])] = None
    for i, text in enumerate(as_texts(cells[size])):
        if text is not None:
            found[i] = int(text)
    return found


Day = tuple[Columns, "Columns | None"]
Read = Callable[["psycopg.Cursor[Any]", datetime, datetime], Day]


days: Kept[Day] = Kept(MOST_KEPT, KEPT_S)  # those that are over, as they were read last


def _in_pieces(
    url: str, start: datetime, end: datetime, read: Read, key: tuple[Hashable, ...]
) -> Iterator[tuple[float, Day]]:
    """Each day of a span by UTC, in order; several are read at once. key: what they are read by."""
    edges = [start]
    while edges[-1] < end:
        midnight = edges[-1].astimezone(UTC).replace(hour=0, minute=0, second=0, microsecond=0) + PIECE
        edges.append(min(midnight, end))
    free: list[psycopg.Connection[Any]] = []
    connections: list[psycopg.Connection[Any]] = []

    def connected() -> psycopg.Connection[Any]:
        try:
            return free.pop()
        except IndexError:  # each reader makes its own, where there is a day to read
            own = psycopg.connect(url, autocommit=True, application_name="oculum trial", options=OPTIONS)
            connections.append(own)
            return own

    def one(first: datetime, last: datetime) -> Day:
        over = last - first == PIECE and last < datetime.now(UTC)
        found = days.get((*key, first)) if over else None
        if found is not None:
            return found
        own = connected()
        try:
            with own.cursor(binary=True) as cursor:
                found = read(cursor, first, last)
        finally:
            free.append(own)
        if over:
            days.put((*key, first), found, sum(columns.size() for columns in found if columns is not None))
        return found

    pool = ThreadPoolExecutor(READERS, "oculum trial")
    waiting: list[Future[tuple[Columns, Columns | None]]] = []
    try:
        waiting = [pool.submit(one, first, last) for first, last in zip(edges, edges[1:], strict=False)]
        count = len(waiting)
        for done in range(count):
            yield (done + 1) / count, waiting.pop(0).result()
    finally:
        for future in waiting:
            future.cancel()
        for own in connections:
            own.cancel_safe(timeout=5)
        pool.shutdown()
        for own in connections:
            own.close()
