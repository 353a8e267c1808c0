"""The tree of a definition as written. Every node knows its place; nothing is resolved yet."""

from __future__ import annotations

from dataclasses import dataclass

from .problems import Span


@dataclass(frozen=True)
class Node:
    span: Span


# addresses ---------------------------------------------------------------
@dataclass(frozen=True)
class Bits:
    high: int
    low: int
    single: bool


@dataclass(frozen=True)
class InBytes(Node):
    first: int
    last: int | None
    bits: Bits | None


@dataclass(frozen=True)
class InNext(Node):
    width: int | None
    bits: Bits | None


@dataclass(frozen=True)
class InSame(Node):
    bits: Bits


@dataclass(frozen=True)
class InDocument(Node):
    paths: tuple[tuple[str | int, ...], ...]


Address = InBytes | InNext | InSame | InDocument


# kinds -------------------------------------------------------------------
@dataclass(frozen=True)
class Scale:
    sign: str
    number: str


@dataclass(frozen=True)
class Stored(Node):
    storage: str
    order: str | None
    scales: tuple[Scale, ...]


@dataclass(frozen=True)
class Flag(Node):
    pass


@dataclass(frozen=True)
class Codes(Node):
    storage: str | None
    order: str | None
    texts: tuple[tuple[int, str], ...]


@dataclass(frozen=True)
class PositionKind(Node):
    parts: tuple[tuple[str, tuple[Scale, ...]], ...]


@dataclass(frozen=True)
class Clock(Node):
    storage: str
    order: str | None
    unit: str
    since: str


@dataclass(frozen=True)
class Plain(Node):
    """A kind of a document value: number, integer, text, iso."""

    word: str
    scales: tuple[Scale, ...] = ()


Kind = Stored | Flag | Codes | PositionKind | Clock | Plain


# qualifiers --------------------------------------------------------------
@dataclass(frozen=True)
class Within(Node):
    low: str
    high: str


@dataclass(frozen=True)
class Missing(Node):
    reason: str
    raws: tuple[str | int | float, ...]
    raw_words: tuple[str, ...]
    when: Expr | None


@dataclass(frozen=True)
class Into(Node):
    unit: str


@dataclass(frozen=True)
class Word(Node):
    word: str  # hidden, required


Qualifier = Within | Missing | Into | Word


# statements --------------------------------------------------------------
@dataclass(frozen=True)
class Read(Node):
    address: Address
    name: str
    name_span: Span
    kind: Kind
    unit: str | None
    unit_span: Span | None
    qualifiers: tuple[Qualifier, ...]


@dataclass(frozen=True)
class Derive(Node):
    name: str
    name_span: Span
    value: Expr
    qualifiers: tuple[Qualifier, ...]


@dataclass(frozen=True)
class Reject(Node):
    reason: str
    failure: str | None
    unless: bool
    rule: Expr


@dataclass(frozen=True)
class Stamp(Node):
    value: Expr


@dataclass(frozen=True)
class Length(Node):
    low: Expr
    high: Expr | None


@dataclass(frozen=True)
class Skip(Node):
    count: int


@dataclass(frozen=True)
class When(Node):
    rule: Expr
    body: tuple[Statement, ...]
    otherwise: tuple[Statement, ...]


@dataclass(frozen=True)
class Repeat(Node):
    times: Expr | None  # None: to end
    most: int | None
    each: tuple[str, str, str] | None  # number, unit, earlier or later
    body: tuple[Statement, ...]


Statement = Read | Derive | Reject | Stamp | Length | Skip | When | Repeat


@dataclass(frozen=True)
class Decoder(Node):
    name: str
    source: str
    order: str | None
    body: tuple[Statement, ...]


# expressions -------------------------------------------------------------
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


@dataclass(frozen=True)
class Call(Node):
    function: str
    arguments: tuple[Expr, ...]


@dataclass(frozen=True)
class ReadAt(Node):
    storage: str
    order: str | None
    first: int
    last: int | None
    bits: Bits | None


@dataclass(frozen=True)
class Choice(Node):
    rule: Expr
    then: Expr
    otherwise: Expr


@dataclass(frozen=True)
class Unary(Node):
    sign: str  # "-", "not", "is missing"
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
    Quantity | String | CodeText | Truth | Setpoint | PayloadLength | Name | ByteRange
    | Call | ReadAt | Choice | Unary | Binary | Power | Membership
)  # fmt: skip


# conditions --------------------------------------------------------------
@dataclass(frozen=True)
class On(Node):
    device_type: str
    labels: tuple[tuple[str, str, str], ...]  # name, sign, text


@dataclass(frozen=True)
class Held(Node):
    number: str
    unit: str


@dataclass(frozen=True)
class Deadband(Node):
    number: str
    unit: str | None


@dataclass(frozen=True)
class Raise(Node):
    rule: Expr
    deadband: Deadband | None
    held: Held | None


@dataclass(frozen=True)
class Clear(Node):
    rule: Expr
    held: Held | None


@dataclass(frozen=True)
class Say(Node):
    template: str


Clause = On | Raise | Clear | Say


@dataclass(frozen=True)
class Condition(Node):
    name: str
    priority: str
    clauses: tuple[Clause, ...]


Definition = Decoder | Condition
