"""Parameters of commands: what is given, held against its line."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from fractions import Fraction
from typing import Any

from ..clocks import iso, iso_us, known_zone, pattern_parts, utc_to_local
from ..language.decoders.plan import Linear, ReadStep, SpanStep, ValueStep, WriteStep, Zoned
from .writing import CommandError, nearest, plain_number

PLAIN = Linear(1, 0, 1)
TRUTHS = {True: True, False: False, "true": True, "false": False, "yes": True, "no": False}


@dataclass(frozen=True)
class Parameter:
    """seen: as expressions speak of it, a time in µs since 1970. stored: what is written."""

    seen: Any
    stored: Any


def given(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    """A parameter as it is given. known: constants by name. Raises CommandError."""
    kinds = {"flag": _flag, "code": _code, "time": _time, "text": _text}
    return kinds.get(step.spec.kind, _number)(step, value, known)


def _flag(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    if not isinstance(value, bool | str) or value not in TRUTHS:
        raise CommandError("wrong kind", f"`{step.name}` is true or false, found {str(value)[:40]}")
    truth = TRUTHS[value]
    stored = truth is not (_linear(step).a == -1)
    if isinstance(step.into, ValueStep):
        return Parameter(truth, _word(step.into, Fraction(stored)) or stored)
    return Parameter(truth, Fraction(stored))


def _code(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    for number, text in step.spec.codes:
        if text == value and number >= 0:
            return Parameter(float(number), number if isinstance(step.into, ValueStep) else Fraction(number))
    raise _no_choice(step, value, [text for number, text in step.spec.codes if number >= 0])


def _no_choice(step: WriteStep, value: Any, choices: list[str]) -> CommandError:
    return CommandError("unknown choice", f"`{step.name}` is one of {', '.join(choices)}; found {str(value)[:40]}")


def _text(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    if not isinstance(value, str):
        raise CommandError("wrong kind", f"`{step.name}` is a text, found {str(value)[:40]}")
    if step.choices and value not in step.choices:
        raise _no_choice(step, value, list(step.choices))
    form = step.into.form if isinstance(step.into, SpanStep | ValueStep) else "text"
    try:
        content = bytes.fromhex(value) if form == "hex" else value.encode()
    except ValueError:
        what = "hexadecimal digits, two for each byte" if form == "hex" else "a text that can be written"
        raise CommandError("wrong kind", f'`{step.name}` is {what}, found "{value[:40]!a}"') from None
    low, high = step.sizes or (0, len(content))
    if not low <= len(content) <= high:
        wanted = f"{low}" if low == high else f"{low} to {high}"
        raise CommandError("out of range", f"`{step.name}` has {len(content)} bytes; {wanted} are allowed")
    return Parameter(value, content if isinstance(step.into, SpanStep) else value)


def _time(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    name, into = step.name, step.into
    try:
        moment = iso_us(str(value))
    except ValueError:
        raise CommandError("wrong kind", f'`{name}` is a time with its zone, found "{str(value)[:40]}"') from None
    _within(step, Fraction(moment), str(value))
    assert isinstance(into, ReadStep | ValueStep)
    if into.calendar is not None:
        text = _written(moment, into.calendar, known, name)
        return Parameter(moment, text if isinstance(into, ValueStep) else Fraction(int(text, 16)))
    if into.clock is None:
        return Parameter(moment, iso(moment))
    ticks = Fraction(moment - into.clock[1]) / Fraction(str(into.clock[0])) / 1_000_000
    if isinstance(into, ValueStep):
        return Parameter(moment, plain_number(ticks))
    if ticks.denominator != 1 and not step.nearest:
        raise CommandError("off step", f"`{name}` is {str(value)[:40]}, which lies between two steps of its clock")
    return Parameter(moment, Fraction(nearest(ticks)))


def _written(moment: int, zoned: Zoned, known: Mapping[str, Any], name: str) -> str:
    zone = zoned.zone or (known.get(zoned.zone_field) if zoned.zone_field else None) or "UTC"
    if not known_zone(str(zone)):
        raise CommandError("wrong kind", f'"{zone}" is no time zone')
    local, _ = utc_to_local(moment, str(zone))
    if zoned.century is not None and not zoned.century <= local.year < zoned.century + 100:
        raise CommandError(
            "out of range", f"`{name}` lies in {local.year}; {zoned.century} to {zoned.century + 99} are allowed"
        )
    parts = {"Y": local.year, "M": local.month, "D": local.day, "h": local.hour, "m": local.minute, "s": local.second}
    return "".join(
        str(parts[piece] % 10**width).zfill(width) if width else piece for piece, width in pattern_parts(zoned.pattern)
    )


def exact(value: Any, name: str) -> Fraction:
    """A number without any loss. Raises CommandError."""
    if isinstance(value, bool) or not isinstance(value, int | float | str | Decimal | Fraction):
        raise CommandError("wrong kind", f"`{name}` is a number, found {str(value).lower()[:40]}")
    if isinstance(value, Fraction):
        return value
    try:
        found = Decimal(value if isinstance(value, str) else repr(value))
    except InvalidOperation:
        raise CommandError("wrong kind", f'`{name}` is a number, found "{str(value)[:40]}"') from None
    if not found.is_finite() or abs(found.adjusted()) > 60:
        raise CommandError("out of range", f"`{name}` is {str(value)[:40]}, out of all bounds")
    return Fraction(found)


def _number(step: WriteStep, value: Any, known: Mapping[str, Any]) -> Parameter:
    amount, into = exact(value, step.name), step.into
    _within(step, amount, str(value)[:40])
    a, b, c = (Fraction(x) for x in into.cleaning.convert or (1, 0, 1))
    linear = _linear(step)
    stored = ((amount * c - b) / a * linear.c - linear.b) / linear.a
    whole = (
        isinstance(into, ValueStep)
        and into.form != "number"
        or (isinstance(into, ReadStep) and not into.raws[0].floating)
    )
    if whole and stored.denominator != 1:
        if not step.nearest:
            around = [(Fraction(n) * linear.a + linear.b) / linear.c for n in (math.floor(stored), math.ceil(stored))]
            low, high = (f"{float(found):g}" for found in sorted((found * a + b) / c for found in around))
            raise CommandError(
                "off step", f"`{step.name}` is {str(value)[:40]}; the steps beside it are {low} and {high}"
            )
        stored = Fraction(nearest(stored))
    seen = int(amount) if step.spec.wide and amount.denominator == 1 else amount
    return Parameter(seen, _of_document(into, stored) if isinstance(into, ValueStep) else stored)


def _linear(step: WriteStep) -> Linear:
    return step.into.linears[0] if isinstance(step.into, ReadStep | ValueStep) and step.into.linears else PLAIN


def _word(into: ValueStep, stored: Fraction) -> str | None:
    return next((word for word, number in into.words if Fraction(number) == stored), None)


def _of_document(into: ValueStep, stored: Fraction) -> Any:
    """A number as its line writes it: as a number, as a word for it, as a text."""
    word = _word(into, stored)
    if word is not None:
        return word
    value = plain_number(stored)
    if into.form == "hex integer":
        return format(int(value), "x")
    if not into.written:
        return value
    text = re.sub(r"\.0$", "", str(value))
    return text.replace(".", ",") if into.comma else text


def _within(step: WriteStep, value: Fraction, said: str) -> None:
    low, high = step.low, step.high
    if low is None or high is None or Fraction(repr(low)) <= value <= Fraction(repr(high)):
        return
    if step.spec.kind == "time":
        raise CommandError("out of range", f"`{step.name}` is {said}; {iso(int(low))} to {iso(int(high))} is allowed")
    unit = "" if step.spec.unit in (None, "1") else f" {step.spec.unit}"
    raise CommandError("out of range", f"`{step.name}` is {said}; {low:g} to {high:g}{unit} is allowed")
