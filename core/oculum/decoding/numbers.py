"""Stored numbers out of one flat buffer, a whole column at a time."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..language.decoders.plan import Linear
from ..language.stored import Raw

PAD = 16  # spare bytes behind every buffer, so that a read of 8 bytes never leaves it
_SIZES = (1, 2, 4, 8)


class Strided:
    """Positions first, first + step, ... : one for every row."""

    __slots__ = ("count", "first", "step")

    def __init__(self, first: int, step: int, count: int) -> None:
        self.first, self.step, self.count = first, step, count

    def array(self) -> np.ndarray:
        return self.first + np.arange(self.count, dtype=np.int64) * self.step


Positions = Any  # Strided, or int64 (m,)


def spot(raw: Raw, first: int) -> dict[str, Any]:
    """The bits of a stored number that begins at byte `first`, as a screen shows them."""
    width = raw.place.width
    return {
        "first": first,
        "last": first + width - 1,
        "high": raw.shift + raw.bits - 1,
        "low": raw.shift,
        "whole": raw.bits == width * 8,
        "little": raw.little,
    }


def load(data: np.ndarray, at: Positions, dtype: str, size: int) -> np.ndarray:
    """Numbers of `dtype` at byte positions of `data` (uint8, padded), aligned or not."""
    if isinstance(at, Strided):
        return np.ndarray((at.count,), dtype, data, at.first, (at.step,))
    if size == 1:
        return data.take(at).view(dtype)
    if size == 2:  # two gathers of bytes are quicker than one of pairs that are not aligned
        first, second = data.take(at), data[1:].take(at)
        high, low = (second, first) if dtype[0] == "<" else (first, second)
        pair = high.astype(np.uint16)
        pair <<= 8
        pair |= low
        return pair.view("=" + dtype[1:])
    return np.ndarray((max(len(data) - size + 1, 0),), dtype, data, 0, (1,))[at]


def words(data: np.ndarray, at: Positions, width: int, little: bool) -> np.ndarray:
    """Unsigned numbers of `width` bytes (1 to 8)."""
    order = "<" if little else ">"
    if width in _SIZES:
        return load(data, at, f"{order}u{width}", width)
    wide = load(data, at, f"{order}u8", 8).astype(np.uint64)
    return wide & np.uint64((1 << (8 * width)) - 1) if little else wide >> np.uint64(8 * (8 - width))


def swap_words(values: np.ndarray, width: int) -> np.ndarray:
    """The 16-bit words of numbers of 4 or 8 bytes in the other order."""
    wide = values.astype(np.uint64)
    low = np.uint64(0xFFFF)
    if width == 4:
        return ((wide & low) << np.uint64(16)) | (wide >> np.uint64(16))
    result = np.zeros_like(wide)
    for k in range(4):
        result |= ((wide >> np.uint64(16 * k)) & low) << np.uint64(16 * (3 - k))
    return result


def number(raw: Raw, data: np.ndarray, at: Positions) -> tuple[np.ndarray, np.ndarray | None, np.ndarray | None]:
    """Stored numbers: float64, or int64 and uint64 where more than 53 bits are kept.

    Returns values, the bit patterns where a mark goes by them (digits), and where digits are none.
    """
    width, storage, bits = raw.place.width, raw.storage, raw.bits
    exact = bits == width * 8 and not raw.swapped
    order = "<" if raw.little else ">"
    if exact and width in _SIZES and storage in ("u", "i"):
        found = load(data, at, f"{order}{storage}{width}", width)
        if width < 8:
            return found.astype(np.float64), None, None
        return found.astype(np.int64 if storage == "i" else np.uint64), None, None
    if storage == "f":
        if not raw.swapped:
            stored = load(data, at, f"{order}f{width}", width)
        else:
            stored = swap_words(words(data, at, width, raw.little), width).astype(f"u{width}").view(f"f{width}")
        with np.errstate(invalid="ignore"):  # a signalling NaN is a number like any other that is none
            return stored.astype(np.float64), None, None
    found = words(data, at, width, raw.little)
    if raw.swapped:
        found = swap_words(found, width)
    if storage == "bf":
        with np.errstate(invalid="ignore"):
            return (found.astype(np.uint32) << np.uint32(16)).view(np.float32).astype(np.float64), None, None
    if storage in ("bcd", "packed"):
        if raw.shift or bits < width * 8:
            found = (found.astype(np.uint64) >> np.uint64(raw.shift)) & np.uint64((1 << bits) - 1)
        return digits(found.astype(np.uint64), bits, storage == "packed")
    if bits <= 31 and width <= 4:
        part = found.astype(np.int64)
        if raw.shift:
            part >>= raw.shift
        if raw.shift + bits < width * 8:
            part &= (1 << bits) - 1
    else:
        return (
            signed((found.astype(np.uint64) >> np.uint64(raw.shift)) & np.uint64((1 << bits) - 1), storage, bits),
            None,
            None,
        )
    return signed(part, storage, bits), None, None


def signed(part: np.ndarray, storage: str, bits: int) -> np.ndarray:
    """Bit patterns (unsigned) read as `storage`: float64 up to 53 bits, else int64 or uint64."""
    if storage == "u":
        return part.astype(np.float64) if bits <= 53 else part.astype(np.uint64)
    wide = part.astype(np.uint64)
    if storage == "i":
        sign = np.uint64(1 << (bits - 1))
        value = wide.astype(np.int64) if bits == 64 else (wide ^ sign).astype(np.int64) - np.int64(1 << (bits - 1))
    elif storage == "sm":
        size = (wide & np.uint64((1 << (bits - 1)) - 1)).astype(np.int64)
        value = np.where((wide >> np.uint64(bits - 1)).astype(bool), -size, size)
    else:  # ones' complement
        all_ones = np.uint64((1 << bits) - 1)
        value = np.where(
            (wide >> np.uint64(bits - 1)).astype(bool), -((wide ^ all_ones).astype(np.int64)), wide.astype(np.int64)
        )
    return value.astype(np.float64) if bits <= 53 else value


def digits(found: np.ndarray, bits: int, packed: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Decimal digits of four bits each, highest first; packed ones end in a sign: C or F plus, D minus."""
    count = bits // 4
    total = np.zeros(len(found), np.int64)
    bad = np.zeros(len(found), bool)
    for k in range(count - 1, 0 if packed else -1, -1):
        digit = ((found >> np.uint64(4 * k)) & np.uint64(15)).astype(np.int64)
        bad |= digit > 9
        total = total * 10 + digit
    if packed:
        sign = (found & np.uint64(15)).astype(np.int64)
        bad |= (sign != 12) & (sign != 13) & (sign != 15)
        total = np.where(sign == 13, -total, total)
    return total.astype(np.float64) if count <= 15 else total, found.astype(np.float64) if bits <= 53 else found, bad


def stream(data: np.ndarray, at: np.ndarray, storage: str, bits: int) -> np.ndarray:
    """Numbers of up to 56 bits at bit positions, most significant bit first."""
    wide = load(data, at >> 3, ">u8", 8).astype(np.uint64)
    part = (wide >> (64 - (at & 7) - bits).astype(np.uint64)) & np.uint64((1 << bits) - 1)
    return signed(part, storage, bits)


def varint(
    data: np.ndarray, at: np.ndarray, ends: np.ndarray, is_signed: bool
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """LEB128 numbers of at most ten bytes and 64 bits.

    Returns values (uint64, or int64), bytes taken, which are cut short, which are too long or too large.
    """
    count = len(at)
    total = np.zeros(count, np.uint64)
    taken = np.zeros(count, np.int64)
    cut = np.zeros(count, bool)
    bad = np.zeros(count, bool)
    last = np.zeros(count, np.uint8)
    rows = np.arange(count)
    for k in range(11):
        if not len(rows):
            break
        if k == 10:
            bad[rows] = True
            break
        inside = at[rows] + k < ends[rows]
        cut[rows[~inside]] = True
        rows = rows[inside]
        byte = data[at[rows] + k]
        low = byte & 0x7F
        if k == 9:
            fine = (low == 0) | (low == 0x7F) if is_signed else low <= 1
            bad[rows] |= ~fine & (byte < 0x80)
            total[rows] |= (low & 1).astype(np.uint64) << np.uint64(63)
        else:
            total[rows] |= low.astype(np.uint64) << np.uint64(7 * k)
        taken[rows] = k + 1
        last[rows] = byte
        rows = rows[byte >= 0x80]
    if not is_signed:
        return total, taken, cut, bad
    size = np.minimum(7 * taken, 64)
    negative = ((last >> 6) & 1).astype(bool) & (size < 64)
    spread = np.where(negative, ~np.uint64(0) << np.minimum(size, 63).astype(np.uint64), np.uint64(0))
    return (total | spread).view(np.int64), taken, cut, bad


def scaled(raw: np.ndarray, linear: Linear) -> np.ndarray:
    """(raw * a + b) / c in float64; exact but for one rounding while raw * a stays below 2^53."""
    result = raw if raw.dtype == np.float64 else raw.astype(np.float64)
    if linear.a != 1:
        result = result * float(linear.a)
    if linear.b:
        result = result + float(linear.b)
    if linear.c != 1:
        result = result / float(linear.c)
    return result
