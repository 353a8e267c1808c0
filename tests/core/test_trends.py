"""Robust slopes against going through all pairs, and what is left by them."""

from __future__ import annotations

from itertools import combinations
from statistics import median

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum.history.trends import Trend, apart, theil_sen

values = st.lists(st.one_of(st.none(), st.integers(-50, 50)), min_size=4, max_size=16)


def of(days: np.ndarray) -> Trend | None:
    return theil_sen(np.arange(len(days)), days[None, :])[0]


@given(values)
def test_the_slope_is_the_median_of_all_pairs(days: list[int | None]) -> None:
    known = [(day, value) for day, value in enumerate(days) if value is not None]
    found = of(np.array([np.nan if v is None else v for v in days], float))
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
    sinking = of(4.0 - 0.05 * np.arange(14))
    assert sinking is not None and sinking.until(3.0) == pytest.approx((7.0, 7.0, 7.0))
    assert sinking.until(3.5) == (0.0, 0.0, 0.0), "it is there already"


def test_one_wild_day_changes_nothing() -> None:
    days = 4.0 - 0.05 * np.arange(14)
    days[5] = 40.0
    found = of(days)
    assert found is not None and found.per_day == pytest.approx(-0.05, abs=0.01)


def test_what_only_scatters_is_never_empty() -> None:
    days = 4.0 + 0.1 * np.array([1, -1, 1, -1, 0, 1, -1, 1, -1, 1, -1, 0, -1, 1])
    found = of(days)
    assert found is not None and found.until(3.0) is None


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-9, 9)), min_size=6, max_size=6), min_size=1, max_size=9))
def test_many_at_once_are_each_by_itself(rows: list[list[int | None]]) -> None:
    table = np.array([[np.nan if v is None else v for v in row] for row in rows], float)
    assert theil_sen(np.arange(6), table) == [of(row) for row in table]


@given(st.lists(st.integers(-9, 9), max_size=14))
def test_each_is_held_against_all_others(listed: list[int]) -> None:
    found = apart(np.array(listed, float))
    for place, value in enumerate(listed):
        others = listed[:place] + listed[place + 1 :]
        spread = 1.4826 * median(abs(v - median(others)) for v in others) if len(others) >= 5 else 0
        if spread:
            assert found[place] == pytest.approx((value - median(others)) / spread)
        else:
            assert np.isnan(found[place])


def test_apart_from_neighbours() -> None:
    others = [10.0, 10.1, 9.9, 10.2, 9.8]
    assert apart(np.array([20.0, *others]))[0] == pytest.approx(10.0 / (1.4826 * 0.1))
    assert np.isnan(apart(np.array([20.0, *others[:4]]))[0]) and np.isnan(apart(np.array([20.0, *[10.0] * 9]))[0])
