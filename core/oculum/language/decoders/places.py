"""Where a stored number stands in bytes: its place, width, order and bits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NoReturn, Protocol

from .. import limits, tree
from ..problems import Span
from ..stored import Place, Raw
from . import lines

DYNAMIC = ("varint", "signed varint", "zigzag varint", "unsigned")


class Refuse(Protocol):
    """Records a mistake with its place and a fix, and raises."""

    def __call__(self, message: str, span: Span, fix: str | None = None) -> NoReturn: ...


@dataclass(frozen=True)
class Counting:
    """How the header says that places are counted: byte order, and whether from 0 or from 1."""

    little: bool = False
    first: int = 0


def split(storage: str) -> tuple[str, int]:
    """`u16` to its letter and number of bits; digits of packed decimals take four bits each, and four for a sign."""
    letters = storage.rstrip("0123456789")
    count = int(storage[len(letters) :] or 0)
    if letters == "bcd":
        return letters, 4 * count
    if letters == "packed":
        return letters, 4 * (count + 1)
    return letters, count


def raw_of(
    refuse: Refuse,
    address: lines.Address,
    storage: lines.Storage,
    counting: Counting,
    span: Span,
    last: Raw | None = None,
) -> Raw:
    """The place and width of a stored number. `refuse` is called for a mistake and does not return."""
    letter, width_bits = split(storage.name)
    little = counting.little if storage.order is None else storage.order == "little"
    swapped = storage.words is not None and (storage.words == "low") != little
    if storage.name in DYNAMIC:
        return _dynamic(refuse, address, storage, little, span)
    if isinstance(address, lines.InCoil):
        return Raw(Place("coil", address.number, 0), False, "u", 1, 0)
    if isinstance(address, lines.InStream):
        if letter not in ("u", "i", "sm", "oc") or width_bits > 56:
            refuse("by single bits whole numbers of up to 56 bits are read", span)
        return Raw(Place("stream", 0, 0), False, letter, width_bits, 0)
    bits = _counted(refuse, getattr(address, "bits", None), counting, address.span)
    place = _place(refuse, address, storage, bits, counting, span, last)
    if place.width > 8:
        refuse("a number has at most 8 bytes", address.span)
    if swapped and (place.width not in (4, 8) or bits):
        refuse("an order of words is for numbers of 32 or 64 bits", span)
    if bits:
        _fits(refuse, bits, place, storage, counting, address.span, span)
        return Raw(place, little, letter, width_bits, bits.low)
    if width_bits % 8:
        refuse(
            f"`{storage.name}` is no whole number of bytes: say which bits, as in `byte 0 bits {width_bits - 1} to 0`",
            span,
        )
    whole = width_bits // 8
    if place.width != whole:
        refuse(f"`{storage.name}` has {whole} byte{'s' if whole > 1 else ''}, the address {place.width}", span)
    return Raw(place, little, letter, width_bits, 0, swapped)


def _place(
    refuse: Refuse,
    address: lines.Address,
    storage: lines.Storage,
    bits: lines.Bits | None,
    counting: Counting,
    span: Span,
    last: Raw | None,
) -> Place:
    """The bytes in which a number stands. last: what the line before has read."""
    width_bits = split(storage.name)[1]
    whole = (width_bits + 7) // 8
    needs = (bits.high // 8 + 1) if bits else whole
    match address:
        case lines.InBytes():
            first, end = address.first, address.last
            if end is not None and ((first < 0) != (end < 0) or end < first):
                refuse("a range of bytes goes upwards, on one side of the payload", address.span)
            width = needs if end is None else end - first + 1
            if abs(first) > limits.PAYLOAD_BYTES:
                refuse(f"a payload has at most {limits.PAYLOAD_BYTES} bytes", address.span)
            if first < 0 and first + width > 0:
                refuse(f"`{storage.name}` at byte {first} reaches beyond the end of the payload", span)
            if first < 0:
                return Place("end", first, width)
            return Place("start", _from(refuse, first, counting, address.span), width)
        case lines.InNext():
            if isinstance(address.width, tree.Node):
                refuse(
                    f"`{storage.name}` has a width of its own: write `next` alone, or read it as `unsigned 1 to 8"
                    f" bytes`",
                    address.span,
                )
            if address.width == 0:
                refuse("the next 0 bytes hold no number: write `next`", address.span)
            return Place("next", 0, address.width or needs)
        case lines.InSame():
            if last is None:
                refuse("`same` needs a line before it that reads bytes", address.span)
            return Place("same", 0, last.place.width)
        case lines.InRegister():
            return _registers(refuse, address, storage, bits, (needs + 1) // 2, span)
        case lines.InRecord():
            return Place("record", address.tag, whole)
    refuse(
        "found a place of documents or text: a decoder for bytes reads `byte 3`, `next`, `same`, `record 1`",
        address.span,
    )


def _registers(
    refuse: Refuse, address: lines.InRegister, storage: lines.Storage, bits: lines.Bits | None, needs: int, span: Span
) -> Place:
    """needs: how many registers the number takes where the address does not say it."""
    count = (address.last - address.first + 1) if address.last is not None else max(needs, 1)
    if count < 1:
        refuse("a range of registers goes upwards", address.span)
    width_bits = split(storage.name)[1]
    if bits is None and width_bits != 16 * count:
        refuse(
            f"`{storage.name}` has {width_bits} bits, {count} register{'s' if count > 1 else ''}"
            f" {16 * count}: say which bits, as in `register {address.first} bits 7 to 0`",
            span,
        )
    return Place("register", address.first, 2 * count)


def _fits(
    refuse: Refuse, bits: lines.Bits, place: Place, storage: lines.Storage, counting: Counting, where: Span, span: Span
) -> None:
    """Bits lie inside their bytes, and are as many as the number has."""
    letter, width_bits = split(storage.name)
    if bits.high >= place.width * 8:
        plural = "s" if place.width > 1 else ""
        refuse(
            f"bit {bits.high + counting.first} lies outside {place.width} byte{plural}: bits count from"
            f" {counting.first} (lowest) to {place.width * 8 - 1 + counting.first}",
            where,
        )
    have = bits.high - bits.low + 1
    if have != width_bits:
        refuse(
            f"bits {bits.high + counting.first} to {bits.low + counting.first} are {have} bits, but"
            f" `{storage.name}` has {width_bits}",
            span,
            f"{letter}{have}" if letter in ("u", "i", "sm", "oc") else None,
        )
    if letter in ("f", "bf"):
        refuse("a floating-point number takes whole bytes", span)


def _dynamic(refuse: Refuse, address: lines.Address, storage: lines.Storage, little: bool, span: Span) -> Raw:
    """Numbers whose bytes say how long they are."""
    name = storage.name
    if name == "unsigned" and not 1 <= storage.low <= storage.high <= 8:
        refuse("a number has 1 to 8 bytes: write `unsigned 1 to 4 bytes`", span)
    match address:
        case lines.InRecord():
            return Raw(Place("record", address.tag, 0), little, name, 64, 0, False, storage.low, storage.high)
        case lines.InNext(width=None, bits=None) if name != "unsigned":
            return Raw(Place("next", 0, 0), False, name, 64, 0)
        case lines.InRest() if name == "unsigned":
            return Raw(Place("rest", 0, 0), little, name, 64, 0, False, storage.low, storage.high)
        case _:
            refuse(f"`{name}` stands at `next`, `rest` or in a record", span)


def _from(refuse: Refuse, byte: int, counting: Counting, span: Span) -> int:
    if byte < counting.first:
        refuse("this decoder counts bytes from 1", span)
    return byte - counting.first


def _counted(refuse: Refuse, bits: tree.Bits | None, counting: Counting, span: Span) -> tree.Bits | None:
    if bits is None or counting.first == 0:
        return bits
    if bits.low < counting.first:
        refuse("this decoder counts bits from 1", span)
    return tree.Bits(bits.high - counting.first, bits.low - counting.first, bits.single)
