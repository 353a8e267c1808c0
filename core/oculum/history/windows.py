"""Windows over the past of a field: its readings by slot, in the order of measured time, and what is made of them.

Every value is computed afresh over the readings in the window, in their order: neither the cut of batches nor a restart
changes a bit of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

KINDS = (
    "mean",
    "time_mean",
    "lowest",
    "highest",
    "total",
    "count",
    "first",
    "last",
    "change",
    "relative_change",
    "rate",
    "deviation",
    "percentile",
    "time_in",
    "count_true",
)
MARGIN_US = 5 * 60 * 1_000_000  # a device's clock may be so far ahead of the moment at which a window is looked at
STARTING = 16


@dataclass
class Past:
    """Readings of one expression over one field: at, values (n, room); those of slot s stand from begin[s] to end[s].

    keep: µs for which readings are needed; one older one is kept beside them, to be carried in.
    """

    at: np.ndarray
    values: np.ndarray
    begin: np.ndarray
    end: np.ndarray
    keep: int

    @classmethod
    def of(cls, slots: int, keep: int) -> Past:
        return cls(
            np.zeros((slots, STARTING), np.int64),
            np.zeros((slots, STARTING)),
            np.zeros(slots, np.int64),
            np.zeros(slots, np.int64),
            keep,
        )

    def grow(self, slots: int, room: int) -> None:
        """Room for more slots, or for more readings a slot."""
        before = self.at.shape
        if slots == before[0] and room == before[1]:
            return
        for name in ("at", "values"):
            old = getattr(self, name)
            fresh = np.zeros((slots, room), old.dtype)
            fresh[: before[0], : before[1]] = old
            setattr(self, name, fresh)
        extra = slots - before[0]
        self.begin = np.concatenate([self.begin, np.zeros(extra, np.int64)])
        self.end = np.concatenate([self.end, np.zeros(extra, np.int64)])

    def places(self) -> tuple[np.ndarray, np.ndarray]:
        """Slot and place of every reading that is kept: int64 (n,) each, by slot, rising."""
        inside = np.arange(self.at.shape[1])[None, :]
        slot, place = np.nonzero((inside >= self.begin[:, None]) & (inside < self.end[:, None]))
        return slot, place

    def tidied(self, slots: int | None = None) -> Past:
        """The same readings (of the first slots) without the room that they do not need: what is kept for the next
        start.
        """
        counts = (self.end - self.begin)[:slots]
        room = max(int(counts.max()) if len(counts) else 0, 1)
        found = Past.of(len(counts), self.keep)
        found.at, found.values = np.zeros((len(counts), room), np.int64), np.zeros((len(counts), room))
        for slot in np.flatnonzero(counts).tolist():
            span = slice(self.begin[slot], self.end[slot])
            found.at[slot, : counts[slot]], found.values[slot, : counts[slot]] = (
                self.at[slot, span],
                self.values[slot, span],
            )
        found.end = counts
        return found


def fill(
    at: Any,
    values: Any,
    begin: Any,
    end: Any,
    keep: int,
    slot: Any,
    now: Any,
    added: Any,
    added_at: Any,
    added_value: Any,
    wanted: Any,
    kinds: Any,
    lows: Any,
    ages: Any,
    shares: Any,
    percents: Any,
    cadence: Any,
    scratch: Any,
    out: Any,
    known: Any,
    first: int,
) -> int:
    """Takes readings in and computes windows, row by row, from row `first` on.

    slot, now: int64 (m,); added: bool, whether a reading (added_at, added_value) comes in; wanted: bool, whether
    windows are looked at. kinds: int64 (k,); lows: int64 (k, m), the moment that a window begins behind; ages: int64
    (k,), how old the older value of a change may be. shares, percents: float64 (k,). cadence: int64 (m,). out, known:
    (k, m). Returns the row at which there was no room, or m.
    """
    room = at.shape[1]
    for r in range(first, len(slot)):
        s = slot[r]
        if added[r]:
            if end[s] == room:
                if begin[s] * 4 < room:
                    return r
                size = end[s] - begin[s]
                for i in range(size):
                    at[s, i] = at[s, begin[s] + i]
                    values[s, i] = values[s, begin[s] + i]
                begin[s] = 0
                end[s] = size
            moment = added_at[r]
            i = end[s]
            while i > begin[s] and at[s, i - 1] > moment:
                i -= 1
            if i > begin[s] and at[s, i - 1] == moment:
                values[s, i - 1] = added_value[r]
            else:
                for j in range(end[s], i, -1):
                    at[s, j] = at[s, j - 1]
                    values[s, j] = values[s, j - 1]
                at[s, i] = moment
                values[s, i] = added_value[r]
                end[s] += 1
            oldest = at[s, end[s] - 1] - keep
            while begin[s] + 1 < end[s] and at[s, begin[s] + 1] <= oldest:
                begin[s] += 1
        if not wanted[r]:
            continue
        for k in range(len(kinds)):
            value, good = one(
                at, values, s, begin[s], end[s], now[r], lows[k, r], ages[k], kinds[k], percents[k], scratch
            )
            if good and shares[k] > 0.0:
                low = first_above(at, s, begin[s], end[s], lows[k, r])
                high = first_above(at, s, begin[s], end[s], now[r])
                span = now[r] - lows[k, r]
                good = cadence[r] > 0 and (high - low) * float(cadence[r]) >= shares[k] * float(span)
            out[k, r] = value
            known[k, r] = good
    return len(slot)


def first_above(at: Any, s: int, low: int, high: int, moment: int) -> int:
    """The first place of a slot whose reading was measured after a moment."""
    while low < high:
        middle = (low + high) // 2
        if at[s, middle] > moment:
            high = middle
        else:
            low = middle + 1
    return low


def one(
    at: Any,
    values: Any,
    s: int,
    begin: int,
    end: int,
    now: int,
    since: int,
    age: int,
    kind: int,
    percent: float,
    scratch: Any,
) -> tuple[float, bool]:
    """One quantity of the readings measured in (since, now], and whether it is known."""
    low = first_above(at, s, begin, end, since)
    high = first_above(at, s, low, end, now)
    n = high - low
    if kind == 5:
        return float(n), True
    if kind == 14:
        total = 0.0
        for i in range(low, high):
            if values[s, i] != 0.0:
                total += 1.0
        return total, True
    if kind == 1 or kind == 13:
        begins = since
        i = low - 1
        if i < begin:
            if n == 0:
                return 0.0, False
            begins = at[s, low]
            i = low
        area = 0.0
        length = float(now - begins)
        while i < high:
            start = at[s, i] if at[s, i] > begins else begins
            stop = at[s, i + 1] if i + 1 < high else now
            area += values[s, i] * float(stop - start)
            i += 1
        if kind == 13:
            return area / 1e6, True
        if length == 0.0:
            return values[s, high - 1], True
        return area / length, True
    if kind == 8 or kind == 9:
        if high == begin:
            return 0.0, False
        older = low - 1
        if older < begin or at[s, older] < now - age:
            return 0.0, False
        difference = values[s, high - 1] - values[s, older]
        if kind == 8:
            return difference, True
        if values[s, older] == 0.0:
            return 0.0, False
        return difference / abs(values[s, older]), True
    if n == 0:
        return 0.0, False
    if kind == 6:
        return values[s, low], True
    if kind == 7:
        return values[s, high - 1], True
    if kind == 2 or kind == 3:
        found = values[s, low]
        for i in range(low + 1, high):
            if (kind == 2 and values[s, i] < found) or (kind == 3 and values[s, i] > found):
                found = values[s, i]
        return found, True
    if kind == 12:
        if n < 5:
            return 0.0, False
        for i in range(n):
            value = values[s, low + i]
            j = i
            while j > 0 and scratch[j - 1] > value:
                scratch[j] = scratch[j - 1]
                j -= 1
            scratch[j] = value
        place = percent / 100.0 * (n - 1)
        below = int(place)
        if below + 1 >= n:
            return scratch[n - 1], True
        return scratch[below] + (place - below) * (scratch[below + 1] - scratch[below]), True
    total = 0.0
    for i in range(low, high):
        total += values[s, i]
    if kind == 4:
        return total, True
    mean = total / n
    if kind == 0:
        return mean, True
    if kind == 11:
        if n < 2:
            return 0.0, False
        square = 0.0
        for i in range(low, high):
            square += (values[s, i] - mean) * (values[s, i] - mean)
        return (square / (n - 1)) ** 0.5, True
    # the slope by least squares, in seconds before `now`
    if n < 3:
        return 0.0, False
    middle = 0.0
    for i in range(low, high):
        middle += float(at[s, i] - now) / 1e6
    middle /= n
    over = 0.0
    under = 0.0
    for i in range(low, high):
        distance = float(at[s, i] - now) / 1e6 - middle
        over += distance * (values[s, i] - mean)
        under += distance * distance
    if under == 0.0:
        return 0.0, False
    return over / under, True
