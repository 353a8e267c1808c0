"""Positions of devices against fences: which ones count, what they enter and leave, how fast they go."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..language.evaluate import Val
from ..language.expressions import AtFence
from ..language.functions import distance_m
from ..register.fences import Area
from .machine import NEVER
from .rows import Rows

OUT, IN, NOT_KNOWN = 0, 1, -1


@dataclass
class Fixes:
    """The last position of each slot that counts, the speed to it, and on which side of fences it was.

    fix: (n, 2), at: int64 (n,), NEVER where there is none. sides: by fence and margin, int8 (n,). crossed: by fence
    and time, what the last position told.
    """

    fix: np.ndarray
    at: np.ndarray
    fast: np.ndarray
    sides: dict[tuple[str, float], np.ndarray] = field(default_factory=dict)
    told: dict[tuple[str, str, float], np.ndarray] = field(default_factory=dict)

    @classmethod
    def of(cls, slots: int) -> Fixes:
        return cls(np.zeros((slots, 2)), np.full(slots, NEVER, np.int64), np.full(slots, np.nan))

    def grow(self, slots: int) -> None:
        pad = slots - len(self.at)
        self.fix = np.concatenate([self.fix, np.zeros((pad, 2))])
        self.at = np.concatenate([self.at, np.full(pad, NEVER, np.int64)])
        self.fast = np.concatenate([self.fast, np.full(pad, np.nan)])
        for kept in (self.sides, self.told):
            for key, found in kept.items():
                kept[key] = np.concatenate([found, np.full(pad, NOT_KNOWN, np.int8)])  # type: ignore[index]

    def over(self, rows: Rows, name: str, exact: tuple[float, str] | None) -> Over:
        return Over(self, rows, name, exact)


class Over:
    """The positions of one field over the rows of a batch."""

    def __init__(self, fixes: Fixes, rows: Rows, name: str, exact: tuple[float, str] | None) -> None:
        self.fixes, self.rows = fixes, rows
        track = rows.track(name)
        self.fresh = np.zeros(len(rows), bool)
        self.values = np.zeros((len(rows), 2))
        if track is not None and track.spec.kind == "position":
            self.values = rows.of_events(track.column.values, 0.0)
            self.fresh = rows.fresh(name) & (self.values != 0.0).any(axis=1)
            by = rows.track(exact[1] or f"{name}_accuracy") if exact is not None else None
            if exact is not None and by is not None:
                told = rows.of_events(by.column.state == 1, False)
                metres = rows.of_events(by.column.values.astype(float), 0.0)
                self.fresh &= ~(told & (metres > exact[0]))
        self.index = np.flatnonzero(self.fresh)
        slot = rows.slot[self.index]
        # For each position the one before it of the same slot: in the batch, or from before.
        same = np.zeros(len(self.index), bool)
        same[1:] = slot[1:] == slot[:-1]
        self.same = same
        place = np.maximum(np.arange(len(self.index)) - 1, 0)
        self.before = np.where(same[:, None], self.values[self.index][place], fixes.fix[slot])
        self.before_at = np.where(same, rows.at[self.index][place], fixes.at[slot])
        self.has_before = self.before_at != NEVER
        self.source = rows.sources(self.fresh)
        self.sides: dict[tuple[str, float], np.ndarray] = {}
        self.told: dict[tuple[str, str, float], np.ndarray] = {}
        self.fast: np.ndarray | None = None

    def column(self) -> Val:
        inside = self.source >= 0
        slot = self.rows.slot
        values = np.where(inside[:, None], self.values[np.maximum(self.source, 0)], self.fixes.fix[slot])
        return Val(values, inside | (self.fixes.at[slot] != NEVER))

    def _spread(self, found: np.ndarray, start: np.ndarray) -> np.ndarray:
        """What each position told, until the next one. found: by position; start: by slot."""
        place = np.full(len(self.rows), -1, np.int64)
        place[self.index] = np.arange(len(self.index))
        place = np.where(self.source >= 0, place[np.maximum(self.source, 0)], -1)
        if not len(found):
            return start[self.rows.slot]
        return np.where(place >= 0, found[np.maximum(place, 0)], start[self.rows.slot])

    def speed(self) -> Val:
        now, fix = self.rows.at[self.index], self.values[self.index]
        took = (now - self.before_at) / 1e6
        good = self.has_before & (took > 0)
        metres = distance_m(self.before[:, 0], self.before[:, 1], fix[:, 0], fix[:, 1])
        self.fast = np.where(good, metres / np.where(good, took, 1.0), np.nan)
        found = self._spread(self.fast, self.fixes.fast)
        return Val(np.nan_to_num(found), np.isfinite(found))

    def _side(self, fence: str, margin: float, area: Area) -> np.ndarray:
        """int8: on which side of a fence each position is, one that was inside being so up to the margin."""
        key = (fence, margin)
        if key in self.sides:
            return self.sides[key]
        start = self.fixes.sides.setdefault(key, np.full(len(self.fixes.at), NOT_KNOWN, np.int8))
        fix = self.values[self.index]
        side = area.inside(fix).astype(np.int8)
        if margin > 0:
            slot = self.rows.slot[self.index]
            for i in range(len(side)):
                last = side[i - 1] if self.same[i] else start[slot[i]]
                if side[i] == OUT and last == IN and area.distance(fix[i : i + 1])[0] <= margin:
                    side[i] = IN
        self.sides[key] = side
        return side

    def at_fence(self, node: AtFence, area: Area) -> Val:
        if node.function == "crosses":
            return self._crosses(node, area)
        side = self._side(node.fence, node.amount, area)
        start = self.fixes.sides[node.fence, node.amount]
        if node.function in ("inside", "outside"):
            found = self._spread(side, start)
            return Val(found == (IN if node.function == "inside" else OUT), found != NOT_KNOWN)
        place = np.maximum(np.arange(len(side)) - 1, 0)
        last = np.where(self.same, side[place] if len(side) else side, start[self.rows.slot[self.index]])
        want = (OUT, IN) if node.function == "enters" else (IN, OUT)
        moved = ((last == want[0]) & (side == want[1])).astype(np.int8)
        return self._tell(node, moved)

    def _crosses(self, node: AtFence, area: Area) -> Val:
        fix = self.values[self.index]
        found = area.inside(fix)
        ways = np.flatnonzero(~found & self.has_before & (self.rows.at[self.index] - self.before_at <= node.amount))
        found[ways] = area.crossed(self.before[ways], fix[ways])
        return self._tell(node, found.astype(np.int8))

    def _tell(self, node: AtFence, moved: np.ndarray) -> Val:
        key = (node.function, node.fence, node.amount)
        self.told[key] = moved
        start = self.fixes.told.setdefault(key, np.full(len(self.fixes.at), NOT_KNOWN, np.int8))
        found = self._spread(moved, start)
        return Val(found == 1, found != NOT_KNOWN)

    def keep(self) -> None:
        """Remembers the last position of each slot, and what it told."""
        if not len(self.index):
            return
        slot = self.rows.slot[self.index]
        self.fixes.fix[slot], self.fixes.at[slot] = self.values[self.index], self.rows.at[self.index]
        if self.fast is not None:
            self.fixes.fast[slot] = self.fast
        for key, side in self.sides.items():
            self.fixes.sides[key][slot] = side
        for told_key, told in self.told.items():
            self.fixes.told[told_key][slot] = told


__all__ = ["Fixes", "Over"]
