"""A room driven batch by batch, forgotten and taken up again from what it remembers between any two of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from oculum.alarms.memory import recalled, remembered
from oculum.alarms.room import Room
from oculum.alarms.watched import Transition, Watched
from oculum.batches import Group
from oculum.history.fleet import Fleet
from oculum.language.conditions.plan import ConditionPlan
from oculum.pipeline import Effects, evaluated
from oculum.register.world import Device, World

TYPE = 1


def between(group: Group, first: int, last: int) -> Group:
    """What a group has of the batch's rows from `first` to before `last`, as a batch of their own."""
    keep = np.flatnonzero((group.rows >= first) & (group.rows < last))
    return replace(
        group,
        rows=group.rows[keep] - first,
        at=group.at[keep],
        columns={name: column.taken(keep) for name, column in group.columns.items()},
        device=group.device[keep] if group.device is not None else None,
        owner=group.owner[keep] if group.owner is not None else None,
    )


@dataclass
class Batch:
    """Messages: by device type their readings; device and arrival of each."""

    groups: dict[int, list[Group]]
    device: np.ndarray
    arrival: np.ndarray


def world_of(devices: Sequence[int], limits: dict[tuple[int, str], float] | None = None, **more: Any) -> World:
    """Devices of one type that nothing else is known of; limits by device and name."""
    found = World({d: Device(d, f"d{d}", TYPE) for d in devices}, **more)
    found.limits = {(TYPE, name, "device", d): value for (d, name), value in (limits or {}).items()}
    return found


class Driven:
    """A room with conditions, driven by batches."""

    def __init__(self, world: World, plans: Sequence[ConditionPlan], start: int = 0, restarts: bool = True) -> None:
        self.world, self.start, self.restarts = world, start, restarts
        self.watched = [Watched(key, key, TYPE, plan) for key, plan in enumerate(plans, 1)]
        self.newest = Fleet()
        self.room = self._fresh()
        self.found: list[Transition] = []

    def _fresh(self) -> Room:
        room = Room(self.world, self.start)
        for watched in self.watched:
            room.watch(watched)
        return room

    def divide(self, first: ConditionPlan | None, chosen: frozenset[int], at: int) -> None:
        """The first condition, of which chosen devices have another version before the others from a moment on."""
        main = replace(self.watched[0], chosen=(lambda d: d.id not in chosen) if first is not None else None)
        own = Watched(-main.key, 99, TYPE, first, lambda d: d.id in chosen) if first is not None else None
        self.watched = [main, *(w for w in self.watched[1:] if w.key > 0), *([own] if own is not None else [])]
        self.found += self.room.divide(main, own, at, self.newest)
        if self.restarts:
            self.restart()

    def publish(self, plan: ConditionPlan, at: int) -> None:
        """The next version of the first condition, in force for all devices."""
        fresh = Watched(self.watched[0].key, self.watched[0].version + 1, TYPE, plan)
        self.watched = [fresh, *(w for w in self.watched[1:] if w.key > 0)]
        self.found += self.room.watch(fresh, at, self.newest)
        if self.restarts:
            self.restart()

    def restart(self) -> None:
        body = remembered(self.room, self.newest)
        self.room = self._fresh()
        newest = recalled(self.room, body)
        assert newest is not None
        self.newest = newest

    def take(self, batch: Batch, until: int | None = None) -> None:
        end = int(batch.arrival[-1]) if until is None else until
        cuts = [int(np.searchsorted(batch.arrival, t, "right")) for t in self.room.ticks(end)]
        edges = sorted({0, len(batch.arrival), *cuts})
        for a, b in zip(edges, edges[1:], strict=False):
            self._part(batch, a, b, int(batch.arrival[b - 1]))
        if self.restarts:
            self.restart()

    def _part(self, batch: Batch, first: int, last: int, until: int) -> None:
        effects = evaluated(
            Effects(),
            {t: [between(g, first, last) for g in groups] for t, groups in batch.groups.items()},
            batch.device[first:last],
            batch.arrival[first:last],
            np.arange(first, last),
            self.newest,
            self.room,
            until,
        )
        effects.settle(self.newest)
        self.found += effects.transitions

    def tick(self, until: int) -> None:
        self.found += self.room.elapse(until, self.newest)
