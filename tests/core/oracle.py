"""A slow, obvious decoder: one message, whole numbers and fractions, no arrays.

It shares no code with the columnar one. It works on the tree as written, not on the checked plan.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from oculum.language import tree
from oculum.language.decoders import lines as written


class Refuse(Exception):
    def __init__(self, code: str) -> None:
        self.code = code


@dataclass
class Reading:
    value: Any  # Fraction, bool, or None for missing
    offset_us: int = 0


@dataclass
class Message:
    payload: bytes
    little: bool
    cursor: int = 0
    last: tuple[int, int] = (0, 0)
    raws: dict[str, int] = field(default_factory=dict)
    values: dict[str, Any] = field(default_factory=dict)
    out: list[tuple[str, Reading]] = field(default_factory=list)
    offset_us: int = 0

    def bits(self, first: int, width: int, little: bool) -> int:
        if first < 0 or first + width > len(self.payload):
            raise Refuse("too short")
        chunk = self.payload[first : first + width]
        return int.from_bytes(chunk, "little" if little else "big")


def whole(text: str) -> int:
    return int(text, 0)


def read_raw(m: Message, address: Any, stored: written.Storage) -> int:
    storage = stored.name
    size = int(storage[1:])
    little = m.little if stored.order is None else stored.order == "little"
    bits = getattr(address, "bits", None)
    if isinstance(address, written.InBytes):
        first = address.first if address.first >= 0 else len(m.payload) + address.first
        width = (
            address.last - address.first + 1
            if address.last is not None
            else (bits.high // 8 + 1 if bits else (size + 7) // 8)
        )
    elif isinstance(address, written.InNext):
        first, width = m.cursor, address.width or (bits.high // 8 + 1 if bits else (size + 7) // 8)
    else:
        first, width = m.last
    number = m.bits(first, width, little)
    m.last = (first, width)
    if not isinstance(address, written.InSame) and not (isinstance(address, written.InBytes) and address.first < 0):
        m.cursor = first + width
    if bits:
        number = (number >> bits.low) & ((1 << size) - 1)
    if storage[0] == "i" and number >= 1 << (size - 1):
        number -= 1 << size
    return number


def scaled(raw: int, scales: Any) -> Fraction:
    value = Fraction(raw)
    for scale in scales:
        amount = Fraction(scale.number)
        value = {
            "*": value * amount,
            "/": value / amount if amount else value,
            "+": value + amount,
            "-": value - amount,
        }[scale.sign]
    return value


def truth(m: Message, node: Any) -> bool | None:
    """The few rules that the random decoders use: NAME compared with a number."""
    assert isinstance(node, tree.Binary) and isinstance(node.left, tree.Name)
    value = m.values.get(node.left.name)
    if value is None:
        return None
    assert isinstance(node.right, tree.Quantity)
    limit = Fraction(node.right.number)
    return {"<": value < limit, ">": value > limit, "=": value == limit, "!=": value != limit}[node.sign]


def run(m: Message, body: Any) -> None:
    for node in body:
        if isinstance(node, written.Read):
            storage = node.kind.storage if isinstance(node.kind, written.Stored) else written.Storage("u1")
            assert storage is not None
            raw = read_raw(m, node.address, storage)
            missing = any(
                raw == mark or raw == mark - (1 << int(storage.name[1:]))
                for q in node.qualifiers
                if isinstance(q, written.Missing)
                for mark in map(int, q.raws)  # the random decoders mark whole numbers
            )
            value = (
                None
                if missing
                else scaled(raw, node.kind.scales)
                if isinstance(node.kind, written.Stored)
                else Fraction(raw)
            )
            for q in node.qualifiers:
                if (
                    isinstance(q, written.Within)
                    and value is not None
                    and not Fraction(q.low) <= value <= Fraction(q.high)
                ):
                    value = None
            m.values[node.name] = value
            m.out.append((node.name, Reading(value, m.offset_us)))
        elif isinstance(node, written.When):
            found = truth(m, node.rule)
            last = m.last
            if found is True:
                run(m, node.body)
            m.last = last
            if found is False:
                run(m, node.otherwise)
        elif isinstance(node, written.Reject):
            if (truth(m, node.rule) is not True) if node.unless else truth(m, node.rule) is True:
                raise Refuse(node.failure or "malformed")
        elif isinstance(node, written.Skip):
            assert isinstance(node.count, int)
            m.cursor += node.count
            if m.cursor > len(m.payload):
                raise Refuse("too short")
        elif isinstance(node, written.Repeat):
            step = 0
            if node.each is not None:
                every, direction = node.each
                assert isinstance(every, tree.Quantity)
                step = whole(every.number) * 60_000_000 * (-1 if direction == "earlier" else 1)
            turn, before = 0, dict(m.values)
            times = node.count.value
            count = m.values.get(times.name) if isinstance(times, tree.Name) else None
            if times is not None and (count is None or count > node.count.most):
                raise Refuse("malformed")
            while (m.cursor < len(m.payload)) if times is None or count is None else turn < count:
                if turn == (node.count.most or 256):
                    raise Refuse("malformed")
                m.offset_us = turn * step
                m.values = dict(before)
                run(m, node.body)
                turn += 1
            m.offset_us, m.values = 0, before


def decode_slowly(node: written.Decoder, payload: bytes) -> tuple[str | None, list[tuple[str, Reading]]]:
    """The code of a refusal, or the readings."""
    m = Message(payload, node.order == "little")
    try:
        run(m, node.body)
    except Refuse as refused:
        return refused.code, []
    return None, m.out
