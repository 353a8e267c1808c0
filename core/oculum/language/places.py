"""Where a stored number stands in bytes: its place, width, order and bits."""

from __future__ import annotations

from typing import NoReturn, Protocol

from . import limits, tree
from .plan import Place, Raw
from .problems import Span


class Halt(Protocol):
    """Records a mistake with its place and a fix, and raises."""

    def __call__(self, message: str, span: Span, fix: str | None = None) -> NoReturn: ...


def raw_of(halt: Halt, address: tree.Address, storage: str, little: bool, span: Span, last: Raw | None = None) -> Raw:
    """The place and width of a stored number. `halt` is called for a mistake and does not return."""
    letter, width_bits = storage[0], int(storage[1:])
    whole = (width_bits + 7) // 8
    bits: tree.Bits | None = None
    match address:
        case tree.InBytes():
            bits = address.bits
            if address.last is not None:
                if (address.first < 0) != (address.last < 0) or address.last < address.first:
                    halt("a range of bytes goes upwards, on one side of the payload", address.span)
                width = address.last - address.first + 1
            else:
                width = (bits.high // 8 + 1) if bits else whole
            if abs(address.first) > limits.PAYLOAD_BYTES:
                halt(f"a payload has at most {limits.PAYLOAD_BYTES} bytes", address.span)
            place = Place("end" if address.first < 0 else "start", address.first, width)
            if address.first < 0 and address.first + width > 0:
                halt(f"`{storage}` at byte {address.first} reaches beyond the end of the payload", span)
        case tree.InNext():
            bits = address.bits
            place = Place("next", 0, address.width or ((bits.high // 8 + 1) if bits else whole))
        case tree.InSame():
            if last is None:
                halt("`same` needs a line before it that reads bytes", address.span)
            bits = address.bits
            place = Place("same", 0, last.place.width)
        case _:
            halt("found a path: a decoder for bytes reads `byte 3`, `next` or `same`", address.span)
    if place.width > 8:
        halt("a number has at most 8 bytes", address.span)
    if bits:
        if bits.high >= place.width * 8:
            halt(f"bit {bits.high} lies outside {place.width} byte{'s' if place.width > 1 else ''}: bits count from 0 (lowest) to {place.width * 8 - 1}", address.span)
        if bits.high - bits.low + 1 != width_bits:
            have = bits.high - bits.low + 1
            halt(f"bits {bits.high} to {bits.low} are {have} bits, but `{storage}` has {width_bits}", span, f"{letter}{have}")
        if letter == "f":
            halt("a floating-point number takes whole bytes", span)
        return Raw(place, little, letter, width_bits, bits.low)
    if width_bits % 8:
        halt(f"`{storage}` is no whole number of bytes: say which bits, as in `byte 0 bits {width_bits - 1} to 0`", span)
    if place.width != whole:
        halt(f"`{storage}` has {whole} byte{'s' if whole > 1 else ''}, the address {place.width}", span)
    return Raw(place, little, letter, width_bits, 0)
