"""Values as they are written, each form as the number, text or time that it means."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np

from oculum.errors import OculumError

from ..clocks import iso_us, parse_written, pattern_parts
from ..language import limits
from ..language.decoders.plan import ValueStep
from .level import Level
from .walker import Walker

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_NUMBER = re.compile(r"[+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d{1,3})?")
_WRITTEN = {
    "": _NUMBER,
    "decimal comma": re.compile(r"[+-]?\d+(?:,\d+)?"),
    "decimal comma or point": re.compile(r"[+-]?\d+(?:[.,]\d+)?"),
    "decimal comma grouped": re.compile(r"[+-]?(?:\d+|\d{1,3}(?:\.\d{3})+)(?:,\d+)?"),
}

LONG = "a number of at most 53 bits: `u64` and `i64` keep all digits"
WIDE: dict[str, Any] = {"u64": np.uint64, "i64": np.int64}
KINDS: dict[str, Any] = {"text": object, "time": np.int64}


class Unfit(OculumError, ValueError):
    """A value of another kind than its line says; the message says what was expected."""


def _number(found: Any) -> float:
    if type(found) in (int, float):
        if isinstance(found, int) and abs(found) > 2**53:
            raise Unfit(LONG)
        return float(found)
    if isinstance(found, Decimal | Fraction):
        return float(found)
    raise Unfit("a number")


def _integer(found: Any) -> float:
    try:
        value = _number(found)
    except Unfit as error:
        raise Unfit("a whole number" if str(error) == "a number" else str(error)) from None
    if not np.isfinite(value) or value != int(value):
        raise Unfit("a whole number")
    if abs(value) > 2**53:  # digits are lost: a parser gives more than 64 bits as a float
        raise Unfit(LONG)
    return value


def _wide(found: Any, form: str) -> int:
    """A whole number with all its digits, also where it stands as a text."""
    if isinstance(found, str) and re.fullmatch(r"-?[0-9]{1,20}", found):
        found = int(found)
    low, high = (0, 2**64) if form == "u64" else (-(2**63), 2**63)
    if type(found) is not int or not low <= found < high:
        raise Unfit(f"a whole number of {low} to {high - 1}")
    return found


def _flag(found: Any) -> float:
    if not isinstance(found, bool):
        raise Unfit("true or false")
    return float(found)


def _text(found: Any) -> str:
    if not isinstance(found, str):
        raise Unfit("a text")
    return found.replace("\x00", "\N{SYMBOL FOR NULL}")[: limits.TEXT_CHARACTERS]


def _hex(found: Any) -> str:
    if isinstance(found, bytes):
        return found[: limits.TEXT_CHARACTERS // 2].hex()
    raise Unfit("bytes")


def _iso(found: Any) -> int:
    if not isinstance(found, str) or len(found) > 40:
        raise Unfit("a time with its zone, such as 2000-01-01T00:00:00Z")
    try:
        return iso_us(found)
    except ValueError:
        raise Unfit("a time with its zone, such as 2000-01-01T00:00:00Z") from None


def _tagged(found: Any) -> int:
    if not isinstance(found, datetime):
        raise Unfit("a time (CBOR tag 0 or 1)")
    moment = found if found.tzinfo is not None else found.replace(tzinfo=UTC)
    return (moment - _EPOCH) // timedelta(microseconds=1)


def _digits(text: Any, step: ValueStep) -> str:
    if not isinstance(text, str) or len(text) > 40 or not text.isascii() or not _WRITTEN[step.comma].fullmatch(text):
        raise Unfit(f"a number with a {step.comma}" if step.comma else "a number")
    return (text.replace(".", "") if step.comma.endswith("grouped") else text).replace(",", ".")


def _hex_integer(found: Any) -> float:
    if not isinstance(found, str) or not 1 <= len(found) <= 13 or not re.fullmatch(r"[0-9A-Fa-f]+", found):
        raise Unfit("a number in hexadecimal digits")
    return float(int(found, 16))


def _either(found: Any, step: ValueStep) -> float:
    """A number, or one that is written as text."""
    if isinstance(found, str):
        value = float(_digits(found, step))
        return _integer(value) if step.form == "integer" else value
    return _integer(found) if step.form == "integer" else _number(found)


def reader(step: ValueStep) -> Callable[[Any], Any]:
    """Turns one value of a document into what its column holds. It raises Unfit."""
    clock = step.clock
    if step.either:
        return lambda found: _either(found, step)
    if step.form == "number":
        return (lambda found: float(_digits(found, step))) if step.written else _number
    if step.form == "integer":
        return (lambda found: _integer(float(_digits(found, step)))) if step.written else _integer
    if step.form in WIDE:
        return lambda found: _wide(found, step.form)
    if step.form == "clock" and clock is not None:
        seconds, epoch, _ = clock

        def moment(found: Any) -> int:
            value = float(_digits(found, step)) if step.written else _number(found)
            if not abs(value * seconds) < 1e12:
                raise Unfit("a time within bounds")
            if isinstance(found, int) and (seconds * 1e6).is_integer():
                return epoch + found * int(seconds * 1e6)
            return epoch + round(value * seconds * 1e6)

        return moment
    if step.form == "flag" and step.written:
        return lambda found: (
            {"true": 1.0, "false": 0.0}[found] if found in ("true", "false") else _unfit("true or false")
        )
    return {"hex integer": _hex_integer, "flag": _flag, "text": _text, "hex": _hex, "iso": _iso, "tagged": _tagged}[
        step.form
    ]


def _unfit(wanted: str) -> Any:
    raise Unfit(wanted)


def trimmed(value: Any, step: ValueStep) -> Any:
    if step.after:
        if not isinstance(value, str) or not value.startswith(step.after):
            raise Unfit(f'a text that begins with "{step.after}"')
        value = value[len(step.after) :]
    if step.size is not None:
        have = (
            len(value)
            if isinstance(value, bytes)
            else len(value) / 2
            if isinstance(value, str) and step.form == "hex integer"
            else len(value.encode())
            if isinstance(value, str)
            else -1
        )
        if have != step.size:
            raise Unfit(f"{step.size} bytes")
    if step.padded and isinstance(value, str | bytes):
        value = value.rstrip(" \x00") if isinstance(value, str) else value.rstrip(b" \x00")
    return value


def calendar(value: Any, step: ValueStep) -> dict[str, int]:
    assert step.calendar is not None
    found = parse_written(value, step.calendar.pattern) if isinstance(value, str) and value.isascii() else None
    if found is None:
        raise Unfit(f"a time written as {step.calendar.pattern}")
    return found


def calendar_values(
    walker: Walker,
    level: Level,
    step: ValueStep,
    rows: np.ndarray,
    found: dict[int, dict[str, int]],
    result: np.ndarray,
) -> tuple[np.ndarray, list[int]]:
    assert step.calendar is not None
    index = np.array(list(found), np.int64)
    letters = [letter for letter, width in pattern_parts(step.calendar.pattern) if width]
    parts = {letter: np.array([found[i][letter] for i in found], np.int64) for letter in letters}
    if ("Y", 2) in pattern_parts(step.calendar.pattern):
        parts["short"] = np.ones(len(index), np.int64)
    moments, good = walker.calendar(level, step.calendar, parts, rows[index])
    result = result.copy()
    result[index] = moments
    return result, index[~good].tolist()
