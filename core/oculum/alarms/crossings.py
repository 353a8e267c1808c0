"""When devices went into an area and came out of it, by all their positions of a span."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import in_order
from ..register.fences import Area


@dataclass(frozen=True)
class Crossings:
    """device, at (µs): int64 (k,), entered: bool (k,), in the order of time. inside: by device that is inside at its
    last position, since when (µs) as far as is known.
    """

    device: np.ndarray
    at: np.ndarray
    entered: np.ndarray
    inside: dict[int, int]


def crossings(area: Area, device: np.ndarray, at: np.ndarray, fix: np.ndarray) -> Crossings:
    """As conditions have it, without a margin: a crossing needs two positions that follow each other, the first one of
    a device says only where it is; positions at 0,0 do not count.

    device, at (µs): int64 (n,) in any order; fix: float64 (n, 2), latitude and longitude.
    """
    used = np.flatnonzero((fix != 0.0).any(axis=1) & np.isfinite(fix).all(axis=1))
    device, at, fix = device[used], at[used], fix[used]
    order = in_order(at)
    order = order[in_order(device[order])]
    device, at = device[order], at[order]
    side = area.inside(fix[order])
    first = np.ones(len(device), bool)
    first[1:] = device[1:] != device[:-1]
    moved = np.flatnonzero(~first & (side != np.roll(side, 1)))
    last = np.flatnonzero(np.roll(first, -1)) if len(first) else np.zeros(0, np.int64)
    begun = np.maximum.accumulate(np.where(first | (side != np.roll(side, 1)), np.arange(len(side)), 0))
    inside = {int(device[i]): int(at[begun[i]]) for i in last.tolist() if side[i]}
    by_time = moved[in_order(at[moved])]
    return Crossings(device[by_time], at[by_time], side[by_time], inside)
