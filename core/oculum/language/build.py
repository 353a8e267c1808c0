"""Lark's tree to ours."""

from __future__ import annotations

import re
from typing import Any

from lark import Token, Transformer, v_args

from . import tree
from .problems import Span


def span_of(meta: Any) -> Span:
    """The place of a part of the text; a part over several lines is shown by its first."""
    if getattr(meta, "line", None) is None:
        return Span(1, 1, 2)
    end = meta.end_column if meta.end_line == meta.line else meta.column + 1
    return Span(meta.line, meta.column, max(end, meta.column + 1))


def token_span(token: Token) -> Span:
    line, column = token.line or 1, token.column or 1
    return Span(line, column, column + max(len(token), 1))


def number(text: str) -> int | float:
    """The value of a number as written: hexadecimal, binary, decimal."""
    if text.lower().startswith("0x"):
        return int(text, 16)
    if text.startswith("0b"):
        return int(text, 2)
    return float(text) if any(c in text for c in ".eE") else int(text)


def number_signed(text: str) -> int | float:
    """The value of a number as written, with an optional sign before it."""
    return -number(text[1:]) if text.startswith("-") else number(text)


ESCAPES = {"n": "\n", "t": "\t", "r": "\r"}


def unquoted(token: str) -> str:
    return re.sub(r"\\(.)", lambda found: ESCAPES.get(found[1], found[1]), token[1:-1])


def quoted(text: str) -> str:
    """`text` as a string of the language."""
    text = text.replace("\\", "\\\\").replace('"', '\\"')
    for letter, meant in ESCAPES.items():
        text = text.replace(meant, f"\\{letter}")
    return f'"{text}"'


class Written(int):
    """A whole number that is printed as it was written, such as 0x7FFF."""

    word: str

    @classmethod
    def of(cls, value: int, word: str) -> Written:
        found = cls(value)
        found.word = word
        return found

    def __str__(self) -> str:
        return self.word

    def __format__(self, spec: str) -> str:
        return format(int(self), spec) if spec else self.word


def whole(text: str) -> int:
    value = number_signed(str(text))
    if isinstance(value, float):
        raise ValueError(f"{text} is not a whole number")
    return Written.of(value, str(text)) if str(text).lstrip("-").lower().startswith(("0x", "0b")) else value


MOST_PLACE = 2**32


def place(text: str) -> int:
    """A whole number that says where something stands or how often it comes. Raises ValueError beyond all bounds."""
    found = whole(text)
    if abs(found) > MOST_PLACE:
        raise ValueError(f"the number {str(found)[:24]} is out of all bounds: places and counts go to {MOST_PLACE}")
    return found


@v_args(meta=True)
class Build(Transformer[Token, Any]):
    """The expressions of `tree.py` from a parse; each kind of definition adds its own lines."""

    def source(self, m: Any, c: list[Any]) -> str:
        return " ".join(str(word) for word in c)

    order = source

    def signed(self, m: Any, c: list[Any]) -> str:
        return ("-" if c[0] else "") + str(c[1])

    def bytes_at(self, m: Any, c: list[Any]) -> tuple[int, int | None]:
        return place(c[0]), place(c[1]) if len(c) > 1 else None

    def bits(self, m: Any, c: list[Any]) -> tree.Bits:
        numbers = [place(part) for part in c if part != "bits"]
        return tree.Bits(max(numbers), min(numbers), len(numbers) == 1)

    def _chain(self, m: Any, c: list[Any], sign: str) -> tree.Expr:
        found = c[0]
        for right in c[1:]:
            found = tree.Binary(span_of(m), sign, found, right)
        return found

    def either(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "or")

    def both(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "and")

    def negation(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "not", c[0])

    def comparison(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Binary(span_of(m), str(c[1]), c[0], c[2]) if c[1] else c[0]

    def membership(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Membership(span_of(m), c[0], tuple(c[1:]))

    def is_known(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "is known", c[0])

    def is_missing(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "is missing", c[0])

    def _pairs(self, m: Any, c: list[Any]) -> tree.Expr:
        found = c[0]
        for sign, right in zip(c[1::2], c[2::2], strict=True):
            found = tree.Binary(span_of(m), str(sign), found, right)
        return found

    def minus(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "-", c[1])

    def power(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Power(span_of(m), c[0], c[1]) if c[1] else c[0]

    def quantity(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Quantity(span_of(m), str(c[0]), str(c[1]) if c[1] else None, token_span(c[1]) if c[1] else None)

    def string(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.String(span_of(m), unquoted(c[0]))

    def code_text(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.CodeText(span_of(m), str(c[0])[1:-1])

    def true(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(span_of(m), True)

    def false(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(span_of(m), False)

    def setpoint(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Setpoint(span_of(m), str(c[0]))

    def payload_length(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.PayloadLength(span_of(m))

    def name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Name(span_of(m), str(c[0]))

    def call(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Call(span_of(m), str(c[0]), tuple(a for a in c[1:] if a is not None))

    def range_so_far(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), 0, 0, so_far=True)

    def range_to_name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), 0, until=tree.Name(span_of(m), str(c[1])))

    def range_to_expr(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), 0, until=c[1])

    def byte_range(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), place(c[1]))

    def register_range(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), place(c[1]), True)

    def words(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    def read_at(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ReadAt(span_of(m), str(c[0]), c[1], c[2], c[3][0], c[3][1], c[4])

    def read_register(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ReadAt(span_of(m), str(c[0]), c[1], c[2], place(c[3]), None, None, True)

    def choice(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Choice(span_of(m), c[0], c[1], c[2])

    place = exponent = signed
    sum = product = _pairs
