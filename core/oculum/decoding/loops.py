"""The innermost loops of decoding: plain functions of numbers and arrays, compiled before they run over many rows.

Each does for many rows at once what the ordinary way (`reading.py`) does with several array operations a
line. They are written in what compiles: no objects, no calls, whole numbers of 64 bits.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from types import FunctionType
from typing import Any

import numpy as np

FEW = 64  # rows up to which compiled code is not asked for: one message at a time needs no compiler
PORTION = 1024

# states that a line gives, before reasons have their numbers in the batch; marks and ranges follow
NO_CODE, NO_NUMBER, OWN_REASONS = 2, 3, 4
# where the numbers of a row stand
TABLE, STARTS, RECORDS = 0, 1, 2
# columns of `lines`
(
    OFFSET,
    WIDTH,
    LITTLE,
    STORAGE,
    SHIFT,
    MASK,
    SIGN,
    RAW,
    FIRST_MARK,
    LAST_MARK,
    FIRST_CODE,
    LAST_CODE,
    TOP_CODE,
    OUTSIDE,
    COLUMNS,
) = range(15)
UNSIGNED, SIGNED, FLOATING = 0, 1, 2
# what is wrong with a row of records
CUT, OVERLONG, ENDLESS, TOO_MANY = 1, 2, 3, 4
LARGEST = 2**54  # a tag or a size beyond is none that anybody reads


def joined(data: Any, place: Any, size: int, width: int, little: bool, bits: Any) -> None:
    """Bytes as whole numbers: uint64 (size,) into `bits`, from the places in `place`."""
    one, eight = np.uint64(1), np.uint64(8)
    if width == 1:
        for i in range(size):
            bits[i] = data[place[i]]
    elif width == 2 and little:
        for i in range(size):
            bits[i] = np.uint64(data[place[i]]) | np.uint64(data[place[i] + one]) << eight
    elif width == 2:
        for i in range(size):
            bits[i] = np.uint64(data[place[i]]) << eight | np.uint64(data[place[i] + one])
    elif width == 4 and little:
        for i in range(size):
            at4 = place[i]
            low = np.uint32(data[at4]) | np.uint32(data[at4 + one]) << np.uint32(8)
            bits[i] = (
                low
                | np.uint32(data[at4 + np.uint64(2)]) << np.uint32(16)
                | np.uint32(data[at4 + np.uint64(3)]) << np.uint32(24)
            )
    elif width == 4:
        for i in range(size):
            at4 = place[i]
            high = np.uint32(data[at4]) << np.uint32(24) | np.uint32(data[at4 + one]) << np.uint32(16)
            bits[i] = high | np.uint32(data[at4 + np.uint64(2)]) << np.uint32(8) | np.uint32(data[at4 + np.uint64(3)])
    else:
        for i in range(size):
            joined = np.uint64(0)
            for k in range(width):
                joined = joined << eight | np.uint64(data[place[i] + np.uint64(width - 1 - k if little else k)])
            bits[i] = joined


def stored(bits: Any, size: int, width: int, storage: int, shift: Any, mask: Any, sign: int, value: Any) -> None:
    """Whole numbers as what they are stored for: float64 (size,) into `value`."""
    if storage == FLOATING and width == 4:
        short = bits[:size].astype(np.uint32).view(np.float32)
        for i in range(size):
            value[i] = short[i]
    elif storage == FLOATING:
        value[:] = bits[:size].view(np.float64)
    elif storage == SIGNED:
        for i in range(size):
            value[i] = np.float64((np.int64(bits[i] >> shift & mask) ^ sign) - sign)
    else:
        for i in range(size):
            value[i] = np.float64(np.int64(bits[i] >> shift & mask))


def judged(
    value: Any, state: Any, size: int, codes: Any, first_code: int, last_code: int, top: Any, marks: Any, reasons: Any,
    first_mark: int, last_mark: int,
) -> None:  # fmt: skip
    """Numbers that are no values: no code of the line, or a mark. Their states say why."""
    if top >= 0:
        for i in range(size):
            if state[i] == 1 and value[i] > top:
                state[i] = NO_CODE
    elif last_code > first_code:
        for i in range(size):
            a, b = first_code, last_code
            while a < b:
                middle = (a + b) // 2
                if codes[middle] < value[i]:
                    a = middle + 1
                else:
                    b = middle
            if state[i] == 1 and (a == last_code or codes[a] != value[i]):
                state[i] = NO_CODE
    for k in range(first_mark, last_mark):
        mark = marks[k]
        for i in range(size):
            if state[i] == 1 and (value[i] == mark or (mark != mark and value[i] != value[i])):
                state[i] = reasons[k]


def scaled(value: Any, size: int, scale: Any) -> None:
    """(value * a + b) / c, in place."""
    if scale[0] != 1.0:
        for i in range(size):
            value[i] *= scale[0]
    if scale[1] != 0.0:
        for i in range(size):
            value[i] += scale[1]
    if scale[2] != 1.0:
        for i in range(size):
            value[i] /= scale[2]


def bounded(value: Any, state: Any, size: int, floating: bool, outside: int, lowest: float, highest: float) -> None:
    """Values that are no number, or out of range, are missing. outside: the state of those, -1 without a range."""
    if floating:
        for i in range(size):
            if not np.isfinite(value[i]):
                value[i] = 0.0
                if state[i] == 1:
                    state[i] = NO_NUMBER
    if outside >= 0:
        for i in range(size):
            if state[i] == 1 and (value[i] < lowest or value[i] > highest):
                state[i] = outside


def numbers(
    data: Any,
    where: int,
    first: int,
    stride: int,
    starts: Any,
    ends: Any,
    lines: Any,
    scales: Any,
    marks: Any,
    reasons: Any,
    codes: Any,
    values: Any,
    states: Any,
    raws: Any,
    odd: Any,
    used: Any,
) -> int:
    """Several lines, each one number at a known place, for all rows; returns how many lines were read.

    It ends early before a line for which some row's record has another size.

    Args:
        data: uint8 (bytes,), the flat buffer with spare bytes behind.
        where: TABLE (row i at first + i * stride), STARTS (at starts[0, i]), RECORDS (starts[k, i] to ends[k, i],
            -1 where there is none; k is the line's OFFSET).
        lines: int64 (lines, COLUMNS). scales: float64 (lines, 5): (raw * a + b) / c, lowest, highest.
        marks, reasons: float64 and int64 (m,): raw numbers that are no values, and the state each gives.
        codes: float64 (k,), rising within each line's part.
        values: float64 (lines, rows), states: int16 (lines, rows), raws: float64 (kept, rows): all written.
        odd: int64 (lines,): in how many rows each line gives no value. used: bool (reasons,): which states occur.
    """
    count = values.shape[1]
    place = np.empty(PORTION, np.uint64)
    bits = np.empty(PORTION, np.uint64)
    done = lines.shape[0]
    for start in range(0, count, PORTION):  # what a portion takes stays near the processor
        size = min(PORTION, count - start)
        line = 0
        while line < done:
            offset, width, little, storage = (
                lines[line, OFFSET],
                lines[line, WIDTH],
                lines[line, LITTLE] != 0,
                lines[line, STORAGE],
            )
            value, state = values[line, start : start + size], states[line, start : start + size]
            without = 0
            state[:] = 1
            if where == TABLE:
                for i in range(size):
                    place[i] = np.uint64(first + offset + (start + i) * stride)
            elif where == STARTS:
                for i in range(size):
                    place[i] = np.uint64(starts[0, start + i] + offset)
            else:
                wrong = 0
                for i in range(size):
                    at = starts[offset, start + i]
                    there = at >= 0
                    place[i] = np.uint64(at) if there else np.uint64(0)
                    state[i] = there
                    without += not there
                    wrong += there and ends[offset, start + i] - at != width
                if wrong:
                    done = line
                    break
            joined(data, place, size, width, little, bits)
            shift, mask, sign = np.uint64(lines[line, SHIFT]), np.uint64(lines[line, MASK]), lines[line, SIGN]
            stored(bits, size, width, storage, shift, mask, sign, value)
            if lines[line, RAW] >= 0:
                raws[lines[line, RAW], start : start + size] = value
            judged(
                value, state, size, codes, lines[line, FIRST_CODE], lines[line, LAST_CODE], lines[line, TOP_CODE],
                marks, reasons, lines[line, FIRST_MARK], lines[line, LAST_MARK],
            )  # fmt: skip
            scaled(value, size, scales[line])
            bounded(
                value, state, size, storage == FLOATING, lines[line, OUTSIDE], scales[line, 3], scales[line, 4]
            )  # fmt: skip
            missing = 0
            for i in range(size):
                missing += state[i] != 1
            odd[line] += missing
            if missing > without:
                for i in range(size):
                    used[state[i]] = True
            line += 1
    return int(done)


def records(
    data: Any,
    rows: Any,
    at: Any,
    stop: Any,
    widths: Any,
    little: Any,
    by_byte: Any,
    filler: int,
    tags: Any,
    most: int,
    starts: Any,
    ends: Any,
    found: Any,
    wrong: Any,
) -> int:
    """Rows of records of tag and size, one record after the other; returns how many there are in all.

    Args:
        data: uint8 (bytes,).
        rows, at, stop: int64 (r,): the row of the level, and where its records begin and end in data.
        widths, little: int64 (2,): bytes of tag and of size, 0 for LEB128; whether the lowest byte comes first.
        by_byte: int64 (256,): the slot of a tag of one byte, -1 for none. filler: a byte that is passed over where a
        record would begin, -1 for none. tags: int64 (slots,): the tag of each slot.
        most: how many records a row may have.
        starts, ends: int64 (slots, rows of the level): where the last record of a tag stands, written where there is
        one.
        found: int64 (4, n): row, tag, start, end of every record, written if there is room for any.
        wrong: int8 (r,): CUT, OVERLONG, ENDLESS, TOO_MANY for a row that is refused, written.
    """
    total = 0
    listing = found.shape[1] > 0
    for i in range(len(rows)):
        row, place, end = int(rows[i]), int(at[i]), int(stop[i])
        turn = 0
        problem = 0
        while place < end:
            if int(data[place]) == filler:
                place += 1
                continue
            if turn == most:
                problem = TOO_MANY
                break
            tag = value = 0
            for part in range(2):
                tag, value = value, 0
                width = int(widths[part])
                if width == 0:
                    taken = 0
                    more = True
                    while more:
                        if place >= end:
                            problem = CUT
                            break
                        byte = int(data[place])
                        place += 1
                        if taken == 9 and byte > 1:
                            problem = ENDLESS
                            break
                        low = byte & 0x7F
                        if taken < 7:
                            value |= low << (7 * taken)
                        elif low:
                            value = LARGEST
                        taken += 1
                        more = byte >= 0x80
                elif place + width > end:
                    problem = CUT
                elif width == 1:
                    value = int(data[place])
                    place += 1
                else:
                    for k in range(width):
                        value = min(value * 256 + int(data[place + (width - 1 - k if little[part] else k)]), LARGEST)
                    place += width
                if problem:
                    break
            if problem == 0 and value > end - place:
                problem = OVERLONG
            if problem:
                break
            slot = -1
            if tag < 256:
                slot = int(by_byte[tag])
            else:
                for k in range(len(tags)):
                    if tags[k] == tag:
                        slot = k
            if slot >= 0:
                starts[slot, row] = place
                ends[slot, row] = place + value
            if listing:
                found[0, total], found[1, total], found[2, total], found[3, total] = row, tag, place, place + value
            place += value
            turn += 1
            total += 1
        wrong[i] = problem
    return total


def elements(
    rows: Any,
    counts: Any,
    totals: Any,
    begin: Any,
    size: int,
    at: Any,
    each: int,
    until: bool,
    up: Any,
    index: Any,
    start: Any,
    moment: Any,
) -> int:
    """The elements of repeats of one size, those of one row after the other; returns how many there are.

    Args:
        rows, counts, totals, begin: int64 (r,): the row of the level, how many of its elements are wanted, how many it
        says
            it has, and where the first begins. size: from one to the next, as begin counts.
        at: int64 (rows of the level,), µs. each: µs from one to the next, less than 0 if the first is the newest.
        until: whether the last element stands at the time of its row, else the first.
        up, index, start, moment: int64 (sum of counts,): row, number from 1, where it begins, its time; written.
    """
    k = 0
    for i in range(len(rows)):
        row, first = int(rows[i]), int(begin[i])
        now = int(at[row]) - ((int(totals[i]) - 1) * each if until else 0)
        for n in range(int(counts[i])):
            up[k], index[k], start[k], moment[k] = row, n + 1, first + n * size, now + n * each
            k += 1
    return k


def plain_cbor(data: Any, starts: Any, ends: Any, items: int, left: Any, plain: Any) -> int:
    """Which documents are CBOR that can be built without a closer look (RFC 8949); returns how many. They are complete,
    of known lengths, within bounds, and tagged as times and decimal fractions only.

    Args:
        data: uint8 (bytes,). starts, ends: int64 (n,): where each document stands. items: how many one may have.
        left: int64 (depth,): room to count what is still to come on each level.
        plain: bool (n,), written.
    """
    count = 0
    for row in range(len(starts)):
        at, end = int(starts[row]), int(ends[row])
        level, seen, good = 0, 0, True
        left[0] = 1
        while good and level >= 0:
            if left[level] == 0:
                level -= 1
                continue
            left[level] -= 1
            seen += 1
            if at >= end or seen > items:
                good = False
                break
            major, info = int(data[at]) >> 5, int(data[at]) & 31
            at += 1
            argument = info
            if info >= 24:
                size = 1 << (info - 24)
                if info > 27 or at + size > end:
                    good = False
                    break
                argument = 0
                for k in range(size):
                    if k > 0 or size < 8 or data[at] < 128:  # lengths beyond 63 bits are none
                        argument = argument * 256 + int(data[at + k])
                    else:
                        good = False
                at += size
                if major == 0 or major == 1 or major == 7:
                    good = True
            below = 0
            if major == 2 or major == 3:
                if argument > end - at:
                    good = False
                else:
                    at += argument
            elif major == 4:
                below = argument
            elif major == 5:
                below = 2 * argument if argument <= end - at else -1
            elif major == 6:
                below = 1 if argument == 0 or argument == 1 or argument == 4 else -1
            elif major == 7 and info == 24 and argument < 32:
                good = False
            if below < 0 or below > end - at:
                good = False
            elif below > 0 and good:
                level += 1
                if level >= len(left):
                    good = False
                else:
                    left[level] = below
        plain[row] = good and at == end
        count += int(good and at == end)
    return count


@cache
def compiled(loop: Callable[..., int]) -> Callable[..., int]:
    """A loop as machine code: compiled once and kept on disk, where there is a place for it."""
    from numba import njit, types  # half a second, which single messages do not wait for

    def read(kind: Any, dimensions: int) -> Any:
        return types.Array(kind, dimensions, "C", readonly=True)

    def written(kind: Any, dimensions: int) -> Any:
        return types.Array(kind, dimensions, "C")

    i8, f8 = types.int64, types.float64
    signature = {
        "numbers": i8(
            read(types.uint8, 1),
            i8,
            i8,
            i8,
            read(i8, 2),
            read(i8, 2),
            read(i8, 2),
            read(f8, 2),
            read(f8, 1),
            read(i8, 1),
            read(f8, 1),
            written(f8, 2),
            written(types.int16, 2),
            written(f8, 2),
            written(i8, 1),
            written(types.boolean, 1),
        ),
        "records": i8(
            read(types.uint8, 1),
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            i8,
            read(i8, 1),
            i8,
            written(i8, 2),
            written(i8, 2),
            written(i8, 2),
            written(types.int8, 1),
        ),
        "plain_cbor": i8(
            read(types.uint8, 1),
            read(i8, 1),
            read(i8, 1),
            i8,
            written(i8, 1),
            written(types.boolean, 1),
        ),
        "elements": i8(
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            read(i8, 1),
            i8,
            read(i8, 1),
            i8,
            types.boolean,
            written(i8, 1),
            written(i8, 1),
            written(i8, 1),
            written(i8, 1),
        ),
    }[loop.__name__]
    around = dict(globals())
    for keep in (True, False):  # on disk, unless no folder can be written
        try:
            for helper in (joined, stored, judged, scaled, bounded):
                around[helper.__name__] = njit(cache=keep, error_model="numpy")(helper)
            own = FunctionType(loop.__code__, around, loop.__name__)
            own.__module__, own.__qualname__ = loop.__module__, loop.__qualname__
            return njit(signature, cache=keep, error_model="numpy")(own)  # type: ignore[no-any-return]
        except RuntimeError:
            continue
    raise RuntimeError(f"{loop.__name__} cannot be compiled")


def ready() -> None:
    """Compiles all loops, so that no batch waits for it: seconds the first time, milliseconds from what is kept on
    disk.
    """
    for loop in (numbers, records, elements, plain_cbor):
        compiled(loop)
