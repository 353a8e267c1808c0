"""Rows: the readings of a batch and the moments between them, by slot and in the order in which they count."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..arrays import in_order, in_order_of
from ..history.events import Events, Track
from .machine import ARRIVAL, READING, TIMER


@dataclass
class Moments:
    """Moments that are no readings: slot, at: int64 (m,); kind: what a row is; tag: of what they come, a number."""

    slot: np.ndarray
    at: np.ndarray
    kind: np.ndarray
    tag: np.ndarray

    @classmethod
    def of(cls, slot: Any, at: Any, kind: int, tag: int) -> Moments:
        slot = np.asarray(slot, np.int64)
        return cls(
            slot,
            np.broadcast_to(np.asarray(at, np.int64), slot.shape),
            np.full(len(slot), kind, np.int64),
            np.full(len(slot), tag, np.int64),
        )


@dataclass
class Rows:
    """Rows sorted by slot, then by the clock; what arrives at a moment stands before what is due at it.

    clock: when it counts; at: the moment that is looked at (a reading's measured time); bound: delays are over that
    were due before it. event: the reading's place in `events`, -1 for none. tag: of what a moment comes, -1 for
    readings. whole: each event is a row, at its own place. head: bool, the first row of its slot. segment: where the
    rows of the slot begin.
    """

    slot: np.ndarray
    clock: np.ndarray
    at: np.ndarray
    bound: np.ndarray
    kind: np.ndarray
    event: np.ndarray
    tag: np.ndarray
    events: Events
    whole: bool = False
    head: np.ndarray = field(init=False)
    segment: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        count = len(self.slot)
        self.head = np.ones(count, bool)
        self.head[1:] = self.slot[1:] != self.slot[:-1]
        heads = np.flatnonzero(self.head)
        self.segment = np.repeat(heads, np.diff(heads, append=count))

    def __len__(self) -> int:
        return len(self.slot)

    @classmethod
    def of(cls, events: Events, slots: np.ndarray, moments: Sequence[Moments]) -> Rows:
        """slots: int64 (m,), the slot of each event; events without one (below 0) are left out."""
        if not any(len(m.slot) for m in moments):
            return cls._of_events(events, slots)
        mine = np.flatnonzero(slots >= 0)
        own = len(mine)
        slot = np.concatenate([slots[mine], *(m.slot for m in moments)])
        clock = np.concatenate([events.arrival[mine], *(m.at for m in moments)])
        at = np.concatenate([events.at[mine], *(m.at for m in moments)])
        kind = np.concatenate([np.full(own, READING), *(m.kind for m in moments)])
        tag = np.concatenate([np.full(own, -1), *(m.tag for m in moments)])
        event = np.concatenate([mine, *(np.full(len(m.slot), -1) for m in moments)]).astype(np.int64)
        first = np.concatenate([events.first[mine], *(np.ones(len(m.slot), bool) for m in moments)])
        bound = np.where((kind == READING) & ~first, at, np.maximum(clock, at))
        late = (kind != READING) & (kind != ARRIVAL)
        order = in_order_of(slot, clock, late)
        return cls(slot[order], clock[order], at[order], bound[order], kind[order], event[order], tag[order], events)

    @classmethod
    def _of_events(cls, events: Events, slots: np.ndarray) -> Rows:
        """Events alone, which are by device and clock already; their slots may be in another order."""
        whole = not len(slots) or bool(slots[0] >= 0 and (slots[1:] >= slots[:-1]).all())
        if whole:
            event, slot, clock, at, first = np.arange(len(slots)), slots, events.arrival, events.at, events.first
        else:
            mine = np.flatnonzero(slots >= 0)
            event = mine[in_order(slots[mine])]
            slot, clock, at, first = slots[event], events.arrival[event], events.at[event], events.first[event]
        bound = np.where(first, np.maximum(clock, at), at)
        kind, tag = np.full(len(slot), READING), np.full(len(slot), -1)
        return cls(slot, clock, at, bound, kind, event, tag, events, whole)

    def track(self, name: str) -> Track | None:
        return self.events.tracks.get(name)

    def of_events(self, found: np.ndarray, blank: Any) -> np.ndarray:
        """What stands by event, by row; `blank` where there is no reading."""
        if self.whole:
            return found
        result = np.full((len(self), *found.shape[1:]), blank, found.dtype)
        mine = self.event >= 0
        result[mine] = found[self.event[mine]]
        return result

    def fresh(self, name: str) -> np.ndarray:
        """bool (m,): rows that bring a new value of a field."""
        track = self.track(name)
        if track is None:
            return np.zeros(len(self), bool)
        return self.of_events(track.fresh, False)

    def sources(self, fresh: np.ndarray) -> np.ndarray:
        """For every row the row that last brought something, -1 where none of its slot did."""
        source = np.maximum.accumulate(np.where(fresh, np.arange(len(self)), -1)) if len(self) else self.slot
        return np.where(source >= self.segment, source, -1)


__all__ = ["ARRIVAL", "READING", "TIMER", "Moments", "Rows"]
