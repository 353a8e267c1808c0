"""A route as it is written: what it selects, and its lines."""

from __future__ import annotations

from dataclasses import dataclass

from ..hours import Active, Except, Season
from ..tree import Expr, Node


@dataclass(frozen=True)
class On(Node):
    """Devices of some types, at a site and below it, with labels (name, sign, text)."""

    types: tuple[str, ...]
    site: str | None
    labels: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class Devices(Node):
    names: tuple[str, ...]


@dataclass(frozen=True)
class Topic(Node):
    pattern: str


@dataclass(frozen=True)
class When(Node):
    rule: Expr
    then: tuple[Act, ...]
    otherwise: tuple[Act, ...]


@dataclass(frozen=True)
class Drop(Node):
    """Some fields, all that are there (none named), or all of the message."""

    reason: str
    fields: tuple[str, ...]
    message: bool = False


@dataclass(frozen=True)
class Correct(Node):
    field: str
    value: Expr


@dataclass(frozen=True)
class Derive(Node):
    name: str
    value: Expr
    unit: str | None


@dataclass(frozen=True)
class Gather(Node):
    """A field of sites, out of their members. every: number and unit."""

    name: str
    value: Expr
    unit: str | None
    every: tuple[str, str] | None


@dataclass(frozen=True)
class Thin(Node):
    """Only changes beyond a band, and at least every so often. band, every: number and unit."""

    fields: tuple[str, ...]
    band: tuple[str, str | None] | None
    every: tuple[str, str] | None


@dataclass(frozen=True)
class Mark(Node):
    name: str
    text: str


@dataclass(frozen=True)
class Send(Node):
    """fields: none for all that are there."""

    fields: tuple[str, ...]
    outlet: str


@dataclass(frozen=True)
class Stop(Node):
    pass


Clause = On | Devices | Topic | Active | Season | Except
Act = When | Drop | Correct | Derive | Gather | Thin | Mark | Send | Stop


@dataclass(frozen=True)
class Route(Node):
    name: str
    clauses: tuple[Clause, ...]
    acts: tuple[Act, ...]
