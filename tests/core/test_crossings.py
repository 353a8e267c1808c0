"""Who went into an area and came out of it, against a walk through the positions one by one."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum.alarms.crossings import crossings
from oculum.register.fences import Area, area_of

SQUARE = Area.polygons([[[(1, 1), (3, 1), (3, 3), (1, 3), (1, 1)]]])
PLACES = [(0.0, 0.0), (0.5, 0.5), (1.0, 2.0), (2.0, 2.0), (5.0, 2.0), (float("nan"), 2.0)]
SENT = st.lists(st.tuples(st.integers(1, 3), st.integers(0, 50), st.sampled_from(PLACES)), max_size=30)


def slow(sent: list[tuple[int, int, tuple[float, float]]]) -> tuple[list[tuple[int, int, bool]], dict[int, int]]:
    """One device after the other, one position after the other."""
    found, inside = [], {}
    for device in sorted({d for d, _, _ in sent}):
        side, since = None, 0
        for at, (lat, lon) in sorted(((a, p) for d, a, p in sent if d == device), key=lambda pair: pair[0]):
            if (lat, lon) == (0.0, 0.0) or lat != lat:
                continue
            now = 1 <= lat <= 3 and 1 <= lon <= 3
            if now != side:
                if side is not None:
                    found.append((device, at, now))
                side, since = now, at
        if side:
            inside[device] = since
    return sorted(found, key=lambda row: (row[1], row[0])), inside


@given(SENT)
def test_crossings_are_those_of_a_walk(sent: list[tuple[int, int, tuple[float, float]]]) -> None:
    sent = list({(d, a): (d, a, p) for d, a, p in sent}.values())  # one position of a device at a moment
    device, at = (np.array([row[k] for row in sent], np.int64) for k in (0, 1))
    fix = np.array([row[2] for row in sent], float).reshape(-1, 2)
    found = crossings(SQUARE, device, at, fix)
    rows = zip(found.device.tolist(), found.at.tolist(), found.entered.tolist(), strict=True)
    assert (sorted(rows, key=lambda row: (row[1], row[0])), found.inside) == slow(sent)
    assert found.at.tolist() == sorted(found.at.tolist())


@pytest.mark.parametrize(
    ("geometry", "properties", "square_km"),
    [
        ({"type": "Point", "coordinates": [4, 50]}, {"radius_m": 1000}, 3.1416),
        # A degree square at the equator: 111.195 km each way on the mean sphere.
        ({"type": "Polygon", "coordinates": [[[0, -0.5], [1, -0.5], [1, 0.5], [0, 0.5], [0, -0.5]]]}, {}, 12_363.7),
        # A tenth of it is cut out, and the way round does not matter.
        (
            {
                "type": "Polygon",
                "coordinates": [
                    [[0, -0.5], [1, -0.5], [1, 0.5], [0, 0.5], [0, -0.5]],
                    [[0.2, -0.25], [0.2, 0.25], [0.4, 0.25], [0.4, -0.25], [0.2, -0.25]],
                ],
            },
            {},
            12_363.7 * 0.9,
        ),
        (
            {"type": "Polygon", "coordinates": [[[179.5, 0], [-179.5, 0], [-179.5, 1], [179.5, 1], [179.5, 0]]]},
            {},
            12363,
        ),
    ],
)
def test_sizes(geometry: dict[str, Any], properties: dict[str, Any], square_km: float) -> None:
    found = area_of({"type": "Feature", "geometry": geometry, "properties": properties}).size_m2() / 1e6
    assert found == pytest.approx(square_km, rel=1e-3)
