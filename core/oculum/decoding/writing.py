"""What a command has written so far: bytes, a text, or a document."""

from __future__ import annotations

import struct
from fractions import Fraction
from typing import Any

import cbor2
import numpy as np
import orjson

from oculum.errors import OculumError

from ..language import limits
from ..language.decoders.lines import Index
from ..language.stored import Raw


class CommandError(OculumError, ValueError):
    """A command that cannot be written.

    `code`: unknown command, unknown parameter, missing parameter, not used, out of range, off step, unknown choice,
    wrong kind, rejected.
    """

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


def nearest(value: Fraction) -> int:
    """The nearest whole number, half away from zero."""
    whole = int(abs(value) + Fraction(1, 2))
    return whole if value >= 0 else -whole


class Bytes:
    """Bytes, and texts among them."""

    def __init__(self) -> None:
        self.out = bytearray()
        self.last = 0
        self.bits = 0  # of a stream that has not filled its byte

    def payload(self) -> bytes:
        return bytes(self.out)

    def run(self, content: bytes, size: int | None) -> None:
        """A text or the like; filled up with zeros to its size."""
        self.bits, self.last = 0, len(self.out)
        self.out += content.ljust(size or 0, b"\0")
        self.bounded()

    def bounded(self) -> None:
        if len(self.out) > limits.PAYLOAD_BYTES:
            raise CommandError("out of range", f"a command has at most {limits.PAYLOAD_BYTES} bytes")

    def number(self, raw: Raw, value: Fraction) -> None:
        if raw.storage in ("varint", "signed varint", "zigzag varint", "unsigned"):
            self.run(_long(raw, int(value)), None)
            return
        if raw.place.mode == "stream":
            self.stream(_pattern(raw, value), raw.bits)
            return
        width = raw.place.width
        pattern = _pattern(raw, value)
        at = {"next": len(self.out), "same": self.last, "start": raw.place.offset}[raw.place.mode]
        self.bits = 0
        if len(self.out) < at + width:
            self.out += bytes(at + width - len(self.out))
        whole = pattern << raw.shift
        if raw.swapped:
            words = [(whole >> (16 * k)) & 0xFFFF for k in range(width // 2)]
            whole = sum(word << (16 * (width // 2 - 1 - k)) for k, word in enumerate(words))
        for k, byte in enumerate(whole.to_bytes(width, "little" if raw.little else "big")):
            self.out[at + k] |= byte
        self.last = at
        self.bounded()

    def stream(self, pattern: int, count: int) -> None:
        for k in range(count - 1, -1, -1):
            if self.bits == 0:
                self.out.append(0)
                self.bits = 8
            self.bits -= 1
            self.out[-1] |= ((pattern >> k) & 1) << self.bits


class Document:
    """A document of JSON or CBOR, or an entry of a list in one."""

    def __init__(self, form: str) -> None:
        self.form = form
        self.root: Any = None

    def payload(self) -> bytes:
        root = {} if self.root is None else self.root
        return deterministic(root) if self.form == "cbor" else orjson.dumps(root)

    def put(self, path: tuple[Any, ...], value: Any) -> None:
        steps = [self._step(part) for part in path]
        if not steps:
            self.root = value
            return
        if self.root is None:
            self.root = self._empty(steps[0])
        at: Any = self.root
        for (listed, key), following in zip(steps, steps[1:], strict=False):
            empty = self._empty(following)
            if listed:
                at.extend([None] * (key + 1 - len(at)))
                at[key] = empty if at[key] is None else at[key]
                at = at[key]
            else:
                at = at.setdefault(key, empty)
        listed, key = steps[-1]
        if listed:
            at.extend([None] * (key + 1 - len(at)))
        at[key] = value

    def _step(self, part: Any) -> tuple[bool, Any]:
        """Whether a step of a path is a place in a list, and the place or the name."""
        if isinstance(part, Index):
            return True, part.number
        return isinstance(part, int) and self.form == "json", part

    @staticmethod
    def _empty(step: tuple[bool, Any]) -> Any:
        return [] if step[0] else {}


def deterministic(value: Any) -> bytes:
    """CBOR with one way to write each value (RFC 8949, 4.2.1): shortest heads and floats, keys in the order of their
    bytes, lengths known.
    """
    match value:
        case dict():
            pairs = sorted((deterministic(key), deterministic(entry)) for key, entry in value.items())
            return _head(5, len(pairs)) + b"".join(key + entry for key, entry in pairs)
        case list():
            return _head(4, len(value)) + b"".join(map(deterministic, value))
    return cbor2.dumps(value, canonical=True)


def _head(major: int, count: int) -> bytes:
    return (
        bytes([major << 5 | count])
        if count < 24
        else bytes([major << 5 | 24, count])
        if count < 256
        else (bytes([major << 5 | 25]) + count.to_bytes(2, "big"))
    )


def plain_number(value: Fraction) -> int | float:
    """As a document writes it: whole numbers without a point. Raises CommandError for one that no format holds."""
    if value.denominator == 1:
        if not -(2**63) <= value < 2**64:
            raise CommandError("out of range", f"{value} does not fit into 64 bits")
        return int(value)
    return float(value)


def _long(raw: Raw, value: int) -> bytes:
    """A whole number whose bytes say how many they are, in as few as it takes."""
    if raw.storage == "unsigned":
        count = max((value.bit_length() + 7) // 8, raw.least, 1)
        if value < 0 or count > raw.most:
            raise CommandError("out of range", f"{value} does not fit into {raw.most} bytes")
        return value.to_bytes(count, "little" if raw.little else "big")
    signed = raw.storage == "signed varint"
    if raw.storage == "zigzag varint":
        if not -(2**63) <= value < 2**63:
            raise CommandError("out of range", f"{value} does not fit into 64 bits")
        value = 2 * value if value >= 0 else -2 * value - 1
    low, high = (-(2**63), 2**63 - 1) if signed else (0, 2**64 - 1)
    if not low <= value <= high:
        raise CommandError("out of range", f"{value} does not fit into 64 bits")
    out = bytearray()
    while True:
        byte = value & 0x7F
        value >>= 7
        done = (value == 0 and (not signed or not byte & 0x40)) or (signed and value == -1 and bool(byte & 0x40))
        out.append(byte | (0 if done else 0x80))
        if done:
            return bytes(out)


def _single(value: Fraction, width: int) -> float:
    """The nearest number of `width` bytes; ties as IEEE 754 says come out of the first rounding."""
    kind: Any = {2: np.float16, 4: np.float32, 8: np.float64}[width]
    with np.errstate(over="ignore"):
        found = kind(float(value))
        if not np.isfinite(found):
            raise CommandError("out of range", f"{float(value):g} does not fit into {8 * width} bits")
        around = [found, np.nextafter(found, kind(np.inf)), np.nextafter(found, kind(-np.inf))]
    best = min((a for a in around if np.isfinite(a)), key=lambda a: abs(Fraction(float(a)) - value))
    return float(best if abs(Fraction(float(best)) - value) < abs(Fraction(float(found)) - value) else found)


def _pattern(raw: Raw, value: Fraction) -> int:
    """The bits that stand for a number in its storage. Raises CommandError where it does not fit."""
    bits, storage = raw.bits, raw.storage
    if storage == "bf":
        whole = struct.unpack(">I", struct.pack(">f", _single(value, 4)))[0]
        return int(nearest(Fraction(whole, 1 << 16)))
    if storage == "f":
        width = raw.place.width
        return int.from_bytes(struct.pack({2: ">e", 4: ">f", 8: ">d"}[width], _single(value, width)), "big")
    whole = nearest(value)
    if storage in ("bcd", "packed"):
        digits = bits // 4 - (1 if storage == "packed" else 0)
        if abs(whole) >= 10**digits or (whole < 0 and storage == "bcd"):
            raise CommandError("out of range", f"{whole} does not fit into {digits} digits")
        pattern = int(str(abs(whole)).zfill(digits), 16)
        return pattern if storage == "bcd" else pattern << 4 | (13 if whole < 0 else 12)
    half = 2 ** (bits - 1)
    low, high = {
        "u": (0, 2 * half - 1),
        "i": (-half, half - 1),
        "sm": (-half + 1, half - 1),
        "oc": (-half + 1, half - 1),
    }[storage]
    if not low <= whole <= high:
        raise CommandError("out of range", f"{whole} does not fit into {bits} bits")
    if whole >= 0:
        return whole
    return {"i": whole + 2 * half, "sm": half - whole, "oc": 2 * half - 1 + whole}[storage]
