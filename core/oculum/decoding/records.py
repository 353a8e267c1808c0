"""Records of tag and size within a window: found for all rows at once, turn by turn, and looked up by tag."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from ..language import limits
from ..language.decoders.analysis import bodies
from ..language.decoders.plan import ReadStep, RecordsStep, RepeatStep, SpanStep, Step
from . import loops
from .level import Level

NONE = np.zeros(0, np.int64)

Piece = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
WRONG = {
    loops.CUT: (None, "a record is cut off"),
    loops.OVERLONG: (None, "a record says that it is longer than what is left"),
    loops.ENDLESS: ("malformed", "the number of a record has more than ten bytes or 64 bits"),
    loops.TOO_MANY: ("malformed", f"more than {limits.RECORDS} records stand in a row"),
}


class Records:
    """The records of a window. all: row, tag, start, end of each, int64 (k,), if they are listed; those of a row keep
    their order.

    For tags that the decoder reads, starts and ends of each row's last one stand ready: int64 (tags, n), -1 where there
    is none.
    """

    def __init__(self, tags: tuple[int, ...], count: int, once: bool) -> None:
        self.count, self.once = count, once
        self.slot = {tag: i for i, tag in enumerate(tags)}
        self.tags = np.array(tags, np.int64)
        self.starts, self.ends = np.full((len(tags), count), -1, np.int64), np.full((len(tags), count), -1, np.int64)
        self.all: Piece = (NONE, NONE, NONE, NONE)

    def of(self, tag: int) -> tuple[np.ndarray, np.ndarray]:
        """Start and end of each row's last record with a tag, -1 where it has none."""
        slot = self.slot.get(tag)
        if slot is not None:
            return self.starts[slot], self.ends[slot]
        row, tags, start, end = self.all
        index = np.flatnonzero(tags == tag)
        starts, ends = np.full(self.count, -1, np.int64), np.full(self.count, -1, np.int64)
        starts[row[index]], ends[row[index]] = start[index], end[index]
        return starts, ends

    def twice(self, tag: int) -> np.ndarray:
        """bool (n,): whether a row has more than one record with a tag."""
        row, tags, *_ = self.all
        found: np.ndarray = np.bincount(row[tags == tag], minlength=self.count) > 1
        return found


def listed(steps: Iterable[Step]) -> bool:
    """Whether these steps look at records one by one: in a repeat, or to know that none stands twice."""
    for step in steps:
        if (
            isinstance(step, RepeatStep)
            and step.kind == "record"
            or isinstance(step, RecordsStep | ReadStep | SpanStep)
            and step.once
        ):
            return True
        if any(map(listed, bodies(step))):
            return True
    return False


def tags_read(steps: Iterable[Step]) -> tuple[int, ...]:
    """The tags that these steps read single numbers or spans from, rising."""
    found: set[int] = set()
    for step in steps:
        if isinstance(step, ReadStep):
            found |= {raw.place.offset for raw in step.raws if raw.place.mode == "record"}
        extent = getattr(step, "extent", None)  # of spans, of parts that are opened or handed on
        if extent is not None and extent.mode == "record":
            found.add(extent.offset)
        if not isinstance(step, RepeatStep):
            for body in bodies(step):
                found |= set(tags_read(body))
    return tuple(sorted(found))


def split(level: Level, step: RecordsStep, rows: np.ndarray, tags: tuple[int, ...], all_of_them: bool) -> None:
    """Finds the records of these rows; the window has them from then on. tags: those looked up; all_of_them: whether a
    list is.
    """
    window = level.window
    start, end = window.start[rows], window.end[rows]
    if step.first is not None and step.last is not None:
        at = (start if step.first >= 0 else end) + step.first
        stop = (start if step.last >= 0 else end) + step.last + 1
    else:
        at, stop = (window.cursor[rows] + 7) >> 3, end
    short = (stop > end) | (at < start) | (stop < at)
    if short.any():
        level.too_short(rows[short], (at - start)[short], 1, step.line, "the row of records")
        rows, at, stop = rows[~short], at[~short], stop[~short]
    records = Records(tags, level.count, step.once)
    _walk(level, step, rows, at, stop, records, all_of_them or level.batch.trace is not None)
    window.records = records
    good = level.alive[rows]
    if len(rows) == level.count and good.all():
        window.cursor = stop * 8
        window.read_to = stop if window.read_to is None else np.maximum(window.read_to, stop)
    else:
        window.cursor[rows[good]] = stop[good] * 8
        window.note_read(rows[good], stop[good])


def _walk(
    level: Level, step: RecordsStep, rows: np.ndarray, at: np.ndarray, stop: np.ndarray, records: Records, listing: bool
) -> None:
    """The records of each row one after the other; rows with something wrong in them fail."""
    few = len(rows) <= loops.FEW
    data: Any = level.window.data
    widths = np.array([0 if raw.storage == "varint" else raw.place.width for raw in (step.tag, step.size)])
    little = np.array([int(step.tag.little), int(step.size.little)])
    by_byte = np.full(256, -1, np.int64)
    for tag, slot in records.slot.items():
        if tag < 256:
            by_byte[tag] = slot
    wrong = np.zeros(len(rows), np.int8)

    def walk(found: np.ndarray) -> int:
        loop = loops.records if few else loops.compiled(loops.records)
        return loop(
            memoryview(data) if few else data,
            rows,
            at,
            stop,
            widths,
            little,
            by_byte,
            -1 if step.filler is None else step.filler,
            records.tags,
            limits.RECORDS,
            records.starts,
            records.ends,
            found,
            wrong,
        )

    total = walk(np.zeros((4, 0), np.int64))
    if listing and total:
        found = np.zeros((4, total), np.int64)
        walk(found)
        records.all = (found[0], found[1], found[2], found[3])
    if wrong.any():
        for problem, (code, text) in WRONG.items():
            level.fail(rows[wrong == problem], code or level.window.short, text, step.line)
