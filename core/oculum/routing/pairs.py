"""What routes remember of devices: a row for each route and device that came by, in arrays that all routes share which
remember the same.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from ..arrays import Ints
from ..history.following import NEVER
from ..history.windows import Past

RouteId = tuple[int, int]  # definition, version


class Asking(Protocol):
    """Routes and the devices that they are on. ids: of the routes. member, slot: int64 (c,), by place which of them it
    is and the device. rows: by place the rows of pairs, -1 where there is none yet.
    """

    ids: list[RouteId]
    member: Ints
    slot: Ints
    rows: dict[Pairs, Ints]


@dataclass(eq=False)
class Pairs:
    """Pairs of a route and a device in the order in which they came. owner, slot: int64 (room,), the place of the route
    in `routes` and the device; only the first `count` of them are.
    """

    routes: list[RouteId] = field(default_factory=list)
    owner: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    slot: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    count: int = 0

    def grow(self, room: int) -> None:
        """Room for more pairs."""
        for name in ("owner", "slot"):
            setattr(self, name, _longer(getattr(self, name), room))

    def keep(self, rows: Ints) -> None:
        """Only these from here on, in their order."""
        self.owner, self.slot, self.count = self.owner[rows], self.slot[rows], len(rows)

    def rows(self, asking: Asking, place: Ints) -> Ints:
        """int64 (n,): where what is remembered of some places stands; it is made where it is not yet."""
        index = asking.rows.get(self)
        if index is None:
            index = asking.rows[self] = self._index(asking)
        found = index[place]
        new = found < 0
        if new.any():
            fresh = np.unique(place[new])
            index[fresh] = self.add(asking.ids, asking.member[fresh], asking.slot[fresh])
            found = index[place]
        return found

    def add(self, ids: Sequence[RouteId], member: Ints, slot: Ints) -> Ints:
        """int64 (n,): the rows of pairs that there are none of yet. member: places in `ids`."""
        end = self.count + len(slot)
        if end > len(self.slot):
            self.grow(end * 3 // 2 + 16)
        numbers = {one: k for k, one in enumerate(self.routes)}
        number = np.array([numbers.setdefault(one, len(numbers)) for one in ids], np.int64)
        self.routes = list(numbers)
        self.owner[self.count : end], self.slot[self.count : end] = number[member], slot
        found = np.arange(self.count, end)
        self.count = end
        return found

    def _index(self, asking: Asking) -> Ints:
        """int64 (c,): the rows of all places as far as there are any."""
        found = np.full(len(asking.slot), -1, np.int64)
        whose = np.full(len(self.routes) + 1, -1, np.int64)
        numbers = {one: k for k, one in enumerate(self.routes)}
        for k, one in enumerate(asking.ids):
            whose[numbers.get(one, -1)] = k
        whose[-1] = -1
        member = whose[self.owner[: self.count]]
        rows = np.flatnonzero(member >= 0)
        if len(rows) and len(found):
            order = np.argsort(asking.slot, kind="stable")
            place = order[np.minimum(np.searchsorted(asking.slot[order], self.slot[rows]), len(order) - 1)]
            hit = (asking.slot[place] == self.slot[rows]) & (asking.member[place] == member[rows])
            found[place[hit]] = rows[hit]
        return found

    def forget(self, ids: Collection[RouteId]) -> None:
        """All pairs but those of these routes are gone."""
        keeps = np.array([one in ids for one in self.routes], bool)
        if not keeps.all():
            self.keep(np.flatnonzero(keeps[self.owner[: self.count]]))
            places = np.cumsum(keeps) - 1
            self.owner = places[self.owner]
            self.routes = [one for one, kept in zip(self.routes, keeps.tolist(), strict=True) if kept]


@dataclass(eq=False)
class Through(Pairs):
    """What was let through last. values: float64 (room, w); at: int64 (room,), NEVER where nothing was yet."""

    values: np.ndarray = field(default_factory=lambda: np.zeros((0, 1)))
    at: Ints = field(default_factory=lambda: np.zeros(0, np.int64))

    def grow(self, room: int) -> None:
        super().grow(room)
        self.values, self.at = _longer(self.values, room), _longer(self.at, room, NEVER)

    def keep(self, rows: Ints) -> None:
        super().keep(rows)
        self.values, self.at = self.values[rows], self.at[rows]


@dataclass(eq=False)
class Looked(Pairs):
    """What is looked back on, by row."""

    past: Past = field(default_factory=lambda: Past.of(0, 0))

    def grow(self, room: int) -> None:
        super().grow(room)
        self.past.grow(room, self.past.at.shape[1])

    def keep(self, rows: Ints) -> None:
        super().keep(rows)
        past = self.past
        self.past = Past(past.at[rows], past.values[rows], past.begin[rows], past.end[rows], past.keep)


def _longer(array: np.ndarray, room: int, blank: int = 0) -> np.ndarray:
    found = np.full((room, *array.shape[1:]), blank, array.dtype)
    found[: len(array)] = array
    return found
