"""Errors and warnings of a definition, as values."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace

from oculum.errors import OculumError


@dataclass(frozen=True)
class Span:
    """A place in a text: lines and columns count from 1, the end column is exclusive."""

    line: int
    column: int
    end_column: int


@dataclass(frozen=True)
class Problem:
    """One mistake or remark: what was found, what was expected, where, and a fix if there is one."""

    message: str
    span: Span
    severity: str = "error"
    code: str = "definition"
    fix: str | None = None  # text that replaces the span
    over: str = ""  # what the fix replaces, where that is one word of the span

    def as_dict(self) -> dict[str, object]:
        found = asdict(self)
        found.update(found.pop("span"))
        del found["over"]
        return found


class DefinitionError(OculumError):
    """A definition that cannot be used; `problems` holds every error found."""

    def __init__(self, problems: list[Problem]) -> None:
        first = problems[0]
        super().__init__(f"line {first.span.line}, column {first.span.column}: {first.message}")
        self.problems = problems


def placed(problems: Iterable[Problem], text: str) -> list[Problem]:
    """Problems in the order of the text, each fix over the word it replaces; without it where that is not clear."""
    lines = text.replace("\r\n", "\n").split("\n")
    return sorted((_narrowed(p, lines) for p in problems), key=lambda p: (p.span.line, p.span.column))


def _narrowed(problem: Problem, lines: list[str]) -> Problem:
    if problem.fix is None or not problem.over:
        return problem
    span = problem.span
    part = lines[span.line - 1][span.column - 1 : span.end_column - 1]
    found = [m.start() for m in re.finditer(rf"(?<![\w.]){re.escape(problem.over)}(?![\w.])", part)]
    if len(found) != 1:
        return replace(problem, fix=None)
    begin = span.column + found[0]
    return replace(problem, span=Span(span.line, begin, begin + len(problem.over)))


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known name most like `word`, if any is close."""
    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def meant(word: str, known: Iterable[str]) -> str:
    """A tail for a message: `: did you mean `x`?` or nothing."""
    close = nearest(word, known)
    return f": did you mean `{close}`?" if close else ""
