"""What the checker hands to the compiler: every name, unit and width resolved."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..quantities import Unit


@dataclass(frozen=True)
class Type:
    """The type of an expression. `difference` tells a temperature difference from a temperature."""

    kind: str  # number, truth, text, code, position, time, unknown
    unit: Unit | None = None
    difference: bool = False
    literal: bool = False
    codes: tuple[tuple[int, str], ...] = ()


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
    kind: str  # number, integer, flag, code, text, position, time
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
    """Where bytes stand: from the start, from the end, at the cursor, or as the line before."""

    mode: str  # start, end, next, same
    offset: int
    width: int  # bytes


@dataclass(frozen=True)
class Raw:
    """A stored number: its place, byte order and, within that, `bits` from `shift` up."""

    place: Place
    little: bool
    storage: str  # u, i, f
    bits: int
    shift: int


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
class Cleaning:
    """What may turn a value into a missing one, in this order: raw marks, rules, range."""

    sentinels: tuple[Sentinel, ...] = ()
    low: float | None = None
    high: float | None = None
    convert: tuple[float, float] | None = None  # value * factor + offset


@dataclass(frozen=True)
class ReadStep:
    line: int
    name: str
    raws: tuple[Raw, ...]
    linears: tuple[Linear, ...]
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    clock: tuple[float, int] | None = None  # seconds a step, epoch in microseconds


@dataclass(frozen=True)
class DocStep:
    line: int
    name: str
    paths: tuple[tuple[str | int, ...], ...]
    linears: tuple[Linear, ...]
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool
    required: bool


@dataclass(frozen=True)
class DeriveStep:
    line: int
    name: str
    value: Ex
    spec: FieldSpec
    cleaning: Cleaning
    hidden: bool


@dataclass(frozen=True)
class RejectStep:
    line: int
    failure: str
    reason: str
    rule: Ex
    unless: bool


@dataclass(frozen=True)
class StampStep:
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
    count: int


@dataclass(frozen=True)
class WhenStep:
    line: int
    rule: Ex
    body: tuple[Step, ...]
    otherwise: tuple[Step, ...]


@dataclass(frozen=True)
class RepeatStep:
    line: int
    times: Ex | None
    most: int
    each_us: int
    body: tuple[Step, ...]
    fields: tuple[FieldSpec, ...]


Step = ReadStep | DocStep | DeriveStep | RejectStep | StampStep | LengthStep | SkipStep | WhenStep | RepeatStep


@dataclass(frozen=True)
class DecoderPlan:
    """A checked decoder. `fields` are the readings of the message itself, repeats carry their own."""

    name: str
    source: str
    steps: tuple[Step, ...]
    fields: tuple[FieldSpec, ...]
    repeats: tuple[tuple[FieldSpec, ...], ...]
    tail: int  # bytes at the end that a check has for itself

    @property
    def all_fields(self) -> tuple[FieldSpec, ...]:
        found: dict[str, FieldSpec] = {}
        for group in (self.fields, *self.repeats):
            for spec in group:
                found.setdefault(spec.name, spec)
        return tuple(found.values())


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
