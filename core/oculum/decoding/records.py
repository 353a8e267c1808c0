"""Records of tag and size within a window: found for all rows at once, turn by turn, and looked up by tag."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

import numpy as np

from ..batches import Column
from ..language import limits
from ..language.analysis import bodies
from ..language.plan import Raw, ReadStep, RecordsStep, RepeatStep, SpanStep, Step
from .level import NO_TEXT, Level, kept
from .numbers import number, scaled, varint

FEW = 16
Piece = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


class Records:
    """Records in pieces, each of at most one a row: row, tag, start, end, all int64 (k,). Those of a row keep their order.

    For tags that the decoder reads, starts and ends stand ready a row: int64 (tags, n), -1 where there is none.
    """

    def __init__(self, data: np.ndarray, tags: tuple[int, ...], count: int, once: bool, listed: bool) -> None:
        self.data, self.count, self.once, self.listed = data, count, once, listed
        self.pieces: list[Piece] = []
        self.slot = {tag: i for i, tag in enumerate(tags)}
        self.tags = np.array(tags, np.int64)
        self.starts = np.full((len(tags) + 1, count), -1, np.int64)
        self.ends: np.ndarray | None = None  # kept only where a size does not stand in the byte before
        self.by_byte = np.full(256, len(tags) * count, np.int64)  # where a tag's row begins in the flat arrays
        for tag, i in self.slot.items():
            if tag < 256:
                self.by_byte[tag] = i * count

    def add(self, rows: np.ndarray, tag: np.ndarray, start: np.ndarray, end: np.ndarray, bytewise: bool) -> None:
        if self.listed:
            self.pieces.append((rows, tag, start, end))
        if bytewise:
            flat = self.by_byte.take(tag)
            flat += rows
        else:
            slot = np.minimum(np.searchsorted(self.tags, tag), max(len(self.tags) - 1, 0))
            slot = np.where(self.tags[slot] == tag, slot, len(self.tags)) if len(self.tags) else slot * 0
            flat = slot * self.count + rows
        self.starts.reshape(-1)[flat] = start
        if not bytewise:
            if self.ends is None:
                self.ends = np.full_like(self.starts, -1)
            self.ends.reshape(-1)[flat] = end

    @cached_property
    def all(self) -> Piece:
        """All records: row, tag, start, end."""
        none = np.zeros(0, np.int64)
        joined = [np.concatenate([p[k] for p in self.pieces]) if self.pieces else none for k in range(4)]
        return joined[0], joined[1], joined[2], joined[3]

    def of(self, tag: int) -> tuple[np.ndarray, np.ndarray]:
        """Start and end of each row's last record with a tag, -1 where it has none."""
        slot = self.slot.get(tag)
        if slot is not None:
            start = self.starts[slot]
            if self.ends is not None:
                return start, self.ends[slot]
            return start, np.where(start >= 0, start + self.data.take(start - 1), -1)
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
        if isinstance(step, RepeatStep) and step.kind == "record" or isinstance(step, RecordsStep | ReadStep | SpanStep) and step.once:
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
    """Finds the records of these rows; the window has them from then on. tags: those looked up; all_of_them: whether a list is."""
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
    records = Records(window.data, tags, level.count, step.once, all_of_them or level.batch.trace is not None)
    bytewise = step.tag.place.width == 1 and step.size.place.width == 1 and step.tag.storage == "u" and step.size.storage == "u"
    every, finish, data = rows, stop, window.data
    if len(rows) <= FEW and step.tag.storage in ("u", "varint") and step.size.storage in ("u", "varint"):
        _one_by_one(level, step, rows, at, stop, records, bytewise)
        rows = rows[:0]
        at = stop = rows
    for turn in range(limits.RECORDS + 1):
        go = at < stop
        if np.count_nonzero(go) != len(go):
            rows, at, stop = rows[go], at[go], stop[go]
        if not len(rows):
            break
        if turn == limits.RECORDS:
            level.fail(rows, "malformed", f"more than {limits.RECORDS} records stand in a row", step.line)
            break
        if bytewise:  # what stands behind the end is padding, or another message: not looked at once the sizes are held against it
            begin = at + 2
            tag: np.ndarray = data.take(at)
            behind = begin + data[1:].take(at)
            over = behind > stop
            if np.count_nonzero(over):
                cut = begin > stop
                level.fail(rows[cut], window.short, "a record is cut off", step.line)
                over &= ~cut
                keep = ~(over | cut)
                level.fail(rows[over], window.short, "a record says that it is longer than what is left", step.line)
                rows, stop, tag, begin, behind = rows[keep], stop[keep], tag[keep], begin[keep], behind[keep]
        else:
            rows, at, stop, parts = _header(level, step, rows, at, stop)
            if not len(rows):
                break
            tag, begin, behind = parts[0], at, at + np.minimum(parts[1], stop - at + 1)
            over = behind > stop
            if over.any():
                level.fail(rows[over], window.short, "a record says that it is longer than what is left", step.line)
                keep = ~over
                rows, stop, tag, begin, behind = rows[keep], stop[keep], tag[keep], begin[keep], behind[keep]
        records.add(rows, tag, begin, behind, bytewise)
        at = behind
    window.records = records
    good = level.alive[every]
    if len(every) == level.count and good.all():
        window.cursor = finish * 8
        window.read_to = finish if window.read_to is None else np.maximum(window.read_to, finish)
    else:
        window.cursor[every[good]] = finish[good] * 8
        window.note_read(every[good], finish[good])


def _one_by_one(level: Level, step: RecordsStep, rows: np.ndarray, at: np.ndarray, stop: np.ndarray, records: Records, bytewise: bool) -> None:
    """The same for a few rows, in which a loop costs less than an array operation a record."""
    window = level.window
    found: list[tuple[int, int, int, int]] = []
    for row, first, last in zip(rows.tolist(), at.tolist(), stop.tolist(), strict=True):
        content = window.data[first:last].tobytes()
        place, size = 0, len(content)
        for turn in range(limits.RECORDS + 1):
            if place >= size:
                break
            failure = ("malformed", f"more than {limits.RECORDS} records stand in a row") if turn == limits.RECORDS else None
            tag = length = 0
            if failure is None:
                tag, place, failure = _number(content, place, step.tag, window.short)
            if failure is None:
                length, place, failure = _number(content, place, step.size, window.short)
            if failure is None and place + length > size:
                failure = (window.short, "a record says that it is longer than what is left")
            if failure is not None:
                level.fail(np.array([row]), failure[0], failure[1], step.line)
                break
            found.append((row, tag, first + place, first + place + length))
            place += length
    if found:
        row_of, tags, begin, behind = (np.array(column, np.int64) for column in zip(*found, strict=True))
        records.add(row_of, tags, begin, behind, bytewise)


def _number(content: bytes, at: int, raw: Raw, short: str) -> tuple[int, int, tuple[str, str] | None]:
    """A tag or a size: its value, where it ends, and what is wrong with it."""
    if raw.storage != "varint":
        end = at + raw.place.width
        if end > len(content):
            return 0, at, (short, "a record is cut off")
        return min(int.from_bytes(content[at:end], "little" if raw.little else "big"), 2**62), end, None
    value = 0
    for k in range(10):
        if at + k >= len(content):
            return 0, at, (short, "a record is cut off")
        byte = content[at + k]
        if k == 9 and 1 < byte < 0x80:
            break
        value |= (byte & 0x7F) << 7 * k
        if byte < 0x80:
            return min(value, 2**62), at + k + 1, None
    return 0, at, ("malformed", "the number of a record has more than ten bytes or 64 bits")


def _header(level: Level, step: RecordsStep, rows: np.ndarray, at: np.ndarray, stop: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, list[np.ndarray]]:
    """Tag and size of the next record of each row, where they have more than a byte; rows in which they are cut off fail."""
    window = level.window
    parts: list[np.ndarray] = []
    for raw in (step.tag, step.size):
        if raw.storage == "varint":
            value, taken, cut, bad = varint(window.data, at, stop, False)
            value = np.minimum(value, np.uint64(2**62)).astype(np.int64)
        else:
            taken = np.full(len(rows), raw.place.width, np.int64)
            cut, bad = at + taken > stop, np.zeros(len(rows), bool)
            value = number(raw, window.data, np.where(cut, 0, at))[0].astype(np.int64)
        lost = cut | bad
        if lost.any():
            level.fail(rows[cut & ~bad], window.short, "a record is cut off", step.line)
            level.fail(rows[bad], "malformed", "the number of a record has more than ten bytes or 64 bits", step.line)
            keep = ~lost
            rows, at, stop, value, taken = rows[keep], at[keep], stop[keep], value[keep], taken[keep]
            parts = [p[keep] for p in parts]
        at = at + taken
        parts.append(value)
    return rows, at, stop, parts


def plain(step: ReadStep) -> bool:
    """Whether a line is an ordinary number of a record: one that `read` below takes."""
    return kept(step, "_plain", lambda: _is_plain(step))


def _is_plain(step: ReadStep) -> bool:
    raw, cleaning, spec = step.raws[0], step.cleaning, step.spec
    return (
        len(step.raws) == 1 and raw.place.mode == "record" and raw.storage in ("u", "i") and raw.bits <= 53 and not raw.swapped and not spec.wide and not step.once
        and step.required is None and step.clock is None and step.calendar is None and cleaning.convert is None and cleaning.unit_by is None and cleaning.stamped is None
        and cleaning.low is None and not any(s.when is not None for s in cleaning.sentinels) and spec.kind in ("number", "integer", "code") and dict(spec.codes).get(-1) is None
    )  # fmt: skip


def read(level: Level, step: ReadStep, keep_raw: bool) -> bool:
    """Reads an ordinary number of a record for all rows; False where the ordinary way has to be taken."""
    records = level.window.records
    if records is None or records.once or step.name in level.columns or keep_raw:
        return False
    raw = step.raws[0]
    start = records.starts[records.slot[raw.place.offset]] if raw.place.offset in records.slot else None
    if start is None or records.ends is not None:
        return False
    there = start >= 0
    fits = records.data.take(start - 1) == raw.place.width
    fits &= there
    if np.count_nonzero(fits) != np.count_nonzero(there):  # another size, which the ordinary way refuses
        return False
    values, patterns, _ = number(raw, level.window.data, start)  # a row without it reads the padding
    if patterns is not None or values.dtype != np.float64:
        return False
    batch, state = level.batch, there.astype(np.int16)
    if step.spec.codes:
        top = kept(step, "_top_code", lambda: _top_code(step))
        odd = values >= top if top else ~np.isin(values, [n for n, _ in step.spec.codes])
        odd &= there
        if np.count_nonzero(odd):
            state = np.where(odd, np.int16(batch.reason(NO_TEXT)), state)
    for sentinel in step.cleaning.sentinels:
        for mark in sentinel.raws:
            hit = values == mark
            hit &= there
            if np.count_nonzero(hit):
                state = np.where(hit & (state == 1), np.int16(batch.reason(sentinel.reason)), state)
    result = scaled(values, step.linears[0])
    level.columns[step.name] = Column(result, state)
    if not step.hidden:
        level.given.setdefault(step.name, step.spec)
    return True


def _top_code(step: ReadStep) -> int:
    """How many codes there are, where they are all from 0 on and the raw number has no sign; else 0."""
    numbers = sorted(n for n, _ in step.spec.codes)
    return len(numbers) if numbers == list(range(len(numbers))) and step.raws[0].storage == "u" else 0
