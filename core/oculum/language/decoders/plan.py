"""What the checker of decoders hands to the engine: every name, unit and width resolved."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from ..expressions import Ex
from ..fields import FieldSpec
from ..stored import Raw

SourceKind = Literal["bytes", "json", "cbor", "text"]
TextForm = Literal["text", "hex", "present"]


@dataclass(frozen=True)
class Extent:
    """A run of bytes. `mode`: start, end, next, rest, record, register; `width` in bytes, or an expression, or to the
    end.
    """

    mode: str
    offset: int = 0
    width: int | Ex | None = None


@dataclass(frozen=True)
class At:
    """A value that is no bytes. `mode`: path, column, group, header, topic."""

    mode: str
    path: tuple[Any, ...] = ()
    name: str = ""
    first: int = 0
    last: int | None = None


@dataclass(frozen=True)
class Linear:
    """value = (raw * a + b) / c, in whole numbers, so that decimal scales round once."""

    a: int
    b: int
    c: int

    @property
    def plain(self) -> bool:
        return (self.a, self.b, self.c) == (1, 0, 1)


@dataclass(frozen=True)
class Sentinel:
    """Values that are none: missing for a reason, left out (no reading at all), or refused with the message."""

    reason: str
    raws: tuple[Any, ...]
    when: Ex | None
    fate: str = "missing"
    failure: str = "malformed"


@dataclass(frozen=True)
class UnitChoice:
    """Scale and conversion that the value of the field `name` chooses: option to its scale and its conversion, (value *
    a + b) / c. sent: the units of the arms, where readings keep the one in which they came. written: the unit into
    which values come whose text is a unit itself.
    """

    name: str
    arms: tuple[tuple[str | int, Linear, tuple[float, float, float]], ...]
    sent: tuple[str, ...] = ()
    written: str | None = None
    difference: bool = False


@dataclass(frozen=True)
class Cleaning:
    """What may turn a value into a missing one, in this order: raw marks, rules, range."""

    sentinels: tuple[Sentinel, ...] = ()
    low: float | None = None
    high: float | None = None
    convert: tuple[float, float, float] | None = None  # (value * a + b) / c
    unit_by: UnitChoice | None = None
    stamped: Ex | None = None


NO_CLEANING = Cleaning()


@dataclass(frozen=True)
class Zoned:
    """How a written time is read: its pattern, its zone (a name, or the field or constant that holds it), its second
    pass; the first year that two digits of one stand for, else they lie within fifty years of the arrival.
    """

    pattern: str
    zone: str | None
    zone_field: str | None
    again: str | None
    century: int | None = None


@dataclass(frozen=True)
class ReadStep:
    """A stored number."""

    line: int
    name: str
    raws: tuple[Raw, ...]
    linears: tuple[Linear, ...]
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    clock: tuple[float, int, bool] | None = None  # seconds a step, epoch in microseconds, wrapping
    required: str | None = None  # the failure when its record is not there
    once: bool = False
    calendar: Zoned | None = None
    moved: tuple[tuple[int, int], ...] = ()  # this line's codes, where another line of its name has other ones


@dataclass(frozen=True)
class SpanStep:
    """A run of bytes as text or as hexadecimal digits; or whether its record is there."""

    line: int
    name: str
    extent: Extent
    form: TextForm
    padded: bool
    size: int | None
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    required: str | None = None
    once: bool = False


@dataclass(frozen=True)
class ValueStep:
    """A value of a document, a column of text, a header."""

    line: int
    name: str
    places: tuple[At, ...]
    linears: tuple[Linear, ...]
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    required: str | None
    form: str  # number, integer, u64, i64, hex integer, flag, text, hex, iso, tagged, form, tag, clock, calendar
    written: bool = False  # numbers stand as text
    either: bool = False  # or as numbers
    comma: str = ""  # the words behind which a number has a decimal comma
    words: tuple[tuple[str, float], ...] = ()
    after: str = ""
    size: int | None = None
    clock: tuple[float, int, bool] | None = None
    calendar: Zoned | None = None
    unit: str | None = None  # as the line says it, before any conversion
    padded: bool = False
    moved: tuple[tuple[int, int], ...] = ()  # see ReadStep


@dataclass(frozen=True)
class WriteStep:
    """In a command: a parameter. into: how and where it is written; a value without a place is written by other lines.

    low, high: of its value, in its unit (µs since 1970 for a time). sizes: of a text, in bytes. nearest: what lies
    between two steps goes to the nearer one, half away from zero.
    """

    line: int
    name: str
    spec: FieldSpec
    into: ReadStep | SpanStep | ValueStep
    low: float | None = None
    high: float | None = None
    default: Any = None
    optional: bool = False
    nearest: bool = False
    choices: tuple[str, ...] = ()
    sizes: tuple[int, int] | None = None


@dataclass(frozen=True)
class PutStep:
    """In a command: a stored number that follows from others; a truth is 1 or 0."""

    line: int
    raw: Raw
    value: Ex


@dataclass(frozen=True)
class PutTextStep:
    """In a command: a text, or bytes as hexadecimal digits, behind what is written. size: in bytes, if said."""

    line: int
    value: Ex
    hexadecimal: bool
    size: int | None


@dataclass(frozen=True)
class PutValueStep:
    """In a command: a value of a document."""

    line: int
    path: tuple[Any, ...]
    value: Ex


@dataclass(frozen=True)
class EachStep:
    """In a command: a block for every entry of a parameter that is a list. path: the list in a document."""

    line: int
    number: int  # of the repeat within the command
    name: str
    low: int
    high: int
    path: tuple[Any, ...] | None
    body: tuple[Step, ...]


@dataclass(frozen=True)
class DeriveStep:
    line: int
    name: str
    value: Ex
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    late: bool = False  # speaks of the message before


Cleaned = ReadStep | SpanStep | ValueStep | DeriveStep  # what gives a field, and says which of its values are none


@dataclass(frozen=True)
class MissingStep:
    line: int
    reason: str
    specs: tuple[FieldSpec, ...]
    rule: Ex
    late: bool = False


@dataclass(frozen=True)
class RejectStep:
    line: int
    failure: str
    reason: str
    rule: Ex | None
    unless: bool


@dataclass(frozen=True)
class StampStep:
    line: int
    value: Ex


@dataclass(frozen=True)
class DeviceStep:
    line: int
    value: Ex


@dataclass(frozen=True)
class LengthStep:
    line: int
    low: Ex
    high: Ex | None


@dataclass(frozen=True)
class SkipStep:
    line: int
    count: int | Ex
    unit_bits: int  # 1 or 8


@dataclass(frozen=True)
class WhenStep:
    line: int
    rule: Ex
    body: tuple[Step, ...]
    otherwise: tuple[Step, ...]


@dataclass(frozen=True)
class ChooseStep:
    line: int
    arms: tuple[tuple[Ex, tuple[Step, ...]], ...]
    otherwise: tuple[Step, ...]


@dataclass(frozen=True)
class Framing:
    """rest: frames from where the cursor stands. strict: nothing stands outside of them."""

    start: int
    end: int
    escape: int | None
    xor: int | None
    rest: bool = False
    strict: bool = False


@dataclass(frozen=True)
class RepeatStep:
    """`kind`: end, times, bits, list, record, lines, columns, frames. `advance`: bits an element takes, where fixed."""

    line: int
    number: int  # of the repeat within the decoder
    kind: str
    value: Ex | None
    most: int
    paths: tuple[tuple[Any, ...], ...]
    alone: bool
    required: bool
    tag: int
    first: int
    last: int
    framing: Framing | None
    each: Ex | None
    direction: str
    body: tuple[Step, ...]
    advance: int | None
    ordered: bool  # speaks of the repeat before
    carried: tuple[str, ...] = ()
    fields: tuple[FieldSpec, ...] = ()


@dataclass(frozen=True)
class ApartStep:
    line: int
    word: str
    body: tuple[Step, ...]
    given: tuple[str, ...] = ()  # fields that are given in it


@dataclass(frozen=True)
class OpenStep:
    line: int
    extent: Extent | None
    at: At | None
    encoding: str | None
    source: SourceKind
    required: str | None
    once: bool
    body: tuple[Step, ...]


@dataclass(frozen=True)
class RecordsStep:
    line: int
    first: int | None
    last: int | None
    tag: Raw
    size: Raw
    filler: int | None  # a byte that means nothing where a record would begin
    once: bool


@dataclass(frozen=True)
class HandStep:
    line: int
    extent: Extent | None
    at: At | None
    encoding: str | None
    plans: tuple[DecoderPlan, ...]


@dataclass(frozen=True)
class OriginStep:
    line: int
    value: Ex


@dataclass(frozen=True)
class ColumnsStep:
    line: int
    by: str


@dataclass(frozen=True)
class PatternStep:
    line: int
    text: str


@dataclass(frozen=True)
class FrameStep:
    line: int
    framing: Framing


Step = (
    ReadStep
    | SpanStep
    | ValueStep
    | WriteStep
    | PutStep
    | PutTextStep
    | PutValueStep
    | EachStep
    | DeriveStep
    | MissingStep
    | RejectStep
    | StampStep
    | DeviceStep
    | LengthStep
    | SkipStep
    | WhenStep
    | ChooseStep
    | RepeatStep
    | ApartStep
    | OpenStep
    | RecordsStep
    | HandStep
    | OriginStep
    | ColumnsStep
    | PatternStep
    | FrameStep
)


@dataclass(frozen=True)
class ConstantSpec:
    """A constant of a device with the value that holds where none is known."""

    name: str
    kind: str  # number, integer, text, flag
    unit: str | None
    default: Any


@dataclass(frozen=True)
class CommandPlan:
    """What is sent to a device: its lines, written one after the other. payload: bytes, json, cbor or text."""

    name: str
    payload: str
    steps: tuple[Step, ...]

    @property
    def parameters(self) -> tuple[WriteStep | EachStep, ...]:
        return parameters(self.steps)


def parameters(steps: tuple[Step, ...]) -> tuple[WriteStep | EachStep, ...]:
    """The parameters of lines, in blocks below them too; those of a list belong to the list."""
    found: list[WriteStep | EachStep] = []
    for step in steps:
        match step:
            case WriteStep() | EachStep():
                found.append(step)
            case WhenStep():
                found += [*parameters(step.body), *parameters(step.otherwise)]
            case ChooseStep():
                found += [each for _, body in step.arms for each in parameters(body)]
                found += parameters(step.otherwise)
    return tuple(found)


@dataclass(frozen=True)
class DecoderPlan:
    """A checked decoder. `all_fields` are the fields of all its readings; a name with braces is a family of fields."""

    name: str
    source: str
    steps: tuple[Step, ...]
    all_fields: tuple[FieldSpec, ...]
    fields: tuple[FieldSpec, ...]  # of the message itself; repeats have their own
    tail: int  # bytes at the end that a check has for itself
    constants: tuple[ConstantSpec, ...] = ()
    commands: tuple[CommandPlan, ...] = ()
    needs_before: bool = False  # some value speaks of the message before
    raw_names: frozenset[str] = frozenset()  # fields whose stored number is asked for
    labels: str = "unknown layout"  # the failure of a SenML label that must not be ignored
    records: bool = False  # a SenML pack without a record is refused
    tags: bool = False  # some line reads the tag of a value of CBOR

    def command(self, name: str) -> CommandPlan | None:
        return next((c for c in self.commands if c.name == name), None)
