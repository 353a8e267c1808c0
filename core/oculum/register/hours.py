"""Wall clocks: the hours at which something counts, midnights, and the multiples of a step."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from ..clocks import DAY, local_to_utc, utc_to_local
from ..language.hours import Hours

MINUTE = 60_000_000
FOREVER = np.iinfo(np.int64).max
WEEK_BEGINS = 3  # days from a Monday to 1970-01-01, a Thursday


def _local_days(first: int, last: int, zone: str) -> np.ndarray:
    """Days (since 1970) whose local midnights lie around [first, last] (µs, UTC), and one more on either side."""
    return np.arange(first // DAY - 2, last // DAY + 3)


def _utc(local: np.ndarray, zone: str) -> np.ndarray:
    return local_to_utc(local, zone, np.zeros(len(local), bool))


def midnights(first: int, last: int, zone: str) -> tuple[np.ndarray, np.ndarray]:
    """The moments of local midnight around [first, last], and the day that begins with each."""
    days = _local_days(first, last, zone)
    return _utc(days * DAY, zone), days


def begin_of(now: np.ndarray, zone: str, calendar: str) -> np.ndarray:
    """When the local day, or week, of each moment began. now: int64 (m,), µs."""
    if not len(now):
        return now
    moments, days = midnights(int(now.min()) - 8 * DAY, int(now.max()), zone)
    if calendar == "this_week":
        moments = moments[(days + WEEK_BEGINS) % 7 == 0]
    return moments[np.searchsorted(moments, now, "right") - 1]


@lru_cache(maxsize=256)
def _spans(hours: Hours, first_day: int, last_day: int, zone: str) -> tuple[np.ndarray, np.ndarray]:
    days = np.arange(first_day, last_day + 1)
    good = np.ones(len(days), bool)
    for begin, end in hours.exceptions:
        good &= (days < begin) | (days > end)
    if hours.seasons:
        dates = days.astype("datetime64[D]")
        months = dates.astype("datetime64[M]").astype(np.int64) % 12 + 1
        place = months * 100 + (dates - dates.astype("datetime64[M]")).astype(np.int64) + 1
        within = np.zeros(len(days), bool)
        for (m1, d1), (m2, d2) in hours.seasons:
            low, high = m1 * 100 + d1, m2 * 100 + d2
            within |= (place >= low) & (place <= high) if low <= high else (place >= low) | (place <= high)
        good &= within
    begins: list[np.ndarray] = []
    ends: list[np.ndarray] = []
    for minute, until, on in hours.spans or ((0, 1440, frozenset(range(7))),):
        chosen = days[good & np.isin((days + WEEK_BEGINS) % 7, list(on))]
        begins.append(_utc(chosen * DAY + minute * MINUTE, zone))
        after = until if until > minute else until + 1440
        ends.append(_utc(chosen * DAY + after * MINUTE, zone))
    start, stop = np.concatenate(begins), np.concatenate(ends)
    order = np.argsort(start, kind="stable")
    start, stop = start[order], stop[order]
    merged: list[list[int]] = []
    for a, b in zip(start.tolist(), stop.tolist(), strict=True):
        if merged and a <= merged[-1][1]:
            merged[-1][1] = max(merged[-1][1], b)
        else:
            merged.append([a, b])
    found = np.array(merged, np.int64).reshape(-1, 2)
    return found[:, 0], found[:, 1]


def spans(hours: Hours, first: int, last: int, zone: str) -> tuple[np.ndarray, np.ndarray]:
    """The spans [from, to) around [first, last] in which a condition is looked at, rising and apart."""
    return _spans(hours, first // DAY - 3, last // DAY + 3, zone)


def within(hours: Hours, now: np.ndarray, zone: str) -> np.ndarray:
    """bool (m,): whether each moment lies within the hours."""
    if hours.always or not len(now):
        return np.ones(len(now), bool)
    begins, ends = spans(hours, int(now.min()), int(now.max()), zone)
    place = np.searchsorted(begins, now, "right") - 1
    return (place >= 0) & (now < np.where(place >= 0, ends[np.maximum(place, 0)] if len(ends) else 0, 0))


def edges(hours: Hours, after: int, until: int, zone: str) -> tuple[np.ndarray, np.ndarray]:
    """The moments in (after, until) at which the hours begin, and at which they end."""
    if hours.always:
        empty = np.zeros(0, np.int64)
        return empty, empty
    begins, ends = spans(hours, after, until, zone)
    low, high = after // DAY * DAY - 2 * DAY, until // DAY * DAY + 3 * DAY  # what is cut off there is no edge

    def cut(moments: np.ndarray) -> np.ndarray:
        return moments[(moments > max(after, low)) & (moments < min(until, high))]

    return cut(begins), cut(ends)


def multiples(step: int, after: int, until: int, zone: str) -> np.ndarray:
    """The moments in (after, until) at which the wall clock shows a multiple of a step (µs) since midnight."""
    if until <= after:
        return np.zeros(0, np.int64)
    days = _local_days(after, until, zone)
    ticks = np.arange(0, DAY, step)
    local = (days[:, None] * DAY + ticks[None, :]).ravel()
    moments = _utc(local, zone)
    found = np.unique(moments[(moments > after) & (moments < until)])
    # A local time that does not occur is no multiple.
    offsets = {int(m): utc_to_local(int(m), zone)[0] for m in found.tolist()} if len(found) <= 4 else None
    if offsets is not None:
        keep = [((t.hour * 3600 + t.minute * 60 + t.second) * 1_000_000) % step == 0 for t in offsets.values()]
        return found[np.array(keep, bool)]
    return found


def midnights_between(after: int, until: int, zone: str) -> np.ndarray:
    """The local midnights in (after, until)."""
    moments, _ = midnights(after, until, zone)
    return moments[(moments > after) & (moments < until)]
