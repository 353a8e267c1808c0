"""Slow changes: a robust slope through daily medians, and when it will have reached a level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import distinct

LEAST = 4  # days with a value


@dataclass(frozen=True)
class Trend:
    """last: the line's value at the last day; per_day: its slope, with low and high of its spread; spread: of the days
    about the line (median of absolute deviations, times 1.4826).
    """

    last: float
    per_day: float
    low: float
    high: float
    spread: float
    days: int

    def until(self, level: float) -> tuple[float, float, float | None] | None:
        """In how many days the line is down at a level: likely, at the earliest, at the latest (None: it may never be).
        None where it does not sink, or less than it scatters.
        """
        above = self.last - level
        if above <= 0:
            return 0.0, 0.0, 0.0
        if self.per_day >= 0 or self.low >= 0 or -self.per_day * self.days < 2 * self.spread:
            return None
        return above / -self.per_day, above / -self.low, above / -self.high if self.high < 0 else None


def theil_sen(day: np.ndarray, values: np.ndarray) -> list[Trend | None]:
    """Of each row of values the median of the slopes between all pairs of days (Sen, 1968), through the median of what
    is left; low and high are the slopes that lie one standard deviation of Kendall's count of pairs, n (n - 1)
    (2 n + 5) / 18, either side of it. None with fewer than four days. day: float (m,), rising; values: float (n, m),
    NaN where there is none.
    """
    found: list[Trend | None] = [None] * len(values)
    known, which = distinct(*~np.isnan(values).T)
    known = known.T.astype(bool)
    which = which.reshape(-1)
    for place, there in enumerate(known):  # those of which the same days are known, together
        if there.sum() >= LEAST:
            rows = np.flatnonzero(which == place)
            for row, trend in zip(rows.tolist(), _slopes(day[there], values[np.ix_(rows, there)]), strict=True):
                found[row] = trend
    return found


def _slopes(day: np.ndarray, values: np.ndarray) -> list[Trend]:
    """Of rows of which all days are known."""
    n = len(day)
    a, b = np.triu_indices(n, 1)
    slopes = np.sort((values[:, b] - values[:, a]) / (day[b] - day[a]), axis=1)
    count = slopes.shape[1]
    slope = np.median(slopes, axis=1)
    off = np.sqrt(n * (n - 1) * (2 * n + 5) / 18)
    low, high = (_between(slopes, (count + side * off) / 2 - 0.5) for side in (-1, 1))
    rest = values - slope[:, None] * day
    middle = np.median(rest, axis=1)
    spread = 1.4826 * np.median(np.abs(rest - middle[:, None]), axis=1)
    columns = (middle + slope * day[-1], slope, low, high, spread)
    days = int(day[-1] - day[0]) + 1
    return [Trend(a, b, c, d, e, days) for a, b, c, d, e in zip(*(column.tolist() for column in columns), strict=True)]


def _between(sorted_: np.ndarray, place: float) -> np.ndarray:
    """Columns of rows that are sorted, at a place between two of them by straight lines: float (n,) of (n, m)."""
    place = min(max(place, 0.0), sorted_.shape[1] - 1.0)
    below = int(place)
    above = min(below + 1, sorted_.shape[1] - 1)
    return sorted_[:, below] + (place - below) * (sorted_[:, above] - sorted_[:, below])


def apart(values: np.ndarray) -> np.ndarray:
    """How far each value lies from the others', in robust standard deviations of these: float (n,) of float (n,), none
    of them NaN. NaN where there are fewer than five others, or these are all alike.
    """
    found = np.full(len(values), np.nan)
    if len(values) < 6:
        return found
    middles = median_of_others(values)
    for middle in np.unique(middles):  # without one value the median is one of three at most
        own = middles == middle
        far = np.abs(values - middle)
        spread = 1.4826 * median_of_others(far)[own]
        found[own] = np.divide(values[own] - middle, spread, out=np.full(len(spread), np.nan), where=spread > 0)
    return found


def median_of_others(values: np.ndarray) -> np.ndarray:
    """Of each value the median of all others: float (n,) of float (n,), at least two."""
    order = np.argsort(values, kind="stable")
    rank = np.empty(len(values), np.int64)
    rank[order] = np.arange(len(values))
    others = len(values) - 1
    low, high = (k + (k >= rank) for k in ((others - 1) // 2, others // 2))
    sorted_ = values[order]
    return (sorted_[low] + sorted_[high]) / 2
