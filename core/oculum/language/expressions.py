"""Typed expressions: a closed set of classes, each holding just what it needs. `evaluate` says what they give."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, fields, replace
from functools import lru_cache
from typing import Any, Literal

from ..quantities import Unit
from .stored import Raw

ValueKind = Literal["number", "truth", "text", "code", "position", "time", "unknown"]


@dataclass(frozen=True)
class Type:
    """The type of an expression. `difference` tells a temperature difference from a temperature; `loose` is either, as
    what stands beside it needs it.

    whole: it gives whole numbers; wide: of more than 53 bits too, with all their digits.
    """

    kind: ValueKind
    unit: Unit | None = None
    difference: bool = False
    literal: bool = False
    loose: bool = False
    codes: tuple[tuple[int, str], ...] = ()
    late: bool = False  # speaks of the message before
    whole: bool = False
    wide: bool = False


_NAMES: dict[type, tuple[str, ...]] = {}  # of the parts of each class


@dataclass(frozen=True)
class Ex:
    """What all have: what they give, and the line they stand in."""

    type: Type
    line: int

    def parts(self) -> Iterator[Ex]:
        """The expressions that this one is made of, as they are written."""
        names = _NAMES.get(type(self))
        if names is None:
            names = _NAMES[type(self)] = tuple(field.name for field in fields(self))
        for name in names:
            found = getattr(self, name)
            if isinstance(found, Ex):
                yield found
            elif isinstance(found, tuple):
                yield from (part for part in found if isinstance(part, Ex))

    def walk(self) -> Iterator[Ex]:
        """This expression and all within it."""
        yield self
        for part in self.parts():
            yield from part.walk()


@lru_cache(maxsize=4096)
def bare(ex: Any) -> Any:
    """An expression without the places at which its parts are written, so that the same stands for the same."""
    changes: dict[str, Any] = {"line": 0}
    for name in ex.__dataclass_fields__:
        value = getattr(ex, name)
        if isinstance(value, Ex):
            changes[name] = bare(value)
        elif isinstance(value, tuple) and any(isinstance(part, Ex) for part in value):
            changes[name] = tuple(bare(part) if isinstance(part, Ex) else part for part in value)
    return replace(ex, **changes)


# values that stand by themselves -----------------------------------------------------
@dataclass(frozen=True)
class Constant(Ex):
    value: float | bool | str | None
    digits: int | None = None  # a whole number that `value` cannot hold exactly


@dataclass(frozen=True)
class Named(Ex):
    """The value of a field, or of a constant of the device."""

    name: str


@dataclass(frozen=True)
class SetpointValue(Ex):
    name: str


@dataclass(frozen=True)
class Builtin(Ex):
    """What is known without a field: when a message arrived, how many bytes are left."""

    name: str


# operations --------------------------------------------------------------------------
@dataclass(frozen=True)
class Not(Ex):
    value: Ex


@dataclass(frozen=True)
class Negative(Ex):
    value: Ex


@dataclass(frozen=True)
class IsMissing(Ex):
    value: Ex


@dataclass(frozen=True)
class Converted(Ex):
    """(value * a + b) / c: the same quantity on another scale."""

    a: float
    b: float
    c: float
    value: Ex


@dataclass(frozen=True)
class Powered(Ex):
    exponent: float
    value: Ex


@dataclass(frozen=True)
class Logical(Ex):
    sign: str  # and, or
    left: Ex
    right: Ex


@dataclass(frozen=True)
class Compared(Ex):
    sign: str  # < <= > >= = !=
    left: Ex
    right: Ex


@dataclass(frozen=True)
class Combined(Ex):
    sign: str  # + - * /
    left: Ex
    right: Ex


@dataclass(frozen=True)
class TimeDifference(Ex):
    """Seconds from the second time to the first."""

    left: Ex
    right: Ex


@dataclass(frozen=True)
class TimeMoved(Ex):
    """A time moved on, or back, by seconds."""

    sign: str  # + -
    time: Ex
    seconds: Ex


@dataclass(frozen=True)
class Chosen(Ex):
    rule: Ex
    then: Ex
    otherwise: Ex


@dataclass(frozen=True)
class Called(Ex):
    """A function of the table in `functions`."""

    function: str
    arguments: tuple[Ex, ...]


# of the payload and of other messages ------------------------------------------------
@dataclass(frozen=True)
class Length(Ex):
    """Bytes of the message, or of the part that is open."""


@dataclass(frozen=True)
class Stored(Ex):
    """A number read from the bytes."""

    raw: Raw


@dataclass(frozen=True)
class CheckSum(Ex):
    """A check over bytes `first` to `last`, or over registers. parameters: those of a CRC that has no name. until: the
    last byte, counted as the decoder counts, where the message says it; base: from what that is. so_far: over what is
    read of this turn of a repeat, or of the message or part.
    """

    name: str
    first: int
    last: int
    registers: bool
    parameters: tuple[int, ...]
    until: Ex | None = None
    base: int = 0
    so_far: bool = False


@dataclass(frozen=True)
class Before(Ex):
    """The value of a field in the message before."""

    name: str


@dataclass(frozen=True)
class Previous(Ex):
    """The last known value of a field in this repeat."""

    name: str


@dataclass(frozen=True)
class Aggregate(Ex):
    """One value out of those of repeats, by their numbers. by: what is compared where another value is taken."""

    function: str
    repeats: tuple[int, ...]
    joint: str
    value: Ex
    by: Ex | None = None


@dataclass(frozen=True)
class Template(Ex):
    """A text with values in it. pieces: what stands around the values; forms: how each is written, see `written`."""

    pieces: tuple[str, ...]
    forms: tuple[str, ...]
    values: tuple[Ex, ...]


@dataclass(frozen=True)
class Interpolated(Ex):
    """A value looked up between the points of a table."""

    points: tuple[tuple[float, float], ...]
    value: Ex


# of the past, of places, of the clock, of the members of a site ------------------------
@dataclass(frozen=True)
class Window(Ex):
    """A quantity of the readings of one field in a window that ends at the moment of evaluation.

    value: the field, or an expression over it alone. width: µs; 0 with `calendar` ("today", "this_week"). share: the
    least share of the readings that the cadence lets expect, 0 to 1. percent: of a percentile.
    """

    function: str
    value: Ex
    width: int
    calendar: str
    share: float
    percent: float


@dataclass(frozen=True)
class Age(Ex):
    """Seconds since the newest value of a field was measured."""

    field: str


@dataclass(frozen=True)
class Silent(Ex):
    """Whether nothing has arrived for longer than `limit` seconds: no message, or no value of a field."""

    field: str | None
    limit: Ex


@dataclass(frozen=True)
class MessageCount(Ex):
    """How many messages arrived in the last `width` µs."""

    width: int


@dataclass(frozen=True)
class AtFence(Ex):
    """inside, outside, enters, leaves (amount: the margin for leaving, m); crosses (amount: the longest time between
    two positions, µs).
    """

    function: str
    field: str
    fence: str
    amount: float


@dataclass(frozen=True)
class Speed(Ex):
    """Metres a second between the last two positions."""

    field: str


@dataclass(frozen=True)
class OfMembers(Ex):
    """One value out of the newest ones of a site's members. age: µs; None for three cadences of each."""

    function: str
    value: Ex
    age: int | None


# of a reading on its way ----------------------------------------------------------------
@dataclass(frozen=True)
class LabelText(Ex):
    """The text of a label of the device."""

    name: str


@dataclass(frozen=True)
class HeaderText(Ex):
    """What the transport says beside the message."""

    name: str


@dataclass(frozen=True)
class MarkText(Ex):
    """What a route above has marked the reading with."""

    name: str


@dataclass(frozen=True)
class TableEntry(Ex):
    """A column of the row of a reference table whose key is a value."""

    table: str
    column: str
    key: Ex


OfReading = LabelText | HeaderText | MarkText | TableEntry | Builtin | Window | AtFence
OfPast = Window | Age | Silent | MessageCount | AtFence | Speed | OfMembers | Builtin
OfPayload = Length | Stored | CheckSum | Builtin | Before | Previous | Aggregate | Template | Interpolated
