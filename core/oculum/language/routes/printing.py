"""A route in its one layout."""

from __future__ import annotations

from collections.abc import Iterable

from ..build import quoted
from ..hours import Active, Except, Season, hours_text
from ..printing import Row, expression
from . import lines


def rows(node: lines.Route) -> list[Row]:
    """Line, indent and cells of every line."""
    found: list[Row] = [(node.span.line, "", [f"route {quoted(node.name)}"])]
    found += [(clause.span.line, "  ", [_clause(clause)]) for clause in node.clauses]
    _acts(node.acts, "  ", found)
    return found


def _clause(node: lines.Clause) -> str:
    match node:
        case lines.On():
            labels = ", ".join(f"label {name} {sign} {quoted(text)}" for name, sign, text in node.labels)
            where = f" at site {quoted(node.site)}" if node.site is not None else ""
            return f"on {', '.join(node.types)}{where}" + (f" with {labels}" if labels else "")
        case lines.Devices():
            return "devices " + ", ".join(map(quoted, node.names))
        case lines.Topic():
            return f"topic {quoted(node.pattern)}"
        case Active() | Season() | Except():
            return hours_text(node)


def _acts(acts: Iterable[lines.Act], indent: str, rows: list[Row]) -> None:
    for node in acts:
        rows.append((node.span.line, indent, [act_text(node)]))
        if isinstance(node, lines.When):
            _acts(node.then, indent + "  ", rows)
            if node.otherwise:
                rows.append((node.otherwise[0].span.line - 1, indent, ["otherwise"]))
                _acts(node.otherwise, indent + "  ", rows)


def act_text(node: lines.Act) -> str:
    """A line as it is written, without the block below it."""
    match node:
        case lines.When():
            return f"when {expression(node.rule)}"
        case lines.Drop(message=True):
            return f"drop message {quoted(node.reason)}"
        case lines.Drop():
            return f"drop {quoted(node.reason)}" + (f" {', '.join(node.fields)}" if node.fields else "")
        case lines.Correct():
            return f"correct {node.field} = {expression(node.value)}"
        case lines.Derive():
            return f"derive {node.name} = {expression(node.value)}" + (f" into {node.unit}" if node.unit else "")
        case lines.Gather():
            unit = f" into {node.unit}" if node.unit else ""
            every = f" every {node.every[0]} {node.every[1]}" if node.every else ""
            return f"gather {node.name} = {expression(node.value)}{unit}{every}"
        case lines.Thin():
            band = f" by {node.band[0]}{f' {node.band[1]}' if node.band[1] else ''}" if node.band else ""
            every = f" every {node.every[0]} {node.every[1]}" if node.every else ""
            return f"thin {', '.join(node.fields)}{band}{every}"
        case lines.Mark():
            return f"mark {node.name} {quoted(node.text)}"
        case lines.Send():
            return f"send {', '.join(node.fields)}{' ' if node.fields else ''}to {quoted(node.outlet)}"
        case lines.Stop():
            return "stop"
