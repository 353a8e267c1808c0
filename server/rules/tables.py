"""Reference tables as files: read row by row, each refused with line and reason, and written the same again."""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass, field
from typing import Any

from oculum.quantities import UnitError, parse_unit
from oculum.text import harmless
from server.records.definitions.models import ReferenceTable
from server.rules.refusal import Refused
from server.rules.registering import control
from server.rules.routes import looking_up

MOST_ROWS, MOST_COLUMNS, MOST_TEXT = 10_000, 32, 200
NAME = re.compile(r"[a-z][a-z0-9_]{0,62}")
HEAD = re.compile(
    r"(?P<name>[^\s\[\]!*]+)(?:\s+\[(?P<unit>[^\s]+)\])?(?:\s+(?P<kind>text|number|flag))?(?P<marks>[ !*]*)"
)
TRUE, FALSE = {"true", "yes", "1"}, {"false", "no", "0"}


@dataclass
class Read:
    columns: list[dict[str, Any]]
    rows: list[list[Any]] = field(default_factory=list)
    refused: list[dict[str, Any]] = field(default_factory=list)


def read(text: str) -> Read:
    """The rows of a file, those that are sound. Raises Refused where its head cannot be read.

    A column's heading is its name; in brackets a unit, which makes it a number; `text`, `number` or `flag`; `!` for one
    that every row must have, `*` for one whose values differ. The first column is the key: it is both.
    """
    lines = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"))))
    if not lines or not any(cell.strip() for cell in lines[0]):
        raise Refused("invalid", "line 1: the file is empty; expected headings such as `device, offset [mg/L]`")
    if len(lines[0]) > MOST_COLUMNS:
        raise Refused("invalid", f"line 1: found {len(lines[0])} columns; at most {MOST_COLUMNS} are taken")
    columns = [column(cell, k) for k, cell in enumerate(lines[0])]
    names = [c["name"] for c in columns]
    twice = next((n for n in names if names.count(n) > 1), None)
    if twice is not None:
        raise Refused("invalid", f"line 1: `{twice}` stands twice")
    found = Read(columns)
    known: list[dict[Any, int]] = [{} for _ in columns]
    for number, cells in enumerate(lines[1:], start=2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(found.rows) >= MOST_ROWS:
            raise Refused("too many", f"a table has at most {MOST_ROWS:,} rows")
        try:
            found.rows.append(row(cells, columns, known, number))
        except ValueError as error:
            found.refused.append({"line": number, "why": str(error)})
    return found


def column(cell: str, place: int) -> dict[str, Any]:
    """A heading as a column. Raises Refused."""
    parts = HEAD.fullmatch(cell.strip())
    if parts is None or not NAME.fullmatch(parts["name"]):
        words = "a name of small letters, digits and `_`, then perhaps a unit in brackets, as in `offset [mg/L]`"
        raise Refused("invalid", f"line 1, column {place + 1}: found `{harmless(cell, 60)}`, expected {words}")
    unit, kind = parts["unit"], parts["kind"]
    if unit is not None:
        try:
            parse_unit(unit)
        except UnitError as error:
            raise Refused("invalid", f"line 1, column {place + 1}: {error}") from None
        if kind not in (None, "number"):
            raise Refused("invalid", f"line 1, column {place + 1}: a {kind} has no unit")
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


def written(table: ReferenceTable) -> str:
    """A table as a file that gives the same table again."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = []
    for k, about in enumerate(table.columns):
        unit = about["unit"]
        cell = about["name"] + (f" [{unit}]" if unit not in (None, "1") else "")
        cell += " number" if unit == "1" else " flag" if about["kind"] == "flag" else ""
        marks = "" if k == 0 else ("!" if about["required"] else "") + ("*" if about["unique"] else "")
        head.append(f"{cell} {marks}" if marks else cell)
    writer.writerow(head)
    for values in table.rows:
        writer.writerow([_cell(v) for v in values])
    return out.getvalue()


def _cell(one: Any) -> str:
    if one is None:
        return ""
    if isinstance(one, bool):
        return "yes" if one else "no"
    return f"{one:.15g}" if isinstance(one, float) else str(one)


def keep(table: ReferenceTable, found: Read, person: Any) -> None:
    """Puts rows into a table, and the change into the stream."""
    if (
        table.pk
        and {c["name"]: (c["kind"], c["unit"]) for c in table.columns}.items()
        - {c["name"]: (c["kind"], c["unit"]) for c in found.columns}.items()
    ):
        users = looking_up(table.name)
        if users:
            raise Refused("in use", f"columns would go or change, and “{users[0]}” looks this table up", 409)
    table.columns, table.rows, table.person = found.columns, found.rows, person
    control("table", {"name": table.name, "columns": found.columns, "rows": found.rows}, person)
