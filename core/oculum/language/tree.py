"""Expressions as they are written, each part with its place."""

from __future__ import annotations

from dataclasses import dataclass

from .problems import Span


@dataclass(frozen=True)
class Node:
    span: Span


@dataclass(frozen=True)
class Bits:
    high: int
    low: int
    single: bool


@dataclass(frozen=True)
class Quantity(Node):
    number: str
    unit: str | None
    unit_span: Span | None


@dataclass(frozen=True)
class String(Node):
    text: str


@dataclass(frozen=True)
class CodeText(Node):
    text: str


@dataclass(frozen=True)
class Truth(Node):
    value: bool


@dataclass(frozen=True)
class Setpoint(Node):
    name: str


@dataclass(frozen=True)
class PayloadLength(Node):
    pass


@dataclass(frozen=True)
class Name(Node):
    name: str


@dataclass(frozen=True)
class ByteRange(Node):
    first: int
    last: int
    registers: bool = False
    until: Expr | None = None
    so_far: bool = False


@dataclass(frozen=True)
class Call(Node):
    function: str
    arguments: tuple[Expr, ...]


@dataclass(frozen=True)
class ReadAt(Node):
    storage: str
    order: str | None
    words: str | None
    first: int
    last: int | None
    bits: Bits | None
    register: bool = False


@dataclass(frozen=True)
class Choice(Node):
    rule: Expr
    then: Expr
    otherwise: Expr


@dataclass(frozen=True)
class Unary(Node):
    sign: str  # "-", "not", "is missing", "is known"
    value: Expr


@dataclass(frozen=True)
class Binary(Node):
    sign: str
    left: Expr
    right: Expr


@dataclass(frozen=True)
class Power(Node):
    value: Expr
    exponent: str


@dataclass(frozen=True)
class Membership(Node):
    value: Expr
    options: tuple[Expr, ...]


Expr = (
    Quantity
    | String
    | CodeText
    | Truth
    | Setpoint
    | PayloadLength
    | Name
    | ByteRange
    | Call
    | ReadAt
    | Choice
    | Unary
    | Binary
    | Power
    | Membership
)
