"""Readings of one device and moment that stand in rows of different layouts: of each field the newest arrival's stays,
as within a row.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import psycopg
from psycopg.types.json import Jsonb

from oculum.arrays import Ints, among, distinct
from oculum.language.fields import FieldSpec
from server.store.readings import Layouts
from server.store.rows import COLUMNS, Rows, is_text, json_of, listed, placed, slots, specs
from server.store.times import moment


def one_of_each(
    connection: psycopg.Connection[Any],
    layouts: Layouts,
    written: Sequence[Rows],
    newest: Callable[[Ints], Ints] | None = None,
) -> None:
    """Looks through rows that have just been written. newest: when what was stored before of some devices was measured
    last (µs); rows measured later meet none of it. None: it may have been at any time.
    """
    if not written:
        return
    near = layouts.near(connection, written)
    met = [_apart(rows, newest) for rows, others in zip(written, near, strict=True) if others]
    for first, second in itertools.combinations(written, 2):
        if first.layout != second.layout and first.names & second.names:
            met.append(_both(first, second))
    keys = np.concatenate(met, axis=1) if met else np.zeros((2, 0), np.int64)
    if not keys.shape[1]:
        return
    device, at = distinct(*keys)[0]
    concerned = sorted({rows.layout for rows in written}.union(*near))
    found = connection.execute(
        "with met as materialized (select r.device_id, r.at from unnest(%s::int[], %s::timestamptz[]) k(device, at)"
        " join reading_row r on r.device_id = k.device and r.at = k.at where r.layout_id = any(%s) group by 1, 2 having"
        " count(*) > 1) select r.device_id, r.at, r.message_id, r.layout_id, l.fields, r.nums, r.texts, r.missing from"
        " met join reading_row r using (device_id, at) join layout l on l.id = r.layout_id where r.layout_id = any(%s)"
        " order by 1, 2, 3, 4",
        (device.tolist(), [moment(us) for us in at.tolist()], concerned, concerned),
    ).fetchall()
    for _, several in itertools.groupby(found, key=lambda row: row[:2]):
        _settle(connection, [_Row.of(row) for row in several])


def _apart(rows: Rows, newest: Callable[[Ints], Ints] | None) -> np.ndarray:
    """int64 (2, k): devices and moments of rows that may meet stored ones."""
    keys = np.stack([rows.device, rows.at])
    return keys if newest is None else keys[:, rows.at <= newest(rows.device)]


def _both(first: Rows, second: Rows) -> np.ndarray:
    """int64 (2, k): devices and moments that stand in both."""
    count = len(first.device)
    which = distinct(np.append(first.device, second.device), np.append(first.at, second.at))[1]
    there, _ = among(np.unique(which[count:]), which[:count])
    return np.stack([first.device[there], first.at[there]])


@dataclass
class _Row:
    """A stored row that is to lose fields."""

    device: int
    at: Any
    message: int
    layout: int
    fields: dict[str, FieldSpec]
    nums: list[float | None]
    texts: list[str | None]
    missing: dict[str, str]
    recorded: bool = False  # whether it goes on record as it was
    changed: bool = False

    @classmethod
    def of(cls, row: tuple[Any, ...]) -> _Row:
        device, at, message, layout, fields, nums, texts, missing = row
        known = specs(json_of(fields))
        words = list(texts or [None] * sum(map(is_text, known.values())))
        return cls(device, at, message, layout, known, list(nums), words, dict(json_of(missing) or {}))

    def told(self) -> dict[str, Any]:
        """What it says, field by field."""
        found: dict[str, Any] = {name: ("missing", why) for name, why in self.missing.items()}
        for name, (values, place, size) in self._places().items():
            if values[place] is not None:
                found[name] = tuple(values[place : place + size])
        return found

    def clear(self, name: str) -> None:
        values, place, size = self._places()[name]
        values[place : place + size] = [None] * size
        self.missing.pop(name, None)
        self.changed = True

    def _places(self) -> dict[str, tuple[list[Any], int, int]]:
        return {
            spec.name: (self.texts, place, 1) if is_text(spec) else (self.nums, place, slots((spec,)))
            for spec, place in placed(self.fields.values())
        }


def _settle(connection: psycopg.Connection[Any], rows: Sequence[_Row]) -> None:
    """Rows of one device and moment in the order of arrival. What is said once more in the same way does nothing; what
    is said otherwise replaces what was said before, which goes on record.
    """
    standing: dict[str, tuple[_Row, Any]] = {}
    for row in rows:
        for name, value in row.told().items():
            before = standing.get(name)
            if before is None or before[0].message == row.message:
                standing[name] = (row, value)
            elif before[1] == value:
                row.clear(name)
            else:
                before[0].clear(name)
                before[0].recorded = True
                standing[name] = (row, value)
    for row in rows:
        key = (row.device, row.at, row.layout)
        this = "device_id = %s and at = %s and layout_id = %s"
        if row.recorded:
            connection.execute(
                f"insert into replaced_reading ({COLUMNS}) select {listed('r')} from reading_row r where {this}", key
            )
        if row.changed and not row.told():
            connection.execute(f"delete from reading_row where {this}", key)
        elif row.changed:
            connection.execute(
                f"update reading_row set nums = %s, texts = %s, missing = %s where {this}",
                (row.nums, row.texts or None, Jsonb(row.missing) if row.missing else None, *key),
            )
