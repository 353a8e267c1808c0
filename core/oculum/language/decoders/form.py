"""A line of a decoder as a form."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ..form import Form, FormLine, Slot
from . import lines

FAILURES = ("malformed", "too short", "unknown layout", "checksum")
STORAGES = (
    "u8",
    "i8",
    "u16",
    "i16",
    "u24",
    "i24",
    "u32",
    "i32",
    "u64",
    "i64",
    "f16",
    "f32",
    "f64",
    "bcd2",
    "bcd4",
    "flag",
    "code { 0 off, 1 on }",
    "text",
    "hex",
)
PLAINS = ("number", "integer", "flag", "text", "time iso", "code { 0 off, 1 on }", "hex", "form")
SOURCES = ("bytes", "registers", "coils", "json", "cbor", "senml", "text")


def _statements(body: tuple[lines.Statement, ...]) -> Iterator[lines.Statement]:
    for statement in body:
        yield statement
        for inner in ("body", "otherwise"):
            yield from _statements(getattr(statement, inner, ()))
        for arm in getattr(statement, "arms", ()):
            yield from _statements(arm.body)


def form(definition: lines.Decoder, row: FormLine) -> Form | None:
    """The form of a line; None where nothing is said there."""
    if definition.span.line == row.line:
        return _head(definition, row)
    statement = next((s for s in _statements(definition.body) if s.span.line == row.line), None)
    return _statement(statement, row, definition.source) if statement is not None else None


def _head(node: lines.Decoder, row: FormLine) -> Form:
    name = re.search(r"decoder (\w+)", row.masked)
    assert name is not None
    slots = [
        row.part("name", name.start(1) + 1, name.end(1) + 1),
        row.after("reads", r"\bfor (\w+)", " for ", kind="choice", options=SOURCES, optional=False),
    ]
    if node.source in ("bytes", "registers"):
        slots.append(
            row.after(
                "most significant byte",
                r", ((?:big|little) endian)",
                ", ",
                slots[1].end_column,
                kind="choice",
                options=("big endian", "little endian"),
            )
        )
    return Form("What the decoder reads", row.line, tuple(slots))


def _statement(node: lines.Statement, row: FormLine, source: str) -> Form:
    match node:
        case lines.Read():
            return Form("A field", row.line, tuple(_read(node, row, source)))
        case lines.Derive():
            slots = [
                row.span("field", node.name_span),
                row.span("is", node.value.span, what="field"),
                row.after("converted into", r"\binto (\S+)", " into ", node.value.span.end_column, what="unit"),
            ]
            return Form("A value that follows from others", row.line, (*slots, row.word("hidden", "hidden")))
        case lines.Reject():
            word = "unless" if node.unless else "when"
            rule = [row.span(f"refused {word}", node.rule.span, what="field")] if node.rule is not None else []
            reason = row.quoted("because")
            failure = row.after(
                "counted as",
                rf"\bas ({'|'.join(FAILURES)})",
                " as ",
                reason.end_column + 1,
                kind="choice",
                options=FAILURES,
            )
            return Form("What is refused", row.line, (reason, failure, *rule))
        case lines.MissingRule():
            return Form(
                "What is missing", row.line, (row.quoted("because"), row.span("when", node.rule.span, what="field"))
            )
        case lines.Stamp():
            return Form("When it was measured", row.line, (row.span("time", node.value.span, what="field"),))
        case lines.Device():
            return Form("Which device it is", row.line, (row.span("name", node.value.span, what="field"),))
        case lines.When():
            return Form("Only when", row.line, (row.span("when", node.rule.span, what="field"),))
        case lines.Choose():
            return Form("By a value", row.line, (row.span("value", node.value.span, what="field"),))
        case lines.Length():
            return Form("How long it is", row.line, (row.rest("bytes", "length"),))
        case lines.Skip():
            return Form("What is passed over", row.line, (row.rest("how much", "skip"),))
        case lines.Repeat():
            each = row.after("each", r", each (.+?)\s*$", ", each ")
            return Form("What repeats", row.line, (row.part("over", *_between(row, "repeat", each)), each))
    word = row.masked.split()[0]
    return Form("A line", row.line, (row.rest(word, word),))


def _between(row: FormLine, word: str, following: Slot) -> tuple[int, int]:
    begin = row.masked.find(word) + len(word) + 2
    return begin, max(following.whole if following.text else row.end, begin)


def _read(node: lines.Read, row: FormLine, source: str) -> Iterator[Slot]:
    yield row.span("where", node.address.span)
    yield row.span("field", node.name_span)
    documents = source in ("json", "cbor", "senml", "text")
    kind = node.kind
    end = kind.span.end_column
    measured = isinstance(kind, lines.Stored) or (isinstance(kind, lines.Plain) and kind.word in ("number", "integer"))
    if measured:
        scale = re.search(r"\s+(?=[*/+-]\s)", row.masked[kind.span.column - 1 : end - 1])
        middle = kind.span.column + scale.start() if scale else end
        yield row.part("kept as", kind.span.column, middle, options=PLAINS if documents else STORAGES)
        if scale:
            yield row.part("scale", kind.span.column + scale.end(), end, prefix=" ", whole=middle, optional=True)
        else:
            yield row.absent("scale", end, " ", options=("/ 10", "/ 100", "/ 1000", "* 2", "/ 100 + 2"))
    else:
        yield row.span("kept as", kind.span, options=PLAINS if documents else STORAGES)
    if measured:
        if node.unit_span is not None and isinstance(node.unit, str):
            yield row.span(
                "unit",
                node.unit_span,
                prefix="  ",
                whole=row.before(node.unit_span.column - 1),
                optional=True,
                what="unit",
            )
            end = node.unit_span.end_column
        elif node.unit is None:
            yield row.absent("unit", end, "  ", what="unit")
        else:
            end = node.unit_span.end_column if node.unit_span is not None else end
    within = next((q for q in node.qualifiers if isinstance(q, lines.Within)), None)
    if measured or within is not None:
        yield row.after("expected range", r"\bwithin (\S+ to \S+)", "  within ", end)
    marks = [q for q in node.qualifiers if isinstance(q, lines.Missing) and q.span.line == row.line]
    for mark in marks:
        column = mark.span.column + len("missing ")
        yield row.part(
            "missing",
            column,
            mark.span.end_column,
            prefix="  missing ",
            whole=row.before(mark.span.column - 1),
            optional=True,
        )
    yield row.absent(
        "missing" if not marks else "missing too",
        row.end,
        "  missing ",
        options=('"not measured" raw "---"' if documents else '"sensor fault" raw 0xFFFF',),
    )
    if measured:
        yield row.after("converted into", r"\binto (\S+)", "  into ", row.end, what="unit")
    yield row.word("hidden", "hidden", end)
    if documents:
        yield row.word("required", rf"required(?: as (?:{'|'.join(FAILURES)}))?", end, "required")
