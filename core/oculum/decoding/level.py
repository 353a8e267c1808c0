"""The state of a batch while a decoder walks over it.

A level is a set of rows: the messages, or the elements of a repeat with the row each belongs to. A
window is what its rows look at: bytes with a cursor, documents, or lines of text.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, TypeVar, cast

import numpy as np

from ..arrays import Shorts, Values, objects
from ..batches import FIRST_REASON, Column, Failure, Part, Payloads, Trace
from ..language.decoders.plan import ReadStep, UnitChoice, ValueStep
from ..language.fields import FieldSpec

T = TypeVar("T")
NO_TEXT = "code without a text"
NOWHERE = "no place on the earth"  # a latitude beyond 90 degrees, or a longitude beyond 180
NO_DATE = "no date of the calendar"  # before the year 1, or after 9999
FIRST_US, LAST_US = -62_135_596_800_000_000, 253_402_300_799_999_999
NOT_FINITE = "not a number"
NO_EARLIER = "no earlier message"
NO_MOMENT = int(np.iinfo(np.int64).min)


@lru_cache(maxsize=64)
def ones(count: int) -> np.ndarray:
    """The state of a column in which every row has a value; shared, never written."""
    found = np.ones(count, np.int16)
    found.flags.writeable = False
    return found


@lru_cache(maxsize=64)
def everyone(count: int) -> np.ndarray:
    """All row numbers; shared, never written."""
    found = np.arange(count)
    found.flags.writeable = False
    return found


def blank(spec: FieldSpec, count: int) -> Column:
    """A column of `count` rows with nothing in it."""
    return Column(empty_values(spec, count), np.zeros(count, np.int16))


def empty_values(spec: FieldSpec, count: int) -> np.ndarray:
    if spec.kind == "position":
        return np.zeros((count, 2))
    if spec.kind == "text":
        return np.full(count, None, object)
    if spec.kind == "time":
        return np.zeros(count, np.int64)
    return np.zeros(count, np.uint64) if spec.wide else np.zeros(count)


def coded(numbers: np.ndarray, step: ReadStep | ValueStep) -> tuple[np.ndarray, np.ndarray]:
    """The codes of a line as its field has them, and which have a text (bool (n,)). numbers: as they are stored."""
    own = step.moved or tuple((n, n) for n, _ in step.spec.codes)
    known = np.isin(numbers, [n for n, _ in own if n >= 0])
    result = numbers
    if step.moved:
        table = np.array(sorted(own), float)
        place = np.minimum(np.searchsorted(table[:, 0], numbers), len(table) - 1)
        result = np.where(known, table[place, 1], numbers)
    other = dict(own).get(-1)
    return (result, known) if other is None else (np.where(known, result, float(other)), np.ones(len(known), bool))


def kept(step: object, name: str, make: Callable[[], T]) -> T:
    """What is made of a line of a plan, once; the line keeps it."""
    found = step.__dict__.get(name, step)
    if found is step:
        found = make()
        object.__setattr__(step, name, found)
    return cast(T, found)


@dataclass
class Batch:
    """What all levels share."""

    payloads: Payloads
    trace: Trace | None
    failure: np.ndarray
    byte: np.ndarray
    failures: list[Failure] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)
    reason_codes: dict[str, int] = field(default_factory=dict)
    parts: list[Part] = field(default_factory=list)
    deaths: int = 0  # rises with every failure, so that a block knows when to look again
    tail: int = 0
    counted: np.ndarray | None = None  # elements of repeats, by message
    tags: bool = False  # values of CBOR keep their tags

    @property
    def traced_from(self) -> int:
        """Where the message that is traced begins in the buffer."""
        return int(self.payloads.starts[self.trace.row]) if self.trace is not None else 0

    def reason(self, text: str) -> int:
        code = self.reason_codes.get(text)
        if code is None:
            self.reasons.append(text)
            code = self.reason_codes[text] = FIRST_REASON + len(self.reasons) - 1
        return code

    def state_of(self, state: Any, count: int) -> np.ndarray:
        """States of an expression as those of a column: what is no number gets a reason."""
        if not isinstance(state, np.ndarray):
            if state == 1:
                return ones(count)
            state = np.full(count, int(state), np.int16)
        found = np.broadcast_to(state, (count,)).astype(np.int16)
        odd = found < 0
        if odd.any():
            found = np.where(odd, self.reason(NOT_FINITE), found).astype(np.int16)
        return found


class Window:
    """What rows look at. start, end: byte positions in `data` (int64 (n,)).

    The cursor is a bit position a row, or, while all rows stand equally far from their start, that
    distance in bytes. `short` is the failure when the window ends too early: a part whose length the
    message states itself is malformed then. `table`: first byte, step and length, where all rows have
    one length and follow each other.
    """

    def __init__(
        self, kind: str, data: np.ndarray, start: np.ndarray, end: np.ndarray, short: str = "too short"
    ) -> None:
        self.kind = kind  # bytes, document, text
        self.data = data
        self.start = start
        self.end = end
        self.short = short
        self.called = "the payload" if short == "too short" else "the part"
        self.offset: int | None = 0
        self.begun: np.ndarray | None = None  # where this turn of a repeat begins, if not at its start
        self._cursor: np.ndarray | None = None
        self._docs: list[Any] | None = None
        self.again: Callable[[], list[Any]] | None = None  # parses the documents that were let go
        self.named = False  # a document is a SenML record, by its names
        self.table: tuple[int, int, int] | None = None
        self.last: int | np.ndarray | None = None  # where the line before stood, for `same`
        self.records: Any = None  # Records, see records.py
        self.columns: list[list[str]] | None = None
        self.separator = ""
        self.found: dict[tuple[str, ...], Any] = {}  # what stands at paths, for all rows: a list, or read as numbers
        self.groups: list[Any] | None = None
        self.origin: np.ndarray | None = None
        self.base = ""  # where the bytes come from, when they are not the message's own
        self.read: int = 0
        self.read_to: np.ndarray | None = None
        self.pending: list[tuple[str, str] | None] | None = None  # what is wrong with an element from the start
        self.safe = 0  # so many bytes from every start lie within the window
        self.own = True  # its bytes are those of the message, and a place in it can be shown

    @property
    def docs(self) -> list[Any] | None:
        if self._docs is None and self.again is not None:
            self._docs, self.again = self.again(), None
        return self._docs

    @docs.setter
    def docs(self, docs: list[Any] | None) -> None:
        self._docs, self.again = docs, None

    @property
    def lengths(self) -> np.ndarray:
        return self.end - self.start

    @property
    def cursor(self) -> np.ndarray:
        if self._cursor is None:
            self._cursor = (self.start + (self.offset or 0)) * 8
            self.offset = None
        return self._cursor

    @cursor.setter
    def cursor(self, bits: np.ndarray) -> None:
        self._cursor, self.offset = bits, None

    def seek(self, offset: int) -> None:
        """All rows to `offset` bytes behind their start."""
        self._cursor, self.offset = None, offset

    def note_read(self, rows: np.ndarray, ends: np.ndarray) -> None:
        """Bytes up to `ends` (positions in `data`) are read."""
        if self.read_to is None:
            self.read_to = self.start + self.read
        self.read_to[rows] = np.maximum(self.read_to[rows], ends)

    def unread(self) -> np.ndarray:
        """Bytes behind the last one read (int64 (n,))."""
        done = self.start + self.read if self.read_to is None else np.maximum(self.read_to, self.start + self.read)
        return np.maximum(self.end - done, 0)


class Level:
    """Rows with their columns. parent and up: the level above, and the row there (int64 (n,))."""

    def __init__(
        self,
        batch: Batch,
        count: int,
        window: Window,
        parent: Level | None = None,
        up: np.ndarray | None = None,
        at: np.ndarray | None = None,
    ) -> None:
        self.batch = batch
        self.count = count
        self.window = window
        self.root_window = window
        self.parent = parent
        self.up = up
        self.columns: dict[str, Column] = {}
        self.raws: dict[str, tuple[np.ndarray, np.ndarray | None]] = {}
        self.alive = np.ones(count, bool)
        self.at: np.ndarray = (
            at
            if at is not None
            else batch.payloads.received_us.copy()
            if parent is None or up is None
            else parent.at[up]
        )
        self.device: np.ndarray | None = None
        self.index: np.ndarray | None = None
        self.children: dict[int, list[Level]] = {}
        self.ran: dict[int, np.ndarray] = {}
        self.moments: dict[str, np.ndarray] = {}  # own times of fields
        self.given: dict[str, FieldSpec] = {}  # fields that are readings, in their order
        self.sent: dict[str, tuple[UnitChoice, np.ndarray]] = {}  # in which unit each row came, where it keeps it
        self.codes: dict[str, dict[int, str]] = {}  # texts of the codes that have been read
        self.boundary: tuple[str, np.ndarray] | None = None  # an `apart` block: its word, rows refused in it
        self.carry: dict[str, Column] = {}
        self.late: list[tuple[Any, np.ndarray]] = []
        self.handed: list[Any] = []
        self.stamped: np.ndarray | None = None
        self.list_path: tuple[Any, ...] | None = None  # of the list that the elements stand in

    # rows ---------------------------------------------------------------------
    def full(self, rows: np.ndarray) -> bool:
        return len(rows) == self.count

    def stamp(self, rows: np.ndarray, moments: np.ndarray) -> None:
        """Rows were measured at a moment (int64, µs). What has been read of them in repeats moves along, unless it was
        read under a stamp before this one.
        """
        if self.stamped is None:
            self.stamped = np.zeros(self.count, bool)
        by = np.zeros(self.count, np.int64)
        by[rows] = np.where(self.stamped[rows], 0, moments - self.at[rows])
        self.at[rows] = moments
        self.stamped[rows] = True
        self._move(by)

    def _move(self, by: np.ndarray) -> None:
        for child in (child for children in self.children.values() for child in children):
            assert child.up is not None
            own = by[child.up]
            if child.stamped is not None:
                own = np.where(child.stamped, 0, own)
            if own.any():
                child.at = child.at + own
                child._move(own)

    def moments_of(self, name: str) -> np.ndarray:
        """When a field was measured in each row: at a moment of its own, else at that of the row."""
        own = self.moments.get(name)
        return self.at if own is None else np.where(own == NO_MOMENT, self.at, own)

    def living(self, rows: np.ndarray) -> np.ndarray:
        return rows[self.alive[rows]] if self.batch.deaths else rows

    def traced(self, rows: np.ndarray) -> list[int]:
        """Which of these rows, by their place among them, belong to the message that is traced."""
        trace = self.batch.trace
        return [] if trace is None else np.flatnonzero(self.message(rows) == trace.row).tolist()

    def message(self, rows: np.ndarray) -> np.ndarray:
        """Rows of the batch that these rows belong to."""
        level: Level = self
        while level.parent is not None and level.up is not None:
            rows = level.up if rows is everyone(level.count) else level.up[rows]
            level = level.parent
        return rows

    def fail(self, rows: np.ndarray, code: str, text: str, line: int, byte: Any = -1) -> None:
        """Refuses rows: up to the message, or to the part that stands for itself."""
        if len(rows) == 0:
            return
        batch = self.batch
        batch.failures.append(Failure(code, text, line))
        number = len(batch.failures) - 1
        batch.deaths += len(rows)
        level: Level = self
        while True:
            level.alive[rows] = False
            if level.boundary is not None:
                refused = level.boundary[1]
                fresh = np.unique(rows[refused[rows] < 0])
                refused[fresh] = number
                return
            if level.parent is None or level.up is None:
                fresh = batch.failure[rows] < 0
                batch.failure[rows[fresh]] = number
                batch.byte[rows[fresh]] = byte if np.ndim(byte) == 0 else np.asarray(byte)[fresh]
                return
            if np.ndim(byte):
                byte = -1
            rows = np.unique(level.up[rows])
            level = level.parent

    def too_short(self, rows: np.ndarray, begin: np.ndarray, width: int, line: int, name: str) -> None:
        window = self.window
        code = window.short
        what = window.called
        lengths = (window.end - window.start)[rows]
        for at in np.unique(begin)[:16]:
            some = begin == at
            for length in np.unique(lengths[some])[:16]:
                chosen = rows[some & (lengths == length)]
                where = f"byte {at}" if width == 1 else f"bytes {at} to {at + width - 1}"
                if at < 0:
                    where = f"{-at} bytes before it begins"
                plural = "" if length == 1 else "s"
                self.fail(
                    chosen, code, f"{what} has {length} byte{plural}; {name} stands in {where}", line, int(length)
                )
        rest = rows[self.alive[rows]]
        self.fail(rest, code, f"{what} ends before {name}", line)

    # columns ------------------------------------------------------------------
    def put(self, spec: FieldSpec, rows: np.ndarray, values: np.ndarray, state: np.ndarray) -> None:
        if spec.kind == "code":
            self.codes[spec.name] = dict(spec.codes)
        if self.full(rows) and spec.name not in self.columns:
            self.columns[spec.name] = Column(values, state)
            return
        column = self.columns.get(spec.name)
        if column is None:
            column = self.columns[spec.name] = blank(spec, self.count)
        else:
            if not column.values.flags.writeable:
                column.values = column.values.copy()
            if not column.state.flags.writeable:
                column.state = column.state.copy()
        if spec.wide and column.values.dtype.kind in "iuf" and column.values.dtype != values.dtype:
            # Signed and unsigned ones have no number in common that holds both.
            column.values = objects(map(int, column.values.tolist()))
        if column.values.dtype == object and spec.wide:
            values = objects(map(int, values.tolist()))
        if values.dtype != column.values.dtype and column.values.dtype != object:
            column.values = column.values.astype(
                np.result_type(values.dtype, column.values.dtype) if column.state.any() else values.dtype
            )
        column.values[rows] = values
        column.state[rows] = state

    def put_raw(self, name: str, rows: np.ndarray, raw: np.ndarray) -> None:
        if self.full(rows):
            self.raws[name] = (raw, None)
            return
        kept = self.raws.get(name)
        if kept is None or kept[1] is None:
            kept = (
                np.zeros(self.count, raw.dtype) if kept is None else kept[0].copy(),
                np.zeros(self.count, bool) if kept is None else np.ones(self.count, bool),
            )
            self.raws[name] = kept
        known = kept[1]
        assert known is not None
        kept[0][rows], known[rows] = raw, True

    def find(self, name: str) -> tuple[Level, Column] | None:
        level: Level | None = self
        while level is not None:
            column = level.columns.get(name)
            if column is not None:
                return level, column
            level = level.parent
        return None

    def climb(self, rows: np.ndarray, target: Level) -> np.ndarray:
        """Rows of `target`, a level above, that these rows belong to."""
        level: Level = self
        while level is not target:
            assert level.parent is not None and level.up is not None
            rows = level.up[rows]
            level = level.parent
        return rows

    def inner(self, number: int) -> Level | None:
        """All elements of one repeat under this level, as one level."""
        found = self.children.get(number)
        if not found:
            return None
        if len(found) > 1:
            found[:] = [merged(found)]
        return found[0]

    def let_go(self) -> None:
        """Gives the documents back at once: levels speak of each other, and would keep them until they are searched
        for.
        """
        for pieces in self.children.values():
            for piece in pieces:
                piece.let_go()
        self.window.docs = None
        self.window.found.clear()
        self.root_window.docs = None
        self.root_window.found.clear()

    def all_inner(self) -> list[Level]:
        return [level for number in list(self.children) if (level := self.inner(number)) is not None]


def merged(levels: list[Level]) -> Level:
    """Levels under the same parent as one: rows one after the other."""
    if len(levels) == 1:
        return levels[0]
    first = levels[0]
    counts = [level.count for level in levels]
    total = sum(counts)
    offsets = np.concatenate([[0], np.cumsum(counts)])
    up = np.concatenate([level.up for level in levels if level.up is not None])
    result = Level(first.batch, total, first.window, first.parent, up)
    result.alive = np.concatenate([level.alive for level in levels])
    result.at = np.concatenate([level.at for level in levels])
    if any(level.index is not None for level in levels):
        result.index = np.concatenate(
            [level.index if level.index is not None else np.zeros(level.count, np.int64) for level in levels]
        )
    if any(level.stamped is not None for level in levels):
        result.stamped = np.concatenate(
            [level.stamped if level.stamped is not None else np.zeros(level.count, bool) for level in levels]
        )
    if any(level.device is not None for level in levels):
        result.device = np.concatenate(
            [level.device if level.device is not None else np.full(level.count, None, object) for level in levels]
        )
    for level in levels:
        result.given.update(level.given)
        result.codes.update(level.codes)
    for name in dict.fromkeys(name for level in levels for name in level.sent):
        choice = next(level.sent[name][0] for level in levels if name in level.sent)
        none = [np.full(level.count, -1, np.int16) for level in levels]
        arms = [lv.sent[name][1] if name in lv.sent else no for lv, no in zip(levels, none, strict=True)]
        result.sent[name] = choice, np.concatenate(arms)
    for name in dict.fromkeys(name for level in levels for name in level.columns):
        sample = next(level.columns[name] for level in levels if name in level.columns)
        values: list[Values] = []
        states: list[Shorts] = []
        for level in levels:
            column = level.columns.get(name)
            if column is None:
                shape = (level.count, *sample.values.shape[1:])
                values.append(
                    np.full(shape, None, object)
                    if sample.values.dtype == object
                    else np.zeros(shape, sample.values.dtype)
                )
                states.append(np.zeros(level.count, np.int16))
            else:
                values.append(column.values)
                states.append(column.state)
        if len({part.dtype.kind for part in values} & {"i", "u"}) == 2:  # which have no number in common for both
            values = [part.astype(object) for part in values]
        result.columns[name] = Column(np.concatenate(values), np.concatenate(states))
    for name in dict.fromkeys(name for level in levels for name in level.moments):
        none = [np.full(level.count, NO_MOMENT) for level in levels]
        result.moments[name] = np.concatenate([lv.moments.get(name, no) for lv, no in zip(levels, none, strict=True)])
    for number in dict.fromkeys(n for level in levels for n in level.children):
        pieces = []
        for level, offset in zip(levels, offsets, strict=False):
            for child in level.children.get(number, []):
                assert child.up is not None
                child.up = child.up + offset
                child.parent = result
                pieces.append(child)
        result.children[number] = [merged(pieces)] if pieces else []
        result.ran[number] = np.concatenate([level.ran.get(number, np.zeros(level.count, bool)) for level in levels])
    for level, offset in zip(levels, offsets, strict=False):
        for handed, rows in level.handed:
            result.handed.append((handed, rows + offset))
    return result
