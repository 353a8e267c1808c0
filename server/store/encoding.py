"""Readings as bytes of PostgreSQL's binary COPY format, by one compiled loop.

A tuple of the format has the count of its columns, then of each its length in bytes (-1: null) and its value, all big
endian. `nums` is an array value: dimensions, whether it has nulls, the type of its elements, then of its one dimension
the size and the lower bound, then the elements, each with its length before it.
"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np

from oculum.arrays import Bytes, Ints
from oculum.compiling import Loops

EPOCH_2000_US = 946_684_800_000_000
FLOAT8 = 701
FIXED = 86  # bytes of a row before the elements of its `nums`


def put(out: Any, place: int, value: int, size: int) -> int:
    """A whole number in `size` bytes; the place behind it."""
    for k in range(size):
        out[place + k] = (value >> (8 * (size - 1 - k))) & 255
    return place + size


def sized(out: Any, place: int, value: int, size: int) -> int:
    return put(out, put(out, place, size, 4), value, size)


def encode(
    owner: Any,
    at: Any,
    layout: int,
    version: int,
    message: Any,
    received: Any,
    nums: Any,
    there: Any,
    tails: Any,
    begins: Any,
    ends: Any,
    out: Any,
) -> int:
    """Writes rows one behind the other; returns how many bytes they are.

    owner, at, message, received: int64 (n,), times in µs; nums: int64 (n, w), the bits of numbers; there: bool (n, w);
    tails: uint8, the columns behind `nums`, those of row i from begins[i] to ends[i]. out: uint8, as long as all of it.
    """
    width, place = nums.shape[1], 0
    for i in range(len(owner)):
        place = put(out, place, 9, 2)
        place = sized(out, place, owner[i], 4)
        place = sized(out, place, at[i] - EPOCH_2000_US, 8)
        place = sized(out, place, layout, 4)
        place = sized(out, place, version, 4)
        place = sized(out, place, message[i], 8)
        place = sized(out, place, received[i] - EPOCH_2000_US, 8)
        present = 0
        for k in range(width):
            present += there[i, k]
        place = put(out, place, 20 + 4 * width + 8 * present, 4)
        place = put(out, place, 1, 4)
        place = put(out, place, 1 if present < width else 0, 4)
        place = put(out, place, FLOAT8, 4)
        place = put(out, place, width, 4)
        place = put(out, place, 1, 4)
        for k in range(width):
            if there[i, k]:
                place = sized(out, place, nums[i, k], 8)
            else:
                place = put(out, place, -1, 4)
        for k in range(begins[i], ends[i]):
            out[place] = tails[k]
            place += 1
    return place


compiled = Loops((sys.modules[__name__], ("put", "sized", "encode")))


def ready() -> None:
    """Compiles the loop, so that no batch waits for it."""
    i8 = np.zeros(0, np.int64)
    u1 = np.zeros(0, np.uint8)
    compiled("encode")(i8, i8, 1, 1, i8, i8, np.zeros((0, 1), np.int64), np.zeros((0, 1), bool), u1, i8, i8, u1)


def encoded(
    owner: np.ndarray,
    at: np.ndarray,
    layout: int,
    version: int,
    message: np.ndarray,
    received: np.ndarray,
    nums: np.ndarray,
    there: np.ndarray,
    tails: Bytes,
    begins: Ints,
    ends: Ints,
) -> Bytes:
    """See `encode`; nums: float64 (n, w)."""
    count, width = nums.shape
    size = count * (FIXED + 4 * width) + 8 * int(there.sum()) + int((ends - begins).sum())
    out = np.empty(size, np.uint8)
    written = compiled("encode")(
        owner, at, layout, version, message, received, nums.view(np.int64), there, tails, begins, ends, out
    )
    assert written == size, (written, size)
    return out
