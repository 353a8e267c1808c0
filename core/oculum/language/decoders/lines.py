"""A decoder as it is written: its lines, their addresses and kinds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from ..problems import Span
from ..tree import Bits, Expr, Node


@dataclass(frozen=True)
class InBytes(Node):
    first: int
    last: int | None
    bits: Bits | None


@dataclass(frozen=True)
class InNext(Node):
    """At the cursor: `width` bytes (a number or an expression), or the width of the storage."""

    width: int | Expr | None
    bits: Bits | None


@dataclass(frozen=True)
class InStream(Node):
    """At the cursor, by single bits."""


@dataclass(frozen=True)
class InRest(Node):
    pass


@dataclass(frozen=True)
class InSame(Node):
    bits: Bits


@dataclass(frozen=True)
class InRegister(Node):
    first: int
    last: int | None
    bits: Bits | None


@dataclass(frozen=True)
class InCoil(Node):
    number: int


@dataclass(frozen=True)
class InRecord(Node):
    tag: int


@dataclass(frozen=True)
class Index:
    """A step of a path into a list, counted from 0."""

    number: int


@dataclass(frozen=True)
class Keyed:
    """A step of a path to the element of a list whose `key` has `value`."""

    key: str
    value: str | int | float
    word: str


PathStep = str | int | Index | Keyed

Path = tuple[PathStep, ...]


@dataclass(frozen=True)
class InDocument(Node):
    paths: tuple[Path, ...]


@dataclass(frozen=True)
class InColumn(Node):
    first: int
    last: int | None


@dataclass(frozen=True)
class InGroup(Node):
    name: str


@dataclass(frozen=True)
class InHeader(Node):
    name: str


@dataclass(frozen=True)
class InTopic(Node):
    level: int


@dataclass(frozen=True)
class Nowhere(Node):
    """In a command: a parameter without a place of its own."""


Address = (
    InBytes
    | InNext
    | InStream
    | InRest
    | InSame
    | InRegister
    | InCoil
    | InRecord
    | InDocument
    | InColumn
    | InGroup
    | InHeader
    | InTopic
    | Nowhere
)


@dataclass(frozen=True)
class Scale:
    sign: str
    number: str


OWN_NAMES = frozenset({"received", "stamp", "index"})

PACK_NAMES = frozenset({"name", "unit"})


@dataclass(frozen=True)
class Storage:
    """How a number is stored: `name` is u16, bcd6, varint and the like; order and words may differ from the
    header's.
    """

    name: str
    order: str | None = None
    words: str | None = None
    low: int = 0
    high: int = 0


@dataclass(frozen=True)
class Stored(Node):
    storage: Storage
    scales: tuple[Scale, ...]


@dataclass(frozen=True)
class Flag(Node):
    present: bool = False
    inverted: bool = False


@dataclass(frozen=True)
class Codes(Node):
    storage: Storage | None
    texts: tuple[tuple[int, str], ...]
    other: str | None = None
    at: tuple[int, ...] = field(default=(), compare=False)  # the line of its beginning, then of each entry
    to: tuple[int, ...] = ()  # the last number of each entry, where one of them has several

    @property
    def ranges(self) -> tuple[tuple[int, int, str], ...]:
        """First and last number of each entry, and its text."""
        last = self.to or tuple(number for number, _ in self.texts)
        return tuple((low, high, text) for (low, text), high in zip(self.texts, last, strict=True))


@dataclass(frozen=True)
class PositionKind(Node):
    parts: tuple[tuple[Storage | None, tuple[Scale, ...]], ...]


@dataclass(frozen=True)
class Clock(Node):
    storage: Storage | None  # None: a number of a document
    unit: str
    since: str
    wrapping: bool = False


@dataclass(frozen=True)
class Calendar(Node):
    """A written time: `form` is digits (packed, two a byte) or text; `pattern` names its parts by letters."""

    form: str
    pattern: str
    century: int | None  # the first year that two digits of a year stand for
    zone: str | None
    zone_name: bool
    again: str | None


EITHER = "or text"  # a number, or a number that is written as text


@dataclass(frozen=True)
class Plain(Node):
    """A kind of a document value: number, integer, text, hex, iso, tagged, form, tag; `form` says how a number is
    written in text.
    """

    word: str
    scales: tuple[Scale, ...] = ()
    form: str | None = None


Kind = Stored | Flag | Codes | PositionKind | Clock | Calendar | Plain


@dataclass(frozen=True)
class UnitArm:
    option: str | int
    word: str
    scales: tuple[Scale, ...]
    unit: str


@dataclass(frozen=True)
class UnitBy(Node):
    """A unit that another value chooses."""

    name: str
    arms: tuple[UnitArm, ...]
    sent: bool = False  # the reading keeps the unit in which it came
    written: bool = False  # other texts are units themselves


@dataclass(frozen=True)
class Within(Node):
    low: str
    high: str
    times: bool = False


@dataclass(frozen=True)
class Missing(Node):
    reason: str
    raws: tuple[str | int | float, ...]
    raw_words: tuple[str, ...]
    when: Expr | None
    fate: str = "missing"  # or left out, or refused
    failure: str | None = None  # of what is refused


@dataclass(frozen=True)
class Into(Node):
    unit: str


@dataclass(frozen=True)
class Word(Node):
    word: str  # hidden, difference, nearest, optional, once, padded, decimal comma


@dataclass(frozen=True)
class Required(Node):
    failure: str | None


@dataclass(frozen=True)
class Stamped(Node):
    value: Expr


@dataclass(frozen=True)
class Default(Node):
    value: Literal


@dataclass(frozen=True)
class Words(Node):
    numbers: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class After(Node):
    text: str


@dataclass(frozen=True)
class Sized(Node):
    count: int
    most: int | None = None


@dataclass(frozen=True)
class OneOf(Node):
    texts: tuple[str, ...]


Qualifier = Within | Missing | Into | Word | Required | Stamped | Default | Words | After | Sized | OneOf


@dataclass(frozen=True)
class Literal(Node):
    kind: str  # number, text, name, truth
    word: str


@dataclass(frozen=True)
class Read(Node):
    address: Address
    name: str
    name_span: Span
    kind: Kind
    unit: str | UnitBy | None
    unit_span: Span | None
    qualifiers: tuple[Qualifier, ...]


@dataclass(frozen=True)
class Put(Node):
    """In a command: what follows from other values. storage: `text` or `hex` for a run of bytes, None in a document."""

    address: Address | None
    storage: Storage | str | None
    value: Expr


@dataclass(frozen=True)
class Derive(Node):
    name: str
    name_span: Span
    value: Expr
    qualifiers: tuple[Qualifier, ...]


@dataclass(frozen=True)
class MissingRule(Node):
    reason: str
    names: tuple[tuple[str, Span], ...]
    rule: Expr


@dataclass(frozen=True)
class Reject(Node):
    reason: str
    failure: str | None
    unless: bool
    rule: Expr | None


@dataclass(frozen=True)
class Stamp(Node):
    value: Expr


@dataclass(frozen=True)
class Device(Node):
    value: Expr


@dataclass(frozen=True)
class Length(Node):
    low: Expr
    high: Expr | None
    least: bool


@dataclass(frozen=True)
class Skip(Node):
    count: int | Expr
    bits: bool


@dataclass(frozen=True)
class When(Node):
    rule: Expr
    body: tuple[Statement, ...]
    otherwise: tuple[Statement, ...]


@dataclass(frozen=True)
class Option:
    """One value, or a span of numbers, that an arm of `choose` takes."""

    kind: str  # number, text, code
    low: str
    high: str | None = None


@dataclass(frozen=True)
class Arm(Node):
    options: tuple[Option, ...]
    body: tuple[Statement, ...]


@dataclass(frozen=True)
class Choose(Node):
    value: Expr
    arms: tuple[Arm, ...]
    otherwise: tuple[Statement, ...]


@dataclass(frozen=True)
class Framing:
    start: int
    end: int
    escape: int | None
    xor: int | None
    rest: bool = False
    strict: bool = False


@dataclass(frozen=True)
class Count:
    """What a repeat runs over. `kind`: end, times, bits, list, record, lines, columns, frames, parameter."""

    kind: str
    value: Expr | None = None
    most: int | None = None
    paths: tuple[Path, ...] = ()
    alone: bool = False
    required: bool = False
    tag: int = 0
    first: int = 0
    last: int = 0
    framing: Framing | None = None
    name: str = ""  # of a parameter that is a list


@dataclass(frozen=True)
class Repeat(Node):
    count: Count
    each: tuple[Expr, str] | None  # duration, direction
    body: tuple[Statement, ...]


@dataclass(frozen=True)
class Apart(Node):
    word: str | None
    body: tuple[Statement, ...]


@dataclass(frozen=True)
class Open(Node):
    region: Address
    encoding: str | None
    order: str | None
    words: tuple[str, ...]  # required, once
    body: tuple[Statement, ...]


@dataclass(frozen=True)
class Records(Node):
    first: int | None
    last: int | None
    tag: Storage
    size: Storage
    filler: int | None
    once: bool


@dataclass(frozen=True)
class Hand(Node):
    region: Address
    encoding: str | None
    decoders: tuple[tuple[str, Span], ...]


@dataclass(frozen=True)
class Constant(Node):
    name: str
    kind: str
    unit: str | None
    value: Literal


@dataclass(frozen=True)
class Table(Node):
    name: str
    unit: str | None
    points: tuple[tuple[str, str], ...]
    at: tuple[int, ...] = field(default=(), compare=False)  # as of Codes


@dataclass(frozen=True)
class Origin(Node):
    value: Expr


@dataclass(frozen=True)
class Columns(Node):
    by: str


@dataclass(frozen=True)
class Pattern(Node):
    text: str


@dataclass(frozen=True)
class Command(Node):
    name: str
    payload: str | None
    body: tuple[Statement, ...]


@dataclass(frozen=True)
class FrameLine(Node):
    framing: Framing


Statement = (
    Read
    | Put
    | Derive
    | MissingRule
    | Reject
    | Stamp
    | Device
    | Length
    | Skip
    | When
    | Choose
    | Repeat
    | Apart
    | Open
    | Records
    | Hand
    | Constant
    | Table
    | Origin
    | Columns
    | Pattern
    | Command
    | FrameLine
)


@dataclass(frozen=True)
class Decoder(Node):
    name: str
    source: str
    order: str | None
    counted: int | None
    body: tuple[Statement, ...]
    labels: str | None = None  # of SenML: the failure of a label that must not be ignored
    records: bool = False  # of SenML: a pack without any is refused


def named(statements: Iterable[Node]) -> Iterator[tuple[str, Span]]:
    """The names that lines give, in blocks below them too, and where they stand."""
    for statement in statements:
        if isinstance(statement, Read | Derive):
            yield statement.name, statement.name_span
        elif not isinstance(statement, Command):
            for part in vars(statement).values():
                if isinstance(part, tuple):
                    yield from named(piece for piece in part if isinstance(piece, Node))
