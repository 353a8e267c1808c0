"""Figures of alarms against the slow, obvious way."""

from __future__ import annotations

import math
import statistics

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from oculum.alarms.quality import NEVER, SECOND, Raised, chattering, floods, most_within, quality

HOUR = 3600 * SECOND
ALARM = st.tuples(
    st.integers(0, 4 * 3600), st.none() | st.integers(0, 200_000), st.none() | st.integers(0, 9000), st.integers(0, 3)
)


def raised(rows: list[tuple[int, int | None, int | None, int]]) -> Raised:
    """Alarms from seconds: raised, cleared after, taken after, key."""
    rows = sorted(rows, key=lambda row: row[0])

    def after(row: tuple[int, int | None, int | None, int], k: int) -> int:
        later = row[k]
        return NEVER if later is None else (row[0] + later) * SECOND

    return Raised(
        np.array([row[0] * SECOND for row in rows], np.int64),
        np.array([after(row, 1) for row in rows], np.int64),
        np.array([after(row, 2) for row in rows], np.int64),
        np.array([row[3] for row in rows], np.int64),
    )


@given(st.lists(ALARM, max_size=60), st.integers(0, 2), st.integers(1, 3))
def test_the_figures_of_a_span(rows: list[tuple[int, int | None, int | None, int]], first: int, hours: int) -> None:
    start, end = first * 3600, (first + hours) * 3600
    found = quality(raised(rows), start * SECOND, end * SECOND)
    own = sorted((r for r in rows if start <= r[0] < end), key=lambda r: r[0])
    assert found.count == len(own) and found.per_hour == len(own) / hours
    assert found.peak == max((sum(a[0] <= b[0] < a[0] + 600 for b in own) for a in own), default=0)
    assert found.fleeting == sum(r[1] is not None and r[1] < 60 and (r[2] is None or r[2] > r[1]) for r in own)
    assert found.stale == sum(
        min(end, math.inf if r[1] is None else r[0] + r[1]) - r[0] > 86_400 and (r[1] is None or r[0] + r[1] > start)
        for r in rows
        if r[0] < end
    )
    taking = [r[2] for r in own if r[2] is not None]
    assert math.isnan(found.taking[0]) if not taking else found.taking[0] == statistics.median(taking)
    loud = {
        key
        for key in range(4)
        for a in own
        if sum(b[3] == key and 0 <= b[0] - a[0] <= 60 for b in own if a[3] == key) >= 3
    }
    assert set(found.chattering) == loud


def test_a_flood_begins_above_ten_and_ends_below_five() -> None:
    counts = [3, 11, 7, 5, 4, 10, 12, 12]
    at = np.array([600 * k + 50 * n for k, count in enumerate(counts) for n in range(count)], np.int64) * SECOND
    ten = 600 * SECOND
    assert floods(np.sort(at), 0, 8 * ten) == [(ten, 4 * ten), (6 * ten, 8 * ten)]
    assert floods(np.zeros(0, np.int64), 0, ten) == []


def test_nothing_was_raised() -> None:
    none = np.zeros(0, np.int64)
    assert most_within(none, HOUR) == (0, NEVER) and chattering(Raised(none, none, none, none)) == []
