"""Errors and warnings of a definition, as values."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import asdict, dataclass

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

    def as_dict(self) -> dict[str, object]:
        found = asdict(self)
        found.update(found.pop("span"))
        return found


class DefinitionError(OculumError):
    """A definition that cannot be used; `problems` holds every error found."""

    def __init__(self, problems: list[Problem]) -> None:
        first = problems[0]
        super().__init__(f"line {first.span.line}, column {first.span.column}: {first.message}")
        self.problems = problems


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known name most like `word`, if any is close."""
    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def meant(word: str, known: Iterable[str]) -> str:
    """A tail for a message: `: did you mean `x`?` or nothing."""
    close = nearest(word, known)
    return f": did you mean `{close}`?" if close else ""
