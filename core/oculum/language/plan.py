"""What the checker hands to the compiler: every name, unit and width resolved."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from ..quantities import Unit

ValueKind = Literal["number", "truth", "text", "code", "position", "time", "unknown"]
FieldKind = Literal["number", "integer", "flag", "code", "text", "position", "time"]
SourceKind = Literal["bytes", "json", "cbor", "text"]
TextForm = Literal["text", "hex", "present"]


@dataclass(frozen=True)
class Type:
    """The type of an expression. `difference` tells a temperature difference from a temperature."""

    kind: ValueKind
    unit: Unit | None = None
    difference: bool = False
    literal: bool = False
    codes: tuple[tuple[int, str], ...] = ()
    late: bool = False  # speaks of the message before


@dataclass(frozen=True)
class Ex:
    """A typed expression: an operation over others."""

    op: str
    args: tuple[Ex, ...]
    type: Type
    value: Any = None
    line: int = 0


@dataclass(frozen=True)
class FieldSpec:
    """A field as a decoder or a device type gives it. `unit` is a UCUM code; counts have `1`."""

    name: str
    kind: FieldKind
    unit: str | None = None
    codes: tuple[tuple[int, str], ...] = ()
    wide: bool = False  # an integer of more than 53 bits, kept as digits

    def as_dict(self) -> dict[str, Any]:
        return {"name": self.name, "kind": self.kind, "unit": self.unit, "codes": dict(self.codes), "wide": self.wide}

    @classmethod
    def from_dict(cls, found: dict[str, Any]) -> FieldSpec:
        codes = tuple((int(number), text) for number, text in (found.get("codes") or {}).items())
        return cls(found["name"], found["kind"], found.get("unit"), codes, bool(found.get("wide")))


@dataclass(frozen=True)
class Place:
    """Where bytes stand. `mode`: start, end, next, same, stream (single bits), record (offset is its tag),

    register (offset is its number).
    """

    mode: str
    offset: int
    width: int  # bytes; 0 where only the bytes themselves tell


@dataclass(frozen=True)
class Raw:
    """A stored number: its place, byte and word order and, within that, `bits` from `shift` up.

    `storage`: u, i, f, sm (sign and magnitude), oc (ones' complement), bcd, packed (digits and a sign),
    varint, signed varint, unsigned (`least` to `most` bytes, as many as there are).
    """

    place: Place
    little: bool
    storage: str
    bits: int
    shift: int
    swapped: bool = False  # 16-bit words in the other order
    least: int = 0
    most: int = 0

    @property
    def signed(self) -> bool:
        return self.storage in ("i", "sm", "oc", "signed varint")


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
    reason: str
    raws: tuple[Any, ...]
    when: Ex | None


@dataclass(frozen=True)
class UnitChoice:
    """Scale and conversion that the value of the field `name` chooses: option to its scale and its conversion, (value *
    a + b) / c.
    """

    name: str
    arms: tuple[tuple[str | int, Linear, tuple[float, float, float]], ...]


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
    pass.
    """

    pattern: str
    zone: str | None
    zone_field: str | None
    again: str | None


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
    default: Any = None  # of a command's parameter


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
    form: str  # number, integer, u64, i64, hex integer, flag, text, hex, iso, tagged, clock, calendar
    written: bool = False  # numbers stand as text
    comma: bool = False
    words: tuple[tuple[str, float], ...] = ()
    after: str = ""
    size: int | None = None
    clock: tuple[float, int, bool] | None = None
    calendar: Zoned | None = None
    unit: str | None = None  # as the line says it, before any conversion


@dataclass(frozen=True)
class PutStep:
    """In a command: a stored number that follows from others."""

    line: int
    raw: Raw
    value: Ex


@dataclass(frozen=True)
class DeriveStep:
    line: int
    name: str
    value: Ex
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    late: bool = False  # speaks of the message before


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
    start: int
    end: int
    escape: int | None
    xor: int | None


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
    | PutStep
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
    """What is sent to a device: its lines, written one after the other."""

    name: str
    source: str
    steps: tuple[Step, ...]

    @property
    def parameters(self) -> tuple[ReadStep | ValueStep, ...]:
        return tuple(step for step in self.steps if isinstance(step, ReadStep | ValueStep))


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

    def command(self, name: str) -> CommandPlan | None:
        return next((c for c in self.commands if c.name == name), None)


@dataclass(frozen=True)
class ConditionPlan:
    """A checked condition. `still` is the raise rule with its limits moved by the deadband."""

    name: str
    priority: str
    device_type: str
    labels: tuple[tuple[str, str, str], ...]
    rule: Ex
    still: Ex
    clear: Ex | None
    raise_held_us: int
    clear_held_us: int
    say: str | None
    fields: tuple[str, ...]
    setpoints: tuple[str, ...]
    limits: tuple[Limit, ...] = field(default=())


@dataclass(frozen=True)
class Limit:
    """A comparison of one field with one limit in the raise rule: what a chart draws and a drag moves."""

    field: str
    sign: str
    setpoint: str | None
    number: float | None
    unit: str | None
    left: Ex
    right: Ex
    line: int = 0
    column: int = 0
    end_column: int = 0
