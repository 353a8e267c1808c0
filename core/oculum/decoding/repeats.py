"""Repeats: the elements of all rows as one level, where they can be told beforehand; else turn by turn."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..batches import PRESENT, Column
from ..language import limits
from ..language.decoders.plan import ApartStep, RepeatStep
from ..language.expressions import Constant
from . import envelopes, loops, sources
from .level import Level, Window, everyone, merged
from .walker import Walker

DAY_LIMIT_US = 4_000_000_000_000_000_000


def repeat(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray) -> None:
    """One repeat for these rows. Its readings stay with the level that is made."""
    each = _each(walker, level, step, rows)
    rows = level.living(rows)
    if not len(rows):
        return
    window = level.window
    if step.kind == "list":
        rows, up, docs = envelopes.lists(walker, level, step, rows)
        _known(walker, level, step, rows, _documents(up, docs), up, each)
    elif step.kind == "record":
        records = window.records
        assert records is not None
        wanted = np.zeros(level.count, bool)
        wanted[rows] = True
        row, tag, start, end = records.all
        index = np.flatnonzero((tag == step.tag) & wanted[row])
        index = index[np.argsort(row[index], kind="stable")]
        own = Window("bytes", window.data, start[index], end[index], "malformed")
        own.own = window.own
        _known(walker, level, step, rows, own, row[index], each)
    elif step.kind == "lines":
        up, own = sources.lines(level, rows)
        own = sources.decode_lines(walker.batch, level, own, up, step.line)
        keep = level.alive[up]
        if not keep.all():
            own, up = sources.taken(own, np.flatnonzero(keep)), up[keep]
        _known(walker, level, step, level.living(rows), own, up, each)
        empty = rows[np.bincount(up, minlength=level.count)[rows] == 0]
        level.fail(empty[level.alive[empty]], "too short", "the payload has no line", step.line)
    elif step.kind == "columns":
        up, pieces = sources.column_range(level, rows, step.first, step.last)
        own = sources.window_of(len(pieces), everyone(len(pieces)), [p.encode() for p in pieces], "malformed")
        own.kind, own.docs, own.own = "text", list(pieces), False
        _known(walker, level, step, rows, own, up, each)
    elif step.kind == "frames":
        assert step.framing is not None
        up, own = sources.frames(level, rows, step.framing, step.line)
        none = rows[np.bincount(up, minlength=level.count)[rows] == 0]
        if not isinstance(step.body[0], ApartStep):
            assert own.pending is not None
            for i, wrong in enumerate(own.pending):
                if wrong is not None:
                    level.fail(up[i : i + 1], wrong[0], wrong[1], step.line)
        _known(walker, level, step, level.living(rows), own, up, each)
        level.fail(none[level.alive[none]], "malformed", "no frame begins in the payload", step.line)
    else:
        _cursor(walker, level, step, rows, each)


def _each(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray) -> np.ndarray | None:
    """Microseconds from one repeat to the next, by row of the level (n,)."""
    if step.each is None:
        return None
    found, known = walker.numbers(step.each, level, rows)
    wrong = ~known | (np.abs(found) > 1e10)
    level.fail(rows[wrong], "malformed", "the time between the repeats is not known", step.line)
    result = np.zeros(level.count)
    result[rows] = np.where(wrong, 0.0, found) * 1e6
    return result


def _documents(up: np.ndarray, docs: list[Any]) -> Window:
    none = np.zeros(len(docs), np.int64)
    window = Window("document", np.zeros(16, np.uint8), none, none, "malformed")
    window.docs = docs
    window.own = False
    return window


def _positions(up: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """For elements in order within each row: which of its row's each is, from 1; and how many each row has."""
    totals = np.bincount(up, minlength=count)
    order = np.argsort(up, kind="stable")
    first = np.concatenate([[0], np.cumsum(totals)])[:-1]
    index = np.empty(len(up), np.int64)
    index[order] = np.arange(len(up)) - first[up[order]] + 1
    return index, totals


def _fixed_us(step: RepeatStep) -> int | None:
    """Microseconds from one repeat to the next where the text says them as a whole number, less than 0 if the first is
    the newest.
    """
    if (
        not isinstance(step.each, Constant)
        or not isinstance(step.each.value, float)
        or not abs(step.each.value) < DAY_LIMIT_US / 1e6
        or step.each.value * 1e6 != int(step.each.value * 1e6)
    ):
        return None
    return int(step.each.value * 1e6) * (-1 if step.direction == "earlier" else 1)


def _times(
    level: Level, step: RepeatStep, up: np.ndarray, index: np.ndarray, each: np.ndarray | None, totals: np.ndarray
) -> np.ndarray:
    """The time of every element, before its own `stamp`."""
    if each is None:
        return level.at[up]
    turns = index - 1 if step.direction != "later until stamp" else index - totals[up]
    fixed = _fixed_us(step)
    if fixed is not None:
        return level.at[up] + turns * fixed
    if step.direction == "earlier":
        turns = -turns
    return level.at[up] + np.clip(np.rint(turns * each[up]), -DAY_LIMIT_US, DAY_LIMIT_US).astype(np.int64)


def _allowed(walker: Walker, level: Level, step: RepeatStep, up: np.ndarray, totals: np.ndarray) -> np.ndarray:
    """Refuses messages with more elements than are taken; returns which of `up` stay."""
    over = np.flatnonzero(totals > step.most)
    level.fail(over, "malformed", f"the repeat would run more than {step.most} times", step.line)
    batch = walker.batch
    if batch.counted is None:
        batch.counted = np.zeros(len(batch.payloads), np.int64)
    keep = level.alive[up] if len(over) else np.ones(len(up), bool)
    messages = level.message(up[keep])
    # What follows at the cursor is foreseen by its readings, lists of a document by their elements.
    each = max(len(step.fields), 1) if step.kind in ("end", "times", "bits") else 1
    batch.counted += each * np.bincount(messages, minlength=len(batch.payloads))
    many = batch.counted > limits.ELEMENTS
    if many.any():
        rows = np.unique(up[keep][many[messages]])
        what = "readings in repeats" if each > 1 else "repeats"
        level.fail(rows, "malformed", f"the message has more than {limits.ELEMENTS} {what}", step.line)
        keep &= level.alive[up]
    return keep


def _within(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray, totals: np.ndarray) -> np.ndarray:
    """As `_allowed`, by how many elements each row has; returns the rows that stay."""
    over = rows[totals[rows] > step.most]
    if len(over):
        level.fail(over, "malformed", f"the repeat would run more than {step.most} times", step.line)
        rows = level.living(rows)
    batch = walker.batch
    if batch.counted is None:
        batch.counted = np.zeros(len(batch.payloads), np.int64)
    messages = level.message(rows)
    np.add.at(batch.counted, messages, totals[rows] * max(len(step.fields), 1))
    many = batch.counted[messages] > limits.ELEMENTS
    if many.any():
        said = f"the message has more than {limits.ELEMENTS} readings in repeats"
        level.fail(rows[many], "malformed", said, step.line)
        rows = level.living(rows)
    return rows


def _register(level: Level, step: RepeatStep, rows: np.ndarray, child: Level | None) -> None:
    ran = level.ran.get(step.number)
    if ran is None:
        ran = level.ran[step.number] = np.zeros(level.count, bool)
    ran[rows] = True
    if child is not None and child.count:
        level.children.setdefault(step.number, []).append(child)


def _known(
    walker: Walker,
    level: Level,
    step: RepeatStep,
    rows: np.ndarray,
    window: Window,
    up: np.ndarray,
    each: np.ndarray | None,
) -> None:
    """A repeat whose elements are known: all at once, or by turns where one speaks of the one before."""
    index, totals = _positions(up, level.count)
    keep = _allowed(walker, level, step, up, totals)
    if not keep.all():
        kept = np.flatnonzero(keep)
        window, up, index = sources.taken(window, kept), up[kept], index[kept]
    if not step.ordered:
        child = Level(walker.batch, len(up), window, level, up, _times(level, step, up, index, each, totals))
        child.index = index
        child.given = {spec.name: spec for spec in step.fields}
        child.list_path = step.paths[0] if len(step.paths) == 1 else None
        _register(level, step, rows, child)
        walker.run(child, step.body, everyone(child.count))
        return
    pieces: list[Level] = []
    carry: dict[str, Column] = {}
    for turn in range(1, int(index.max(initial=0)) + 1):
        chosen = np.flatnonzero((index == turn) & level.alive[up])
        if not len(chosen):
            continue
        child = Level(
            walker.batch,
            len(chosen),
            sources.taken(window, chosen),
            level,
            up[chosen],
            _times(level, step, up[chosen], index[chosen], each, totals),
        )
        child.index = index[chosen]
        child.given = {spec.name: spec for spec in step.fields}
        child.carry = carry
        walker.run(child, step.body, everyone(child.count))
        _carry(level, child, step, carry)
        pieces.append(child)
    _register(level, step, rows, merged(pieces) if pieces else None)


def _carry(level: Level, child: Level, step: RepeatStep, carry: dict[str, Column]) -> None:
    """Keeps the last known values that the next turn may ask for."""
    for name in step.carried:
        column = child.columns.get(name)
        if column is None or child.up is None:
            continue
        kept = carry.get(name)
        if kept is None:
            shape = (level.count, *column.values.shape[1:])
            blank = (
                np.full(shape, None, object) if column.values.dtype == object else np.zeros(shape, column.values.dtype)
            )
            kept = carry[name] = Column(blank, np.zeros(level.count, np.int16))
        known = column.state == PRESENT
        kept.values[child.up[known]] = column.values[known]
        kept.state[child.up[known]] = PRESENT


def _cursor(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray, each: np.ndarray | None) -> None:
    """A repeat whose elements follow each other at the cursor."""
    outer = level.window
    cursor = outer.cursor
    limit = outer.end
    if step.kind == "end" and level.parent is None and level.window is level.root_window:
        limit = outer.end - walker.batch.tail
    counts = np.zeros(level.count, np.int64)
    patterns: np.ndarray | None = None
    if step.kind == "times" or step.kind == "bits":
        assert step.value is not None
        found, known = walker.numbers(step.value, level, rows)
        level.fail(rows[~known & level.alive[rows]], "malformed", "how often to repeat is not known", step.line)
        whole = np.clip(np.where(known, found, 0), 0, 2.0**53)
        if step.kind == "times":
            counts[rows] = whole.astype(np.int64)
        else:
            patterns = np.zeros(level.count, np.int64)
            patterns[rows] = whole.astype(np.int64)
            counts[rows] = np.bitwise_count(patterns[rows])
        rows = level.living(rows)
    if step.advance and not step.ordered and patterns is None:
        if step.kind == "end":
            left = limit[rows] * 8 - cursor[rows]
            counts[rows] = np.maximum(-(-left // step.advance), 0)
        rows = _within(walker, level, step, rows, counts)
        totals = counts[rows]
        # a count that promises more than the payload holds fails at its first element behind the end
        fits = np.maximum((limit[rows] * 8 - cursor[rows]) // step.advance, 0)
        every = bool((totals <= fits).all())
        shown = totals if every else np.minimum(totals, fits + 1)
        whole_bytes = every and step.advance % 8 == 0
        begin, size = ((cursor[rows] + 7) >> 3, step.advance // 8) if whole_bytes else (cursor[rows], step.advance)
        fixed = _fixed_us(step)
        up, index, start, at = np.empty((4, int(shown.sum())), np.int64)
        walk = loops.elements if len(up) <= 4 * loops.FEW else loops.compiled(loops.elements)
        walk(
            rows,
            shown,
            totals,
            begin,
            size,
            level.at,
            fixed or 0,
            step.direction == "later until stamp",
            up,
            index,
            start,
            at,
        )
        if each is not None and fixed is None:
            at = _times(level, step, up, index, each, counts)
        if whole_bytes:
            window = Window("bytes", outer.data, start, start + size, outer.short)
            window.safe = size
        else:
            window = Window("bytes", outer.data, outer.start[up], limit[up], outer.short)
            window.cursor = start
            window.begun = start >> 3
        window.called = outer.called
        window.own, window.origin = outer.own, outer.origin[up] if outer.origin is not None else None
        child = Level(walker.batch, len(up), window, level, up, at)
        child.index = index
        child.given = {spec.name: spec for spec in step.fields}
        _register(level, step, rows, child)
        walker.run(child, step.body, everyone(child.count))
        done = level.living(rows)
        cursor[done] += counts[done] * step.advance
        outer.note_read(done, (cursor[done] + 7) >> 3)
        outer.cursor = cursor
        outer.last = None
        return
    pieces: list[Level] = []
    carry: dict[str, Column] = {}
    active = rows
    for turn in range(step.most + 1):
        active = level.living(active)
        if step.kind == "end":
            here = active = active[cursor[active] < limit[active] * 8]
        elif patterns is not None:
            here = active[(patterns[active] >> turn) & 1 == 1] if turn < 63 else active[:0]
            active = active[patterns[active] >> turn != 0] if turn < 63 else active[:0]
        else:
            here = active = active[counts[active] > turn]
        if not len(active):
            break
        if turn == step.most:
            level.fail(here, "malformed", f"the repeat would run more than {step.most} times", step.line)
            break
        if not len(here):
            continue
        keep = _allowed(walker, level, step, here, np.zeros(level.count, np.int64))
        here = here[keep]
        window = Window("bytes", outer.data, outer.start[here], limit[here], outer.short)
        window.cursor = cursor[here]
        window.begun = cursor[here] >> 3
        window.called = outer.called
        window.own, window.origin = outer.own, outer.origin[here] if outer.origin is not None else None
        window.records = None
        index = np.full(len(here), turn + 1, np.int64)
        counted = step.kind != "end" or step.direction != "later until stamp"
        child = Level(
            walker.batch,
            len(here),
            window,
            level,
            here,
            _times(level, step, here, index, each if counted else None, counts),
        )
        child.index = index
        child.given = {spec.name: spec for spec in step.fields}
        child.carry = carry
        walker.run(child, step.body, everyone(child.count))
        if step.kind == "end":
            stuck = here[(window.cursor <= cursor[here]) & child.alive]
            level.fail(stuck, "malformed", "the repeat reads nothing", step.line)
        cursor[here] = window.cursor
        outer.note_read(here, (window.cursor + 7) >> 3)
        _carry(level, child, step, carry)
        pieces.append(child)
    outer.cursor = cursor
    outer.last = None
    whole_child = merged(pieces) if pieces else None
    if (
        whole_child is not None
        and step.kind == "end"
        and step.direction == "later until stamp"
        and whole_child.up is not None
    ):
        assert whole_child.index is not None
        at = _times(
            level, step, whole_child.up, whole_child.index, each, np.bincount(whole_child.up, minlength=level.count)
        )
        whole_child.at = at if whole_child.stamped is None else np.where(whole_child.stamped, whole_child.at, at)
    _register(level, step, rows, whole_child)
