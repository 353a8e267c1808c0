"""Readings of a batch in the order in which they count, and what each field's newest value is there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from ..arrays import Ints, Truths, Values, in_order, in_order_of
from ..batches import PRESENT, Column, Group
from ..language.fields import FieldSpec


@dataclass(frozen=True)
class Newest:
    """The newest reading of one field of one device: its value and measured time (µs)."""

    value: Any
    at: int


class Known(Protocol):
    """What was newest before: values of a field and when they were measured (NEVER where there is none), by device."""

    def column(self, name: str, ids: Ints, sample: Values | None) -> tuple[Values, Ints]: ...


@dataclass
class Track:
    """One field over the events. fresh: bool (m,), a value that is not late. source: int64 (m,), the event

    that gave the newest value at that point, or -1 where it stems from before the batch.
    """

    spec: FieldSpec
    column: Column
    fresh: Truths
    source: Ints


@dataclass
class Events:
    """One event a message and measured time, sorted by device, then arrival, then measured time.

    device, message (row in the batch), arrival, at: int64 (m,). first: bool (m,), the message's first event.
    """

    device: Ints
    message: Ints
    arrival: Ints
    at: Ints
    first: Truths
    segment: Ints  # start index of the device's events, for every event
    ids: Ints  # (n,) identities of the batch's messages
    tracks: dict[str, Track] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.device)


NEVER = int(np.iinfo(np.int64).min)  # no moment
SET_BACK_US = 5 * 60 * 1_000_000  # a clock that goes back by more has been set right; by less, it stands still


def eras(received: np.ndarray, clock: int) -> list[tuple[int, int, np.ndarray]]:
    """Arrivals by the stretches in which the clock was not set back: first, last + 1, and the moments as they count.

    received: int64 (n,), stamps in order of arrival; clock: the moment that counted before. Within a stretch
    time never goes back; each stretch is counted as if nothing had been stamped later.
    """
    found = []
    start = 0
    while start < len(received):
        if received[start] < clock - SET_BACK_US:
            clock = int(received[start])
        arrival = np.maximum.accumulate(np.maximum(received[start:], clock))
        back = np.flatnonzero(received[start:] < arrival - SET_BACK_US)
        size = int(back[0]) if len(back) else len(arrival)
        found.append((start, start + size, arrival[:size]))
        clock = int(arrival[size - 1])
        start += size
    return found


def build_events(
    groups: Sequence[Group],
    device: Ints,
    arrival: Ints,
    newest: Known,
    ids: Ints,
) -> Events:
    """The events of a batch's groups.

    device, arrival, ids: int64 (n,) a message, arrival not decreasing. `newest` holds what was known before.
    """
    if not groups:
        empty = np.zeros(0, np.int64)
        return Events(empty, empty, empty, empty, empty.astype(bool), empty, ids)
    rows = _joined([g.rows for g in groups])
    at = _joined([g.at for g in groups])
    owners = _joined([g.owner if g.owner is not None else device[g.rows] for g in groups])
    forth = (rows[1:] > rows[:-1]) | ((rows[1:] == rows[:-1]) & (at[1:] >= at[:-1]))
    order = in_order(owners) if forth.all() else in_order_of(owners, rows, at)
    rows_sorted, at_sorted, owners_sorted = rows[order], at[order], owners[order]
    fresh_row = np.ones(len(order), bool)
    fresh_row[1:] = (
        (rows_sorted[1:] != rows_sorted[:-1])
        | (at_sorted[1:] != at_sorted[:-1])
        | (owners_sorted[1:] != owners_sorted[:-1])
    )
    event_of = np.empty(len(order), np.int64)
    event_of[order] = np.cumsum(fresh_row) - 1
    keep = order[fresh_row]
    message = rows[keep]
    devices = owners[keep]
    count = len(keep)
    starts = np.ones(count, bool)
    starts[1:] = devices[1:] != devices[:-1]
    heads = np.flatnonzero(starts)
    segment = np.repeat(heads, np.diff(heads, append=count))
    first = np.ones(count, bool)
    first[1:] = (message[1:] != message[:-1]) | starts[1:]
    events = Events(devices, message, arrival[message], at[keep], first, segment, ids)
    offset = 0
    placed: dict[str, tuple[FieldSpec, list[tuple[np.ndarray, Column]]]] = {}
    for group in groups:
        where = event_of[offset : offset + len(group.rows)]
        offset += len(group.rows)
        for spec in group.fields:
            known = placed.setdefault(spec.name, (spec, []))
            if spec.kind == known[0].kind:  # two versions of a decoder may differ in what a name is
                known[1].append((where, group.columns[spec.name]))
    device_index = np.cumsum(starts) - 1
    ranks, scale = _ranks(events.at, int(device_index[-1]) + 2 if count else 1)
    for name, (spec, parts) in placed.items():
        events.tracks[name] = _track(events, spec, parts, ranks, scale, device_index, starts, newest)
    return events


def _joined(columns: list[np.ndarray]) -> np.ndarray:
    return np.concatenate(columns) if len(columns) > 1 else columns[0]


def _ranks(at: np.ndarray, segments: int) -> tuple[np.ndarray, int]:
    """Numbers from 1 in the order of moments, and one above all of them, so that its multiples keep segments apart."""
    low, high = (int(at.min()), int(at.max())) if len(at) else (0, 0)
    if (high - low + 2) * segments < 1 << 62:
        return at - low + 1, high - low + 2
    return np.unique(at, return_inverse=True)[1].astype(np.int64) + 1, len(at) + 2


def _track(
    events: Events,
    spec: FieldSpec,
    parts: list[tuple[np.ndarray, Column]],
    ranks: np.ndarray,
    scale: int,
    device_index: np.ndarray,
    starts: np.ndarray,
    newest: Known,
) -> Track:
    count = len(events)
    column = _placed(count, parts)
    present = column.state == PRESENT
    keys = device_index * scale + np.where(present, ranks, 0)
    highest = np.maximum.accumulate(keys)
    before = np.concatenate([[0], highest[:-1]])
    before = np.where(starts, device_index * scale, before)
    fresh = present & (keys >= before)
    heads = np.flatnonzero(starts)
    known = newest.column(spec.name, events.device[heads], None)[1]
    # What was measured far ahead of this arrival came by a clock that has been set right since.
    known = known.copy()
    known[known > events.arrival[heads] + SET_BACK_US] = NEVER
    if (known != NEVER).any():
        fresh &= events.at >= known[device_index]
    source = np.arange(count)
    if not fresh.all():
        source = np.maximum.accumulate(np.where(fresh, source, -1))
        source = np.where(source >= events.segment, source, -1)
    return Track(spec, column, fresh, source)


def _placed(count: int, parts: list[tuple[np.ndarray, Column]]) -> Column:
    """What groups say of a field at the places of their rows; a group that says nothing leaves what another said."""
    values = np.zeros((count, *parts[0][1].values.shape[1:]), np.result_type(*(column.values for _, column in parts)))
    state = np.zeros(count, np.int16)
    for where, column in parts:
        some = column.state != 0
        if some.all():
            values[where], state[where] = column.values, column.state
        else:
            values[where[some]], state[where[some]] = column.values[some], column.state[some]
    return Column(values, state)


def newest_after(events: Events) -> dict[tuple[int, str], tuple[Newest, int]]:
    """What is newest after the batch: (device, field) to value and the message row that brought it."""
    if not len(events):
        return {}
    ends = np.flatnonzero(np.append(events.device[1:] != events.device[:-1], True))
    found: dict[tuple[int, str], tuple[Newest, int]] = {}
    for name, track in events.tracks.items():
        sources = track.source[ends]
        for end, source in zip(ends[sources >= 0].tolist(), sources[sources >= 0].tolist(), strict=True):
            value = plain(track.column.values[source])
            found[(int(events.device[end]), name)] = (
                Newest(value, int(events.at[source])),
                int(events.message[source]),
            )
    return found


def plain(value: Any) -> Any:
    """A NumPy value as a plain one: positions as [lat, lon], wide integers as whole numbers."""
    if isinstance(value, np.ndarray):
        return [float(v) for v in value]
    return value.item() if isinstance(value, np.generic) else value
