"""The short way for ordinary lines: one number at a fixed place, in messages that all have one length.

What is here gives the same as `reading.Reading.read`, which takes over wherever something is out of the
ordinary. A property test holds both against each other.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import isfinite

import numpy as np

from ..batches import Column
from ..language.plan import FieldSpec, ReadStep, RejectStep
from .level import NO_TEXT, NOT_FINITE, Level, kept, ones
from .numbers import load

_SIZES = (1, 2, 4, 8)


@dataclass(frozen=True)
class Fast:
    """A line made ready. `mode`: start, next or same; codes: the highest, where all from 0 to it have a text."""

    mode: str
    offset: int
    width: int
    dtype: np.dtype
    shift: int
    mask: int
    sign: int
    a: float
    b: float
    c: float
    floating: bool
    marks: tuple[tuple[float, str], ...]
    low: float | None
    high: float | None
    codes: tuple[float, ...]
    top_code: float
    spec: FieldSpec
    name: str
    hidden: bool


def prepared(step: ReadStep) -> Fast | None:
    """The short way of a line, or None if it has none."""
    return kept(step, "_fast", lambda: _prepare(step))


def _prepare(step: ReadStep) -> Fast | None:
    raw, cleaning, spec = step.raws[0], step.cleaning, step.spec
    if len(step.raws) != 1 or raw.place.mode not in ("start", "next", "same") or raw.place.width not in _SIZES or raw.swapped or raw.storage not in ("u", "i", "f"):
        return None
    if step.clock or step.calendar or cleaning.unit_by or cleaning.stamped or spec.wide or raw.bits > 53 and raw.storage != "f" or any(s.when is not None for s in cleaning.sentinels):
        return None
    if dict(spec.codes).get(-1) is not None or spec.kind not in ("number", "integer", "flag", "code") or (raw.storage == "f" and raw.place.width == 1):
        return None
    order = "<" if raw.little else ">"
    whole = raw.bits == raw.place.width * 8
    dtype = np.dtype(f"{order}{raw.storage if whole else 'u'}{raw.place.width}")
    linear = step.linears[0]
    a, b, c = float(linear.a), float(linear.b), float(linear.c)
    if cleaning.convert is not None:
        return None
    marks = tuple((float(m), s.reason) for s in cleaning.sentinels for m in s.raws)
    codes = tuple(float(n) for n, _ in spec.codes)
    top = float(len(codes) - 1) if set(codes) == set(range(len(codes))) else -1.0
    mask, sign = ((1 << raw.bits) - 1, (1 << (raw.bits - 1)) if raw.storage == "i" else 0) if not whole else (0, 0)
    return Fast(
        raw.place.mode, raw.place.offset, raw.place.width, dtype, raw.shift, mask, sign, a, b, c, raw.storage == "f",
        marks, cleaning.low, cleaning.high, codes, top, spec, step.name, step.hidden,
    )  # fmt: skip


def passes(level: Level, step: RejectStep) -> bool:
    """Whether a rule that holds a number against a constant lets every row through; False where that is to be found out the ordinary way."""
    rule = step.rule
    if rule is None or rule.op not in ("=", "!=") or rule.args[0].op != "name" or rule.args[1].op != "constant" or not isinstance(rule.args[1].value, int | float):
        return False
    column = level.columns.get(rule.args[0].value)
    if column is None or column.state is not ones(level.count) or column.values.dtype != np.float64:
        return False
    equal = int(np.count_nonzero(column.values == rule.args[1].value))
    return equal == (level.count if (rule.op == "=") == step.unless else 0)


def read(level: Level, fast: Fast, keep_raw: bool) -> bool:
    """Reads a column for all rows of the level; False where the ordinary way has to be taken."""
    window = level.window
    mode = fast.mode
    if mode == "start":
        offset = fast.offset
    elif mode == "next":
        if window.offset is None:
            return False
        offset = window.offset
    elif isinstance(window.last, int):
        offset = window.last
    else:
        return False
    width, count = fast.width, level.count
    end = offset + width
    if window.table is not None:
        first, stride, length = window.table
        if end > length:
            return False
        found = np.ndarray((count,), fast.dtype, window.data, first + offset, (stride,))
    elif end <= window.safe:
        found = load(window.data[offset:], window.start, fast.dtype.str, width)
    else:
        return False
    if fast.name in level.columns:
        return False
    if fast.mask:
        part = found.astype(np.int64)
        if fast.shift:
            part >>= fast.shift
        part &= fast.mask
        if fast.sign:
            part ^= fast.sign
            part -= fast.sign
        values = part.astype(np.float64)
    else:
        values = found.astype(np.float64)
    state = ones(count)
    batch = level.batch
    if fast.codes:
        known = values <= fast.top_code if fast.top_code >= 0 else np.isin(values, fast.codes)
        if np.count_nonzero(known) != count:
            state = np.where(known, state, np.int16(batch.reason(NO_TEXT)))
    result = values
    if fast.a != 1.0:
        result = result * fast.a
    if fast.b:
        result = result + fast.b
    if fast.c != 1.0:
        result = result / fast.c
    for mark, reason in fast.marks:
        hit = values == mark if mark == mark else np.isnan(values)
        if np.count_nonzero(hit):
            state = np.where(hit & (state == 1), np.int16(batch.reason(reason)), state)
    if fast.floating and not isfinite(np.add.reduce(result)):
        bad = ~np.isfinite(result)
        if bad.any():
            state = np.where(bad & (state == 1), np.int16(batch.reason(NOT_FINITE)), state)
            result = np.where(bad, 0.0, result)
    if fast.low is not None and fast.high is not None and count and (np.minimum.reduce(result) < fast.low or np.maximum.reduce(result) > fast.high):
        out = ((result < fast.low) | (result > fast.high)) & (state == 1)
        if out.any():
            state = np.where(out, np.int16(batch.reason(f"outside {fast.low:g} to {fast.high:g}")), state)
    if keep_raw:
        level.raws[fast.name] = (values, None)
    level.columns[fast.name] = Column(result, state)
    window.last = offset
    if mode != "same":
        window.seek(end)
        if end > window.read:
            window.read = end
    return True
