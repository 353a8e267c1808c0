"""What an expression may speak of in a route: the reading on its way, its device, the past of its fields."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field

from .. import tree
from ..abilities import Ability
from ..checking import TRUTH, Checker, shown, type_of
from ..expressions import AtFence, Builtin, Ex, HeaderText, LabelText, MarkText, Named, TableEntry, Type
from ..fields import FieldSpec
from ..functions import OF_MEMBERS, OF_READING, READING_NAMES, WINDOWS
from ..past import PastScope
from ..problems import meant

ROUTE = frozenset({Ability.SETPOINTS, Ability.PAST, Ability.FENCES, Ability.READING})
NAMED = {"label": LabelText, "header": HeaderText, "marked": MarkText}


@dataclass
class RouteScope(PastScope):
    """The fields that the types have in common, their setpoints, the fences and the reference tables that there are
    (None: not known). tables: the columns of each, the first of them its key.
    """

    fences: Collection[str] | None = None
    tables: Mapping[str, tuple[FieldSpec, ...]] | None = None
    abilities: frozenset[Ability] = ROUTE

    used_tables: set[str] = field(default_factory=set)

    def other_names(self) -> Iterable[str]:
        if Ability.MEMBERS in self.abilities:
            return [*OF_MEMBERS]
        return [*WINDOWS, *OF_READING, "inside", "outside"]

    def other_name(self, check: Checker, node: tree.Name) -> Ex | None:
        kind = READING_NAMES.get(node.name) if Ability.READING in self.abilities else None
        return Builtin(Type(kind), node.span.line, node.name) if kind is not None else None

    def call(self, check: Checker, node: tree.Call) -> Ex | None:
        name = node.function
        if Ability.MEMBERS in self.abilities:
            return self.of_members(check, node, ROUTE) if name in OF_MEMBERS else None
        if name in WINDOWS:
            return self.window(check, node)
        if name in ("inside", "outside"):
            return self._place(check, node)
        if name == "entry":
            return self._entry(check, node)
        if name in NAMED:
            given = node.arguments
            if len(given) != 1 or not isinstance(given[0], tree.Name):
                check.halt(f"`{name}` takes a name: {OF_READING[name]}", node.span)
            return NAMED[name](Type("text"), node.span.line, given[0].name)
        return None

    def _place(self, check: Checker, node: tree.Call) -> Ex:
        name, given = node.function, node.arguments
        if len(given) != 2 or not isinstance(given[1], tree.String):
            words = "a position and the name of a fence in quotes"
            check.halt(f'`{name}` takes {words}, as in `{name}(position, "fence")`', node.span)
        found = check.typed(given[0], self)
        if not isinstance(found, Named) or found.type.kind != "position":
            check.halt(f"`{name}` takes a field that is a position, found {shown(found.type)}", given[0].span)
        fence = given[1].text
        if self.fences is not None and fence not in self.fences:
            check.halt(f"there is no fence “{fence}”{meant(fence, self.fences)}", given[1].span)
        return AtFence(TRUTH, node.span.line, name, found.name, fence, 0.0)

    def _entry(self, check: Checker, node: tree.Call) -> Ex:
        given = node.arguments
        if len(given) != 3 or not isinstance(given[0], tree.String) or not isinstance(given[1], tree.Name):
            check.halt(f"`entry` takes a table, a column and a key: {OF_READING['entry']}", node.span)
        table, column = given[0].text, given[1].name
        key = check.typed(given[2], self)
        if key.type.kind not in ("text", "number", "code", "unknown"):
            check.halt(f"a key is a text or a number, found {shown(key.type)}", given[2].span)
        gives = Type("unknown")
        if self.tables is not None:
            columns = {spec.name: spec for spec in self.tables.get(table, ())}
            if not columns:
                check.halt(f"there is no reference table “{table}”{meant(table, self.tables)}", given[0].span)
            if column not in columns:
                check.halt(f"“{table}” has no column `{column}`{meant(column, columns)}", given[1].span)
            first = self.tables[table][0]
            wanted = "text" if first.kind == "text" else "number"
            if key.type.kind not in (wanted, "unknown"):
                check.halt(f"the key of “{table}” is a {wanted}, found {shown(key.type)}", given[2].span)
            gives = type_of(columns[column])
        self.used_tables.add(table)
        return TableEntry(gives, node.span.line, table, column, key)
