"""Loops that read packed readings, of many blocks at once; as `packing` writes them, byte for byte.

A place is an index into `raw`, uint8: the blocks one behind another; each ends where the next begins, at `end`. All of
these are bounded by it: a place of -1 says that what stands there is nothing packed.
"""

from __future__ import annotations

from typing import Any

import numpy as np

Whole = Any  # np.int64, or int: a loop takes both

HEAD, INTS, COLUMN = 10, 25, 6  # bytes of their heads
DECIMALS, BITS, NOTHING, SAME = range(4)  # how a column of numbers is written


def little(raw: np.ndarray, place: Whole, size: int) -> Whole:
    """A whole number of `size` bytes, the least first."""
    found = np.int64(0)
    for k in range(size):
        found |= np.int64(raw[place + k]) << np.int64(8 * k)
    return found


def plane(raw: np.ndarray, place: Whole, count: Whole, width: Whole, row: Whole) -> np.uint64:
    """Of `count` numbers of `width` planes the one at `row`."""
    found = np.uint64(0)
    for k in range(width):
        found |= np.uint64(raw[place + k * count + row]) << np.uint64(8 * k)
    return found


def unzigzag(value: np.uint64) -> Whole:
    half = np.int64(value >> np.uint64(1))
    return ~half if value & np.uint64(1) else half


def whole(raw: np.ndarray, place: Whole, end: Whole, out: np.ndarray) -> Whole:
    """A column of whole numbers into `out`, int64 (n,); returns the place behind it. All of it wraps around."""
    count = len(out)
    if place < 0 or end - place < INTS:
        return -1
    value, step = little(raw, place, 8), little(raw, place + 8, 8)
    divisor, width = little(raw, place + 16, 8), little(raw, place + 24, 1)
    place += INTS
    if count == 0:
        return place
    size = max(count - 2, 0) * width
    if width > 8 or end - place < size:
        return -1
    out[0] = value
    for row in range(1, count):
        if row > 1 and width:
            step += unzigzag(plane(raw, place, count - 2, width, row - 2)) * divisor
        value += step
        out[row] = value
    return place + size


def numbers(
    raw: np.ndarray, place: Whole, end: Whole, wanted: bool, tens: np.ndarray, out: np.ndarray, bits: np.ndarray
) -> Whole:
    """A column of numbers into `out`, float (n,) and NaN before, `bits` (int64) the same memory; returns the place
    behind it.
    """
    count = len(out)
    if place < 0 or end - place < COLUMN:
        return -1
    how, decimals, size = raw[place], little(raw, place + 1, 1), little(raw, place + 2, 4)
    place += COLUMN
    behind = place + size
    if behind > end or how > SAME or decimals >= len(tens):
        return -1
    if not wanted or how == NOTHING:
        return behind
    if how == SAME:
        if size < 8:
            return -1
        value = little(raw, place, 8)
        for row in range(count):
            bits[row] = value
        return behind
    if size < 5:
        return -1
    masked, own = raw[place] != 0, little(raw, place + 1, 4)
    place += 5
    mask = place
    if masked:
        place += (count + 7) // 8
    if how == DECIMALS:
        if behind - place < 9:
            return -1
        value, width, stored = little(raw, place, 8), little(raw, place + 8, 1), own - 1
        place += 9
    else:
        if behind - place < 1:
            return -1
        value, width, stored = np.int64(0), little(raw, place, 1), own
        place += 1
    if own < 1 or own > count or width > 8 or behind - place < stored * width:
        return -1
    ten = tens[decimals]
    done = 0
    for row in range(count):
        if masked and not (raw[mask + row // 8] >> (7 - row % 8)) & 1:
            continue
        if done == own:
            return -1
        if how == DECIMALS:
            if done and width:
                value += unzigzag(plane(raw, place, stored, width, done - 1))
            out[row] = value / ten
        else:
            if width:
                value ^= np.int64(plane(raw, place, stored, width, done))
            bits[row] = value
        done += 1
    return behind if done == own else -1


def opened(
    raw: np.ndarray,
    starts: np.ndarray,
    rows: np.ndarray,
    wanted: np.ndarray,
    tens: np.ndarray,
    times: np.ndarray,
    nums: np.ndarray,
    bits: np.ndarray,
    behind: np.ndarray,
) -> int:
    """Whole numbers and numbers of b blocks of one width. Returns the place of the block that is none, or -1.

    starts, rows: int64 (b + 1,), where each begins in `raw` and among the rows. wanted: bool (w,), which columns. tens:
    powers of ten. Written are times (int64 (4, n): measured, received, message, version), nums (float (w, n), NaN
    before), of which bits (int64) is the same memory, and behind (int64 (b,)): where the texts of a block begin.
    """
    for block in range(len(behind)):
        place, end = starts[block] + HEAD, starts[block + 1]
        first, last = rows[block], rows[block + 1]
        for column in range(4):
            place = whole(raw, place, end, times[column, first:last])
        for row in range(first, last):
            times[1, row] += times[0, row]
        for column in range(len(wanted)):
            place = numbers(raw, place, end, wanted[column], tens, nums[column, first:last], bits[column, first:last])
        if place < 0:
            return block
        behind[block] = place
    return -1
