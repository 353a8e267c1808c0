"""What a kind of definition is: all that is asked of decoders, conditions and whatever is added beside them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from .build import Build
from .fields import FieldSpec
from .form import Form, FormLine
from .parser import Syntax
from .printing import Row
from .problems import Problem


@dataclass(frozen=True)
class Surroundings:
    """What a text is checked against.

    fields, setpoints: of device types, by their keys (a setpoint's unit by its name). owner: the type that the
    definition belongs to, where it belongs to one. others: a published decoder by its name. fences, sites, outlets: the
    names that there are; None where that is not known. tables: the columns of each reference table, likewise.
    published: the text is in force or was: mistakes that are told apart only since then do not count.
    """

    fields: Mapping[str, Mapping[str, FieldSpec]] = field(default_factory=dict)
    setpoints: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    owner: str | None = None
    others: Callable[[str], Any] | None = None
    fences: Collection[str] | None = None
    sites: Collection[str] | None = None
    outlets: Collection[str] | None = None
    tables: Mapping[str, tuple[FieldSpec, ...]] | None = None
    published: bool = False


@dataclass(frozen=True)
class Kind:
    """One kind of definition.

    check: a text against its surroundings, as a plan (None with errors) and its problems. rows: a parsed definition
    as lines of cells. form: a line of it as a form. words: what expressions of it can speak of, each with how it is
    used. says: what a sound plan does, in plain words, where it can be said. one_a_type: whether a device type has at
    most one of them.
    """

    syntax: Syntax
    check: Callable[[str, Surroundings], tuple[Any, list[Problem]]]
    rows: Callable[[Any], list[Row]]
    form: Callable[[Any, FormLine], Form | None]
    words: Mapping[str, str] = field(default_factory=dict)
    says: Callable[[Any], str] | None = None
    one_a_type: bool = False

    @property
    def name(self) -> str:
        return self.syntax.name


class Kinds:
    """The kinds that there are, by name."""

    def __init__(self, kinds: Iterable[Kind] = ()) -> None:
        self._by_name: dict[str, Kind] = {}
        for kind in kinds:
            self.add(kind)

    def add(self, kind: Kind) -> None:
        self._by_name[kind.name] = kind

    def remove(self, name: str) -> None:
        del self._by_name[name]

    def __iter__(self) -> Iterator[Kind]:
        return iter(self._by_name.values())

    def __getitem__(self, name: str) -> Kind:
        return self._by_name[name]

    def __contains__(self, name: object) -> bool:
        return name in self._by_name

    @property
    def names(self) -> list[str]:
        return list(self._by_name)


__all__ = ["Build", "Kind", "Kinds", "Surroundings"]
