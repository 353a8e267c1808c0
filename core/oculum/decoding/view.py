"""What expressions see of the rows of a level."""

from __future__ import annotations

import re
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import numpy as np

from ..arrays import objects
from ..batches import PRESENT
from ..clocks import iso
from ..language.evaluate import NO_NUMBER, Val, as_floats, evaluate, joined
from ..language.expressions import (
    Aggregate,
    Before,
    Builtin,
    CheckSum,
    Ex,
    Interpolated,
    Length,
    Previous,
    Stored,
    Template,
)
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

    def special(self, ex: Ex) -> Val:
        match ex:
            case Length():
                return self._length()
            case Stored():
                return self._stored(ex)
            case CheckSum():
                return self._check(ex)
            case Builtin():
                return self._builtin(ex)
            case Before():
                return self._before(ex)
            case Previous():
                return self._previous(ex)
            case Aggregate():
                return self._aggregate(ex)
            case Template():
                return self._template(ex)
            case Interpolated():
                return self._interpolated(ex)
        raise AssertionError(ex)

    # the window
    def _length(self) -> Val:
        window = self.level.window
        if window.table is not None:
            return Val(window.table[2], True)
        lengths = window.lengths
        return Val(lengths if self.full else lengths[self.rows], True)

    def _builtin(self, ex: Builtin) -> Val:
        level, rows = self.level, self.rows
        match ex.name:
            case "length":
                return self._length()
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
        return Val((bits if ex.name == "bits_left" else bits // 8).astype(float), True)

    def _stored(self, ex: Stored) -> Val:
        raw = ex.raw
        level, rows, window = self.level, self.rows, self.level.window
        place, width = raw.place, raw.place.width
        traced = level.traced(rows) if window.own else []
        if window.table is not None and self.full and place.mode in ("start", "end") and not traced:
            first, step, length = window.table
            offset = place.offset if place.mode == "start" else length + place.offset
            if offset >= 0 and offset + width <= length:
                values, _, bad = number(raw, window.data, Strided(first + offset, step, level.count))
                if bad is None or not bad.any():
                    return Val(values, True)
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
        if bad is None:
            return Val(values, inside)
        broken = bad & inside & level.alive[rows]
        if broken.any():
            level.fail(rows[broken], "malformed", "the number has a half byte that is no digit", ex.line, begin[broken])
        return Val(values, inside & ~bad)

    def _check(self, ex: CheckSum) -> Val:
        name, first, last = ex.name, ex.first, ex.last
        registers, parameters = ex.registers, ex.parameters
        level, rows, window = self.level, self.rows, self.level.window
        if level.traced(rows) and level.batch.trace is not None:
            level.batch.trace.checked.add(ex.line)
        if ex.so_far:
            begun = window.start if window.begun is None else window.begun
            low_at = begun[rows]
            high_at = np.maximum((window.cursor[rows] + 7) >> 3, low_at)
            if name == "sum16_words":
                return Val(check_words(window.data, low_at, high_at), True)
            return Val(check(name, window.data, low_at, high_at - low_at, parameters), True)
        if ex.until is None and window.table is not None and self.full and not registers and name != "sum16_words":
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
        known: Any = True
        if ex.until is not None:
            found = evaluate(ex.until, self)
            known = np.broadcast_to(np.asarray(found.known, bool), rows.shape)
            byte = np.broadcast_to(np.asarray(as_floats(ex.until, found), float), rows.shape)
            high_at = start + np.where(known, np.clip(byte, -1, 2.0**31), -1).astype(np.int64) - ex.base + 1
        good = (low_at >= start) & (high_at <= end) & (high_at >= low_at)
        if not good.all():
            away = np.maximum(np.where(high_at > end, high_at - 1, low_at) - start, 0)
            level.too_short(rows[~good & known], away[~good & known], 1, ex.line, "the check")
            good &= known
        low_at, high_at = np.where(good, low_at, start), np.where(good, high_at, start)
        good &= known
        if name == "sum16_words":
            return Val(check_words(window.data, low_at, high_at), good)
        return Val(check(name, window.data, low_at, high_at - low_at, parameters), good)

    # other messages, other repeats
    def _before(self, ex: Before) -> Val:
        level, rows = self.level, self.rows
        batch = level.batch
        earlier = np.full(len(rows), -1, np.int64) if batch.payloads.before is None else batch.payloads.before[rows]
        column = level.columns.get(ex.name)
        gone = batch.reason(NO_EARLIER)
        if column is None:
            return Val(np.zeros(len(rows)), np.full(len(rows), gone, np.int16))
        there = (earlier >= 0) & level.alive[earlier]
        safe = np.where(there, earlier, 0)
        return Val(column.values[safe], np.where(there, column.state[safe], gone))

    def _previous(self, ex: Previous) -> Val:
        column = self.level.carry.get(ex.name)
        if column is None or self.level.up is None:
            return Val(0.0, False)
        rows = self.level.up[self.rows]
        return Val(column.values[rows], column.state[rows])

    def _aggregate(self, ex: Aggregate) -> Val:
        level = self.level
        count = level.count
        owner: list[np.ndarray] = []
        values: list[np.ndarray] = []
        states: list[np.ndarray] = []
        ranks: list[np.ndarray] = []
        ran = np.zeros(count, bool)
        for repeat in ex.repeats:
            inner = level.inner(repeat)
            ran |= level.ran.get(repeat, np.zeros(count, bool))
            if inner is None or inner.up is None:
                continue
            rows = np.flatnonzero(inner.alive)
            found = evaluate(ex.value, View(inner, rows))
            if ex.value.type.wide:
                found = Val(as_floats(ex.value, found), found.state)
            if ex.by is not None:
                rank = evaluate(ex.by, View(inner, rows))
                compared = np.broadcast_to(np.where(rank.known, as_floats(ex.by, rank), np.nan), (len(rows),))
                ranks.append(compared if ex.function == "at_max_of" else -compared)
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
        if ex.by is not None:
            result, result_state = at_highest(up, np.concatenate(ranks)[order] if ranks else up, own, state, count)
        else:
            truth = ex.value.type.kind == "truth"
            result, result_state = aggregate(ex.function, up, own, state, count, ex.joint, truth)
        result_state = np.where(ran, result_state, 0).astype(np.int16)
        return Val(result[self.rows], result_state[self.rows])

    # tables, texts, clocks
    def _interpolated(self, ex: Interpolated) -> Val:
        return interpolated(ex, evaluate(ex.value, self))

    def _template(self, ex: Template) -> Val:
        return filled(ex, [evaluate(a, self) for a in ex.values], len(self.rows))


def interpolated(ex: Interpolated, found: Val) -> Val:
    """A value looked up in a table; outside its points it is not known."""
    xs = np.array([x for x, _ in ex.points])
    ys = np.array([y for _, y in ex.points])
    values = np.asarray(as_floats(ex.value, found), float)
    inside = (values >= xs[0]) & (values <= xs[-1])
    return Val(np.interp(values, xs, ys), joined(np.asarray(found.state), np.where(inside, 1, NO_NUMBER)))


FORM = re.compile(r"(0[0-9]{1,2})?(?:\.([0-9]))?([xX])?")


def filled(ex: Template, parts: list[Val], count: int) -> Val:
    """A text with values in it, for `count` rows; not known where hexadecimal digits cannot say the number."""
    state: Any = True
    texts: list[list[str]] = []
    for argument, part, form in zip(ex.values, parts, ex.forms, strict=True):
        state = joined(state, part.state)
        values = np.broadcast_to(part.values, (count,))
        if form[-1:] in ("x", "X"):
            numbers = np.asarray(values, float)
            whole = (numbers >= 0) & (numbers == np.floor(numbers))
            state = joined(np.broadcast_to(np.asarray(state, np.int16), (count,)), np.where(whole, 1, NO_NUMBER))
        if argument.type.kind == "time":
            values = objects(map(iso, values.tolist()))
        texts.append(texts_of(values, dict(argument.type.codes), form))
    built = [
        ex.pieces[0] + "".join(text[i] + piece for text, piece in zip(texts, ex.pieces[1:], strict=True))
        for i in range(count)
    ]
    return Val(objects(built), state)


def texts_of(values: np.ndarray, codes: dict[int, str], form: str = "") -> list[str]:
    """Values as they stand in a name or a text."""
    return [
        written(codes.get(int(value), "") if isinstance(value, float) and codes else value, form)
        for value in values.tolist()
    ]


def written(value: Any, form: str = "") -> str:
    """A value as a text; a whole number has no point. form: `05` fills up with zeros to so many characters, `.2` writes
    so many decimals (half away from zero), both as `06.2`; `x` and `X` write hexadecimal digits, also as `04X`.
    """
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float) and value.is_integer() and abs(value) < 2**63:
        value = int(value)
    match = FORM.fullmatch(form)
    assert match is not None
    width, decimals, letter = match.groups()
    if letter is not None:
        text = format(int(value), letter)
    elif decimals is not None:
        text = str(Decimal(repr(value)).quantize(Decimal(1).scaleb(-int(decimals)), ROUND_HALF_UP))
    else:
        text = str(value)
    return text.zfill(int(width or 0))


def names_of(level: Level, template: str, rows: np.ndarray) -> list[str]:
    """A name with braces, filled for every row; letters that a name cannot have become `_`. A code gives its number, at
    the beginning of a name its text.
    """
    pieces = template.replace("}", "{").split("{")
    built = [pieces[0]] * len(rows)
    for turn, (place, piece) in enumerate(zip(pieces[1::2], pieces[2::2], strict=True)):
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
                leads = turn == 0 and not pieces[0]
                texts = texts_of(column.values[level.climb(rows, owner)], owner.codes.get(place, {}) if leads else {})
        built = [b + _plain(t) + piece for b, t in zip(built, texts, strict=True)]
    return [name if name[:1].isalpha() else f"x_{name}" for name in built]


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
    if kind == "different_of":
        seen: list[set[Any]] = [set() for _ in range(count)]
        for row, value in zip(up[known].tolist(), values[known].tolist(), strict=True):
            seen[row].add(tuple(value) if isinstance(value, list) else value)
        return np.array([float(len(found)) for found in seen]), good
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


def at_highest(
    up: np.ndarray, rank: np.ndarray, values: np.ndarray, state: np.ndarray, count: int
) -> tuple[np.ndarray, np.ndarray]:
    """For each of `count` rows the value of its repeat with the highest rank, the first of equal ones.

    up: int64 (m,), rising. rank: float64 (m,), NaN where it is not known.
    """
    result = np.full(count, None, object) if values.dtype == object else np.zeros((count, *values.shape[1:]))
    found = np.full(count, NO_NUMBER, np.int16)
    known = np.flatnonzero(~np.isnan(rank))
    best = known[np.lexsort((known, -rank[known], up[known]))]
    first = best[np.unique(up[best], return_index=True)[1]]
    result = result.astype(values.dtype)
    result[up[first]] = values[first]
    found[up[first]] = state[first]
    return result, found
