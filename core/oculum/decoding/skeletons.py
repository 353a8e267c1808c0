"""JSON documents that differ in their values alone, read without being built: numbers into arrays, texts cut out.

A *skeleton* is what such documents have in common: brackets, keys, commas and the blanks between. One compiled loop
holds documents against it and reads the values that stand between its pieces; what it cannot read to the last digit
(RFC 8259, section 6; W. D. Clinger, "How to read floating point numbers accurately", 1990) goes to the parser, value by
value. Documents that fit no skeleton are left to the parser.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import orjson

from ..compiling import Loops
from .sources import GONE, read_json

FEWEST = 64  # fewer documents are parsed
SKELETONS = 8  # that the documents of a batch may have
VALUES = 1024  # that a document may have
NONE, WHOLE, NUMBER, TEXT, TRUE, FALSE, NULL, PARSED = range(8)  # kinds of values; the last is left to the parser
_PARTS = re.compile(rb'[ \t\n\r]+|"(?:[^"\\]|\\.)*"|-?[0-9][0-9.eE+-]*|true|false|null|[\[\]{},:]')
_POWERS = np.array([float(10**n) for n in range(23)])  # all exact
Path = tuple[str, ...]


@dataclass
class Column:
    """What stands at a path of all documents.

    kinds: int8 (n,); numbers: float64 (n,), where the kind is WHOLE or NUMBER; begins, ends: int64 (n,), where the
    value stands in `text`, whose characters are the bytes.
    """

    kinds: np.ndarray
    numbers: np.ndarray
    begins: np.ndarray
    ends: np.ndarray
    text: str

    def __len__(self) -> int:
        return len(self.kinds)

    def of(self, rows: np.ndarray) -> Column:
        return Column(self.kinds[rows], self.numbers[rows], self.begins[rows], self.ends[rows], self.text)

    def value(self, i: int) -> Any:
        """The value that a parser would give, or GONE."""
        kind = self.kinds[i]
        if kind in (WHOLE, NUMBER):
            return int(self.numbers[i]) if kind == WHOLE else float(self.numbers[i])
        written = self.text[self.begins[i] : self.ends[i]]
        if kind == TEXT:
            return written
        if kind == PARSED:
            return orjson.loads(written.encode("latin-1"))
        return {NONE: GONE, TRUE: True, FALSE: False, NULL: None}[int(kind)]

    @cached_property
    def listed(self) -> list[Any]:
        """The values that a parser would give; GONE where there is none."""
        text = self.text
        if (self.kinds == TEXT).all():
            return [text[a:b] for a, b in zip(self.begins.tolist(), self.ends.tolist(), strict=True)]
        if (self.kinds == NUMBER).all():
            return self.numbers.tolist()
        return [self.value(i) for i in range(len(self))]


@dataclass(frozen=True)
class Skeleton:
    """literal: uint8 (bytes,), the pieces one after the other. pieces: int64 (values + 2,): where each begins, and the
    end. columns: int64 (values,): which column a value goes to, or -1.
    """

    literal: np.ndarray
    pieces: np.ndarray
    columns: np.ndarray


def skeleton_of(raw: bytes, wanted: dict[Path, int]) -> Skeleton | None:
    """Of a document that has been parsed; None where it has none, or where a wanted value is no plain one."""
    above = {path[:depth] for path in wanted for depth in range(1, len(path))}
    pieces: list[bytes] = [b""]
    columns: list[int] = []
    path: list[Any] = []
    keys: list[set[str] | None] = []  # of the objects around, None for a list
    key = False  # whether a key comes next
    for found in _PARTS.finditer(raw):
        part = found[0]
        first = part[:1]
        if key and first == b'"':
            name = orjson.loads(part)
            own = keys[-1]
            if own is None or name in own:
                return None  # one key twice: the later counts
            own.add(name)
            path[-1], key = name, False
        elif first in b'"-0123456789tfn':
            here = tuple(path)
            if here in above or not keys or len(columns) == VALUES:
                return None
            columns.append(wanted.get(here, -1))
            pieces.append(b"")
            if keys[-1] is None:
                path[-1] += 1
            continue
        elif first in b"{[":
            here = tuple(path)
            if here in wanted or (first == b"[" and (here in above or not keys)):
                return None
            keys.append(set() if first == b"{" else None)
            path.append(0)
            key = first == b"{"
        elif first in b"}]":
            keys.pop()
            path.pop()
            key = False
            if keys and keys[-1] is None:
                path[-1] += 1
        elif first == b",":
            key = keys[-1] is not None
        pieces[-1] += part
    ends = np.cumsum([0, *map(len, pieces)], dtype=np.int64)
    return Skeleton(np.frombuffer(b"".join(pieces), np.uint8), ends, np.array(columns, np.int64))


def fit(
    data: Any, starts: Any, ends: Any, rows: Any, literal: Any, pieces: Any, columns: Any, powers: Any, kinds: Any,
    numbers: Any, begins: Any, finishes: Any, fits: Any,
) -> int:  # fmt: skip
    """Reads the documents that fit a skeleton; returns how many.

    Args:
        data: uint8 (bytes,). starts, ends: int64 (n,): where each document stands. rows: int64 (m,): which to look at.
        literal, pieces, columns: the skeleton. powers: float64 (23,), of ten.
        kinds: int8 (k, n), numbers: float64 (k, n), begins, finishes: int64 (k, n): values of k columns, written.
        fits: int8 (n,), written for the rows: 1 where the document fits, 2 where it does and the parser must see
            whether it is one, else 0.
    """
    count, last = 0, len(columns)
    for k in range(len(rows)):
        row = rows[k]
        at, end = starts[row], ends[row]
        state = 1
        for place in range(last + 1):
            for i in range(pieces[place], pieces[place + 1]):
                if at >= end or data[at] != literal[i]:
                    state = 0
                    break
                at += 1
            if state == 0 or place == last:
                break
            begin, kind, value = at, NONE, 0.0
            byte = data[at] if at < end else 0
            if byte == 34:  # a text
                at += 1
                kind = TEXT
                while at < end and data[at] != 34 and data[at] >= 32:
                    if data[at] == 92 or data[at] >= 128:
                        kind, state = PARSED, 2
                        if data[at] == 92:
                            at += 1
                    at += 1
                if at >= end or data[at] != 34:
                    state = 0
                    break
                at += 1
            elif byte == 116:
                if at + 4 <= end and data[at + 1] == 114 and data[at + 2] == 117 and data[at + 3] == 101:
                    kind = TRUE
                    at += 4
            elif byte == 102:
                if (
                    at + 5 <= end
                    and data[at + 1] == 97
                    and data[at + 2] == 108
                    and data[at + 3] == 115
                    and data[at + 4] == 101
                ):
                    kind = FALSE
                    at += 5
            elif byte == 110:
                if at + 4 <= end and data[at + 1] == 117 and data[at + 2] == 108 and data[at + 3] == 108:
                    kind = NULL
                    at += 4
            else:
                minus = byte == 45
                if minus:
                    at += 1
                digits, whole, mantissa, tens = 0, True, 0, 0
                first = at
                while at < end and 48 <= data[at] <= 57:
                    if digits < 18:
                        mantissa = mantissa * 10 + (data[at] - 48)
                    digits += 1
                    at += 1
                if digits == 0 or (digits > 1 and data[first] == 48):
                    state = 0
                    break
                if at < end and data[at] == 46:
                    whole = False
                    at += 1
                    first = at
                    while at < end and 48 <= data[at] <= 57:
                        if digits < 18:
                            mantissa = mantissa * 10 + (data[at] - 48)
                        digits += 1
                        tens -= 1
                        at += 1
                    if at == first:
                        state = 0
                        break
                if at < end and (data[at] == 101 or data[at] == 69):
                    whole = False
                    at += 1
                    down = at < end and data[at] == 45
                    if at < end and (data[at] == 43 or data[at] == 45):
                        at += 1
                    first = at
                    power = 0
                    while at < end and 48 <= data[at] <= 57:
                        power = min(power * 10 + (data[at] - 48), 9999)
                        at += 1
                    if at == first:
                        state = 0
                        break
                    tens += -power if down else power
                if digits > 18 or mantissa > 9007199254740992 or (whole and minus and mantissa == 0):
                    kind = PARSED
                elif whole:
                    kind = WHOLE
                    value = -float(mantissa) if minus else float(mantissa)
                elif -22 <= tens <= 22:
                    kind = NUMBER
                    value = mantissa / powers[-tens] if tens < 0 else mantissa * powers[tens]
                    if minus:
                        value = -value
                else:
                    kind = PARSED
                if kind == PARSED and (digits > 300 or abs(tens) > 290):
                    state = 2  # perhaps beyond all bounds
            if kind == NONE:
                state = 0
                break
            column = columns[place]
            if column >= 0:
                kinds[column, row] = kind
                numbers[column, row] = value
                begins[column, row] = begin + 1 if kind == TEXT else begin
                finishes[column, row] = at - 1 if kind == TEXT else at
        if at != end:
            state = 0
        fits[row] = state
        if state == 0:
            kinds[:, row] = 0
        else:
            count += 1
    return count


compiled = Loops((sys.modules[__name__], ("fit",)))


def ready() -> None:
    """Compiles the loop, so that no batch waits for it."""
    i8, data = np.zeros(0, np.int64), np.frombuffer(b"", np.uint8)
    numbers, places = np.zeros((0, 0)), np.zeros((0, 0), np.int64)
    compiled("fit")(
        data, i8, i8, i8, data, np.zeros(2, np.int64), i8, _POWERS, np.zeros((0, 0), np.int8), numbers, places, places,
        np.zeros(0, np.int8),
    )  # fmt: skip


def read(data: np.ndarray, starts: np.ndarray, ends: np.ndarray, paths: Iterable[Path]) -> dict[Path, Column] | None:
    """What stands at paths of keys in documents; None where they are too few or have too many skeletons, where one is
    no document, or where a path leads to a list or an object, or through a value.

    data: uint8 (bytes,). starts, ends: int64 (n,).
    """
    count = len(starts)
    if count < FEWEST:
        return None
    wanted = {path: n for n, path in enumerate(paths)}
    shape = len(wanted), count
    kinds, numbers = np.zeros(shape, np.int8), np.zeros(shape)
    begins, finishes = np.zeros(shape, np.int64), np.zeros(shape, np.int64)
    fits = np.zeros(count, np.int8)
    rows = np.arange(count)
    for _ in range(SKELETONS):
        raw = data[starts[rows[0]] : ends[rows[0]]].tobytes()
        if read_json(raw)[1] is not None:
            return None
        skeleton = skeleton_of(raw, wanted)
        if skeleton is None:
            return None
        compiled("fit")(
            data, starts, ends, rows, skeleton.literal, skeleton.pieces, skeleton.columns, _POWERS, kinds, numbers,
            begins, finishes, fits,
        )  # fmt: skip
        rows = rows[fits[rows] == 0]
        if not len(rows):
            break
    else:
        return None
    buffer = data.tobytes()
    closer = np.flatnonzero(fits == 2).tolist()
    if any(read_json(buffer[starts[row] : ends[row]])[1] is not None for row in closer):
        return None
    text = buffer.decode("latin-1")
    return {path: Column(kinds[n], numbers[n], begins[n], finishes[n], text) for path, n in wanted.items()}
