"""One line of a definition as a form: what stands where, and what could stand there besides.

The text stays the definition: a part of the form is a stretch of the line, and changing it changes the text.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from . import tree
from .parser import parse
from .problems import DefinitionError, Span

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
PLAINS = ("number", "integer", "flag", "text", "time iso", "code { 0 off, 1 on }", "hex")
PRIORITIES = ("critical", "high", "medium", "low")
SOURCES = ("bytes", "registers", "coils", "json", "cbor", "senml", "text")


@dataclass(frozen=True)
class Slot:
    """A part of a line. Columns count from 1; `column` to `end_column` is its value, from `whole` on it is taken out.

    An empty one stands where it would be put in, with `prefix` before it. `kind`: text, choice (one of `options`
    only), word (there or not); the options of a text are proposals. `what`: unit, field or "".
    """

    label: str
    column: int
    end_column: int
    text: str
    kind: str = "text"
    options: tuple[str, ...] = ()
    prefix: str = ""
    whole: int = 0
    optional: bool = False
    what: str = ""


@dataclass(frozen=True)
class Form:
    title: str
    line: int
    slots: tuple[Slot, ...]

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def form(text: str, line: int) -> Form | None:
    """The form of a line, or None where nothing is said there, or where the line cannot be read."""
    try:
        definition, problems, _ = parse(text)
    except DefinitionError:
        return None
    if any(p.span.line == line for p in problems):
        return None
    rows = text.replace("\r\n", "\n").split("\n")
    if not 1 <= line <= len(rows):
        return None
    row = _Row(rows[line - 1], line)
    if definition.span.line == line:
        return _head(definition, row)
    if isinstance(definition, tree.Condition):
        found = next((c for c in definition.clauses if c.span.line == line), None)
        return _clause(found, row) if found is not None else None
    statement = next((s for s in _statements(definition.body) if s.span.line == line), None)
    return _statement(statement, row, definition.source) if statement is not None else None


def _statements(body: tuple[tree.Statement, ...]) -> Iterator[tree.Statement]:
    for statement in body:
        yield statement
        for inner in ("body", "otherwise"):
            yield from _statements(getattr(statement, inner, ()))
        for arm in getattr(statement, "arms", ()):
            yield from _statements(arm.body)


class _Row:
    """A line of text with its parts by column."""

    def __init__(self, text: str, line: int) -> None:
        self.text, self.line = text, line
        masked = re.sub(r'"(?:[^"\\]|\\.)*"|`[^`]*`', lambda m: "x" * len(m.group(0)), text)
        comment = masked.find("#")
        self.masked = masked if comment < 0 else masked[:comment]
        self.end = len(self.masked.rstrip()) + 1

    def span(self, label: str, span: Span, **more: Any) -> Slot:
        end = span.end_column if span.line == self.line else self.end
        return self.part(label, span.column, min(max(end, span.column), self.end), **more)

    def part(self, label: str, column: int, end: int, **more: Any) -> Slot:
        more.setdefault("whole", column)
        return Slot(label, column, end, self.text[column - 1 : end - 1], **more)

    def absent(self, label: str, at: int, prefix: str, **more: Any) -> Slot:
        return Slot(label, at, at, "", prefix=prefix, whole=at, optional=True, **more)

    def after(self, label: str, pattern: str, prefix: str, at: int | None = None, **more: Any) -> Slot:
        """What a pattern's first group finds outside of strings, or where it would stand."""
        found = re.search(pattern, self.masked)
        if found is None:
            return self.absent(label, at or self.end, prefix, **more)
        more.setdefault("optional", True)
        return self.part(
            label, found.start(1) + 1, found.end(1) + 1, prefix=prefix, whole=self._before(found.start()), **more
        )

    def word(self, label: str, pattern: str, at: int | None = None, word: str | None = None) -> Slot:
        found = re.search(rf"(?<=\s){pattern}(?!\w)", self.masked)
        if found is None:
            return Slot(
                label, at or self.end, at or self.end, "", "word", (word or pattern,), "  ", at or self.end, True
            )
        return Slot(
            label,
            found.start() + 1,
            found.end() + 1,
            found.group(0),
            "word",
            (word or pattern,),
            "  ",
            self._before(found.start()),
            True,
        )

    def quoted(self, label: str, nth: int = 0) -> Slot:
        found = list(re.finditer(r'"(?:[^"\\]|\\.)*"', self.text))
        if nth >= len(found):
            return self.absent(label, self.end, ' "')
        return self.part(label, found[nth].start() + 2, found[nth].end())

    def _before(self, start: int) -> int:
        """The column from which a part at `start` is taken out: with the blanks before it."""
        return len(self.text[:start].rstrip()) + 1

    def rest(self, label: str, word: str) -> Slot:
        begin = self.masked.find(word) + len(word)
        begin += len(self.masked[begin:]) - len(self.masked[begin:].lstrip())
        return self.part(label, begin + 1, self.end)


def _head(node: tree.Definition, row: _Row) -> Form:
    if isinstance(node, tree.Condition):
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


def _statement(node: tree.Statement, row: _Row, source: str) -> Form:
    match node:
        case tree.Read():
            return Form("A field", row.line, tuple(_read(node, row, source)))
        case tree.Derive():
            slots = [
                row.span("field", node.name_span),
                row.span("is", node.value.span, what="field"),
                row.after("converted into", r"\binto (\S+)", " into ", node.value.span.end_column, what="unit"),
            ]
            return Form("A value that follows from others", row.line, (*slots, row.word("hidden", "hidden")))
        case tree.Reject():
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
        case tree.MissingRule():
            return Form(
                "What is missing", row.line, (row.quoted("because"), row.span("when", node.rule.span, what="field"))
            )
        case tree.Stamp():
            return Form("When it was measured", row.line, (row.span("time", node.value.span, what="field"),))
        case tree.Device():
            return Form("Which device it is", row.line, (row.span("name", node.value.span, what="field"),))
        case tree.When():
            return Form("Only when", row.line, (row.span("when", node.rule.span, what="field"),))
        case tree.Choose():
            return Form("By a value", row.line, (row.span("value", node.value.span, what="field"),))
        case tree.Length():
            return Form("How long it is", row.line, (row.rest("bytes", "length"),))
        case tree.Skip():
            return Form("What is passed over", row.line, (row.rest("how much", "skip"),))
        case tree.Repeat():
            each = row.after("each", r", each (.+?)\s*$", ", each ")
            return Form("What repeats", row.line, (row.part("over", *_between(row, "repeat", each)), each))
    word = row.masked.split()[0]
    return Form("A line", row.line, (row.rest(word, word),))


def _between(row: _Row, word: str, following: Slot) -> tuple[int, int]:
    begin = row.masked.find(word) + len(word) + 2
    return begin, max(following.whole if following.text else row.end, begin)


def _read(node: tree.Read, row: _Row, source: str) -> Iterator[Slot]:
    yield row.span("where", node.address.span)
    yield row.span("field", node.name_span)
    documents = source in ("json", "cbor", "senml", "text")
    kind = node.kind
    end = kind.span.end_column
    measured = isinstance(kind, tree.Stored) or (isinstance(kind, tree.Plain) and kind.word in ("number", "integer"))
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
                whole=row._before(node.unit_span.column - 1),
                optional=True,
                what="unit",
            )
            end = node.unit_span.end_column
        elif node.unit is None:
            yield row.absent("unit", end, "  ", what="unit")
        else:
            end = node.unit_span.end_column if node.unit_span is not None else end
    within = next((q for q in node.qualifiers if isinstance(q, tree.Within)), None)
    if measured or within is not None:
        yield row.after("expected range", r"\bwithin (\S+ to \S+)", "  within ", end)
    marks = [q for q in node.qualifiers if isinstance(q, tree.Missing) and q.span.line == row.line]
    for mark in marks:
        column = mark.span.column + len("missing ")
        yield row.part(
            "missing",
            column,
            mark.span.end_column,
            prefix="  missing ",
            whole=row._before(mark.span.column - 1),
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


def _clause(node: tree.Clause, row: _Row) -> Form:
    match node:
        case tree.On():
            return Form(
                "Which devices",
                row.line,
                (
                    row.after("device type", r"\bon (\w+)", "on ", what="type", optional=False),
                    row.after("labels", r"\bwith label (.+?)\s*$", " with label "),
                ),
            )
        case tree.Raise():
            return Form(
                "When it is raised",
                row.line,
                (
                    row.span("when", node.rule.span, what="field"),
                    row.after(
                        "deadband", r"\bdeadband (.+?)(?=\s+held\b|\s*$)", " deadband ", node.rule.span.end_column
                    ),
                    row.after("for at least", r"\bheld (.+?)\s*$", " held "),
                ),
            )
        case tree.Clear():
            return Form(
                "When it is cleared",
                row.line,
                (
                    row.span("when", node.rule.span, what="field"),
                    row.after("for at least", r"\bheld (.+?)\s*$", " held "),
                ),
            )
    return Form("What it says", row.line, (row.quoted("sentence"),))
