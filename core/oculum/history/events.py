"""Readings of a batch in the order in which they count, and what each field's newest value is there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from ..arrays import Ints, Truths, in_turn
from ..batches import Column, Group
from ..language.fields import FieldSpec
from .compiled import compiled
from .following import FEW, SET_BACK_US, follow


@dataclass(frozen=True)
class Newest:
    """The newest reading of one field of one device: its value and measured time (µs)."""

    value: Any
    at: int


class Known(Protocol):
    """What was newest before: int64 (n,) for each field, when it was measured, NEVER where there is none, by device."""

    def times(self, names: Sequence[str], ids: Ints) -> list[Ints]: ...


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
    ids: Ints  # (n,) identities of the batch's messages
    tracks: dict[str, Track] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.device)


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
        return Events(empty, empty, empty, empty, empty.astype(bool), ids)
    rows = _joined([g.rows for g in groups])
    at = _joined([g.at for g in groups])
    owners = _joined([g.owner if g.owner is not None else device[g.rows] for g in groups])
    keep, event_of = in_turn(owners, rows, at)
    message = rows[keep]
    devices = owners[keep]
    count = len(keep)
    starts = np.ones(count, bool)
    starts[1:] = devices[1:] != devices[:-1]
    heads = np.flatnonzero(starts)
    first = np.ones(count, bool)
    first[1:] = (message[1:] != message[:-1]) | starts[1:]
    events = Events(devices, message, arrival[message], at[keep], first, ids)
    offset = 0
    placed: dict[str, tuple[FieldSpec, list[tuple[np.ndarray, Column]]]] = {}
    for group in groups:
        where = event_of[offset : offset + len(group.rows)]
        offset += len(group.rows)
        for spec in group.fields:
            known = placed.setdefault(spec.name, (spec, []))
            if spec.kind == known[0].kind:  # two versions of a decoder may differ in what a name is
                known[1].append((where, group.columns[spec.name]))
    bounds = np.append(heads, count)
    times = newest.times(list(placed), devices[heads])
    for (name, (spec, parts)), before in zip(placed.items(), times, strict=True):
        column = _placed(count, parts)
        track = Track(spec, column, np.empty(count, bool), np.empty(count, np.int64))
        loop = compiled("follow") if count > FEW else follow
        loop(bounds, events.at, events.arrival, column.state, before, track.fresh, track.source)
        events.tracks[name] = track
    return events


def _joined(columns: list[np.ndarray]) -> np.ndarray:
    return np.concatenate(columns) if len(columns) > 1 else columns[0]


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
