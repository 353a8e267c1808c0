"""Slow changes: a robust slope through daily medians, and when it will have reached a level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

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


def theil_sen(day: np.ndarray, value: np.ndarray) -> Trend | None:
    """The median of the slopes between all pairs of days (Sen, 1968), through the median of what is left; low and high
    are the slopes that lie one standard deviation of Kendall's count of pairs, n (n - 1) (2 n + 5) / 18, either side of
    it. None with fewer than four days. float (n,) each, days rising.
    """
    there = ~np.isnan(value)
    day, value = day[there].astype(float), value[there]
    if len(day) < LEAST:
        return None
    a, b = np.triu_indices(len(day), 1)
    apart = day[b] - day[a]
    slopes = np.sort((value[b] - value[a])[apart > 0] / apart[apart > 0])
    if not len(slopes):
        return None
    slope = float(np.median(slopes))
    count, n = len(slopes), len(day)
    off = np.sqrt(n * (n - 1) * (2 * n + 5) / 18)
    low, high = np.interp([(count - off) / 2, (count + off) / 2], np.arange(count) + 0.5, slopes)
    rest = value - slope * day
    middle = float(np.median(rest))
    spread = 1.4826 * float(np.median(np.abs(rest - middle)))
    return Trend(
        middle + slope * float(day[-1]),
        slope,
        float(low),
        float(high),
        spread,
        int(day[-1] - day[0]) + 1,
    )


def apart(value: float, others: np.ndarray) -> float | None:
    """How far a value lies from the others', in robust standard deviations of them; None with fewer than five others,
    or where these are all alike. others: float (n,) with NaN where there is none.
    """
    known = others[~np.isnan(others)]
    if len(known) < 5 or np.isnan(value):
        return None
    middle = float(np.median(known))
    spread = 1.4826 * float(np.median(np.abs(known - middle)))
    return (value - middle) / spread if spread > 0 else None
