"""Check sums over byte ranges, a whole batch at once.

CRC parameters as in the catalogue of parametrised CRC algorithms by their usual names.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np


@dataclass(frozen=True)
class Crc:
    """A CRC of `width` bits: polynomial (normal form), start, reflection of input and output, final XOR."""

    width: int
    polynomial: int
    start: int
    reflect_in: bool
    reflect_out: bool
    final: int


CRCS: dict[str, Crc] = {
    "crc8_smbus": Crc(8, 0x07, 0, False, False, 0),
    "crc8_maxim": Crc(8, 0x31, 0, True, True, 0),
    "crc16_modbus": Crc(16, 0x8005, 0xFFFF, True, True, 0),
    "crc16_arc": Crc(16, 0x8005, 0, True, True, 0),
    "crc16_ibm3740": Crc(16, 0x1021, 0xFFFF, False, False, 0),
    "crc16_xmodem": Crc(16, 0x1021, 0, False, False, 0),
    "crc16_kermit": Crc(16, 0x1021, 0, True, True, 0),
    "crc32": Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, True, 0xFFFFFFFF),
}
SUMS = ("sum8", "sum16", "xor8")
NAMES = (*CRCS, *SUMS)


def _reflect(value: int, width: int) -> int:
    return int(format(value, f"0{width}b")[::-1], 2)


@cache
def _table(crc: Crc) -> np.ndarray:
    mask, top = (1 << crc.width) - 1, 1 << (crc.width - 1)
    entries = []
    for byte in range(256):
        if crc.reflect_in:
            value, polynomial = byte, _reflect(crc.polynomial, crc.width)
            for _ in range(8):
                value = (value >> 1) ^ polynomial if value & 1 else value >> 1
        else:
            value = byte << (crc.width - 8)
            for _ in range(8):
                value = ((value << 1) ^ crc.polynomial if value & top else value << 1) & mask
        entries.append(value)
    return np.array(entries, np.uint32)


def check(name: str, data: np.ndarray, starts: np.ndarray, ends: np.ndarray) -> np.ndarray:
    """The check `name` over data[starts:ends] for every row.

    data: uint8, starts and ends: int64 (n,), ends >= starts. Returns int64 (n,). One gather a byte of
    the longest range; rows of equal length, as they usually are, need no mask.
    """
    lengths = ends - starts
    longest = int(lengths.max(initial=0))
    even = bool((lengths == longest).all())
    if name in SUMS:
        total = np.zeros(len(starts), np.int64)
        for k in range(longest):
            byte = data[np.minimum(starts + k, len(data) - 1)].astype(np.int64)
            if not even:
                byte = np.where(k < lengths, byte, 0)
            total = total ^ byte if name == "xor8" else total + byte
        return total if name == "xor8" else total & (0xFF if name == "sum8" else 0xFFFF)
    crc = CRCS[name]
    table, mask = _table(crc), np.uint32((1 << crc.width) - 1)
    start = _reflect(crc.start, crc.width) if crc.reflect_in else crc.start
    state = np.full(len(starts), start, np.uint32)
    for k in range(longest):
        byte = data[np.minimum(starts + k, len(data) - 1)].astype(np.uint32)
        if crc.reflect_in:
            following = (state >> np.uint32(8)) ^ table[(state ^ byte) & np.uint32(0xFF)]
        else:
            following = ((state << np.uint32(8)) & mask) ^ table[((state >> np.uint32(crc.width - 8)) ^ byte) & np.uint32(0xFF)]
        state = following if even else np.where(k < lengths, following, state)
    if crc.reflect_in != crc.reflect_out:
        state = np.array([_reflect(int(v), crc.width) for v in state], np.uint32)
    return (state ^ np.uint32(crc.final)).astype(np.int64)
