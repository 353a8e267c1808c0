"""Lists that repeats go over, and texts in texts: encodings and what is wrapped in them."""

from __future__ import annotations

import base64
import binascii
import re
from typing import Any

import numpy as np

from ..language.decoders.plan import At, RepeatStep
from .finding import find, is_nothing, shown, shown_path
from .level import Level
from .sources import BEYOND_NULL, GONE, WORDS, WRONG, Measured
from .walker import Walker


def lists(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray, list[Any]]:
    """The elements of a list of every row: rows that have it, the row of each element, the elements."""
    columns = [find(level, At("path", path), rows) for path in step.paths]
    up: list[int] = []
    docs: list[Any] = []
    ran: list[int] = []
    words = " and ".join(f"`{shown_path(path)}`" for path in step.paths)
    for i, row in enumerate(rows.tolist()):
        own = [column[i] for column in columns]
        if any(value is GONE or value is BEYOND_NULL or is_nothing(value) for value in own):
            if step.required:
                level.fail(np.array([row]), "malformed", f"{words} is not there", step.line)
            continue
        if step.alone:
            own = [value if isinstance(value, list) else [value] for value in own]
        if not all(isinstance(value, list) for value in own):
            found = WORDS.get(type(own[0]), "something else") if own[0] is not WRONG else "within something else"
            level.fail(np.array([row]), "malformed", f"{words} is {found}, expected a list", step.line)
            continue
        if any(len(value) != len(own[0]) for value in own):
            level.fail(np.array([row]), "malformed", f"{words} have different lengths", step.line)
            continue
        ran.append(row)
        elements = own[0] if len(own) == 1 else [list(e) for e in zip(*own, strict=True)]
        up.extend([row] * len(elements))
        docs.extend(elements)
    return np.array(ran, np.int64), np.array(up, np.int64), docs


def texts(
    walker: Walker, level: Level, at: At, rows: np.ndarray, line: int, required: str | None
) -> tuple[np.ndarray, list[bytes]]:
    """Texts, or bytes, that hold a document of their own."""
    kept: list[int] = []
    pieces: list[bytes] = []
    for row, value in zip(rows.tolist(), find(level, at, rows), strict=True):
        if isinstance(value, Measured):
            value = value.value
        if value is GONE or value is BEYOND_NULL or is_nothing(value):
            if required is not None:
                level.fail(np.array([row]), required, f"{shown(at)} is not there", line)
        elif isinstance(value, str | bytes):
            kept.append(row)
            pieces.append(value.encode() if isinstance(value, str) else value)
        else:
            level.fail(
                np.array([row]),
                "malformed",
                f"{shown(at)} is {WORDS.get(type(value), 'something else')}, expected a text",
                line,
            )
    return np.array(kept, np.int64), pieces


def encoded(
    walker: Walker, level: Level, at: At, encoding: str, rows: np.ndarray, line: int, required: str | None
) -> tuple[np.ndarray, list[bytes]]:
    """Bytes that are written as text: base64 (either alphabet, padded or not) or hexadecimal."""
    rows, found = texts(walker, level, at, rows, line, required)
    kept: list[int] = []
    pieces: list[bytes] = []
    for row, text in zip(rows.tolist(), found, strict=True):
        try:
            pieces.append(unwrap(text, encoding))
            kept.append(row)
        except ValueError:
            level.fail(np.array([row]), "malformed", f"{shown(at)} is no {encoding}", line)
    return np.array(kept, np.int64), pieces


def unwrap(text: bytes, encoding: str) -> bytes:
    """Bytes out of their writing: base64 of either alphabet, with all its `=` or none; hexadecimal digits, perhaps with
    a blank between two bytes. Raises ValueError.
    """
    if encoding == "hex":
        if not re.fullmatch(rb"(?:[0-9A-Fa-f]{2}(?: ?[0-9A-Fa-f]{2})*)?", text):
            raise ValueError
        return binascii.unhexlify(text.replace(b" ", b""))
    if encoding == "base64":
        bare = text.rstrip(b"=")
        marks = len(text) - len(bare)
        if len(bare) % 4 == 1 or marks not in (0, -len(bare) % 4):
            raise ValueError
        if not re.fullmatch(rb"[A-Za-z0-9+/]*|[A-Za-z0-9_-]*", bare):
            raise ValueError
        bare = bare.replace(b"-", b"+").replace(b"_", b"/")
        return base64.b64decode(bare + b"=" * (-len(bare) % 4))
    return text
