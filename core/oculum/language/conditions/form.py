"""A line of a condition as a form."""

from __future__ import annotations

from ..form import Form, FormLine
from ..hours import hours_form
from . import clauses

PRIORITIES = ("critical", "high", "medium", "low")


def form(definition: clauses.Condition, row: FormLine) -> Form | None:
    """The form of a line; None where nothing is said there."""
    if definition.span.line == row.line:
        return Form(
            "What the condition is",
            row.line,
            (
                row.quoted("name"),
                row.after(
                    "priority", r"priority (\w+)", " priority ", kind="choice", options=PRIORITIES, optional=False
                ),
            ),
        )
    found = next((c for c in definition.clauses if c.span.line == row.line), None)
    return _clause(found, row) if found is not None else None


def _clause(node: clauses.Clause, row: FormLine) -> Form:
    held = row.after("for at least", r"\bheld (.+?)\s*$", " held ")
    match node:
        case clauses.On():
            pattern = r"\bof (\w+)" if node.each_site else r"\bon (\w+)"
            end = row.text.find(node.device_type) + len(node.device_type) + 1
            return Form(
                "Which sites, by the devices there" if node.each_site else "Which devices",
                row.line,
                (
                    row.after("device type", pattern, "on ", what="type", optional=False),
                    row.after("at and below the site", r"\bat site (x+)", " at site ", end, what="site"),
                    row.after("labels", r"\bwith label (.+?)\s*$", " with label "),
                ),
            )
        case clauses.Raise():
            end = node.rule.span.end_column
            return Form(
                "When it is raised",
                row.line,
                (
                    row.after(
                        "as",
                        r"\braise (critical|high|medium|low)\b",
                        " ",
                        row.masked.find("raise") + 6,
                        kind="choice",
                        options=PRIORITIES,
                    ),
                    row.span("when", node.rule.span, what="field"),
                    row.after("deadband", r"\bdeadband (.+?)(?=\s+held\b|\s*$)", " deadband ", end),
                    held,
                ),
            )
        case clauses.Clear(rule=None):
            return Form("When it is cleared", row.line, (held,))
        case clauses.Clear() if node.rule is not None:
            return Form("When it is cleared", row.line, (row.span("when", node.rule.span, what="field"), held))
        case clauses.Fixes():
            return Form("Which positions count", row.line, (row.rest("as exact as", "within"),))
        case clauses.Every():
            return Form("Looked at by the clock", row.line, (row.rest("every", "every"),))
        case clauses.Active() | clauses.Season() | clauses.Except():
            return hours_form(node, row)
    return Form("What it says", row.line, (row.quoted("sentence"),))
