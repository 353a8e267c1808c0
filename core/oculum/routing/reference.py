"""Reference tables as files: read row by row, each refused with line and reason, and written the same again."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import OculumError
from ..quantities import UnitError, parse_unit
from ..text import harmless

MOST_ROWS, MOST_COLUMNS, MOST_TEXT = 10_000, 32, 200
NAME = re.compile(r"[a-z][a-z0-9_]{0,62}")
HEAD = re.compile(
    r"(?P<name>[^\s\[\]!*]+)(?:\s+\[(?P<unit>[^\s]+)\])?(?:\s+(?P<kind>text|number|flag))?(?P<marks>[ !*]*)"
)
TRUE, FALSE = {"true", "yes", "1"}, {"false", "no", "0"}


class TableError(OculumError):
    """The head of a file that cannot be read, or too many rows; with the line."""


@dataclass
class Read:
    columns: list[dict[str, Any]]
    rows: list[list[Any]] = field(default_factory=list)
    refused: list[dict[str, Any]] = field(default_factory=list)


def read(text: str) -> Read:
    """The rows of a file, those that are sound. Raises TableError where its head cannot be read.

    A column's heading is its name; in brackets a unit, which makes it a number; `text`, `number` or `flag`; `!` for one
    that every row must have, `*` for one whose values differ. The first column is the key: it is both.
    """
    lines = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"))))
    if not lines or not any(cell.strip() for cell in lines[0]):
        raise TableError("line 1: the file is empty; expected headings such as `device, offset [mg/L]`")
    if len(lines[0]) > MOST_COLUMNS:
        raise TableError(f"line 1: found {len(lines[0])} columns; at most {MOST_COLUMNS} are taken")
    columns = [column(cell, k) for k, cell in enumerate(lines[0])]
    names = [c["name"] for c in columns]
    twice = next((n for n in names if names.count(n) > 1), None)
    if twice is not None:
        raise TableError(f"line 1: `{twice}` stands twice")
    found = Read(columns)
    known: list[dict[Any, int]] = [{} for _ in columns]
    for number, cells in enumerate(lines[1:], start=2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(found.rows) >= MOST_ROWS:
            raise TableError(f"a table has at most {MOST_ROWS:,} rows")
        try:
            found.rows.append(row(cells, columns, known, number))
        except ValueError as error:
            found.refused.append({"line": number, "why": str(error)})
    return found


def column(cell: str, place: int) -> dict[str, Any]:
    """A heading as a column. Raises TableError."""
    parts = HEAD.fullmatch(cell.strip())
    if parts is None or not NAME.fullmatch(parts["name"]):
        words = "a name of small letters, digits and `_`, then perhaps a unit in brackets, as in `offset [mg/L]`"
        raise TableError(f"line 1, column {place + 1}: found `{harmless(cell, 60)}`, expected {words}")
    unit, kind = parts["unit"], parts["kind"]
    if unit is not None:
        try:
            parse_unit(unit)
        except UnitError as error:
            raise TableError(f"line 1, column {place + 1}: {error}") from None
        if kind not in (None, "number"):
            raise TableError(f"line 1, column {place + 1}: a {kind} has no unit")
    return {
        "name": parts["name"],
        "kind": kind or ("number" if unit is not None else "text"),
        "unit": unit or ("1" if kind == "number" else None),
        "required": place == 0 or "!" in parts["marks"],
        "unique": place == 0 or "*" in parts["marks"],
    }


def row(cells: list[str], columns: list[dict[str, Any]], known: list[dict[Any, int]], number: int) -> list[Any]:
    """A row's values. known: by column, values and the lines that they stand in. Raises ValueError with the reason."""
    if len(cells) > len(columns):
        raise ValueError(f"found {len(cells)} cells, expected {len(columns)}")
    found: list[Any] = []
    for k, about in enumerate(columns):
        text = cells[k].strip() if k < len(cells) else ""
        found.append(value(text, about))
    for k, (about, one) in enumerate(zip(columns, found, strict=True)):
        if about["unique"] and one is not None and one in known[k]:
            raise ValueError(f"{about['name']}: `{harmless(str(one), 60)}` stands in line {known[k][one]} already")
    for k, one in enumerate(found):
        if one is not None:
            known[k].setdefault(one, number)
    return found


def value(text: str, about: dict[str, Any]) -> Any:
    name, kind = about["name"], about["kind"]
    if not text:
        if about["required"]:
            raise ValueError(f"{name}: found nothing, expected a value")
        return None
    if len(text) > MOST_TEXT:
        raise ValueError(f"{name}: found {len(text)} characters; at most {MOST_TEXT} are taken")
    if kind == "text":
        return harmless(text, MOST_TEXT)
    if kind == "flag":
        if text.lower() not in TRUE | FALSE:
            raise ValueError(f"{name}: found `{harmless(text, 40)}`, expected yes or no")
        return text.lower() in TRUE
    if not re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?", text, re.ASCII) or abs(float(text)) > 1e30:
        raise ValueError(f"{name}: found `{harmless(text, 40)}`, expected a number")
    return float(text)


def written(columns: Sequence[Mapping[str, Any]], rows: Iterable[Sequence[Any]]) -> str:
    """A table as a file that gives the same table again."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = []
    for k, about in enumerate(columns):
        unit = about["unit"]
        cell = about["name"] + (f" [{unit}]" if unit not in (None, "1") else "")
        cell += " number" if unit == "1" else " flag" if about["kind"] == "flag" else ""
        marks = "" if k == 0 else ("!" if about["required"] else "") + ("*" if about["unique"] else "")
        head.append(f"{cell} {marks}" if marks else cell)
    writer.writerow(head)
    for values in rows:
        writer.writerow([_cell(v) for v in values])
    return out.getvalue()


def _cell(one: Any) -> str:
    if one is None:
        return ""
    if isinstance(one, bool):
        return "yes" if one else "no"
    return f"{one:.15g}" if isinstance(one, float) else str(one)


def by_key(columns: Iterable[Mapping[str, Any]], rows: Iterable[list[Any]]) -> dict[Any, dict[str, Any]]:
    """The rows of a table by their key, the first column; codes and numbers as floats, as routes look them up."""
    names = [c["name"] for c in columns]
    kinds = [c["kind"] for c in columns]
    found: dict[Any, dict[str, Any]] = {}
    for row in rows:
        values = [
            float(v) if kind in ("number", "integer") and v is not None else v
            for kind, v in zip(kinds, row, strict=True)
        ]
        found[values[0]] = dict(zip(names, values, strict=True))
    return found
