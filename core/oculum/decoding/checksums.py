"""Check sums over byte ranges, a whole batch at once.

A CRC without its start is linear in its bytes, so that ranges of one length are looked up in one table a position.
"""

from __future__ import annotations

from functools import cache, lru_cache

import numpy as np

from ..checks import CRCS, SUMS, Crc
from .numbers import Positions, Strided

_LONGEST_TABLE = 512  # bytes of a range up to which a table for every position is kept


def reflect(value: int, width: int) -> int:
    """The lowest `width` bits in the other order."""
    return int(format(value, f"0{width}b")[::-1], 2)


@cache
def _table(crc: Crc) -> np.ndarray:
    mask, top = (1 << crc.width) - 1, 1 << (crc.width - 1)
    entries = []
    for byte in range(256):
        if crc.reflect_in:
            value, polynomial = byte, reflect(crc.polynomial, crc.width)
            for _ in range(8):
                value = (value >> 1) ^ polynomial if value & 1 else value >> 1
        else:
            value = byte << (crc.width - 8)
            for _ in range(8):
                value = ((value << 1) ^ crc.polynomial if value & top else value << 1) & mask
        entries.append(value)
    return np.array(entries, np.uint32)


def _step(crc: Crc, state: np.ndarray, byte: np.ndarray) -> np.ndarray:
    table = _table(crc)
    if crc.reflect_in:
        return (state >> np.uint32(8)) ^ table[(state ^ byte) & np.uint32(0xFF)]
    mask = np.uint32((1 << crc.width) - 1)
    return ((state << np.uint32(8)) & mask) ^ table[((state >> np.uint32(crc.width - 8)) ^ byte) & np.uint32(0xFF)]


@lru_cache(maxsize=64)
def _positions(crc: Crc, length: int) -> tuple[np.ndarray, int]:
    """For ranges of `length` bytes: what each byte value at each position adds, (length * 256,), and the CRC of
    zeros.
    """
    size = np.uint8 if crc.width == 8 else np.uint16 if crc.width == 16 else np.uint32
    tables = np.zeros((length, 256), np.uint32)
    if length:
        column = _step(crc, np.zeros(256, np.uint32), np.arange(256, dtype=np.uint32))
        zero = np.zeros(256, np.uint32)
        for position in range(length - 1, -1, -1):
            tables[position] = column
            column = _step(crc, column, zero)
    state = np.array([reflect(crc.start, crc.width) if crc.reflect_in else crc.start], np.uint32)
    for _ in range(length):
        state = _step(crc, state, np.zeros(1, np.uint32))
    return np.ascontiguousarray(tables.astype(size).ravel()), int(state[0])


def _even(crc: Crc, data: np.ndarray, at: Positions, length: int) -> np.ndarray:
    """The registers of a CRC over ranges of one length."""
    tables, zeros = _positions(crc, length)
    count = at.count if isinstance(at, Strided) else len(at)
    state = np.full(count, zeros, tables.dtype)
    for k in range(length):
        byte = (
            np.ndarray((count,), np.uint8, data, at.first + k, (at.step,)) if isinstance(at, Strided) else data[at + k]
        )
        state ^= tables[256 * k : 256 * k + 256][byte]
    return state.astype(np.uint32)


def check(
    name: str, data: np.ndarray, at: Positions, lengths: int | np.ndarray, parameters: tuple[int, ...] = ()
) -> np.ndarray:
    """The check `name` over `lengths` bytes of `data` from each of the positions.

    data: uint8, padded; at: int64 (n,) or strided; lengths: one for all, or int64 (n,). For `crc`,
    parameters are width, polynomial, start, reflected, final. Returns int64 (n,).
    """
    if not isinstance(lengths, int):
        if isinstance(at, Strided):
            at = at.array()
        distinct = np.unique(lengths)
        if len(distinct) <= 32:
            result = np.zeros(len(at), np.int64)
            for length in distinct.tolist():
                rows = lengths == length
                result[rows] = check(name, data, at[rows], int(length), parameters)
            return result
        return _uneven(name, data, at, lengths, parameters)
    count = at.count if isinstance(at, Strided) else len(at)

    def byte(k: int) -> np.ndarray:
        return (
            np.ndarray((count,), np.uint8, data, at.first + k, (at.step,)) if isinstance(at, Strided) else data[at + k]
        )

    if name in SUMS:
        first, second = np.zeros(count, np.int64), np.zeros(count, np.int64)
        for k in range(lengths):
            first = first ^ byte(k) if name == "xor8" else first + byte(k)
            if name == "fletcher16":
                second = second + first
                if k % 4096 == 4095:
                    first, second = first % 255, second % 255
        return _total(name, first, second)
    crc = crc_of(name, parameters)
    if lengths <= _LONGEST_TABLE:
        state = _even(crc, data, at, lengths)
    else:
        state = np.full(count, reflect(crc.start, crc.width) if crc.reflect_in else crc.start, np.uint32)
        for k in range(lengths):
            state = _step(crc, state, byte(k).astype(np.uint32))
    return _end(crc, state)


def _uneven(
    name: str, data: np.ndarray, at: np.ndarray, lengths: np.ndarray, parameters: tuple[int, ...]
) -> np.ndarray:
    """As `check`, for ranges of many lengths: the longest first, so that the rows at work are a slice."""
    order = np.argsort(-lengths, kind="stable")
    at, sorted_lengths = at[order], lengths[order]
    crc = crc_of(name, parameters) if name not in SUMS else None
    first, second = np.zeros(len(at), np.int64), np.zeros(len(at), np.int64)
    state = np.full(len(at), (reflect(crc.start, crc.width) if crc.reflect_in else crc.start) if crc else 0, np.uint32)
    for k in range(int(sorted_lengths[0]) if len(at) else 0):
        active = int(np.searchsorted(-sorted_lengths, -k, "left"))
        byte = data[at[:active] + k]
        if crc is not None:
            state[:active] = _step(crc, state[:active], byte.astype(np.uint32))
        elif name == "xor8":
            first[:active] ^= byte
        else:
            first[:active] += byte
            if name == "fletcher16":
                first[:active] %= 255
                second[:active] = (second[:active] + first[:active]) % 255
    found = _end(crc, state) if crc is not None else _total(name, first, second)
    result = np.empty_like(found)
    result[order] = found
    return result


def crc_of(name: str, parameters: tuple[int, ...]) -> Crc:
    if name != "crc":
        return CRCS[name]
    width, polynomial, start, reflected, final = parameters
    return Crc(width, polynomial, start, bool(reflected), bool(reflected), final)


def _total(name: str, first: np.ndarray, second: np.ndarray) -> np.ndarray:
    match name:
        case "sum8":
            return first & 0xFF
        case "negated8":
            return -first & 0xFF
        case "sum16":
            return first & 0xFFFF
        case "fletcher16":
            return (second % 255) << 8 | (first % 255)
    return first


def _end(crc: Crc, state: np.ndarray) -> np.ndarray:
    if crc.reflect_in != crc.reflect_out:
        state = np.array([reflect(int(v), crc.width) for v in state], np.uint32)
    return (state ^ np.uint32(crc.final)).astype(np.int64)


def check_words(data: np.ndarray, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """The sum of 16-bit words, high byte first, modulo 65536. start, end: int64 (n,). Returns int64 (n,)."""
    total = np.zeros(len(start), np.int64)
    lengths = end - start
    for k in range(int(lengths.max(initial=0))):
        inside = k < lengths
        byte = np.where(inside, data[np.where(inside, start + k, 0)], 0).astype(np.int64)
        total += byte << (8 if k % 2 == 0 else 0)
    return total & 0xFFFF
