"""Columns of readings to rows of the store: PostgreSQL's binary COPY format, built from arrays."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson

from oculum.arrays import Bytes, Ints, distinct
from oculum.batches import FIRST_REASON, PRESENT, Group
from oculum.language.fields import FieldSpec
from server.store.encoding import encoded

HEADER = b"PGCOPY\n\xff\r\n\x00" + bytes(8)
TRAILER = struct.pack(">h", -1)
TEXT = 25
_NULL = struct.pack(">i", -1)
COLUMNS = "device_id, at, layout_id, version_id, message_id, received_at, nums, texts, missing"


def listed(table: str) -> str:
    """The columns of a reading, of a table by its short name."""
    return ", ".join(f"{table}.{c.strip()}" for c in COLUMNS.split(","))


def named(names: Iterable[str]) -> list[str]:
    """What the fields of a layout contain that has one of them, as JSON."""
    return [orjson.dumps([{"name": name}]).decode() for name in names]


def json_of(value: Any) -> Any:
    """A jsonb column as Django's cursors hand it over."""
    return orjson.loads(value) if isinstance(value, str | bytes) else value


def specs(fields: Iterable[dict[str, Any]]) -> dict[str, FieldSpec]:
    """Declared fields by name."""
    return {f["name"]: FieldSpec.from_dict(f) for f in fields}


def is_text(spec: FieldSpec) -> bool:
    return spec.kind == "text" or spec.wide


def slots(fields: tuple[FieldSpec, ...]) -> int:
    """Places in `nums`: a position takes two, texts and wide integers none."""
    return sum(0 if is_text(spec) else 2 if spec.kind == "position" else 1 for spec in fields)


def placed(fields: Iterable[FieldSpec]) -> Iterator[tuple[FieldSpec, int]]:
    """Each field with its place, from 0: in `texts` where it is one (`is_text`), else in `nums`."""
    num = text = 0
    for spec in fields:
        yield spec, text if is_text(spec) else num
        text, num = text + is_text(spec), num + slots((spec,))


def cell(column: str, places: Mapping[int, Sequence[int]], more: int = 0) -> str:
    """SQL for a value of a row `r`, whatever layout it has. places: by place in `column`, from 1, the layouts that
    have it there.
    """
    arms = " ".join(
        f"when r.layout_id = any('{{{','.join(map(str, layouts))}}}') then r.{column}[{place + more}]"
        for place, layouts in places.items()
    )
    return f"case {arms} end" if arms else "null::float8"


@dataclass
class Rows:
    """Rows of a layout in the format, sorted by device and time: int64 (n,) each (µs), and their bytes. names: of the
    fields of which some row says something.
    """

    layout: int
    names: frozenset[str]
    device: Ints
    at: Ints
    body: Bytes


def build_rows(
    group: Group,
    reasons: list[str],
    layout: int,
    version: int,
    device: np.ndarray,
    message: np.ndarray,
    received: np.ndarray,
) -> Rows:
    """The rows of one group. device, message, received: int64 a message of the batch."""
    if not len(group.rows):
        return Rows(layout, frozenset(), np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.uint8))
    some = np.zeros(len(group.rows), bool)
    names = []
    for name, column in group.columns.items():
        there = column.state != 0
        some |= there
        if there.any():
            names.append(name)
    order = np.flatnonzero(some)
    owner = group.owner if group.owner is not None else device[group.rows]
    order = order[np.lexsort((message[group.rows[order]], group.at[order], owner[order]))]
    rows, at, owner = group.rows[order], group.at[order], owner[order]
    together = _together(group, order, rows, at, owner)
    if together is not None:
        rows, at, owner = rows[together.starts], at[together.starts], owner[together.starts]
    count, width = len(rows), slots(group.fields)
    nums = np.zeros((count, width))
    there = np.zeros((count, width), bool)
    texts: list[tuple[np.ndarray, np.ndarray]] = []
    missing: list[tuple[str, np.ndarray]] = []
    for spec, slot in placed(group.fields):
        column = group.columns[spec.name]
        values, state = column.values[order], column.state[order]
        if together is not None:
            values, state = together.joined(values, state)
        if (state >= FIRST_REASON).any():
            missing.append((spec.name, state))
        if is_text(spec):
            texts.append((values, state == PRESENT))
            continue
        size = slots((spec,))
        nums[:, slot : slot + size] = values.reshape(count, size)
        there[:, slot : slot + size] = (state == PRESENT)[:, None]
    tails = _tails(count, texts, missing, reasons)
    body = encoded(owner, at, layout, version, message[rows], received[rows], nums, there, *tails)
    return Rows(layout, frozenset(names), owner, at, body)


@dataclass(frozen=True)
class _Together:
    """Runs of elements that become one row each. starts, ends: int64 (m,), first and last of each run."""

    starts: np.ndarray
    ends: np.ndarray

    def joined(self, values: np.ndarray, state: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of each run the element that says something of a field."""
        last = np.maximum.accumulate(np.where(state != 0, np.arange(len(state)), -1))[self.ends]
        told = last >= self.starts
        pick = np.where(told, last, self.starts)
        return values[pick], np.where(told, state[pick], 0)


def _together(group: Group, order: np.ndarray, rows: np.ndarray, at: np.ndarray, owner: np.ndarray) -> _Together | None:
    """Elements of one message, device and time that speak of different fields, as the records of a pack do; None where
    there are none.
    """
    if len(order) < 2:
        return None
    fresh = np.ones(len(order), bool)
    fresh[1:] = (rows[1:] != rows[:-1]) | (at[1:] != at[:-1]) | (owner[1:] != owner[:-1])
    if fresh.all():
        return None
    run = np.cumsum(fresh) - 1
    twice = np.zeros(int(run[-1]) + 1, bool)
    for column in group.columns.values():
        twice |= np.bincount(run[column.state[order] != 0], minlength=len(twice)) > 1
    fresh |= twice[run]  # a field that is told twice: the store puts one after the other
    starts = np.flatnonzero(fresh)
    return _Together(starts, np.append(starts[1:] - 1, len(order) - 1))


def _tails(
    count: int, texts: list[tuple[np.ndarray, np.ndarray]], missing: list[tuple[str, np.ndarray]], reasons: list[str]
) -> tuple[Bytes, Ints, Ints]:
    """Texts and what is missing: uint8, and where in it those of each row begin and end."""
    kinds, which = _gone(count, missing, reasons)
    if not texts:
        kinds = [_NULL + gone for gone in kinds]
    else:
        found = []
        for i, k in enumerate(which.tolist()):
            own = [struct.pack(">iiiii", 1, 1, TEXT, len(texts), 1)]
            for values, present in texts:
                data = str(values[i]).replace("\x00", "\N{SYMBOL FOR NULL}").encode("utf-8", "replace")
                own.append(struct.pack(">i", len(data)) + data if present[i] else _NULL)
            body = b"".join(own)
            found.append(struct.pack(">i", len(body)) + body + kinds[k])
        kinds, which = found, np.arange(count)
    sizes = np.fromiter(map(len, kinds), np.int64, len(kinds))
    ends = sizes.cumsum()
    return np.frombuffer(bytearray().join(kinds), np.uint8), (ends - sizes)[which], ends[which]


def _gone(count: int, missing: list[tuple[str, np.ndarray]], reasons: list[str]) -> tuple[list[bytes], Ints]:
    """Why values are missing: what different rows say, and which of that each row does."""
    if not missing:
        return [_NULL], np.zeros(count, np.int64)
    states = np.stack([np.where(state >= FIRST_REASON, state, 0) for _, state in missing], axis=1)
    kinds, which = distinct(*states.T)
    told = []
    for row in kinds.T.tolist():
        found = {name: reasons[state - FIRST_REASON] for (name, _), state in zip(missing, row, strict=True) if state}
        data = b"\x01" + orjson.dumps(found)
        told.append(struct.pack(">i", len(data)) + data if found else _NULL)
    return told, which


def row_values(
    fields: list[dict[str, Any]], nums: list[float | None], texts: list[str | None] | None
) -> dict[str, Any]:
    """A stored row as values by field name; fields without a value are left out."""
    found: dict[str, Any] = {}
    slot = text = 0
    for spec in fields:
        kind = spec["kind"]
        if kind == "text" or spec.get("wide"):
            value: Any = texts[text] if texts else None
            text += 1
        elif kind == "position":
            value = [nums[slot], nums[slot + 1]] if nums[slot] is not None else None
            slot += 2
        else:
            value = nums[slot]
            slot += 1
        if value is not None:
            found[spec["name"]] = value
    return found
