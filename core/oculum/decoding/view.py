"""What expressions see of the rows of a level."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..batches import PRESENT
from ..clocks import calendar_us, known_zone, utc_to_local
from ..language.evaluate import NO_NUMBER, Val, evaluate, joined
from ..language.plan import Ex, Raw
from .checksums import check, check_words
from .level import NO_EARLIER, Level, everyone
from .numbers import Strided, number, spot


class View:
    """Names of expressions, for some rows of a level."""

    def __init__(self, level: Level, rows: np.ndarray) -> None:
        self.level, self.rows = level, rows
        self.full = len(rows) == level.count

    def column(self, name: str) -> Val:
        found = self.level.find(name)
        if found is None:
            return Val(0.0, False)
        level, column = found
        if level is self.level:
            return (
                Val(column.values, column.state)
                if self.full
                else Val(column.values[self.rows], column.state[self.rows])
            )
        rows = self.level.climb(self.rows, level)
        return Val(column.values[rows], column.state[rows])

    def raw(self, name: str) -> Val:
        level: Level | None = self.level
        while level is not None and name not in level.raws:
            level = level.parent
        if level is None:
            return self.column(name)
        values, known = level.raws[name]
        rows = self.level.climb(self.rows, level)
        return Val(values[rows], True if known is None else known[rows])

    def setpoint(self, name: str) -> Val:
        raise AssertionError("a decoder has no setpoints")

    def payload(self, ex: Ex) -> Val:
        compute: Callable[[Ex], Val] = getattr(self, f"_{ex.op}")
        return compute(ex)

    # the window
    def _length(self, ex: Ex) -> Val:
        window = self.level.window
        if window.table is not None:
            return Val(window.table[2], True)
        lengths = window.lengths
        return Val(lengths if self.full else lengths[self.rows], True)

    def _builtin(self, ex: Ex) -> Val:
        level, rows = self.level, self.rows
        match ex.value:
            case "length":
                return self._length(ex)
            case "received":
                return Val(level.batch.payloads.received_us[level.message(rows)], True)
            case "stamp":
                return Val(level.at[rows], True)
            case "index":
                source: Level | None = level
                while source is not None and source.index is None:
                    source = source.parent
                if source is None or source.index is None:
                    return Val(1.0, True)
                return Val(source.index[level.climb(rows, source)].astype(float), True)
        window = level.window
        bits = window.end[rows] * 8 - window.cursor[rows]
        return Val((bits if ex.value == "bits_left" else bits // 8).astype(float), True)

    def _read(self, ex: Ex) -> Val:
        raw: Raw = ex.value
        level, rows, window = self.level, self.rows, self.level.window
        place, width = raw.place, raw.place.width
        traced = level.traced(rows) if window.own else []
        if window.table is not None and self.full and place.mode in ("start", "end") and not traced:
            first, step, length = window.table
            offset = place.offset if place.mode == "start" else length + place.offset
            if offset >= 0 and offset + width <= length:
                return Val(number(raw, window.data, Strided(first + offset, step, level.count))[0], True)
        start, end = window.start[rows], window.end[rows]
        if place.mode == "register":
            begin = start + 2 * (place.offset - (window.origin[rows] if window.origin is not None else 0))
        else:
            begin = (start if place.mode == "start" else end) + place.offset
        inside = (begin >= start) & (begin + width <= end)
        if not inside.all():
            level.too_short(rows[~inside], (begin - start)[~inside], width, ex.line, "the number")
        if place.mode == "register":
            window.note_read(rows[inside], begin[inside] + width)
        if level.batch.trace is not None:
            level.batch.trace.looked += [
                {"line": ex.line, "places": [spot(raw, int(begin[i]) - level.batch.traced_from)]}
                for i in traced
                if inside[i]
            ]
        values, _, bad = number(raw, window.data, np.where(inside, begin, start))
        return Val(values, inside if bad is None else inside & ~bad)

    def _check(self, ex: Ex) -> Val:
        name, first, last, registers, parameters = ex.value
        level, rows, window = self.level, self.rows, self.level.window
        if level.traced(rows) and level.batch.trace is not None:
            level.batch.trace.checked.add(ex.line)
        if window.table is not None and self.full and not registers and name != "sum16_words":
            begin, step, length = window.table
            low, high = (first if first >= 0 else length + first), (last if last >= 0 else length + last) + 1
            if 0 <= low <= high <= length:
                return Val(
                    check(name, window.data, Strided(begin + low, step, level.count), high - low, parameters), True
                )
        start, end = window.start[rows], window.end[rows]
        if registers:
            origin = window.origin[rows] if window.origin is not None else 0
            low_at, high_at = start + 2 * (first - origin), start + 2 * (last + 1 - origin)
        else:
            low_at = (start if first >= 0 else end) + first
            high_at = (start if last >= 0 else end) + last + 1
        good = (low_at >= start) & (high_at <= end) & (high_at >= low_at)
        if not good.all():
            level.too_short(rows[~good], np.maximum(low_at - start, 0)[~good], 1, ex.line, "the check")
        low_at, high_at = np.where(good, low_at, start), np.where(good, high_at, start)
        if name == "sum16_words":
            return Val(check_words(window.data, low_at, high_at), good)
        return Val(check(name, window.data, low_at, high_at - low_at, parameters), good)

    # other messages, other repeats
    def _before(self, ex: Ex) -> Val:
        level, rows = self.level, self.rows
        batch = level.batch
        earlier = np.full(len(rows), -1, np.int64) if batch.payloads.before is None else batch.payloads.before[rows]
        column = level.columns.get(ex.value)
        gone = batch.reason(NO_EARLIER)
        if column is None:
            return Val(np.zeros(len(rows)), np.full(len(rows), gone, np.int16))
        there = (earlier >= 0) & level.alive[earlier]
        safe = np.where(there, earlier, 0)
        return Val(column.values[safe], np.where(there, column.state[safe], gone))

    def _previous(self, ex: Ex) -> Val:
        column = self.level.carry.get(ex.value)
        if column is None or self.level.up is None:
            return Val(0.0, False)
        rows = self.level.up[self.rows]
        return Val(column.values[rows], column.state[rows])

    def _aggregate(self, ex: Ex) -> Val:
        kind, numbers, joint = ex.value
        level = self.level
        count = level.count
        owner: list[np.ndarray] = []
        values: list[np.ndarray] = []
        states: list[np.ndarray] = []
        ran = np.zeros(count, bool)
        for repeat in numbers:
            inner = level.inner(repeat)
            ran |= level.ran.get(repeat, np.zeros(count, bool))
            if inner is None or inner.up is None:
                continue
            rows = np.flatnonzero(inner.alive)
            found = evaluate(ex.args[0], View(inner, rows))
            owner.append(inner.up[rows])
            shape = np.broadcast_shapes(
                np.shape(found.values), (len(rows),) if ex.type.kind != "position" else (len(rows), 2)
            )
            values.append(np.broadcast_to(found.values, shape))
            states.append(np.broadcast_to(np.asarray(found.state).astype(np.int16), (len(rows),)))
        up = np.concatenate(owner) if owner else np.zeros(0, np.int64)
        order = np.argsort(up, kind="stable")
        up = up[order]
        own = np.concatenate(values)[order] if values else np.zeros(0)
        state = np.concatenate(states)[order] if states else np.zeros(0, np.int16)
        result, result_state = aggregate(kind, up, own, state, count, joint, ex.args[0].type.kind == "truth")
        result_state = np.where(ran, result_state, 0).astype(np.int16)
        return Val(result[self.rows], result_state[self.rows])

    # tables, texts, clocks
    def _table(self, ex: Ex) -> Val:
        found = evaluate(ex.args[0], self)
        xs = np.array([x for x, _ in ex.value])
        ys = np.array([y for _, y in ex.value])
        values = np.asarray(found.values, float)
        inside = (values >= xs[0]) & (values <= xs[-1])
        return Val(np.interp(values, xs, ys), joined(np.asarray(found.state), np.where(inside, 1, NO_NUMBER)))

    def _template(self, ex: Ex) -> Val:
        pieces, widths = ex.value
        count = len(self.rows)
        parts = [evaluate(a, self) for a in ex.args]
        state: Any = True
        texts: list[list[str]] = []
        for argument, part, width in zip(ex.args, parts, widths, strict=True):
            state = joined(state, part.state)
            texts.append(texts_of(np.broadcast_to(part.values, (count,)), dict(argument.type.codes), width))
        built = np.empty(count, object)
        for i in range(count):
            built[i] = pieces[0] + "".join(text[i] + piece for text, piece in zip(texts, pieces[1:], strict=True))
        return Val(built, state)

    def _clock(self, ex: Ex) -> Val:
        name, parts, state = ex.value
        if name == "calendar":
            us, good = calendar_us(*(p.values for p in parts))
            return Val(us, joined(np.broadcast_to(np.asarray(state), us.shape), np.where(good, 1, NO_NUMBER)))
        count = len(self.rows)
        moments = np.broadcast_to(parts[0].values, (count,))
        zones = np.broadcast_to(np.asarray(parts[1].values, object), (count,))
        again = [
            known_zone(str(z)) and utc_to_local(int(m), str(z))[1]
            for m, z in zip(moments.tolist(), zones.tolist(), strict=True)
        ]
        return Val(np.array(again, bool), state)


def texts_of(values: np.ndarray, codes: dict[int, str], width: int = 0) -> list[str]:
    """Values as they stand in a name or a text: whole numbers without a point."""
    found = []
    for value in values.tolist():
        if isinstance(value, float) and codes:
            value = codes.get(int(value), "")
        elif isinstance(value, float) and value.is_integer() and abs(value) < 2**63:
            value = int(value)
        found.append(str(value).zfill(width))
    return found


def names_of(level: Level, template: str, rows: np.ndarray) -> list[str]:
    """A name with braces, filled for every row; letters that a name cannot have become `_`."""
    pieces = template.replace("}", "{").split("{")
    built = [pieces[0]] * len(rows)
    for place, piece in zip(pieces[1::2], pieces[2::2], strict=True):
        if place == "index":
            source: Level | None = level
            while source is not None and source.index is None:
                source = source.parent
            texts = (
                [str(n) for n in source.index[level.climb(rows, source)].tolist()]
                if source is not None and source.index is not None
                else ["1"] * len(rows)
            )
        else:
            found = level.find(place)
            if found is None:
                texts = [""] * len(rows)
            else:
                owner, column = found
                texts = texts_of(column.values[level.climb(rows, owner)], {})
        built = [b + _plain(t) + piece for b, t in zip(built, texts, strict=True)]
    return built


def _plain(text: str) -> str:
    return "".join(c if c.isascii() and (c.isalnum() or c == "_") else "_" for c in text.lower())[:60]


def aggregate(
    kind: str, up: np.ndarray, values: np.ndarray, state: np.ndarray, count: int, joint: str, truth: bool
) -> tuple[np.ndarray, np.ndarray]:
    """One value for each of `count` rows out of those of its repeats.

    up: int64 (m,), rising: the row each belongs to. Returns values and states, (count,).
    """
    known = state == PRESENT
    there = state != 0
    good = np.ones(count, np.int16)
    if kind == "count_of":
        chosen = known & values.astype(bool) if truth else there
        return np.bincount(up[chosen], minlength=count).astype(float), good
    if kind in ("any_of", "all_of"):
        hits = known & (values.astype(bool) if kind == "any_of" else ~values.astype(bool))
        hit = np.bincount(up[hits], minlength=count) > 0
        open_ = np.bincount(up[~known], minlength=count) > 0
        decided = hit | ~open_
        return (hit if kind == "any_of" else ~hit), np.where(decided, 1, NO_NUMBER).astype(np.int16)
    if kind == "join_of":
        texts: list[list[str]] = [[] for _ in range(count)]
        for row, text in zip(up[known].tolist(), values[known].tolist(), strict=True):
            texts[row].append(str(text))
        result = np.empty(count, object)
        result[:] = [joint.join(t) for t in texts]
        return result, good
    if kind in ("first_of", "last_of"):
        rows, chosen = up[known], values[known]
        result = (
            np.zeros((count, *values.shape[1:]), values.dtype)
            if values.dtype != object
            else np.full(count, None, object)
        )
        order = everyone(len(rows)) if kind == "last_of" else everyone(len(rows))[::-1]
        result[rows[order]] = chosen[order]
        return result, np.where(np.bincount(rows, minlength=count) > 0, 1, NO_NUMBER).astype(np.int16)
    own = values.astype(float)
    rows, chosen = up[known], own[known]
    some = np.bincount(rows, minlength=count)
    if kind == "sum_of":
        result = np.bincount(rows, chosen, minlength=count) if len(rows) else np.zeros(count)
        lost = there & ~known
        if lost.any():
            at = np.flatnonzero(lost)[::-1]
            good[up[at]] = state[at]
        return result, good
    if kind == "mean_of":
        total = np.bincount(rows, chosen, minlength=count) if len(rows) else np.zeros(count)
        result = total / np.maximum(some, 1)
    else:
        result = np.full(count, np.inf if kind == "min_of" else -np.inf)
        (np.minimum if kind == "min_of" else np.maximum).at(result, rows, chosen)
        result = np.where(some > 0, result, 0.0)
    return result, np.where(some > 0, 1, NO_NUMBER).astype(np.int16)
