"""One line of a definition as a form: what stands where, and what could stand there besides.

The text stays the definition: a part of the form is a stretch of the line, and changing it changes the text.
"""

from __future__ import annotations

import re
from dataclasses import asdict, dataclass
from typing import Any

from .problems import Span


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


class FormLine:
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
            label, found.start(1) + 1, found.end(1) + 1, prefix=prefix, whole=self.before(found.start()), **more
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
            self.before(found.start()),
            True,
        )

    def quoted(self, label: str, nth: int = 0) -> Slot:
        found = list(re.finditer(r'"(?:[^"\\]|\\.)*"', self.text))
        if nth >= len(found):
            return self.absent(label, self.end, ' "')
        return self.part(label, found[nth].start() + 2, found[nth].end())

    def before(self, start: int) -> int:
        """The column from which a part at `start` is taken out: with the blanks before it."""
        return len(self.text[:start].rstrip()) + 1

    def rest(self, label: str, word: str) -> Slot:
        begin = self.masked.find(word) + len(word)
        begin += len(self.masked[begin:]) - len(self.masked[begin:].lstrip())
        return self.part(label, begin + 1, self.end)
