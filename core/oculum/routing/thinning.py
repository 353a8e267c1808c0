"""Which readings of a field are let through where only changes count."""

from __future__ import annotations

from math import asin, cos, radians, sin, sqrt
from typing import Any

EARTH_M = 6_371_008.8  # the mean radius, IUGG 1980


def apart(a: float, b: float, c: float, d: float) -> float:
    """Metres between two positions (latitude, longitude in degrees) on the mean sphere, by the haversine formula."""
    half = sin(radians(c - a) / 2.0) ** 2 + cos(radians(a)) * cos(radians(c)) * sin(radians(d - b) / 2.0) ** 2
    return 2.0 * EARTH_M * asin(sqrt(min(half, 1.0)))


def thin(
    slot: Any, at: Any, values: Any, kept: Any, kept_at: Any, band: float, relative: bool, every: int, out: Any
) -> None:
    """Marks in `out` the readings that are let through, and keeps the last of each slot.

    slot, at: int64 (m,), of each slot in the order of arrival; values: float64 (m, w), w = 2 for positions. kept:
    float64 (n, w), kept_at: int64 (n,), the last reading let through, its lowest number where there is none. What was
    measured before that one is let through and changes nothing.
    """
    never = -9223372036854775808
    for r in range(len(slot)):
        s = slot[r]
        if kept_at[s] != never:
            if at[r] < kept_at[s]:
                out[r] = True
                continue
            if values.shape[1] == 2:
                step = apart(kept[s, 0], kept[s, 1], values[r, 0], values[r, 1])
                beyond = band
            else:
                step = abs(values[r, 0] - kept[s, 0])
                beyond = band * abs(kept[s, 0]) if relative else band
            if step <= beyond and not (every > 0 and at[r] - kept_at[s] >= every):
                continue
        out[r] = True
        kept_at[s] = at[r]
        for k in range(values.shape[1]):
            kept[s, k] = values[r, k]
