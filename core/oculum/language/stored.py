"""Where a stored number stands, and how."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Place:
    """Where bytes stand. `mode`: start, end, next, same, stream (single bits), record (offset is its tag),

    register (offset is its number).
    """

    mode: str
    offset: int
    width: int  # bytes; 0 where only the bytes themselves tell


@dataclass(frozen=True)
class Raw:
    """A stored number: its place, byte and word order and, within that, `bits` from `shift` up.

    `storage`: u, i, f, bf (the upper half of a single), sm (sign and magnitude), oc (ones' complement), bcd, packed
    (digits and a sign), varint, signed varint, zigzag varint, unsigned (`least` to `most` bytes, as many as there are).
    """

    place: Place
    little: bool
    storage: str
    bits: int
    shift: int
    swapped: bool = False  # 16-bit words in the other order
    least: int = 0
    most: int = 0

    @property
    def floating(self) -> bool:
        return self.storage in ("f", "bf")

    @property
    def signed(self) -> bool:
        return self.storage in ("i", "sm", "oc", "signed varint", "zigzag varint")
