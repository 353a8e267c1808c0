"""A data sheet's table (CSV) to the draft of a decoder: columns known by their headings or their look.

Rows that cannot be read are told with why.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from ..language import tree
from ..language.decoders import lines as written
from ..language.problems import Span
from ..quantities import is_unit, usual
from .making import field_name, place, printed

ROWS = 500
CELL_CHARACTERS = 2000
MOST_PLACE = 65_535
ROLES = ("address", "name", "type", "factor", "unit", "access", "codes")
_HEADINGS: dict[str, tuple[str, ...]] = {
    "address": ("address", "addr", "register", "reg", "offset", "byte", "bytes", "index", "position", "location"),
    "name": ("name", "quantity", "field", "signal", "parameter", "description", "content", "meaning", "designation"),
    "type": ("type", "format", "kind", "data type", "datatype", "size", "storage", "encoding"),
    "factor": ("factor", "scale", "multiplier", "resolution", "gain", "step", "lsb"),
    "unit": ("unit", "units", "uom", "dimension"),
    "access": ("access", "r/w", "rw", "mode", "permission"),
    "codes": ("codes", "values", "enumeration", "enum", "remarks", "note", "notes", "comment", "range"),
}
_TYPES: list[tuple[str, str]] = [
    (r"(?:u|uint|unsigned|ushort|word)\W*(?:int(?:eger)?)?\W*(?:of\W*)?(8|16|24|32|48|64)", "u"),
    (r"(?:i|s|int|sint|signed|short)\W*(?:int(?:eger)?)?\W*(?:of\W*)?(8|16|24|32|48|64)", "i"),
    (r"(?:f|float|real|ieee\W*754)\W*(16|32|64)", "f"),
]
_NAMED = {
    "byte": "u8",
    "word": "u16",
    "dword": "u32",
    "float": "f32",
    "single": "f32",
    "double": "f64",
    "real": "f32",
    "half": "f16",
    "char": "u8",
    "short": "i16",
    "ushort": "u16",
}
_UNITS = {  # what a data sheet means by it; beside what is usual anywhere
    "c": "Cel",
    "l": "L",
    "l/min": "L/min",
    "l/h": "L/h",
    "mg/l": "mg/L",
    "µg/l": "ug/L",
    "µs/cm": "uS/cm",
    "w/m²": "W/m2",
    "-": "",
    "": "",
}


@dataclass(frozen=True)
class Unread:
    """A row that gave no line: its number in the table (the first below the headings is 1), its text, and why."""

    row: int
    text: str
    why: str


@dataclass
class FromTable:
    """The draft, which column was taken for what, and the rows that could not be read."""

    text: str
    columns: dict[str, int] = field(default_factory=dict)
    unread: list[Unread] = field(default_factory=list)
    lines: int = 0


def table_rows(text: str) -> list[list[str]]:
    """The cells of a pasted table: CSV with commas, semicolons or tabs, or rows between bars. Raises ValueError."""
    if any(line.lstrip().startswith("|") for line in text.splitlines()):
        rows = [
            [cell.strip() for cell in line.strip().strip("|").split("|")]
            for line in text.splitlines()
            if line.strip().startswith("|")
        ]
        return [row for row in rows if not all(re.fullmatch(r":?-+:?|", cell) for cell in row)]
    sample = text[:4000]
    mark = max(("\t", ";", ","), key=lambda c: sample.count(c))
    try:
        rows = [[cell.strip() for cell in row] for row in csv.reader(io.StringIO(text), delimiter=mark)]
    except csv.Error as error:
        raise ValueError(f"this is no table: {error}") from None
    return [row for row in rows if any(row)]


def columns_of(rows: Sequence[Sequence[str]]) -> tuple[dict[str, int], bool]:
    """Which column is what, and whether the first row is one of headings."""
    found: dict[str, int] = {}
    for k, heading in enumerate(rows[0]):
        word = re.sub(r"\s+", " ", heading.lower()).strip(" .:*")
        for role in ROLES:
            if role not in found and any(word == h or re.search(rf"\b{re.escape(h)}\b", word) for h in _HEADINGS[role]):
                found[role] = k
                break
    if len(found) >= 2:
        return found, True
    found = {}
    width = max(len(r) for r in rows)
    cells = [[row[k] for row in rows if k < len(row) and row[k]] for k in range(width)]

    def share(k: int, test: re.Pattern[str]) -> float:
        return sum(bool(test.fullmatch(c.strip())) for c in cells[k]) / max(len(cells[k]), 1)

    tests = {
        "address": re.compile(r"(0x)?[0-9A-Fa-f]+( ?(-|–|to|\.\.) ?(0x)?[0-9A-Fa-f]+)?"),
        "factor": re.compile(r"[x×*]? ?[0-9]*[.,]?[0-9]+"),
    }
    for role, test in tests.items():
        for k in range(width):
            if k not in found.values() and share(k, test) > 0.6:
                found[role] = k
                break
    for k in range(width):
        if k not in found.values() and sum(storage_of(c) is not None for c in cells[k]) > len(cells[k]) * 0.6:
            found["type"] = k
            break
    for k in range(width):
        if k not in found.values() and cells[k] and "name" not in found and share(k, re.compile(r"[A-Za-z].*")) > 0.6:
            found["name"] = k
    return found, False


def storage_of(text: str) -> str | None:
    """`unsigned 16 bits`, `INT32`, `float` as the language writes them."""
    word = re.sub(r"\(.*?\)|\bbits?\b", "", text.lower()).strip(" .")
    if word in _NAMED:
        return _NAMED[word]
    for pattern, letter in _TYPES:
        match = re.match(pattern, word)
        if match:
            return f"{letter}{match[1]}"
    return None


def unit_of(text: str) -> str | None:
    """A unit by its UCUM code; empty for none, None for one that is not known."""
    word = text.strip()
    code = _UNITS.get(word.lower(), usual(word) or word)
    if code in ("", "1"):
        return ""
    return code if is_unit(code) else None


def scale_of(text: str) -> tuple[written.Scale, ...] | None:
    """`0.1`, `x 10`, `/100` as a scale; none for 1, None for what is no factor."""
    word = text.strip().replace(",", ".").lower().replace("×", "x").lstrip("x* ").strip()
    if word in ("", "-", "1", "1.0"):
        return ()
    if re.fullmatch(r"/ ?[0-9]+(\.[0-9]+)?", word, re.ASCII):
        return (written.Scale("/", word[1:].strip()),)
    power = re.fullmatch(r"10\^?\(?(-[0-9]+)\)?", word, re.ASCII)
    if power:
        return (written.Scale("*", f"1e{power[1]}"),)
    if not re.fullmatch(r"[0-9]*\.?[0-9]+(e-?[0-9]+)?", word, re.ASCII):
        return None
    value = float(word)
    if value == 0:
        return None
    if 0 < value < 1 and abs(round(1 / value) * value - 1) < 1e-12:
        return (written.Scale("/", str(round(1 / value))),)
    return (written.Scale("*", word.lstrip("0") if word.startswith("00") else word),)


def from_table(text: str, name: str, source: str = "bytes", order: str = "big") -> FromTable:
    """The draft of a decoder `name` for `bytes` or `registers`. Raises ValueError for a text that is no table."""
    rows = table_rows(text)
    if len(rows) < 2 or max(len(r) for r in rows) < 2:
        raise ValueError("this is no table: paste rows of cells between commas, semicolons, tabs or bars")
    if any(len(cell) > CELL_CHARACTERS for row in rows for cell in row):
        raise ValueError(f"a cell has at most {CELL_CHARACTERS} characters; is there a quote without its end?")
    if len(rows) > ROWS:
        raise ValueError(f"the table has {len(rows)} rows; at most {ROWS} are taken")
    columns, headed = columns_of(rows)
    found = FromTable("", columns)
    lines: list[written.Statement] = []
    taken: set[str] = set()
    for number, row in enumerate(rows[1:] if headed else rows, 1):
        line = _line(row, columns, source, taken, place(len(lines) + 3))
        if isinstance(line, str):
            found.unread.append(Unread(number, " | ".join(row)[:200], line))
        else:
            lines.append(line)
            taken.add(line.name)
    found.lines = len(lines)
    if source == "registers" and lines:
        lowest = min(first for first in (_first(line) for line in lines) if first is not None)
        lines.insert(0, written.Origin(place(2), tree.Quantity(place(2), str(lowest), None, None)))
    node = written.Decoder(place(1), name, source, order, None, tuple(lines))
    found.text = printed(node) if lines else f"decoder {name} for {source}, {order} endian\n"
    return found


def _first(line: written.Statement) -> int | None:
    placed = isinstance(line, written.Read) and isinstance(line.address, written.InRegister | written.InBytes)
    return line.address.first if placed else None  # type: ignore[union-attr]


def _line(row: Sequence[str], columns: dict[str, int], source: str, taken: set[str], at: Span) -> written.Read | str:
    """The line of one row, or why there is none."""

    def cell(role: str) -> str:
        where = columns.get(role)
        return row[where].strip() if where is not None and where < len(row) else ""

    number = r"(0x[0-9A-Fa-f]+|[0-9]+)"
    where = re.match(rf"{number}(?:\s*(?:-|–|to|\.\.)\s*{number})?", cell("address"))
    if not where:
        return "no address" if not cell("address") else f"`{cell('address')[:30]}` is no address"
    first, last = _whole(where[1]), _whole(where[2]) if where[2] else None
    if max(first, last or 0) > MOST_PLACE:
        return f"`{cell('address')[:30]}` is beyond every message"
    found = re.search(r"bits?\s*([0-9]{1,3})(?:\s*(?:-|–|to|\.\.)\s*([0-9]{1,3}))?", cell("address").lower(), re.ASCII)
    bits = None
    if found:
        ends = sorted((int(found[1]), int(found[2] or found[1])))
        bits = tree.Bits(ends[1], ends[0], ends[0] == ends[1])
    storage = storage_of(cell("type"))
    codes = re.findall(
        r"(?:^|[,;\s])([0-9]{1,5})\s*[:=]?\s*([A-Za-z][A-Za-z0-9 _/-]*?)(?=\s*(?:[,;]|$|\s[0-9]+\s*[:=]))",
        cell("codes"),
    )
    if cell("access").lower().strip() in ("w", "wo", "write", "write only"):
        return "can be written only: it belongs into a command"
    if not re.search(r"[A-Za-z]", cell("name")):
        return "no name"
    name = field_name(re.sub(r"^[^A-Za-z]+", "", cell("name")), taken)
    address = (written.InRegister if source == "registers" else written.InBytes)(at, first, None, bits)

    def read(kind: written.Kind, unit: str | None = None) -> written.Read:
        return written.Read(at, address, name, at, kind, unit, at if unit else None, ())

    if bits is not None and bits.single and not codes:
        return read(written.Flag(at))
    if bits is not None:
        storage = f"u{bits.high - bits.low + 1}"
    if storage is None and last is not None and source == "bytes" and first <= last < first + 8:
        storage = f"u{8 * (last - first + 1)}"
    if storage is None:
        return f"`{cell('type')[:30]}` is no type that is known" if cell("type") else "no type"
    if source == "registers" and storage in ("u8", "i8"):
        return "eight bits of a register: say which, as in `bits 7-0`"
    if len(codes) >= 2 and storage[0] == "u":
        texts = tuple((int(n), text.strip()) for n, text in codes)
        return read(written.Codes(at, written.Storage(storage), texts))
    said = _meaning(row) if not cell("factor") and not cell("unit") else None
    scales = scale_of(said[0] if said else cell("factor"))
    if scales is None:
        return f"`{cell('factor')[:30]}` is no factor"
    unit = unit_of(said[1] if said else cell("unit"))
    if unit is None:
        return f"`{cell('unit')[:30]}` is no unit that is known"
    return read(written.Stored(at, written.Storage(storage), scales), unit or None)


def _whole(text: str) -> int:
    """A number as data sheets write it: `0x10`, `010` and `16`."""
    return int(text, 16) if text.lower().startswith("0x") else int(text)


def _meaning(row: Sequence[str]) -> tuple[str, str] | None:
    """Factor and unit where one cell says both, as in `raw × 0.01 Cel`."""
    for cell in row:
        match = re.search(r"[×x*]\s*([0-9]+(?:[.,][0-9]+)?|10⁻?[⁰¹²³⁴-⁹]+)\s+(\S+)", cell)
        if match and match[1][0] in "0123456789" and "⁻" not in match[1]:
            return match[1], match[2].rstrip(",;")
    return None
