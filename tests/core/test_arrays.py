"""What the core shares about columns, against plain lists."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from oculum.arrays import distinct, in_order_of
from oculum.clocks import iso, iso_us, isos_us
from oculum.language.functions import distance_m

WHOLE = st.integers(-(2**62), 2**62) | st.integers(-3, 3)
ROWS = st.integers(1, 4).flatmap(lambda width: st.lists(st.tuples(*[WHOLE] * width), min_size=1, max_size=30))


@given(ROWS)
def test_different_rows_are_told_once_and_rising(rows: list[tuple[int, ...]]) -> None:
    found, which = distinct(*np.array(rows, np.int64).T)
    told = [tuple(row) for row in found.T.tolist()]
    assert told == sorted(set(rows))
    assert [told[k] for k in which.tolist()] == rows


@given(ROWS)
def test_rows_are_put_in_order_and_equal_ones_stay_as_they_stand(rows: list[tuple[int, ...]]) -> None:
    assert in_order_of(*np.array(rows, np.int64).T).tolist() == sorted(range(len(rows)), key=lambda k: (rows[k], k))


def test_of_no_rows_none_is_different() -> None:
    found, which = distinct(np.zeros(0, np.int64), np.zeros(0, np.int64))
    assert found.shape == (2, 0) and len(which) == 0


MOMENT = st.integers(-62_000_000_000, 250_000_000_000)


@given(st.integers(0, 6), st.lists(st.tuples(MOMENT, st.integers(0, 999_999)), min_size=1, max_size=6), st.data())
def test_times_together_are_what_each_is_alone(
    decimals: int, moments: list[tuple[int, int]], data: st.DataObject
) -> None:
    mark = data.draw(st.sampled_from(".,"))
    texts = []
    for seconds, us in moments:
        whole = iso(seconds * 1_000_000).removesuffix("Z")
        texts.append(whole + (f"{mark}{us:06}"[: decimals + 1] if decimals else "") + "Z")
    if data.draw(st.integers(0, 3)) == 0:  # somewhere a letter that does not belong there
        k, at = data.draw(st.integers(0, len(texts) - 1)), data.draw(st.integers(0, 18))
        texts[k] = texts[k][:at] + data.draw(st.sampled_from("x9-T:é.0")) + texts[k][at + 1 :]
    found = isos_us(texts)
    try:
        alone = [iso_us(text) for text in texts]
    except ValueError:
        assert found is None
        return
    assert found is None or found.tolist() == alone
    assert found is not None or any(not text.isascii() for text in texts), "all are written alike"


PLACE = st.tuples(st.floats(-90, 90), st.floats(-180, 180), st.floats(-90, 90), st.floats(-180, 180))
NEAR = st.tuples(st.floats(-80, 80), st.floats(-170, 170), st.floats(-1e-3, 1e-3), st.floats(-1e-3, 1e-3))
PLACES = st.lists(PLACE | NEAR.map(lambda p: (p[0], p[1], p[0] + p[2], p[1] + p[3])), min_size=1, max_size=9)


@given(PLACES)
def test_a_distance_is_the_same_to_the_bit_whatever_stands_beside_it(places: list[tuple[float, ...]]) -> None:
    together = distance_m(*np.array(places, float).T)
    alone = [float(distance_m(*np.array([place], float).T)[0]) for place in places]
    assert together.tolist() == alone
    assert all(0 <= metres < 20_004_000 for metres in alone)
