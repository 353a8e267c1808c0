"""What is stored, in the shape in which decoders give it: to hold decoding again against."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import psycopg

from oculum.arrays import objects
from oculum.batches import FIRST_REASON, Column, Decoded, Group
from oculum.language.fields import FieldSpec
from server.store.rows import is_text, json_of, placed, row_values, specs
from server.store.sealed import arrived, in_one_view, stored_row
from server.store.times import moment, us

Layouts = dict[int, tuple[FieldSpec, ...]]
SELECTED = (
    "r.layout_id, r.device_id, (extract(epoch from r.at) * 1000000)::bigint, (extract(epoch from"
    " r.received_at) * 1000000)::bigint, r.message_id, r.nums, r.texts, r.missing"
)


def stored_of(
    own: psycopg.Connection[Any], ids: np.ndarray, received: tuple[int, int], owners: Sequence[int]
) -> Decoded:
    """The stored readings of some messages (ids: int64 (n,), rising), row by row of `ids`. received: when the first and
    the last of them arrived (µs); owners: devices that they may speak of.
    """
    layouts = {i: tuple(specs(f).values()) for i, f in own.execute("select id, fields from layout").fetchall()}
    rows = own.execute(
        f"select {SELECTED} from reading_row r join unnest(%s::bigint[]) k(id) on r.message_id = k.id where"
        f" r.message_id between %s and %s",
        (ids.tolist(), int(ids[0]), int(ids[-1])),
    ).fetchall()
    with own.cursor(binary=True) as cursor:
        for part in arrived(cursor, owners, None, received[0], received[1] + 1, texts=True):
            block = part.block
            for k in np.flatnonzero(np.isin(block.message, ids)).tolist():
                key = int(part.device[k]), int(block.at[k]), int(block.received[k]), int(block.message[k])
                rows.append((part.layout, *key, *stored_row(block, k)))
    return as_decoded(rows, layouts, np.searchsorted(ids, np.array([r[4] for r in rows], np.int64)), len(ids))


def as_decoded(rows: list[Any], layouts: Layouts, batch_row: np.ndarray, count: int) -> Decoded:
    """Stored rows as a decoded batch of `count` messages; batch_row: int64 (rows,), the message of each."""
    groups: list[Group] = []
    layout_of = np.array([r[0] for r in rows], np.int64)
    at = np.array([r[2] for r in rows], np.int64)
    owner = np.array([r[1] for r in rows], np.int64)
    for layout in np.unique(layout_of).tolist():
        index = np.flatnonzero(layout_of == layout)
        columns = _columns([rows[i] for i in index], layouts[layout])
        groups.append(Group(layouts[layout], batch_row[index], at[index], columns, None, owner[index]))
    none = np.full(count, -1, np.int32)
    return Decoded(groups, [], none, none, ["missing"], np.zeros(count, np.int64))


def _columns(rows: list[Any], fields: tuple[FieldSpec, ...]) -> dict[str, Column]:
    width = len(rows[0][5])
    nums = np.array([[np.nan if v is None else v for v in row[5]] for row in rows], float).reshape(len(rows), width)
    told = [json_of(row[7]) if row[7] is not None else {} for row in rows]
    columns: dict[str, Column] = {}
    for spec, place in placed(fields):
        values: np.ndarray
        if is_text(spec):
            found = [(row[6] or [None] * (place + 1))[place] for row in rows]
            there = np.array([v is not None for v in found])
            values = objects(found)
            if spec.wide:
                values = objects(int(v) if v is not None else 0 for v in found)
        else:
            there = ~np.isnan(nums[:, place])
            values = np.nan_to_num(nums[:, place : place + 2] if spec.kind == "position" else nums[:, place])
        missing = np.array([spec.name in t for t in told], bool)
        columns[spec.name] = Column(values, np.where(there, 1, np.where(missing, FIRST_REASON, 0)).astype(np.int16))
    return columns


@dataclass(frozen=True)
class Told:
    """What a message said of one moment. version: of the decoder; values, and why others are missing, by field."""

    version: int
    at: datetime
    values: dict[str, Any]
    missing: dict[str, str]


@dataclass(frozen=True)
class Before(Told):
    """What was said of a moment until something else took its place. message: which had said it; until: when that
    was.
    """

    message: int
    until: datetime


def before(cursor: Any, device: int, at: datetime, most: int) -> list[Before]:
    """What stood at a moment of a device before what stands there now, the last first."""
    cursor.execute(
        "select r.version_id, r.at, l.fields, r.nums, r.texts, r.missing, r.message_id, r.replaced_at from"
        " replaced_reading r join layout l on l.id = r.layout_id where r.device_id = %s and r.at = %s"
        " order by r.replaced_at desc, r.message_id desc limit %s",
        (device, at, most),
    )
    return [
        Before(version, at, row_values(json_of(fields), nums, texts), json_of(missing) or {}, message, until)
        for version, at, fields, nums, texts, missing, message, until in cursor.fetchall()
    ]


@in_one_view
def rows_of_message(cursor: Any, device: int, message: int, received: datetime) -> list[Told]:
    """All that is stored of one message of a device, the newest measured first."""
    cursor.execute(
        "select r.version_id, r.at, l.fields, r.nums, r.texts, r.missing from reading_row r join layout l on l.id ="
        " r.layout_id where r.device_id = %s and r.message_id = %s and r.received_at = %s",
        (device, message, received),
    )
    found = [
        Told(version, at, row_values(json_of(fields), nums, texts), json_of(missing) or {})
        for version, at, fields, nums, texts, missing in cursor.fetchall()
    ]
    parts = arrived(cursor, [device], None, us(received), us(received) + 1, texts=True)
    cursor.execute("select id, fields from layout where id = any(%s)", ([part.layout for part in parts],))
    layouts = {layout: json_of(fields) for layout, fields in cursor.fetchall()}
    for part in parts:
        for k in np.flatnonzero(part.block.message == message).tolist():
            nums, texts, missing = stored_row(part.block, k)
            values = row_values(layouts[part.layout], nums, texts)
            found.append(Told(int(part.block.version[k]), moment(int(part.block.at[k])), values, missing))
    return sorted(found, key=lambda told: told.at, reverse=True)
