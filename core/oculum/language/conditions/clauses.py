"""A condition as it is written: its clauses."""

from __future__ import annotations

from dataclasses import dataclass

from ..hours import Active, Except, Season
from ..tree import Expr, Node


@dataclass(frozen=True)
class On(Node):
    """What is watched: devices of a type, or (each_site) the sites at which such devices are."""

    device_type: str
    site: str | None
    labels: tuple[tuple[str, str, str], ...]  # name, sign, text
    each_site: bool = False


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
    priority: str | None
    rule: Expr
    deadband: Deadband | None
    held: Held | None


@dataclass(frozen=True)
class Clear(Node):
    rule: Expr | None
    held: Held | None


@dataclass(frozen=True)
class Fixes(Node):
    number: str
    unit: str
    field: str | None = None


@dataclass(frozen=True)
class Every(Node):
    number: str
    unit: str


@dataclass(frozen=True)
class Say(Node):
    template: str


Clause = On | Raise | Clear | Fixes | Every | Active | Season | Except | Say


@dataclass(frozen=True)
class Condition(Node):
    name: str
    priority: str
    clauses: tuple[Clause, ...]
