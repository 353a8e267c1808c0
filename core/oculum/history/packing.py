"""Readings of a day packed by column: times as differences of differences, numbers as whole steps of their decimal
where they are such, bytes by plane; all of it compressed at once. What is unpacked is bit for bit what was packed.
"""

from __future__ import annotations

import struct
import threading
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import zstandard

from oculum.arrays import objects
from oculum.errors import OculumError

from .compiled import compiled
from .unpacking import BITS, DECIMALS, NOTHING, SAME

FORMAT = 1
LEVEL = 6
MOST_DECIMALS = 6
MOST_BYTES = 1 << 30  # unpacked; no day comes near it
_HEAD = struct.Struct("<BIHHB")  # format, rows, columns of numbers, columns of texts, whether anything is missing
_INTS = struct.Struct("<qqqB")  # first value, first difference, divisor, bytes of what follows for each
_TENS = 10.0 ** np.arange(MOST_DECIMALS + 1)
_local = threading.local()


class PackingError(OculumError):
    """Bytes that are no packed readings."""


@dataclass
class Block:
    """Rows of one device and layout. at, received (µs since 1970), message, version: int64 (n,).

    nums: float (n, w), NaN where there is none. texts: object (n,) each, None where there is none. missing: object
    (n,), bytes that say what is missing and why, or None; None in place of the array where nothing is missing.
    """

    at: np.ndarray
    received: np.ndarray
    message: np.ndarray
    version: np.ndarray
    nums: np.ndarray
    texts: list[np.ndarray]
    missing: np.ndarray | None = None

    def __len__(self) -> int:
        return len(self.at)

    def rows(self, which: np.ndarray | slice) -> Block:
        """Some of the rows; which: bool (n,), indices or from where to where."""
        return Block(
            self.at[which],
            self.received[which],
            self.message[which],
            self.version[which],
            self.nums[which],
            [t[which] for t in self.texts],
            self.missing[which] if self.missing is not None else None,
        )


def pack(block: Block) -> bytes:
    """A block as bytes; `unpack` gives it back."""
    count, width = block.nums.shape
    parts = [_HEAD.pack(FORMAT, count, width, len(block.texts), block.missing is not None)]
    parts += [_ints(block.at), _ints(block.received - block.at), _ints(block.message), _ints(block.version)]
    columns = np.ascontiguousarray(block.nums.T)
    parts += [_floats(columns[k], decimals) for k, decimals in enumerate(_decimals(columns))]
    parts += [_texts([None if v is None else str(v).encode("utf-8", "surrogatepass") for v in t]) for t in block.texts]
    if block.missing is not None:
        parts.append(_texts(block.missing.tolist()))
    return _tool("compressor", lambda: zstandard.ZstdCompressor(level=LEVEL)).compress(b"".join(parts))


def unpack(
    bodies: Sequence[bytes], columns: Collection[int] | None = None, texts: bool = True
) -> tuple[Block, np.ndarray]:
    """What was packed, of blocks of one layout (at least one), one behind another; and where each begins among the rows
    (int64 (b + 1,), to the end of the last). columns: which columns of numbers are wanted, all by default; others are
    NaN. texts: whether texts and what is missing are wanted. Raises PackingError for what is no packed block.
    """
    place = 0
    try:
        tool = _tool("decompressor", zstandard.ZstdDecompressor)
        raws = []
        for place, body in enumerate(bodies):  # noqa: B007
            raws.append(tool.decompress(body, max_output_size=MOST_BYTES))
        return _unpacked(raws, columns, texts)
    except (zstandard.ZstdError, struct.error, ValueError, IndexError) as error:
        place = error.block if isinstance(error, _Strange) else place
        raise PackingError(f"expected packed readings, found {len(bodies[place])} other bytes ({error})") from None


class _Strange(ValueError):
    """A block that is none."""

    def __init__(self, block: int, why: str) -> None:
        super().__init__(why)
        self.block = block


def _tool(name: str, make: Callable[[], Any]) -> Any:
    """A thread's own: to make one takes longer than a day's readings take."""
    if not hasattr(_local, name):
        setattr(_local, name, make())
    return getattr(_local, name)


def _unpacked(raws: list[bytes], columns: Collection[int] | None, texts: bool) -> tuple[Block, np.ndarray]:
    heads = [_HEAD.unpack_from(raw) if len(raw) >= _HEAD.size else (0, 0, 0, 0, 0) for raw in raws]
    for block, (form, count, width, words, _) in enumerate(heads):
        if form != FORMAT:
            raise _Strange(block, f"format {form}")
        if (width, words) != heads[0][2:4]:
            raise _Strange(block, f"{width} columns of numbers and {words} of texts behind {heads[0][2:4]}")
        if 8 * count * (width + 4) > MOST_BYTES:
            raise _Strange(block, f"{count} rows of {width} numbers")
    rows, starts = (np.cumsum([0, *sizes]) for sizes in ((head[1] for head in heads), map(len, raws)))
    count, width, words = int(rows[-1]), heads[0][2], heads[0][3]
    wanted = np.array([columns is None or k in columns for k in range(width)], bool)
    times, nums, behind = np.empty((4, count), np.int64), np.full((width, count), np.nan), np.empty(len(raws), np.int64)
    whole = np.frombuffer(b"".join(raws), np.uint8)
    strange = compiled("opened")(whole, starts, rows, wanted, _TENS, times, nums, nums.view(np.int64), behind)
    if strange >= 0:
        raise _Strange(strange, f"{len(raws[strange])} bytes of {heads[strange][1]} rows")
    if not texts:
        return Block(times[0], times[1], times[2], times[3], nums.T, []), rows
    lists: list[list[bytes | None]] = [[] for _ in range(words + 1)]
    for raw, head, place in zip(raws, heads, (behind - starts[:-1]).tolist(), strict=True):
        for own in lists[: words + head[4]]:
            listed, place = _read_texts(raw, place, head[1])
            own += listed
        if not head[4]:
            lists[words] += [None] * head[1]
    told = [objects([None if v is None else v.decode("utf-8", "surrogatepass") for v in own]) for own in lists[:words]]
    missing = objects(lists[words]) if any(head[4] for head in heads) else None
    return Block(times[0], times[1], times[2], times[3], nums.T, told, missing), rows


# whole numbers ------------------------------------------------------------------
def _ints(values: np.ndarray) -> bytes:
    """Whole numbers as the first, the first difference, and how the differences differ. All of it wraps around."""
    if not len(values):
        return _INTS.pack(0, 0, 1, 0)
    steps = np.diff(values)
    step = int(steps[0]) if len(steps) else 0
    with np.errstate(over="ignore"):
        curved = np.diff(steps)
    divisor = int(np.gcd.reduce(np.append(curved, 0))) if len(curved) else 0
    if not 1 <= divisor < 2**62:
        divisor = 1
    if divisor > 1:
        curved = curved // divisor
    width, planes = _planes(_zigzag(curved))
    return _INTS.pack(int(values[0]), step, divisor, width) + planes


def _zigzag(values: np.ndarray) -> np.ndarray:
    return ((values << 1) ^ (values >> 63)).view(np.uint64)


def _planes(values: np.ndarray) -> tuple[int, bytes]:
    """How many bytes the largest needs, and that many planes, each a byte of every value."""
    most = int(values.max()) if len(values) else 0
    width = (most.bit_length() + 7) // 8
    if width == 0:
        return 0, b""
    return width, np.ascontiguousarray(values.view(np.uint8).reshape(-1, 8)[:, :width].T).tobytes()


def _read_planes(raw: bytes, place: int, count: int, width: int) -> np.ndarray:
    planes = np.frombuffer(raw, np.uint8, count * width, place).reshape(width, count)
    if width == 1:
        return planes[0].astype(np.uint64)
    whole = np.zeros((count, 8), np.uint8)
    whole[:, :width] = planes.T
    return whole.view(np.uint64).reshape(count)


# numbers ------------------------------------------------------------------------
_COLUMN = struct.Struct("<BBI")  # how it is written, decimals, bytes that follow


def _floats(values: np.ndarray, decimals: int) -> bytes:
    """A column of numbers, of so many decimals (-1: more). Where some are absent, a mask goes before the others."""
    there = ~np.isnan(values)
    mask = b"" if there.all() else np.packbits(there).tobytes()
    own = values[there]
    if not len(own):
        return _COLUMN.pack(NOTHING, 0, 0)
    bits = own.view(np.int64)
    if not mask and (bits == bits[0]).all():
        return _COLUMN.pack(SAME, 0, 8) + bits[:1].tobytes()
    head = struct.pack("<?I", bool(mask), len(own)) + mask
    if decimals >= 0:
        how, body = DECIMALS, _short(np.rint(own * 10.0**decimals).astype(np.int64))
    else:
        decimals = 0
        before = np.append(np.int64(0), bits[:-1])
        width, planes = _planes((bits ^ before).view(np.uint64))
        how, body = BITS, bytes([width]) + planes
    return _COLUMN.pack(how, decimals, len(head) + len(body)) + head + body


def _decimals(columns: np.ndarray) -> list[int]:
    """Of each column (float (w, n)) with how many decimals all its numbers are written, so that reading them gives the
    same bits; -1 where it takes more.
    """
    there = ~np.isnan(columns)
    values = np.where(there, columns, 1.0)
    able = (np.isfinite(values) & ~(np.signbit(values) & (values == 0))).all(axis=1)
    found = np.full(len(columns), -1)
    with np.errstate(over="ignore", invalid="ignore"):
        for decimals in range(MOST_DECIMALS + 1):
            left = np.flatnonzero(able & (found < 0))
            if not len(left):
                break
            scaled = np.rint(values[left] * 10.0**decimals)
            whole = (np.abs(scaled) < 2**53) & (scaled / 10.0**decimals == values[left])
            found[left[whole.all(axis=1)]] = decimals
    return found.tolist()


def _short(values: np.ndarray) -> bytes:
    """Whole numbers by their differences."""
    width, planes = _planes(_zigzag(np.diff(values)))
    return struct.pack("<qB", int(values[0]), width) + planes


# texts --------------------------------------------------------------------------
def _texts(values: Sequence[bytes | None]) -> bytes:
    """Each text once, and for every row which it is; 0 stands for none."""
    known: dict[bytes, int] = {}
    which = np.array([0 if v is None else known.setdefault(v, len(known) + 1) for v in values], np.uint64)
    width, planes = _planes(which)
    lengths = b"".join(struct.pack("<I", len(v)) for v in known)
    return struct.pack("<IB", len(known), width) + lengths + b"".join(known) + planes


def _read_texts(raw: bytes, place: int, count: int) -> tuple[list[bytes | None], int]:
    known, width = struct.unpack_from("<IB", raw, place)
    place += 5
    lengths = struct.unpack_from(f"<{known}I", raw, place)
    place += 4 * known
    found: list[bytes | None] = [None]
    for length in lengths:
        found.append(raw[place : place + length])
        place += length
    if width == 0:
        return [None] * count, place
    which = _read_planes(raw, place, count, width)
    return [found[k] for k in which.tolist()], place + count * width
