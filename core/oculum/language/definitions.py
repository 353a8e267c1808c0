"""All kinds of definitions: which one a text is, its tree, its layout, its lines as forms, what is wrong with it."""

from __future__ import annotations

from typing import Any

from .conditions import CONDITION
from .decoders import DECODER
from .form import Form, FormLine
from .kinds import Kind, Kinds, Surroundings
from .parser import first_word, read
from .printing import comments, laid_out
from .problems import DefinitionError, Problem
from .routes import ROUTE

KINDS = Kinds([DECODER, ROUTE, CONDITION])
EDITION = 4  # of the language: counted up when texts can be written that could not be before


def kind_of(text: str) -> Kind:
    """The kind that a text begins as. Raises DefinitionError where it begins as none."""
    word, span = first_word(text)
    if word in KINDS:
        return KINDS[word]
    beginnings = [f"`{kind.syntax.beginning}`" for kind in KINDS]
    if not word:
        raise DefinitionError([Problem(f"the text is empty: begin with {' or '.join(beginnings)}", span)])
    names = " or ".join(f"`{name}`" for name in KINDS.names)
    raise DefinitionError([Problem(f"found `{word}`: a definition begins with {names}", span)])


def parse(text: str) -> tuple[Any, list[Problem], set[str]]:
    """The tree of a definition, its syntax errors, and names that faulty lines may define. Raises DefinitionError."""
    return read(text, kind_of(text).syntax)


def check(text: str, surroundings: Surroundings) -> tuple[Any, list[Problem]]:
    """A plan, or None with the errors; warnings come along either way."""
    try:
        kind = kind_of(text)
    except DefinitionError as error:
        return None, error.problems
    return kind.check(text, surroundings)


def format_definition(text: str) -> str:
    """The canonical text. Raises DefinitionError if `text` has a syntax error."""
    kind = kind_of(text)
    node, problems, _ = read(text, kind.syntax)
    if problems:
        raise DefinitionError(problems)
    return laid_out(kind.rows(node), *comments(text))


def form(text: str, line: int) -> Form | None:
    """The form of a line, or None where nothing is said there, or where the line cannot be read."""
    try:
        kind = kind_of(text)
        node, problems, _ = read(text, kind.syntax)
    except DefinitionError:
        return None
    rows = text.replace("\r\n", "\n").split("\n")
    if any(p.span.line == line for p in problems) or not 1 <= line <= len(rows):
        return None
    return kind.form(node, FormLine(rows[line - 1], line))
