"""The short way for ordinary lines: several of them, each one number at a known place, in one compiled loop.

What is here gives the same as `reading.Reading.read`, which takes over wherever something is out of the
ordinary. Property tests hold both against each other.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..batches import Column
from ..language.decoders.analysis import asks_cursor
from ..language.decoders.plan import ReadStep, RejectStep, Step
from ..language.expressions import Compared, Constant, Named
from ..language.fields import FieldSpec
from . import loops
from .level import NO_TEXT, NOT_FINITE, Level, Window, kept, ones

NOTHING = np.zeros((1, 1), np.int64)


@dataclass(frozen=True)
class Line:
    """A line made ready: its place, and its row of the arrays that the loop takes (RAW and marks not yet filled in)."""

    name: str
    spec: FieldSpec
    hidden: bool
    mode: str  # start, next, same, record
    offset: int  # or the tag
    row: tuple[int, ...]
    scale: tuple[float, ...]
    marks: tuple[tuple[float, str], ...]
    codes: tuple[float, ...]
    outside: str | None


@dataclass(frozen=True)
class Placed:
    """Lines of a block with their places: where the cursor, the last line and what has been read then end, in bytes
    from the start.
    """

    lines: np.ndarray
    seek: int | None
    last: int
    end: int


@dataclass(frozen=True)
class Block:
    """Lines that follow each other, as arrays; see `loops.numbers`."""

    members: tuple[Line, ...]
    names: frozenset[str]
    lines: np.ndarray
    scales: np.ndarray
    marks: np.ndarray
    reasons: np.ndarray
    codes: np.ndarray
    texts: tuple[str, ...]  # of the states from loops.NO_CODE on
    raws: tuple[int, ...]  # the members whose raw numbers are kept
    reach: tuple[int, ...]  # by how many members are read: how many steps of the decoder that takes in
    whole: dict[tuple[int | None, int | None], Placed] = field(
        default_factory=dict
    )  # all its lines, by where the cursor and the last line were


def _line(step: Step) -> Line | None:
    """A line made ready, or None where it has to go the ordinary way."""
    if not isinstance(step, ReadStep) or len(step.raws) != 1:
        return None
    raw, cleaning, spec = step.raws[0], step.cleaning, step.spec
    width, place = raw.place.width, raw.place
    if (
        place.mode not in ("start", "next", "same", "record")
        or raw.swapped
        or not 1 <= width <= 8
        or raw.storage not in ("u", "i", "f")
    ):
        return None
    if raw.storage == "f" and width not in (4, 8) or raw.storage != "f" and raw.bits > 53:
        return None
    if (
        step.clock
        or step.calendar
        or step.once
        or step.required is not None
        or spec.wide
        or cleaning.unit_by
        or cleaning.stamped
        or cleaning.convert is not None
    ):
        return None
    if (
        any(s.when is not None or s.fate != "missing" for s in cleaning.sentinels)
        or dict(spec.codes).get(-1) is not None
        or step.moved
        or spec.kind not in ("number", "integer", "flag", "code")
    ):
        return None
    linear = step.linears[0]
    codes = tuple(sorted(float(n) for n, _ in spec.codes))
    row = [0] * loops.COLUMNS
    row[loops.WIDTH], row[loops.LITTLE], row[loops.SHIFT], row[loops.MASK] = (
        width,
        raw.little,
        raw.shift,
        (1 << raw.bits) - 1 if raw.bits < 64 else -1,
    )
    row[loops.STORAGE] = {"u": loops.UNSIGNED, "i": loops.SIGNED, "f": loops.FLOATING}[raw.storage]
    row[loops.SIGN] = 1 << (raw.bits - 1) if raw.storage == "i" else 0
    row[loops.TOP_CODE] = len(codes) - 1 if codes == tuple(range(len(codes))) else -1
    low, high = cleaning.low, cleaning.high
    ranged = low is not None and high is not None
    return Line(
        step.name,
        spec,
        step.hidden,
        place.mode,
        place.offset,
        tuple(row),
        (
            float(linear.a),
            float(linear.b),
            float(linear.c),
            low if low is not None else 0.0,
            high if high is not None else 0.0,
        ),
        tuple((float(m), s.reason) for s in cleaning.sentinels for m in s.raws),
        codes,
        f"outside {low:g} to {high:g}" if ranged else None,
    )


def _block(members: tuple[Line, ...], reach: tuple[int, ...], keep_raw: frozenset[str]) -> Block:
    lines = np.array([line.row for line in members], np.int64)
    marks: list[float] = []
    reasons: list[int] = []
    codes: list[float] = []
    texts = [NO_TEXT, NOT_FINITE]
    raws: list[int] = []
    for k, line in enumerate(members):
        lines[k, loops.FIRST_MARK], lines[k, loops.FIRST_CODE] = len(marks), len(codes)
        for mark, reason in line.marks:
            marks.append(mark)
            reasons.append(loops.NO_CODE + len(texts))
            texts.append(reason)
        codes += line.codes
        lines[k, loops.LAST_MARK], lines[k, loops.LAST_CODE] = len(marks), len(codes)
        lines[k, loops.OUTSIDE] = -1
        if line.outside is not None:
            lines[k, loops.OUTSIDE] = loops.NO_CODE + len(texts)
            texts.append(line.outside)
        lines[k, loops.RAW] = -1
        if line.name in keep_raw:
            lines[k, loops.RAW] = len(raws)
            raws.append(k)
    names = frozenset(line.name for line in members)
    scales = np.array([line.scale for line in members])
    return Block(
        members,
        names,
        lines,
        scales,
        np.array(marks, float),
        np.array(reasons, np.int64),
        np.array(codes, float),
        tuple(texts),
        tuple(raws),
        reach,
    )


def beginning(steps: tuple[Step, ...], index: int, keep_raw: frozenset[str]) -> Block | None:
    """The ordinary lines that follow each other from steps[index] on, of one kind of place; None if that line is none.

    Refusals between them come after all of them, as a line that is read here never fails; but for those that ask how
    much is left.
    """
    members: list[Line] = []
    reach: list[int] = []
    for distance, step in enumerate(steps[index:]):
        if isinstance(step, RejectStep) and members and not (step.rule is not None and asks_cursor(step.rule)):
            continue
        line = kept(step, "_line", lambda step=step: _line(step))  # type: ignore[misc]
        if (
            line is None
            or members
            and ((line.mode == "record") != (members[0].mode == "record") or line.name in {m.name for m in members})
        ):
            break
        members.append(line)
        reach.append(distance)
    return _block(tuple(members), (*reach, reach[-1] + 1), keep_raw) if members else None


def read(level: Level, block: Block) -> int:
    """Reads lines of a block for all rows of the level; returns how many steps of the decoder they reach over, 0 if
    none was read.

    The line after them has to be read the ordinary way.
    """
    window, count = level.window, level.count
    if count <= loops.FEW:
        return 0
    members, batch = block.members, level.batch
    most = len(members)
    if not block.names.isdisjoint(level.columns):
        most = next(k for k, line in enumerate(members) if line.name in level.columns)
    first = stride = 0
    starts = ends = NOTHING
    if members[0].mode == "record":
        where, placed = loops.RECORDS, _in_records(window, block, most)
        if window.records is not None:
            starts, ends = window.records.starts, window.records.ends
    elif window.table is not None:
        first, stride, length = window.table
        where, placed = loops.TABLE, _placed(window, block, most, length)
    else:
        where, placed = loops.STARTS, _placed(window, block, most, window.safe)
        starts = np.ascontiguousarray(window.start).reshape(1, -1)
    if placed is None:
        return 0
    usable = len(placed.lines)
    values, states, raws = (
        np.empty((usable, count)),
        np.empty((usable, count), np.int16),
        np.empty((len(block.raws), count)),
    )
    odd, used = np.zeros(usable, np.int64), np.zeros(loops.NO_CODE + len(block.texts), bool)
    done = loops.compiled(loops.numbers)(
        window.data,
        where,
        first,
        stride,
        starts,
        ends,
        placed.lines,
        block.scales,
        block.marks,
        block.reasons,
        block.codes,
        values,
        states,
        raws,
        odd,
        used,
    )
    if True in used:
        own = [
            batch.reason(text) if hit else 0
            for text, hit in zip(block.texts, used[loops.NO_CODE :].tolist(), strict=True)
        ]
        states = np.array([0, 1, *own], np.int16).take(states[:done])  # behind them nothing was written
    all_there = ones(count)
    for k, (line, some) in enumerate(zip(members[:done], odd.tolist(), strict=False)):
        level.columns[line.name] = Column(values[k], states[k] if some else all_there)
        if line.codes:
            level.codes[line.name] = dict(line.spec.codes)
        if not line.hidden:
            level.given.setdefault(line.name, line.spec)
    for slot, k in enumerate(block.raws):
        if k < done:
            level.raws[members[k].name] = (raws[slot], None)
    if where != loops.RECORDS:
        window.last = placed.last
        if placed.seek is not None:
            window.seek(placed.seek)
        window.read = max(window.read, placed.end)
    return block.reach[done] if done else 0


def _in_records(window: Window, block: Block, most: int) -> Placed | None:
    """The first lines, as far as their records stand ready."""
    found = window.records
    if found is None or found.once:
        return None
    slots = [found.slot.get(line.offset, -1) for line in block.members[:most]]
    usable = slots.index(-1) if -1 in slots else most
    if not usable:
        return None
    lines = block.lines[:usable].copy()
    lines[:, loops.OFFSET] = slots[:usable]
    return Placed(lines, None, 0, 0)


def _placed(window: Window, block: Block, most: int, limit: int) -> Placed | None:
    """The first lines, as far as they stand equally far from the start for all rows, and within `limit` bytes."""
    before = window.offset, window.last if isinstance(window.last, int) else None
    ready = block.whole.get(before)
    if ready is not None and most == len(block.members) and ready.end <= limit:
        return ready
    places: list[int] = []
    (seek, last), end = before, 0
    for line in block.members[:most]:
        at, width = (
            line.offset if line.mode == "start" else seek if line.mode == "next" else last,
            line.row[loops.WIDTH],
        )
        if at is None or at + width > limit:
            break
        places.append(at)
        last, end = at, max(end, at + width)
        if line.mode != "same":
            seek = at + width
    if last is None or not places:
        return None
    lines = block.lines[: len(places)].copy()
    lines[:, loops.OFFSET] = places
    placed = Placed(lines, seek, last, end)
    if len(places) == len(block.members) and len(block.whole) < 64:
        block.whole[before] = placed
    return placed


def passes(level: Level, step: RejectStep) -> bool:
    """Whether a rule that holds a number against a constant lets every row through; False where that is to be found out
    the ordinary way.
    """
    rule = step.rule
    if (
        not isinstance(rule, Compared)
        or rule.sign not in ("=", "!=")
        or not isinstance(rule.left, Named)
        or not isinstance(rule.right, Constant)
        or not isinstance(rule.right.value, int | float)
    ):
        return False
    column = level.columns.get(rule.left.name)
    if column is None or column.state is not ones(level.count) or column.values.dtype != np.float64:
        return False
    equal = int(np.count_nonzero(column.values == rule.right.value))
    return equal == (level.count if (rule.sign == "=") == step.unless else 0)
