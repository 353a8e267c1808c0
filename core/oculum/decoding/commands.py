"""Commands: parameters to bytes by the lines of the definition, exactly, and back."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from fractions import Fraction
from typing import Any

import numpy as np

from oculum.errors import OculumError

from ..batches import Decoded, Payloads
from ..clocks import iso_us, known_zone, pattern_parts, utc_to_local
from ..language.evaluate import Val, evaluate
from ..language.plan import (
    CommandPlan,
    ConstantSpec,
    DecoderPlan,
    DeriveStep,
    Ex,
    FrameStep,
    Framing,
    PutStep,
    Raw,
    ReadStep,
    SkipStep,
    Step,
    Zoned,
)
from .checksums import check
from .decode import decode
from .numbers import PAD


class CommandError(OculumError, ValueError):
    """A command that cannot be written.

    `code`: out of range, missing parameter, unknown choice, unknown parameter, wrong kind.
    """

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


class _Names:
    """Parameters and constants as expressions see them."""

    def __init__(self, values: dict[str, Any], raws: dict[str, float], out: bytearray) -> None:
        self.values, self.raws, self.out = values, raws, out

    def column(self, name: str) -> Val:
        found = self.values.get(name)
        if found is None:
            return Val(0.0, False)
        return Val(
            found if isinstance(found, str | bool | int) and not isinstance(found, Fraction) else float(found), True
        )

    def raw(self, name: str) -> Val:
        return Val(self.raws.get(name, 0.0), name in self.raws)

    def setpoint(self, name: str) -> Val:
        raise CommandError("wrong kind", "a command knows no setpoints")

    def payload(self, ex: Ex) -> Val:
        if ex.op == "check":
            name, first, last, _, parameters = ex.value
            size = len(self.out)
            low = first if first >= 0 else size + first
            high = (last if last >= 0 else size + last) + 1
            if not 0 <= low <= high <= size:
                raise CommandError("wrong kind", "the check reaches beyond what is written so far")
            data = np.frombuffer(bytes(self.out) + bytes(PAD), np.uint8)
            return Val(int(check(name, data, np.array([low]), high - low, parameters)[0]), True)
        if ex.op == "length":
            return Val(float(len(self.out)), True)
        if ex.op == "clock" and ex.value[0] == "second_pass":
            moment, zone = (part.values for part in ex.value[1])
            return Val(known_zone(str(zone)) and utc_to_local(int(moment), str(zone))[1], ex.value[2])
        raise CommandError("wrong kind", f"line {ex.line} speaks of something that a command does not know")


def constants_of(specs: tuple[ConstantSpec, ...], given: Mapping[str, Any]) -> dict[str, Any]:
    return {spec.name: given.get(spec.name, spec.default) for spec in specs}


def encode_command(
    plan: DecoderPlan, name: str, parameters: Mapping[str, Any], constants: Mapping[str, Any] | None = None
) -> bytes:
    """The bytes of one command.

    parameters: by name; numbers as numbers or as text, flags as truth values, codes by their text, times
    as ISO 8601 texts. Ranges are judged before rounding, which goes to the nearest step, half away from
    zero. Raises CommandError.
    """
    command = plan.command(name)
    if command is None:
        known = ", ".join(c.name for c in plan.commands) or "none"
        raise CommandError("unknown command", f"`{plan.name}` has no command `{name}`; it has {known}")
    wanted = {step.name for step in command.parameters}
    for given in parameters:
        if given not in wanted:
            raise CommandError(
                "unknown parameter",
                f"`{given}` is no parameter of `{name}`; it takes {', '.join(sorted(wanted)) or 'none'}",
            )
    out = bytearray()
    values: dict[str, Any] = constants_of(plan.constants, constants or {})
    raws: dict[str, float] = {}
    writer = _Writer(out)
    for step in command.steps:
        match step:
            case ReadStep():
                value = parameters.get(step.name, step.default)
                if value is None:
                    raise CommandError("missing parameter", f"`{step.name}` is not given")
                values[step.name], raw = _raw(step, value, values)
                raws[step.name] = float(raw)
                writer.put(step.raws[0], raw)
            case PutStep():
                found = evaluate(step.value, _Names(values, raws, out))
                if not found.known:
                    raise CommandError("missing parameter", f"line {step.line} needs a value that is not known")
                writer.put(step.raw, Fraction(float(found.values)))
            case DeriveStep():
                found = evaluate(step.value, _Names(values, raws, out))
                value = found.values
                values[step.name] = (
                    (
                        value
                        if isinstance(value, str)
                        else bool(value)
                        if step.spec.kind == "flag"
                        else Fraction(float(value))
                    )
                    if found.known
                    else None
                )
            case FrameStep():
                return framed(bytes(out), step.framing)
            case _:
                raise AssertionError(step)
    return bytes(out)


def framed(content: bytes, framing: Framing) -> bytes:
    """`content` between its marks, with what would be a mark escaped."""
    marks = {framing.start, framing.end, framing.escape}
    body = bytearray()
    for byte in content:
        if framing.escape is not None and byte in marks:
            body += bytes([framing.escape, byte ^ (framing.xor or 0)])
        else:
            body.append(byte)
    return bytes([framing.start, *body, framing.end])


def exact(value: Any, name: str) -> Fraction:
    """A number without any loss. Raises CommandError."""
    if isinstance(value, bool):
        raise CommandError("wrong kind", f"`{name}` is a number, found {str(value).lower()}")
    if isinstance(value, Fraction):
        return value
    try:
        found = Decimal(value if isinstance(value, str) else repr(value))
    except InvalidOperation:
        raise CommandError("wrong kind", f'`{name}` is a number, found "{str(value)[:40]}"') from None
    if not found.is_finite() or abs(found.adjusted()) > 60:
        raise CommandError("out of range", f"`{name}` is {value}, out of all bounds")
    return Fraction(found)


def nearest(value: Fraction) -> int:
    """The nearest whole number, half away from zero."""
    whole = int(abs(value) + Fraction(1, 2))
    return whole if value >= 0 else -whole


def _raw(step: ReadStep, value: Any, known: Mapping[str, Any]) -> tuple[Any, Fraction]:
    """What expressions see of a parameter, and the number that is stored."""
    spec, name = step.spec, step.name
    if spec.kind == "flag":
        truths = {True: True, False: False, "true": True, "false": False, "yes": True, "no": False}
        if not isinstance(value, bool | str) or value not in truths:
            raise CommandError("wrong kind", f"`{name}` is true or false, found {str(value)[:40]}")
        return truths[value], Fraction(int(truths[value]))
    if spec.kind == "code":
        for number, text in spec.codes:
            if text == value and number >= 0:
                return float(number), Fraction(number)
        raise CommandError(
            "unknown choice",
            f"`{name}` is one of {', '.join(t for n, t in spec.codes if n >= 0)}; found {str(value)[:40]}",
        )
    if spec.kind == "time":
        try:
            moment = iso_us(str(value))
        except ValueError:
            raise CommandError("wrong kind", f'`{name}` is a time with its zone, found "{str(value)[:40]}"') from None
        _within(step, Fraction(moment), str(value))
        if step.calendar is not None:
            return moment, Fraction(_digits(moment, step.calendar, known, name))
        assert step.clock is not None
        return moment, Fraction(nearest(Fraction(moment - step.clock[1]) / Fraction(str(step.clock[0])) / 1_000_000))
    amount = exact(value, name)
    _within(step, amount, str(value))
    stored = amount
    if step.cleaning.convert is not None:
        a, b, c = (Fraction(x) for x in step.cleaning.convert)
        stored = (stored * c - b) / a
    linear = step.linears[0]
    stored = (stored * linear.c - linear.b) / linear.a
    return amount, stored if step.raws[0].storage == "f" else Fraction(nearest(stored))


def _within(step: ReadStep, value: Fraction, said: str) -> None:
    low, high = step.cleaning.low, step.cleaning.high
    if low is None or high is None:
        return
    if not Fraction(repr(low)) <= value <= Fraction(repr(high)):
        span = f"{low:g} to {high:g}" if step.spec.kind != "time" else "its range"
        raise CommandError(
            "out of range",
            f"`{step.name}` is {said};"
            f" {span}{' ' + step.spec.unit if step.spec.unit not in (None, '1') and step.spec.kind != 'time' else ''}"
            f" is allowed",
        )


def _digits(moment: int, zoned: Zoned, known: Mapping[str, Any], name: str) -> int:
    zone = zoned.zone or (known.get(zoned.zone_field) if zoned.zone_field else None) or "UTC"
    if not known_zone(str(zone)):
        raise CommandError("wrong kind", f'"{zone}" is no time zone')
    local, _ = utc_to_local(moment, str(zone))
    parts = {"Y": local.year, "M": local.month, "D": local.day, "h": local.hour, "m": local.minute, "s": local.second}
    text = "".join(
        str(parts[letter] % 10**width).zfill(width) if width else "" for letter, width in pattern_parts(zoned.pattern)
    )
    return int(text, 16)


class _Writer:
    def __init__(self, out: bytearray) -> None:
        self.out = out
        self.last = 0
        self.bits = 0  # of a stream that has not filled its byte

    def put(self, raw: Raw, value: Fraction) -> None:
        if raw.storage in ("varint", "signed varint"):
            self.out += _leb(int(value), raw.storage == "signed varint")
            return
        if raw.place.mode == "stream":
            self.stream(_pattern(raw, value), raw.bits)
            return
        width = raw.place.width
        pattern = _pattern(raw, value)
        at = {"next": len(self.out), "same": self.last, "start": raw.place.offset}.get(raw.place.mode)
        if at is None:
            raise CommandError("wrong kind", "a command writes at `next`, `same`, `byte` and by bits")
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

    def stream(self, pattern: int, count: int) -> None:
        for k in range(count - 1, -1, -1):
            if self.bits == 0:
                self.out.append(0)
                self.bits = 8
            self.bits -= 1
            self.out[-1] |= ((pattern >> k) & 1) << self.bits


def _leb(value: int, signed: bool) -> bytes:
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
    if storage == "f":
        width = raw.place.width
        return int.from_bytes(struct.pack({2: ">e", 4: ">f", 8: ">d"}[width], _single(value, width)), "big")
    if value.denominator != 1:
        value = Fraction(nearest(value))
    whole = int(value)
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


def decoder_of(plan: DecoderPlan, command: CommandPlan) -> DecoderPlan:
    """A decoder that reads a command back: its parameters are the fields."""
    steps: list[Step] = []
    fields = []
    for step in command.steps:
        match step:
            case ReadStep():
                steps.append(replace(step, hidden=False, cleaning=replace(step.cleaning, low=None, high=None)))
                fields.append(step.spec)
            case PutStep(raw=raw) if raw.place.mode == "next" and raw.place.width:
                steps.append(SkipStep(step.line, raw.place.width, 8))
            case _:
                pass
    return DecoderPlan(
        f"{plan.name}_{command.name}", "bytes", tuple(steps), tuple(fields), tuple(fields), 0, plan.constants
    )


def decode_command(plan: DecoderPlan, name: str, payload: bytes, constants: Mapping[str, Any] | None = None) -> Decoded:
    """What a written command says: a batch of one. Raises CommandError for a name that is none."""
    command = plan.command(name)
    if command is None:
        raise CommandError("unknown command", f"`{plan.name}` has no command `{name}`")
    last = command.steps[-1] if command.steps else None
    if isinstance(last, FrameStep):
        payload = unframed(payload, last.framing)
    return decode(decoder_of(plan, command), Payloads.of([payload], [0], None, [constants or {}]))


def unframed(payload: bytes, framing: Framing) -> bytes:
    out = bytearray()
    turned = False
    for byte in payload[1:-1]:
        if byte == framing.escape and not turned:
            turned = True
            continue
        out.append(byte ^ (framing.xor or 0) if turned else byte)
        turned = False
    return bytes(out)
