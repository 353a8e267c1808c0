"""A condition in its one layout."""

from __future__ import annotations

from ..build import quoted
from ..hours import hours_text
from ..printing import Row, expression
from . import clauses


def rows(node: clauses.Condition) -> list[Row]:
    """Line, indent and cells of every line."""
    found: list[Row] = [(node.span.line, "", [f"condition {quoted(node.name)} priority {node.priority}"])]
    return found + [(clause.span.line, "  ", [_clause(clause)]) for clause in node.clauses]


def _clause(node: clauses.Clause) -> str:
    match node:
        case clauses.On():
            labels = ", ".join(f"label {name} {sign} {quoted(text)}" for name, sign, text in node.labels)
            what = f"on {'each site of ' if node.each_site else ''}{node.device_type}"
            where = f" at site {quoted(node.site)}" if node.site is not None else ""
            return what + where + (f" with {labels}" if labels else "")
        case clauses.Raise():
            band = (
                f" deadband {node.deadband.number}{' ' + node.deadband.unit if node.deadband.unit else ''}"
                if node.deadband
                else ""
            )
            priority = f"{node.priority} " if node.priority else ""
            return f"raise {priority}when {expression(node.rule)}{band}{_held(node.held)}"
        case clauses.Clear():
            rule = f" when {expression(node.rule)}" if node.rule is not None else ""
            return f"clear{rule}{_held(node.held)}"
        case clauses.Fixes():
            return f"fixes within {node.number} {node.unit}" + (f" by {node.field}" if node.field else "")
        case clauses.Every():
            return f"every {node.number} {node.unit}"
        case clauses.Active() | clauses.Season() | clauses.Except():
            return hours_text(node)
        case clauses.Say():
            return f"say {quoted(node.template)}"


def _held(node: clauses.Held | None) -> str:
    return f" held {node.number} {node.unit}" if node else ""
