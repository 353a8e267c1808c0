"""What the checker of routes hands to routing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..expressions import Ex
from ..fields import FieldSpec
from ..hours import ALWAYS, Hours


@dataclass(frozen=True)
class When:
    line: int
    rule: Ex
    then: tuple[Act, ...]
    otherwise: tuple[Act, ...] = ()


@dataclass(frozen=True)
class Drop:
    """fields: none for all that are there. message: all of the message."""

    line: int
    reason: str
    fields: tuple[str, ...] = ()
    message: bool = False


@dataclass(frozen=True)
class Correct:
    line: int
    field: str
    value: Ex  # on the scale of the field


@dataclass(frozen=True)
class Derive:
    line: int
    field: FieldSpec
    value: Ex


@dataclass(frozen=True)
class Gather:
    """A field of each site out of its members: of their newest values, or of all values in steps of the wall clock.

    every_us: the length of a step; 0 for newest values.
    """

    line: int
    field: FieldSpec
    value: Ex
    every_us: int = 0


@dataclass(frozen=True)
class Thin:
    """band: in the units of the fields, m for positions, or a share of the value (relative); 0 lets every change
    through. every_us: at least so often; 0 for never without a change. band: as it is written.
    """

    line: int
    fields: tuple[str, ...]
    bands: tuple[float, ...]
    relative: bool
    every_us: int
    band: str = ""


@dataclass(frozen=True)
class Mark:
    line: int
    name: str
    text: str


@dataclass(frozen=True)
class Send:
    line: int
    fields: tuple[str, ...]
    outlet: str


@dataclass(frozen=True)
class Stop:
    line: int


Act = When | Drop | Correct | Derive | Gather | Thin | Mark | Send | Stop


@dataclass(frozen=True)
class RoutePlan:
    """A checked route.

    types: keys of the device types. devices: names, none for all. topic: with `+` and `#` as in MQTT. fields,
    setpoints, fences, outlets, tables: what it speaks of. derived: the fields that it gives; gathered: those that it
    gives sites.
    """

    name: str
    types: tuple[str, ...]
    site: str | None
    labels: tuple[tuple[str, str, str], ...]
    devices: tuple[str, ...]
    topic: str | None
    hours: Hours = ALWAYS
    acts: tuple[Act, ...] = ()
    fields: tuple[str, ...] = ()
    setpoints: tuple[str, ...] = ()
    fences: tuple[str, ...] = ()
    outlets: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    derived: tuple[FieldSpec, ...] = ()
    gathered: tuple[FieldSpec, ...] = ()

    @property
    def lines(self) -> tuple[Act, ...]:
        return tuple(walked(self.acts))


def walked(acts: tuple[Act, ...]) -> Iterator[Act]:
    """All lines, in the order in which they stand."""
    for act in acts:
        yield act
        if isinstance(act, When):
            yield from walked(act.then)
            yield from walked(act.otherwise)


def expressions(act: Act) -> tuple[Ex, ...]:
    """What a line evaluates."""
    match act:
        case When():
            return (act.rule,)
        case Correct() | Derive() | Gather():
            return (act.value,)
    return ()
