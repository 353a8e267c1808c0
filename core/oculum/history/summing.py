"""Readings of a span in equal parts: one number a part."""

from __future__ import annotations

import numpy as np

WAYS = ("min", "max", "mean", "time_weighted_mean", "sum", "count", "first", "last")


def summed(
    at: np.ndarray, value: np.ndarray, start: int, width: int, parts: int, how: str, end: int, before: float | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The parts with something in them: their numbers, what `how` makes of each (float), how many readings each has;
    all (k,). at: int64 (n,), µs, rising, in [start, start + parts * width); value: float (n,).

    A time-weighted mean takes the signal as a staircase: `before` is the value that was carried in at `start`, and
    the last step goes on to `end`; a part has one as soon as the staircase reaches it.
    """
    part = (at - start) // width
    counts = np.bincount(part, minlength=parts)
    if how == "time_weighted_mean":
        return _weighted(at, value, start, width, parts, end, before, counts)
    some = np.flatnonzero(counts)
    if how == "count":
        return some, counts[some].astype(float), counts[some]
    heads = np.searchsorted(part, some)
    match how:
        case "min":
            found = np.minimum.reduceat(value, heads) if len(some) else value
        case "max":
            found = np.maximum.reduceat(value, heads) if len(some) else value
        case "sum":
            found = np.add.reduceat(value, heads) if len(some) else value
        case "mean":
            found = np.add.reduceat(value, heads) / counts[some] if len(some) else value
        case "first":
            found = value[heads]
        case "last":
            found = value[heads + counts[some] - 1]
        case _:
            raise ValueError(how)
    return some, found, counts[some]


def _weighted(
    at: np.ndarray,
    value: np.ndarray,
    start: int,
    width: int,
    parts: int,
    end: int,
    before: float | None,
    counts: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    if before is not None:
        at, value = np.append(start, at), np.append(before, value)
    if not len(at):
        none = np.zeros(0)
        return none.astype(np.int64), none, none.astype(np.int64)
    steps = np.append(0.0, np.cumsum(value[:-1] * np.diff(at)))
    edges = np.minimum(start + width * np.arange(parts + 1), end)
    place = np.searchsorted(at, edges, side="right") - 1
    below = np.maximum(place, 0)
    area = np.where(place >= 0, steps[below] + value[below] * (edges - at[below]), 0.0)
    known = np.where(place >= 0, edges - at[0], 0)
    length = np.diff(known)
    some = np.flatnonzero(length > 0)
    return some, np.diff(area)[some] / length[some], counts[some]


def quantiles(courses: np.ndarray, shares: tuple[float, ...], least: int = 3) -> np.ndarray:
    """Of each part the values below which these shares of the devices lie, by linear interpolation: float (shares,
    parts), NaN where fewer than `least` have one. courses: float (devices, parts), NaN where a device has none.
    """
    found = np.full((len(shares), courses.shape[1]), np.nan)
    enough = (~np.isnan(courses)).sum(axis=0) >= least
    if enough.any():
        found[:, enough] = np.nanquantile(courses[:, enough], shares, axis=0)
    return found


def spread(values: np.ndarray, bins: int) -> tuple[np.ndarray, np.ndarray]:
    """How many values lie in each of equal bins, int64 (bins,), and their edges, float (bins + 1,), from the smallest
    to the largest; the last bin has its upper edge as well. values: float (n,), at least one, all finite.
    """
    low, high = float(values.min()), float(values.max())
    if not high > low:
        low, high = low - 0.5, high + 0.5
    # Quarters do not overflow where the ends are the largest numbers there are, and lose the smallest.
    edges = np.linspace(low / 4, high / 4, bins + 1) * 4
    edges[0], edges[-1] = low, high
    counts = np.histogram(values, edges)[0] if np.isfinite(edges).all() else np.zeros(bins, np.int64)
    return counts.astype(np.int64), edges
