"""What the server does with definitions of each kind: one object a kind, asked by all that deals with definitions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol

from django.db.models import QuerySet

from oculum.errors import OculumError
from oculum.language.kinds import Kind
from oculum.language.problems import Problem, Span
from server.records.alarms.models import Alarm
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.rules.selection import Selection
from server.store.published import VersionRow


class NotFirst(OculumError):
    """A version that cannot go to chosen devices first; the message says why."""


@dataclass
class Uses:
    """By name: what uses it, in words."""

    fields: dict[str, list[str]] = field(default_factory=dict)
    setpoints: dict[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class Source:
    """A published decoder text, of which a plan is made when a message asks for it."""

    text: str
    fields: list[dict[str, Any]]
    type_id: int
    made: bool = False  # by no person, from what SenML packs say of themselves


@dataclass(frozen=True)
class Published(VersionRow):
    """A version as the stream puts it in force."""

    types: dict[str, int] = field(default_factory=dict)  # all device types, by key


class Running(Protocol):
    """What is in force at one place of the stream, as far as kinds change it."""

    sources: dict[int, Source]
    types: dict[str, int]
    live: dict[int, int]
    first: dict[int, Any]
    plans: dict[int, Any]

    def watch(self, published: Published, plan: Any) -> None: ...

    def watch_first(self, published: Published, plan: Any, selection: Selection) -> None: ...

    def route(self, published: Published, plan: Any) -> None: ...


@dataclass(frozen=True)
class KindRules:
    """One kind of definition on the server.

    before_publishing: a sound plan is about to become a version (definition, plan, its type, despite its cases);
    returns the type that the version goes by. put_in_force: at its place in the stream. uses: what a version uses.

    facts: what a screen wants to know of a sound plan. touches: what a publish touches besides devices. give_first:
    at its place in the stream, where versions can go to chosen devices first; may_go_first raises NotFirst where one
    cannot. kept: what a version keeps of its types, fields and setpoints.
    """

    kind: Kind
    before_publishing: Callable[[Definition, Any, DeviceType, bool], DeviceType]
    put_in_force: Callable[[Running, Published], None]
    uses: Callable[[Version, DeviceType, Uses], None]
    facts: Callable[[Any], dict[str, Any]]
    touches: Callable[[Definition], dict[str, int]]
    give_first: Callable[[Running, Published, Selection], None] | None = None
    may_go_first: Callable[[Definition, Version], None] = lambda definition, version: None
    kept: Callable[[Any, DeviceType], tuple[list[dict[str, Any]], list[dict[str, Any]]]] = lambda plan, type_: (
        type_.fields,
        type_.setpoints,
    )


class NotPublishable(OculumError):
    """The text has errors."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__(problems[0].message if problems else "nothing to publish")
        self.problems = problems


def take_name(definition: Definition, name: str) -> None:
    """A definition takes the name that its text gives it. Raises NotPublishable where that is taken."""
    if name == definition.name:
        return
    if Definition.objects.filter(kind=definition.kind, name__iexact=name).exclude(pk=definition.pk).exists():
        raise NotPublishable([Problem(f"another {definition.kind} is named “{name}” already", Span(1, 1, 2))])
    definition.name = name


def watched_by(conditions: QuerySet[Definition]) -> dict[str, int]:
    """Conditions, and the alarms that they have open."""
    return {
        "conditions": conditions.count(),
        "open_alarms": Alarm.objects.filter(condition__in=conditions, cleared_at=None).count(),
    }


class _Rules:
    """The kinds that the server knows, by name."""

    def __init__(self) -> None:
        self._by_name: dict[str, KindRules] = {}

    def add(self, rules: KindRules) -> None:
        self._by_name[rules.kind.name] = rules

    def remove(self, name: str) -> None:
        del self._by_name[name]

    def __getitem__(self, name: str) -> KindRules:
        return self._by_name[name]

    def __iter__(self) -> Iterator[KindRules]:
        return iter(self._by_name.values())

    @property
    def names(self) -> list[str]:
        return list(self._by_name)


RULES = _Rules()
