"""Definitions made by a program: built as trees, printed by the formatter, and read back before anybody sees them.

Nothing is ever pasted into a text: what a stranger sent can name a field or a unit, and do no more.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from functools import lru_cache
from typing import Any

from ..language.decoders import lines as written
from ..language.decoders.printing import rows
from ..language.definitions import parse
from ..language.printing import laid_out
from ..language.problems import DefinitionError, Span

LONGEST = 60


def place(line: int) -> Span:
    """Where a made node stands: a line each, so that comments find theirs."""
    return Span(line, 1, 2)


def printed(node: written.Decoder, comments: Mapping[int, str] | None = None) -> str:
    """The text of a tree, with comments on lines of their own by the line that they stand before.

    Raises ValueError if the text does not say exactly what the tree says.
    """
    notes = {line: f"# {_plain(text)}" for line, text in (comments or {}).items()}
    text = laid_out(rows(node), notes, {})
    try:
        found, problems, _ = parse(text)
    except DefinitionError as error:
        raise ValueError(f"what was made cannot be read: {error}") from None
    if problems or bare(found) != bare(node):
        raise ValueError("what was made reads otherwise than it was meant")
    return text


def bare(value: Any) -> Any:
    """A tree without the places of its nodes, to be compared."""
    if isinstance(value, Span):
        return None
    if is_dataclass(value) and not isinstance(value, type):
        return (type(value).__name__, *(bare(getattr(value, f.name)) for f in fields(value) if f.compare))
    return tuple(bare(v) for v in value) if isinstance(value, tuple | list) else value


def _plain(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)


@lru_cache(maxsize=1024)
def means_something(word: str) -> bool:
    """Whether a word cannot name a field, because it means something in the language."""
    line = _first(f"at x  {word}  number")
    return line is None or line.name != word or word in written.OWN_NAMES


def _first(text: str) -> written.Read | None:
    """The first line of a decoder for SenML, if it is sound."""
    try:
        found, problems, _ = parse(f"decoder d for senml\n  {text}\n")
    except DefinitionError:
        return None
    first = found.body[0] if isinstance(found, written.Decoder) and len(found.body) == 1 else None
    return first if isinstance(first, written.Read) and not problems else None


def field_name(word: str, taken: set[str]) -> str:
    """A field's name from any text, another than those taken, and none that means something in the language."""
    plain = re.sub(r"[^a-z0-9]+", "_", re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", word).lower()).strip("_") or "value"
    plain = plain[:LONGEST]
    if not plain[0].isalpha() or means_something(plain):
        plain = f"value_{plain}"
    found, number = plain[:LONGEST], 2
    while found in taken:
        found, number = f"{plain[: LONGEST - 4]}_{number}", number + 1
    return found
