"""Parts of a span against going through its readings one after the other."""

from __future__ import annotations

from statistics import fmean

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum.history.summing import WAYS, summed

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
