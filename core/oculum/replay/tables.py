"""Tables as comma-separated text, with every mistake told by file, line and column."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from oculum.errors import OculumError

from ..clocks import iso_us


class FileError(OculumError):
    """What cannot be read: in which file, at which line (from 1) and in which column, and why."""

    def __init__(self, file: str, line: int, column: str, message: str) -> None:
        where = f"{file}, line {line}" + (f", column {column}" if column else "")
        super().__init__(f"{where}: {message}")
        self.file, self.line, self.column, self.message = file, line, column, message


@dataclass(frozen=True)
class Cell:
    """One cell with its place. An empty one is nothing."""

    file: str
    line: int
    column: str
    text: str

    def __bool__(self) -> bool:
        return bool(self.text)

    def fail(self, expected: str) -> FileError:
        found = f"found `{self.text[:60]}`" if self.text else "found nothing"
        return FileError(self.file, self.line, self.column, f"{found}, expected {expected}")

    def word(self) -> str:
        if not self.text:
            raise self.fail("a name")
        return self.text

    def number(self) -> float:
        try:
            found = float(self.text)
        except ValueError:
            raise self.fail("a number") from None
        if not math.isfinite(found):
            raise self.fail("a number")
        return found

    def time(self) -> int:
        """Microseconds since 1970."""
        try:
            return iso_us(self.text)
        except ValueError:
            raise self.fail("a time with its zone, such as 2026-01-31T06:00:00Z") from None

    def flag(self) -> bool:
        if self.text.lower() in ("yes", "true", "1"):
            return True
        if self.text.lower() in ("no", "false", "0", ""):
            return False
        raise self.fail("yes or no")


@dataclass(frozen=True)
class Line:
    file: str
    number: int
    cells: dict[str, str]

    def __getitem__(self, column: str) -> Cell:
        return Cell(self.file, self.number, column, self.cells.get(column, "").strip())


def lines(file: str, text: str, needed: Sequence[str], known: Sequence[str]) -> Iterator[Line]:
    """The lines of a table below its heading. Raises FileError where a column is missing, not known, or too many."""
    reader = csv.reader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    heading: list[str] | None = None
    try:
        for row in reader:
            if not any(cell.strip() for cell in row):
                continue
            if heading is None:
                heading = [cell.strip() for cell in row]
                for column in needed:
                    if column not in heading:
                        raise FileError(file, reader.line_num, column, f"this column is missing: `{','.join(needed)}`")
                for column in heading:
                    if column not in known:
                        raise FileError(
                            file, reader.line_num, column, f"not a column of this table; it has {', '.join(known)}"
                        )
                if len(set(heading)) != len(heading):
                    raise FileError(file, reader.line_num, "", "a column stands twice in the heading")
                continue
            if len(row) > len(heading):
                raise FileError(
                    file, reader.line_num, "", f"found {len(row)} cells, expected {len(heading)} as in the heading"
                )
            yield Line(file, reader.line_num, dict(zip(heading, row, strict=False)))
    except csv.Error as error:
        raise FileError(file, reader.line_num, "", f"this is no table: {error}") from None
    if heading is None:
        raise FileError(file, 1, "", f"the file is empty: it begins with the heading `{','.join(needed)}`")
