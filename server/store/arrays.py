"""Answers of the database by columns, as arrays: none of their cells is read one by one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import psycopg
from psycopg.adapt import Transformer
from psycopg.pq import Format

from server.store.encoding import EPOCH_2000_US

TEXTS = 1009  # PostgreSQL's number of text[]
NEVER = np.iinfo(np.int64).min  # '-infinity', as a moment
KINDS = {"int": ("bigint", "i8"), "float": ("float8", "f8"), "time": ("timestamptz", "i8"), "flag": ("boolean", "?")}


def arrays(cursor: Any, kinds: Sequence[str], query: str, values: Any = ()) -> list[np.ndarray]:
    """The columns of a query of which none has a null, in its order: int64 (n,) for int; float (n,); int64 (n,), µs
    since 1970, for time; bool (n,) for flag. cursor: of Django or of psycopg; another one of its connection asks.
    """
    names = [f"c{place}" for place in range(len(kinds))]
    cells = ", ".join(f"array_agg({name}::{KINDS[kind][0]})" for name, kind in zip(names, kinds, strict=True))
    with psycopg.Cursor(cursor.connection) as own:
        asked = f"select {cells} from ({query}) answer({', '.join(names)})"
        row = cells_of(own.execute(asked, values, binary=True))
    return [_column(body, kind) for body, kind in zip(row, kinds, strict=True)]


def _column(body: bytes | None, kind: str) -> np.ndarray:
    found = as_numbers(body, KINDS[kind][1])
    return np.where(found == NEVER, NEVER, found + EPOCH_2000_US) if kind == "time" else found


def cells_of(cursor: psycopg.Cursor[Any]) -> list[bytes | None]:
    """The one row of an answer as PostgreSQL sends it."""
    found = cursor.pgresult
    assert found is not None and found.ntuples == 1
    return [found.get_value(0, column) for column in range(found.nfields)]


def as_numbers(body: bytes | None, kind: str) -> np.ndarray:
    """A one-dimensional array in PostgreSQL's binary form, none of it null: behind its head of 20 bytes each number
    stands behind its length.
    """
    if body is None:
        return np.zeros(0, kind)
    return np.frombuffer(body, [("length", ">i4"), ("value", f">{kind}" if kind != "?" else "?")], offset=20)[
        "value"
    ].astype(kind)


def as_numbers_by_row(body: bytes | None, rows: int) -> np.ndarray:
    """float (rows, w): a two-dimensional array of float8 in PostgreSQL's binary form, none of it null."""
    if body is None:
        return np.zeros((rows, 0))
    found = np.frombuffer(body, [("length", ">i4"), ("value", ">f8")], offset=28)["value"]
    return found.astype("f8").reshape(rows, -1)


def as_whole(body: bytes | None, kind: str) -> np.ndarray:
    return as_numbers(body, kind).astype(np.int64, copy=False)


def as_times(body: bytes | None) -> np.ndarray:
    return as_whole(body, "i8") + EPOCH_2000_US


def as_texts(body: bytes | None) -> list[str | None]:
    """A one-dimensional array of texts in PostgreSQL's binary form."""
    loader = Transformer().get_loader(TEXTS, Format.BINARY)
    return loader.load(body) if body is not None else []


def as_table(row: np.ndarray, column: np.ndarray, value: np.ndarray, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """Values by what their rows are of, rising: int64 (n,) and float (n, columns), NaN where there is none."""
    owners, place = np.unique(row, return_inverse=True)
    found = np.full((len(owners), columns), np.nan)
    found[place.reshape(-1), column] = value
    return owners, found
