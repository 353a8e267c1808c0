"""Robust slopes against going through all pairs, and what is left by them."""

from __future__ import annotations

from itertools import combinations
from statistics import median

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum.history.trends import apart, theil_sen

values = st.lists(st.one_of(st.none(), st.integers(-50, 50)), min_size=4, max_size=16)


@given(values)
def test_the_slope_is_the_median_of_all_pairs(days: list[int | None]) -> None:
    known = [(day, value) for day, value in enumerate(days) if value is not None]
    found = theil_sen(np.arange(len(days)), np.array([np.nan if v is None else v for v in days], float))
    if len(known) < 4:
        assert found is None
        return
    assert found is not None
    slope = median((b[1] - a[1]) / (b[0] - a[0]) for a, b in combinations(known, 2))
    assert found.per_day == pytest.approx(slope)
    middle = median(value - slope * day for day, value in known)
    assert found.last == pytest.approx(middle + slope * known[-1][0])
    assert found.low <= found.per_day + 1e-9 and found.high >= found.per_day - 1e-9


def test_what_sinks_evenly_is_empty_when_it_is() -> None:
    sinking = theil_sen(np.arange(14), 4.0 - 0.05 * np.arange(14))
    assert sinking is not None and sinking.until(3.0) == pytest.approx((7.0, 7.0, 7.0))
    assert sinking.until(3.5) == (0.0, 0.0, 0.0), "it is there already"


def test_one_wild_day_changes_nothing() -> None:
    days = 4.0 - 0.05 * np.arange(14)
    days[5] = 40.0
    found = theil_sen(np.arange(14), days)
    assert found is not None and found.per_day == pytest.approx(-0.05, abs=0.01)


def test_what_only_scatters_is_never_empty() -> None:
    days = 4.0 + 0.1 * np.array([1, -1, 1, -1, 0, 1, -1, 1, -1, 1, -1, 0, -1, 1])
    found = theil_sen(np.arange(14), days)
    assert found is not None and found.until(3.0) is None


def test_apart_from_neighbours() -> None:
    others = np.array([10.0, 10.1, 9.9, 10.2, 9.8])
    assert apart(20.0, others) == pytest.approx(10.0 / (1.4826 * 0.1))
    assert apart(20.0, others[:4]) is None and apart(20.0, np.full(9, 10.0)) is None
