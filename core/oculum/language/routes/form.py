"""A line of a route as a form."""

from __future__ import annotations

from ..form import Form, FormLine
from ..hours import Active, Except, Season, hours_form
from . import lines


def form(definition: lines.Route, row: FormLine) -> Form | None:
    """The form of a line; None where nothing is said there."""
    if definition.span.line == row.line:
        return Form("What the route is called", row.line, (row.quoted("name"),))
    found = next((c for c in definition.clauses if c.span.line == row.line), None)
    if found is not None:
        return _clause(found, row)
    act = _act_at(definition.acts, row.line)
    return _act(act, row) if act is not None else None


def _act_at(acts: tuple[lines.Act, ...], line: int) -> lines.Act | None:
    for act in acts:
        if act.span.line == line:
            return act
        inner = _act_at((*act.then, *act.otherwise), line) if isinstance(act, lines.When) else None
        if inner is not None:
            return inner
    return None


def _clause(node: lines.Clause, row: FormLine) -> Form:
    match node:
        case lines.On():
            pattern = r"\bon (.+?)(?=\s+at site\b|\s+with\b|\s*$)"
            return Form(
                "Which devices",
                row.line,
                (
                    row.after("device types", pattern, "on ", what="type", optional=False),
                    row.after("at and below the site", r"\bat site (x+)", " at site ", what="site"),
                    row.after("labels", r"\bwith label (.+?)\s*$", " with label "),
                ),
            )
        case lines.Devices():
            return Form("Only these devices", row.line, (row.rest("names", "devices"),))
        case lines.Topic():
            return Form("Only what comes on a topic", row.line, (row.quoted("topic, with + and #"),))
        case Active() | Season() | Except():
            return hours_form(node, row)


def _act(node: lines.Act, row: FormLine) -> Form:
    match node:
        case lines.When():
            return Form("Only readings for which", row.line, (row.span("when", node.rule.span, what="field"),))
        case lines.Drop(message=True):
            return Form("Drop all of the message", row.line, (row.quoted("because"),))
        case lines.Drop():
            names = row.after("fields", r"\bdrop x+ (.+?)\s*$", " ", what="field")
            return Form("Drop readings", row.line, (row.quoted("because"), names))
        case lines.Correct():
            return Form(
                "Correct a field",
                row.line,
                (
                    row.after("field", r"\bcorrect (\w+)", " ", what="field", optional=False),
                    row.span("to", node.value.span, what="field"),
                ),
            )
        case lines.Derive():
            end = node.value.span.end_column
            return Form(
                "Derive a field",
                row.line,
                (
                    row.after("new field", r"\bderive (\w+)", " ", optional=False),
                    row.span("as", node.value.span, what="field"),
                    row.after("into the unit", r"\binto (\S+)\s*$", " into ", max(end, row.end), what="unit"),
                ),
            )
        case lines.Gather():
            end = max(node.value.span.end_column, row.end)
            return Form(
                "Gather a field of each site",
                row.line,
                (
                    row.after("field of the site", r"\bgather (\w+)", " ", optional=False),
                    row.span("as", node.value.span, what="field"),
                    row.after("into the unit", r"\binto (\S+)(?=\s+every\b|\s*$)", " into ", end, what="unit"),
                    row.after("by steps of", r"\bevery (.+?)\s*$", " every "),
                ),
            )
        case lines.Thin():
            return Form(
                "Thin out",
                row.line,
                (
                    row.after("fields", r"\bthin (.+?)(?=\s+by\b|\s+every\b|\s*$)", " ", what="field", optional=False),
                    row.after("changes beyond", r"\bby (.+?)(?=\s+every\b|\s*$)", " by "),
                    row.after("at least every", r"\bevery (.+?)\s*$", " every "),
                ),
            )
        case lines.Mark():
            return Form(
                "Mark the reading",
                row.line,
                (row.after("label", r"\bmark (\w+)", " ", optional=False), row.quoted("text")),
            )
        case lines.Send():
            fields = row.after("fields", r"\bsend (.+?)(?=\s+to\b)", " ", row.masked.find("send") + 5, what="field")
            return Form("Send to an outlet", row.line, (fields, row.quoted("outlet")))
        case lines.Stop():
            return Form("No route further down takes these", row.line, ())
