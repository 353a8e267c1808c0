"""How good a set of alarms is to the people who take them: figures after ANSI/ISA-18.2 and IEC 62682."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import Ints, Truths

SECOND = 1_000_000
TEN_MINUTES = 600 * SECOND
FLOOD_BEGINS, FLOOD_ENDS = 10, 5  # alarms in ten minutes: a flood begins above the one and ends below the other
CHATTER, CHATTER_US = 3, 60 * SECOND  # so many of one kind within so long are chatter
FLEETING_US = 60 * SECOND
STALE_US = 86_400 * SECOND
NEVER = -1


@dataclass(frozen=True)
class Raised:
    """Alarms in the order in which they were raised: int64 (n,), times in µs since 1970, NEVER where there is none.

    key: what an alarm is of, such as a condition on a device.
    """

    raised: Ints
    cleared: Ints
    taken: Ints
    key: Ints

    def between(self, start: int, end: int) -> Raised:
        """Those raised from start to before end."""
        own = (self.raised >= start) & (self.raised < end)
        return Raised(self.raised[own], self.cleared[own], self.taken[own], self.key[own])


@dataclass(frozen=True)
class Quality:
    """count: alarms; per_hour: of them; peak: the most in any ten minutes, which began at peak_at; flood: share of the
    time; floods: spans in µs. chattering: keys that chatter; fleeting: alarms that went within a minute and nobody
    took; stale: alarms open for more than a day. taking, lasting: seconds from raised to taken, to cleared: median and
    ninth decile, NaN where there is none.
    """

    count: int
    per_hour: float
    peak: int
    peak_at: int
    flood: float
    floods: list[tuple[int, int]]
    chattering: list[int]
    fleeting: int
    stale: int
    taking: tuple[float, float]
    lasting: tuple[float, float]


def quality(alarms: Raised, start: int, end: int) -> Quality:
    """The figures of a span, start to end in µs. Alarms raised before it count as stale ones alone."""
    own = alarms.between(start, end)
    peak, peak_at = most_within(own.raised, TEN_MINUTES)
    spans = floods(own.raised, start, end)
    over = np.where(alarms.cleared == NEVER, end, np.minimum(alarms.cleared, end))
    stale = (over - alarms.raised > STALE_US) & (over > start) & (alarms.raised < end)
    fleeting = (own.cleared != NEVER) & (own.cleared - own.raised < FLEETING_US)
    fleeting &= (own.taken == NEVER) | (own.taken > own.cleared)
    return Quality(
        len(own.raised),
        len(own.raised) / max((end - start) / (3600 * SECOND), 1e-9),
        peak,
        peak_at,
        sum(b - a for a, b in spans) / max(end - start, 1),
        spans,
        chattering(own),
        int(fleeting.sum()),
        int(stale.sum()),
        _spread(own.taken, own.raised),
        _spread(own.cleared, own.raised),
    )


def most_within(at: Ints, span: int) -> tuple[int, int]:
    """The most of these moments (int64 (n,), rising) within less than `span`, and the first of them; 0 and NEVER for
    none.
    """
    if not len(at):
        return 0, NEVER
    counts = np.arange(len(at)) - np.searchsorted(at, at - span, "right") + 1
    last = int(counts.argmax())
    return int(counts[last]), int(at[last - counts[last] + 1])


def floods(at: Ints, start: int, end: int) -> list[tuple[int, int]]:
    """Spans of flood in tens of minutes from the start: one with more than ten alarms begins it, one with fewer than
    five ends it.
    """
    edges = np.arange(start, end, TEN_MINUTES)
    counts = np.diff(np.searchsorted(at, [*edges.tolist(), end]))
    found: list[tuple[int, int]] = []
    inside = False
    for begin, count in zip(edges.tolist(), counts.tolist(), strict=True):
        if not inside and count > FLOOD_BEGINS:
            inside = True
            found.append((begin, begin))
        elif inside and count < FLOOD_ENDS:
            inside = False
        if inside:
            found[-1] = found[-1][0], min(begin + TEN_MINUTES, end)
    return found


def chattering(alarms: Raised) -> list[int]:
    """Keys that were raised three times or more within a minute, rising."""
    order = np.lexsort((alarms.raised, alarms.key))
    key, at = alarms.key[order], alarms.raised[order]
    far = CHATTER - 1
    close: Truths = (key[far:] == key[:-far]) & (at[far:] - at[:-far] <= CHATTER_US)
    return [int(found) for found in np.unique(key[far:][close])]


def _spread(until: Ints, since: Ints) -> tuple[float, float]:
    there = until != NEVER
    if not there.any():
        return float("nan"), float("nan")
    seconds = np.maximum(until[there] - since[there], 0) / SECOND
    return float(np.median(seconds)), float(np.quantile(seconds, 0.9))
