"""Parts of a span against going through its readings one after the other."""

from __future__ import annotations

from statistics import fmean, median

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from oculum.arrays import middles
from oculum.history.summing import WAYS, quantiles, spread, summed

readings = st.dictionaries(st.integers(100, 219), st.integers(-9, 9), max_size=20).map(lambda d: sorted(d.items()))


def slowly(found: list[tuple[int, int]], width: int, how: str, end: int, before: int | None) -> dict[int, float]:
    told: dict[int, float] = {}
    for part in range(-(-120 // width)):
        first, last = 100 + part * width, min(100 + (part + 1) * width, end)
        inside = [v for t, v in found if first <= t < 100 + (part + 1) * width]
        if how == "time_weighted_mean":
            steps = [*([(100, before)] if before is not None else []), *found]
            held = [[v for t, v in steps if t <= second][-1:] for second in range(first, last)]
            known = [one[0] for one in held if one]
            if known:
                told[part] = fmean(known)
        elif inside:
            match how:
                case "first" | "last":
                    told[part] = inside[0 if how == "first" else -1]
                case "min" | "max":
                    told[part] = sorted(inside)[0 if how == "min" else -1]
                case "mean":
                    told[part] = fmean(inside)
                case _:
                    told[part] = sum(inside) if how == "sum" else len(inside)
    return told


@given(readings, st.integers(7, 60), st.sampled_from(WAYS), st.one_of(st.none(), st.integers(-9, 9)))
def test_parts_are_what_one_would_count(found: list[tuple[int, int]], width: int, how: str, before: int | None) -> None:
    at, value = np.array(found, np.int64).reshape(-1, 2).T
    parts = -(-120 // width)
    some, values, counts = summed(at, value.astype(float), 100, width, parts, how, 220, before)
    wanted = slowly(found, width, how, 220, before)
    assert dict(zip(some.tolist(), values.tolist(), strict=True)) == pytest.approx(wanted)
    for part, count in zip(some.tolist(), counts.tolist(), strict=True):
        assert count == sum(100 + part * width <= t < 100 + (part + 1) * width for t, _ in found)


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-50, 50)), min_size=4, max_size=4), min_size=1, max_size=9))
def test_quantiles_of_a_part_are_those_of_the_devices_that_have_one(courses: list[list[int | None]]) -> None:
    found = quantiles(np.array([[np.nan if v is None else v for v in row] for row in courses], float), (0.1, 0.5, 0.9))
    for part in range(4):
        own = sorted(row[part] for row in courses if row[part] is not None)  # type: ignore[type-var]
        for share, told in zip((0.1, 0.5, 0.9), found[:, part].tolist(), strict=True):
            if len(own) < 3:
                assert np.isnan(told)
                continue
            place = share * (len(own) - 1)
            low, high = own[int(place)], own[min(int(place) + 1, len(own) - 1)]
            assert told == pytest.approx(low + (high - low) * (place - int(place)))  # type: ignore[operator]


@given(st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=1, max_size=30), st.integers(1, 12))
@example([-5e-324, 0.0], 3)
@example([-1.7976931348623157e308, 1.7976931348623157e308], 12)
def test_every_value_lies_in_one_bin(values: list[float], bins: int) -> None:
    counts, edges = spread(np.array(values), bins)
    assert len(counts) == bins and len(edges) == bins + 1
    assert edges[0] <= min(values) and (edges[-1] >= max(values) or edges[-1] == pytest.approx(max(values)))
    if np.isfinite(edges).all() and (np.diff(edges) > 0).all():
        assert counts.sum() == len(values)


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-9, 9)), min_size=5, max_size=5), max_size=6))
def test_the_middle_of_each_row_is_that_of_what_is_known(rows: list[list[int | None]]) -> None:
    table = np.array([[np.nan if v is None else v for v in row] for row in rows], float).reshape(-1, 5)
    for found, row in zip(middles(table).tolist(), rows, strict=True):
        known = [v for v in row if v is not None]
        assert found == median(known) if known else np.isnan(found)
