"""Reading stored numbers and runs of bytes, and cleaning values: marks, units, ranges."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..batches import ABSENT, FIRST_REASON, PRESENT
from ..clocks import pattern_parts, written_us
from ..language import limits
from ..language.decoders.plan import NO_CLEANING, Cleaned, Extent, ReadStep, SpanStep, Zoned
from ..language.evaluate import Val, evaluate
from ..language.expressions import Ex
from ..language.stored import Place, Raw
from .level import NO_MOMENT, NO_TEXT, NOT_FINITE, Batch, Level, Window, coded, ones
from .numbers import Strided, number, scaled, spot, stream, varint
from .units import by_unit
from .view import View, names_of


class Reading:
    """The part of the walk that reads."""

    def __init__(self, batch: Batch, keep_raw: frozenset[str]) -> None:
        self.batch = batch
        self.keep_raw = keep_raw

    # expressions -------------------------------------------------------------
    def value(self, ex: Ex, level: Level, rows: np.ndarray) -> Val:
        return evaluate(ex, View(level, rows))

    def truth(self, ex: Ex, level: Level, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Whether a rule is known to be true, and known to be false: bool (m,)."""
        found = self.value(ex, level, rows)
        known, held = found.known, found.values
        if isinstance(held, np.ndarray) and held.dtype == bool and held.shape == (len(rows),):
            if known is True:
                return held, ~held
            if isinstance(known, np.ndarray) and known.shape == held.shape:
                return held & known, known & ~held
        true, false = np.empty(len(rows), bool), np.empty(len(rows), bool)
        true[:] = np.logical_and(known, np.asarray(held, bool))
        false[:] = np.logical_and(known, np.logical_not(held))
        return true, false

    def numbers(self, ex: Ex, level: Level, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values and what of them is known, both (m,)."""
        found = self.value(ex, level, rows)
        shape = (len(rows),)
        return np.broadcast_to(np.asarray(found.values, float), shape), np.broadcast_to(
            np.asarray(found.known, bool), shape
        )

    # reading numbers -----------------------------------------------------------
    def placed(self, level: Level, place: Place, rows: np.ndarray, line: int, name: str) -> tuple[np.ndarray, Any]:
        """Rows whose window holds a place, and where it begins in the data; the others fail."""
        window = level.window
        mode, width = place.mode, place.width
        full = len(rows) == level.count
        offset: int | None = None
        if mode == "start":
            offset = place.offset
        elif mode == "next" and window.offset is not None:
            offset = window.offset
        elif mode == "same" and isinstance(window.last, int):
            offset = window.last
        if offset is not None and full and window.table is not None and offset + width <= window.table[2]:
            first, step, _ = window.table
            window.last = offset
            if mode != "same":
                window.seek(offset + width)
                window.read = max(window.read, offset + width)
            return rows, Strided(first + offset, step, level.count)
        if offset is not None and full and offset + width <= window.safe:
            window.last = offset
            if mode != "same":
                window.seek(offset + width)
                window.read = max(window.read, offset + width)
            return rows, window.start + offset
        start, end = window.start[rows], window.end[rows]
        if offset is not None:
            begin = start + offset
        elif mode == "end":
            begin = end + place.offset
        elif mode == "next":
            begin = (window.cursor[rows] + 7) >> 3
        elif mode == "register":
            begin = start + 2 * (place.offset - (window.origin[rows] if window.origin is not None else 0))
        else:
            assert isinstance(window.last, np.ndarray)
            begin = window.last[rows]
        short = (begin + width > end) | (begin < start)
        if short.any():
            level.too_short(rows[short], (begin - start)[short], width, line, f"`{name}`")
            rows, begin = rows[~short], begin[~short]
            full = False
        if offset is not None and full:
            window.last = offset
            if mode != "same":
                window.seek(offset + width)
                window.read = max(window.read, offset + width)
            return rows, begin
        if not isinstance(window.last, np.ndarray):
            window.last = np.zeros(level.count, np.int64)
        window.last[rows] = begin
        if mode in ("start", "next", "register"):
            window.cursor[rows] = (begin + width) * 8
            window.note_read(rows, begin + width)
        return rows, begin

    def in_record(
        self, level: Level, tag: int, once: bool, required: str | None, rows: np.ndarray, line: int, name: str
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Rows that have a record, and its bytes: rows, start, end."""
        records = level.window.records
        if records is None:
            return rows[:0], rows[:0], rows[:0]
        start, end = records.of(tag)
        if once or records.once:
            twice = records.twice(tag)
            if twice.any():
                bad = rows[twice[rows]]
                level.fail(bad[level.alive[bad]], "malformed", f"record {tag} stands twice", line)
                rows = level.living(rows)
        if len(rows) != level.count:
            start, end = start[rows], end[rows]
        there = start >= 0
        if not there.all():
            if required is not None:
                level.fail(rows[~there], required, f"record {tag} (`{name}`) is not there", line)
            rows, start, end = rows[there], start[there], end[there]
        return rows, start, end

    def stored(
        self, level: Level, raw: Raw, rows: np.ndarray, step: ReadStep
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray | None, Any]:
        """One stored number: rows that have it, values, bit patterns of digits, positions."""
        window, line, name = level.window, step.line, step.name
        mode = raw.place.mode
        if mode == "stream":
            at = window.cursor[rows]
            short = at + raw.bits > window.end[rows] * 8
            if short.any():
                level.too_short(rows[short], ((at >> 3) - window.start[rows])[short], 1, line, f"`{name}`")
                rows, at = rows[~short], at[~short]
            window.cursor[rows] = at + raw.bits
            window.note_read(rows, (at + raw.bits + 7) >> 3)
            return rows, stream(window.data, at, raw.storage, raw.bits), None, at >> 3
        if mode == "coil":
            bit = raw.place.offset - (
                window.origin[rows] if window.origin is not None else np.zeros(len(rows), np.int64)
            )
            at = window.start[rows] + (bit >> 3)
            short = (at >= window.end[rows]) | (bit < 0)
            if short.any():
                level.too_short(rows[short], (bit >> 3)[short], 1, line, f"`{name}`")
                rows, at, bit = rows[~short], at[~short], bit[~short]
            window.note_read(rows, at + 1)
            return rows, ((window.data[at] >> (bit & 7).astype(np.uint8)) & 1).astype(float), None, at
        if raw.storage in ("varint", "signed varint", "zigzag varint", "unsigned"):
            return self.sized(level, raw, rows, step)
        if mode == "record":
            rows, start, end = self.in_record(level, raw.place.offset, step.once, step.required, rows, line, name)
            wrong = end - start != raw.place.width
            if wrong.any():
                for size in np.unique((end - start)[wrong]).tolist():
                    some = rows[wrong & (end - start == size)]
                    level.fail(
                        some,
                        "malformed",
                        f"record {raw.place.offset} has {size} bytes; `{name}` takes {raw.place.width}",
                        line,
                    )
                rows, start = rows[~wrong], start[~wrong]
            at_bytes: Any = start
        else:
            rows, at_bytes = self.placed(level, raw.place, rows, line, name)
        if len(rows) == 0:
            return rows, np.zeros(0), None, at_bytes
        found, patterns, bad = number(raw, window.data, at_bytes)
        if bad is not None and patterns is not None:
            marks = [float(m) if patterns.dtype == np.float64 else m for s in step.cleaning.sentinels for m in s.raws]
            bad &= ~np.isin(patterns, marks) if marks else True
            if bad.any():
                where = (at_bytes.array() if isinstance(at_bytes, Strided) else at_bytes) - window.start[rows]
                level.fail(rows[bad], "malformed", f"`{name}` has a half byte that is no digit", line, where[bad])
                rows, found, patterns = rows[~bad], found[~bad], patterns[~bad]
                at_bytes = (at_bytes.array() if isinstance(at_bytes, Strided) else at_bytes)[~bad]
        return rows, found, patterns, at_bytes

    def sized(
        self, level: Level, raw: Raw, rows: np.ndarray, step: ReadStep
    ) -> tuple[np.ndarray, np.ndarray, None, np.ndarray]:
        """Numbers whose bytes say how long they are."""
        window, line, name = level.window, step.line, step.name
        mode = raw.place.mode
        if mode == "record":
            rows, start, end = self.in_record(level, raw.place.offset, step.once, step.required, rows, line, name)
        else:
            start, end = (window.cursor[rows] + 7) >> 3, window.end[rows]
        if raw.storage == "unsigned":
            size = end - start
            wrong = (size < raw.least) | (size > raw.most)
            if wrong.any():
                level.fail(rows[wrong], "malformed", f"`{name}` takes {raw.least} to {raw.most} bytes", line)
                rows, start, size = rows[~wrong], start[~wrong], size[~wrong]
            total = np.zeros(len(rows), np.uint64)
            for k in range(int(size.max(initial=0))):
                inside = k < size
                byte = window.data[np.where(inside, start + k, 0)].astype(np.uint64)
                joined = total | (byte << np.uint64(8 * k)) if raw.little else (total << np.uint64(8)) | byte
                total = np.where(inside, joined, total)
            if mode != "record":
                window.cursor[rows] = (start + size) * 8
                window.note_read(rows, start + size)
            return rows, total if step.spec.wide else total.astype(float), None, start
        found, taken, cut, bad = varint(window.data, start, end, raw.storage == "signed varint")
        if raw.storage == "zigzag varint":
            one = np.uint64(1)
            found = (found >> one).view(np.int64) ^ -(found & one).view(np.int64)
        lost = cut | bad | (start + taken != end if mode == "record" else False)
        if lost.any():
            code = "malformed" if mode == "record" else window.short
            level.fail(rows[cut & ~bad], code, f"`{name}` is cut off", line)
            level.fail(rows[bad], "malformed", f"`{name}` has more than ten bytes or 64 bits", line)
            level.fail(rows[lost & ~cut & ~bad], "malformed", f"`{name}` does not fill its record", line)
            rows, found, start, taken = rows[~lost], found[~lost], start[~lost], taken[~lost]
        if mode != "record":
            window.cursor[rows] = (start + taken) * 8
            window.note_read(rows, start + taken)
        return rows, found if step.spec.wide else found.astype(float), None, start

    def read(self, level: Level, step: ReadStep, rows: np.ndarray) -> None:
        raws: list[np.ndarray] = []
        places: list[Any] = []
        patterns: np.ndarray | None = None
        for raw in step.raws:
            before = rows
            rows, found, patterns, at = self.stored(level, raw, rows, step)
            if len(rows) == 0:
                return
            if raws and len(before) != len(rows):
                kept = np.isin(before, rows)
                raws = [r[kept] for r in raws]
            raws.append(found)
            places.append(at)
        spec, cleaning = step.spec, step.cleaning
        first = raws[0]
        state = ones(len(rows))
        if spec.kind == "position":
            result = np.stack([scaled(r, linear) for r, linear in zip(raws, step.linears, strict=True)], axis=1)
        elif step.clock is not None:
            result = clock_us(
                first, step.clock, step.raws[0].bits, level.batch.payloads.received_us, level.message(rows)
            )
        elif step.calendar is not None:
            result, fine = self.calendar(level, step.calendar, digits_of(first, step.calendar.pattern), rows)
            marks = [float(m) for s in cleaning.sentinels for m in s.raws]
            wrong = ~fine & ~np.isin(first.astype(float), marks)
            if wrong.any():
                level.fail(rows[wrong], "malformed", f"`{step.name}` is not in the calendar", step.line)
                rows, result, first = rows[~wrong], result[~wrong], first[~wrong]
                raws, state = [first], ones(len(rows))
        elif spec.wide:
            result = first.astype(np.uint64 if step.raws[0].storage in ("u", "varint", "unsigned") else np.int64)
        elif spec.kind == "code":
            result, known = coded(first, step)
            if not known.all():
                state = np.where(known, state, self.batch.reason(NO_TEXT)).astype(np.int16)
        else:
            result = scaled(first, step.linears[0])
        marks_by = [patterns] if patterns is not None else raws
        if cleaning is not NO_CLEANING or step.raws[0].floating:
            result, state = self.clean(level, step, rows, result, state, marks_by, step.raws[0].floating)
            if len(result) != len(rows):
                kept = level.alive[rows]
                rows, first = rows[kept], first[kept]
                if len(rows) == 0:
                    return
        if step.name in self.keep_raw and spec.kind in ("code", "flag", "number", "integer"):
            level.put_raw(step.name, rows, first)
        level.put(spec, rows, result, state)
        if not step.hidden:
            level.given.setdefault(step.name, spec)
        if cleaning.stamped is not None:
            self.stamp_field(level, spec.name, cleaning.stamped, rows)
        if self.batch.trace is not None:
            self.mark(level, step, raws, places, rows)

    def calendar(
        self, level: Level, zoned: Zoned, parts: dict[str, np.ndarray], rows: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        count = len(rows)
        view = View(level, rows)
        zones: np.ndarray | None = None
        if zoned.zone is not None:
            zones = np.full(count, zoned.zone, object)
        elif zoned.zone_field is not None:
            found = view.column(zoned.zone_field)
            zones = np.broadcast_to(np.asarray(found.values, object), (count,))
        again = np.zeros(count, bool)
        if zoned.again is not None:
            second = view.column(zoned.again)
            again = np.broadcast_to(np.logical_and(second.values, second.known), (count,)).astype(bool)
        received = level.batch.payloads.received_us[level.message(rows)]
        if zoned.century is not None:
            year = zoned.century + np.mod(parts["Y"] - zoned.century, 100)
            parts = {**parts, "Y": np.where(parts["Y"] > 99, parts["Y"], year)}
            parts.pop("short", None)
        return written_us(parts, received, zones, again)

    def mark(self, level: Level, step: ReadStep, raws: list[np.ndarray], places: list[Any], rows: np.ndarray) -> None:
        """Notes the bits of a value, for one message and one element at a time."""
        window = level.window
        for i, row in enumerate(rows.tolist()):
            spots = []
            for raw, at in zip(step.raws, places, strict=True):
                begin = at.first + at.step * i if isinstance(at, Strided) else int(np.asarray(at)[min(i, len(at) - 1)])
                spots.append(self.spot(window, row, raw, begin))
            self.note(
                level,
                row,
                step.line,
                step.name,
                [s for s in spots if s],
                [whole(r[i].item(), raw) for r, raw in zip(raws, step.raws, strict=True)],
            )

    def spot(self, window: Window, row: int, raw: Raw, begin: int) -> dict[str, Any] | None:
        if not window.own:
            return None
        base = self.batch.traced_from
        if raw.place.mode == "stream":
            at = int(window.cursor[row]) - raw.bits
            last = (at + raw.bits - 1) >> 3
            low = (last + 1) * 8 - at - raw.bits
            return {
                "first": (at >> 3) - base,
                "last": last - base,
                "high": low + raw.bits - 1,
                "low": low,
                "whole": False,
                "little": False,
            }
        if raw.place.mode == "coil":
            bit = (raw.place.offset - (int(window.origin[row]) if window.origin is not None else 0)) & 7
            return {
                "first": begin - base,
                "last": begin - base,
                "high": bit,
                "low": bit,
                "whole": False,
                "little": False,
            }
        width = raw.place.width
        if width == 0:
            width = (
                (int(window.cursor[row]) >> 3) - begin
                if raw.place.mode != "record"
                else self.record_size(window, row, raw.place.offset)
            )
            return {
                "first": begin - base,
                "last": begin + width - 1 - base,
                "high": 8 * width - 1,
                "low": 0,
                "whole": True,
                "little": raw.little,
            }
        return spot(raw, begin - base)

    def record_size(self, window: Window, row: int, tag: int) -> int:
        records = window.records
        assert records is not None
        start, end = records.of(tag)
        return int(end[row] - start[row])

    def note(
        self, level: Level, row: int, line: int, name: str, places: list[dict[str, Any]], raw: Any, **more: Any
    ) -> None:
        trace = self.batch.trace
        if trace is None or int(level.message(np.array([row]))[0]) != trace.row:
            return
        turn = int(level.index[row]) - 1 if level.index is not None else 0
        name = names_of(level, name, np.array([row]))[0] if "{" in name else name
        trace.marks.append({"line": line, "name": name, "turn": turn, "places": places, "raw": raw, **more})

    # runs of bytes -------------------------------------------------------------
    def extent(
        self,
        level: Level,
        extent: Extent,
        rows: np.ndarray,
        line: int,
        name: str,
        once: bool = False,
        required: str | None = None,
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Rows that have a run of bytes, and where it begins and ends in the data."""
        window = level.window
        mode = extent.mode
        if mode == "record":
            return self.in_record(level, extent.offset, once, required, rows, line, name)
        start, end = window.start[rows], window.end[rows]
        if mode == "rest":
            begin, stop = (window.cursor[rows] + 7) >> 3, end
        elif mode == "next":
            begin = (window.cursor[rows] + 7) >> 3
            if isinstance(extent.width, Ex):
                width, known = self.numbers(extent.width, level, rows)
                if not known.all():
                    rows, begin, start, end, width = rows[known], begin[known], start[known], end[known], width[known]
                stop = begin + np.clip(width, -1, limits.PAYLOAD_BYTES + 1).astype(np.int64)
            else:
                stop = begin + int(extent.width or 0)
        elif mode == "between":
            begin, stop = start + extent.offset, end + int(extent.width or 0) + 1  # type: ignore[arg-type]
        elif mode == "register":
            begin = start + 2 * (extent.offset - (window.origin[rows] if window.origin is not None else 0))
            stop = begin + int(extent.width or 0)  # type: ignore[arg-type]
        else:
            begin = (start if mode == "start" else end) + extent.offset
            stop = begin + int(extent.width or 0)  # type: ignore[arg-type]
        short = (stop > end) | (begin < start) | (stop < begin)
        if short.any():
            level.too_short(rows[short], (begin - start)[short], 1, line, f"`{name}`")
            rows, begin, stop = rows[~short], begin[~short], stop[~short]
        if mode in ("next", "rest", "start", "between", "register"):
            window.cursor[rows] = stop * 8
            window.note_read(rows, stop)
        return rows, begin, stop

    def span(self, level: Level, step: SpanStep, rows: np.ndarray) -> None:
        every = rows
        rows, begin, stop = self.extent(level, step.extent, rows, step.line, step.name, step.once, step.required)
        if not step.hidden:
            level.given.setdefault(step.name, step.spec)
        if step.form == "present":
            every = level.living(every)
            there = np.isin(every, rows)
            filled = rows[stop > begin]
            level.fail(
                filled,
                "malformed",
                f"record {step.extent.offset} (`{step.name}`) has bytes in it; it is only there or not",
                step.line,
            )
            every, there = (every[level.alive[every]], there[level.alive[every]]) if len(filled) else (every, there)
            level.put(step.spec, every, there.astype(float), ones(len(every)))
            return
        buffer = level.window.data
        found = np.empty(len(rows), object)
        wrong = np.zeros(len(rows), bool)
        for i, (a, b) in enumerate(zip(begin.tolist(), stop.tolist(), strict=True)):
            raw = buffer[a:b].tobytes()
            if step.size is not None and len(raw) != step.size:
                wrong[i] = True
                continue
            if step.padded:
                raw = raw.rstrip(b" \x00")
            if step.form == "hex":
                found[i] = raw.hex()
                continue
            try:
                found[i] = raw.decode()[: limits.TEXT_CHARACTERS].replace("\x00", "\N{SYMBOL FOR NULL}")
            except UnicodeDecodeError:
                wrong[i] = True
        if wrong.any():
            text = (
                f"`{step.name}` has not {step.size} bytes"
                if step.size is not None
                else f"`{step.name}` is no UTF-8 text"
            )
            level.fail(rows[wrong], "malformed", text, step.line, (begin - level.window.start[rows])[wrong])
            rows, found, begin, stop = rows[~wrong], found[~wrong], begin[~wrong], stop[~wrong]
        result, state = self.clean(level, step, rows, found, ones(len(rows)), [], False)
        if len(state) != len(rows):
            kept = level.alive[rows]
            rows, begin, stop, found = rows[kept], begin[kept], stop[kept], found[kept]
        level.put(step.spec, rows, result, state)
        if step.cleaning.stamped is not None:
            self.stamp_field(level, step.name, step.cleaning.stamped, rows)
        if self.batch.trace is not None:
            base = self.batch.traced_from
            for i, row in enumerate(rows.tolist()):
                a, b = int(begin[i]), int(stop[i])
                spots = (
                    [{"first": a - base, "last": b - 1 - base, "high": 7, "low": 0, "whole": True, "little": False}]
                    if level.window.own and b > a
                    else []
                )
                self.note(level, row, step.line, step.name, spots, [found[i]])

    # cleaning --------------------------------------------------------------------
    def clean(
        self,
        level: Level,
        step: Cleaned,
        rows: np.ndarray,
        result: np.ndarray,
        state: np.ndarray,
        raws: list[np.ndarray],
        floats: bool,
    ) -> tuple[np.ndarray, np.ndarray]:
        """Marks, unit, conversion, range: the values with their states. Rows may fail over a value that is refused, or
        an unknown unit.
        """
        reason, cleaning = self.batch.reason, step.cleaning
        marked: np.ndarray | None = None
        for sentinel in cleaning.sentinels:
            hit: Any = None
            if sentinel.when is not None:
                hit, _ = self.truth(sentinel.when, level, rows)
            for mark in sentinel.raws:
                if isinstance(mark, str):
                    continue
                for raw in raws:
                    same = np.isnan(raw) if mark != mark else np.asarray(raw == mark)
                    hit = same if hit is None else hit | same
            if hit is not None and hit.any():
                fresh = hit & (state != ABSENT) & ((state < FIRST_REASON) | (sentinel.fate == "left out"))
                if sentinel.fate == "refused":
                    level.fail(rows[fresh], sentinel.failure, f"`{step.name}` has a value that is refused", step.line)
                    kept = level.alive[rows]
                    rows, result, state, raws = rows[kept], result[kept], state[kept], [raw[kept] for raw in raws]
                    continue
                code = ABSENT if sentinel.fate == "left out" else reason(sentinel.reason)
                state = np.where(fresh, code, state).astype(np.int16)
        if floats or result.dtype == np.float64:
            bad = ~np.isfinite(result)
            if bad.any():
                if result.ndim == 1:
                    state = np.where(bad & (state == PRESENT), reason(NOT_FINITE), state).astype(np.int16)
                else:
                    state = np.where(bad.any(axis=1) & (state == PRESENT), reason(NOT_FINITE), state).astype(np.int16)
                result = np.where(bad, 0.0, result)
        if cleaning.unit_by is not None:
            result, marked = by_unit(level, step.name, cleaning.unit_by, rows, result, state)
            if marked is not None:
                kept = level.alive[rows]
                rows, result, state = rows[kept], result[kept], state[kept]
        if cleaning.convert is not None:
            a, b, c = cleaning.convert
            result = (result * a + b) / c
        if cleaning.low is not None and cleaning.high is not None:
            out = (result < cleaning.low) | (result > cleaning.high)
            if out.any():
                text = (
                    f"outside {cleaning.low:g} to {cleaning.high:g}"
                    if result.dtype == np.float64
                    else "outside its range"
                )
                state = np.where(out & (state == PRESENT), reason(text), state).astype(np.int16)
        return result, state

    def stamp_field(self, level: Level, name: str, ex: Ex, rows: np.ndarray) -> None:
        found = self.value(ex, level, rows)
        known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
        own = level.moments.get(name)
        if own is None:
            own = level.moments[name] = np.full(level.count, NO_MOMENT)
        own[rows] = np.where(known, np.broadcast_to(found.values, (len(rows),)), NO_MOMENT)


def whole(value: Any, raw: Raw) -> Any:
    """A stored number as people write it: without a point where its storage has none."""
    return int(value) if not raw.floating and isinstance(value, float) else value


def digits_of(raw: np.ndarray, pattern: str) -> dict[str, np.ndarray]:
    """The parts of a time out of packed digits, by letter; a half byte that is no digit puts its part beyond any
    calendar.
    """
    found: dict[str, np.ndarray] = {}
    wide = raw.astype(np.uint64)
    shift = 4 * sum(width for _, width in pattern_parts(pattern))
    for letter, width in pattern_parts(pattern):
        if not width:
            continue
        total = np.zeros(len(raw), np.int64)
        bad = np.zeros(len(raw), bool)
        for _ in range(width):
            shift -= 4
            digit = ((wide >> np.uint64(shift)) & np.uint64(15)).astype(np.int64)
            bad |= digit > 9
            total = total * 10 + digit
        found[letter] = np.where(bad, 99_999, total)
        if letter == "Y" and width == 2:
            found["short"] = np.ones(len(raw), np.int64)
    return found


def clock_us(
    raw: np.ndarray, clock: tuple[float, int, bool], bits: int, received: np.ndarray, messages: np.ndarray
) -> np.ndarray:
    """Moments of a counter; one that wraps is taken nearest to arrival."""
    step, epoch, wrapping = clock
    us = step * 1e6
    if us == int(us) and raw.dtype != np.float64:
        moments = epoch + np.clip(raw.astype(np.float64), -9e18 / us, 9e18 / us).astype(np.int64) * int(us)
    else:
        moments = epoch + np.rint(np.clip(raw.astype(np.float64) * us, -4e18, 4e18)).astype(np.int64)
    if wrapping:
        whole = round(2**bits * us)
        now = received[messages]
        moments = moments + np.floor_divide(now - moments + whole // 2, whole) * whole
    return moments
