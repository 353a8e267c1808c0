"""The built-in functions: what they take, what they give, how they are computed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

EARTH_RADIUS_M = 6_371_008.8  # mean radius, IUGG 1980


@dataclass(frozen=True)
class Function:
    """`takes` are argument kinds (`same`: a number in the unit of the first); `gives` the result."""

    takes: tuple[str, ...]
    gives: str
    compute: Callable[..., Any] | None
    words: str
    many: bool = False


def _round(values: np.ndarray) -> np.ndarray:
    return np.copysign(np.floor(np.abs(values) + 0.5), values)


FUNCTIONS: dict[str, Function] = {
    "abs": Function(("number",), "same", np.abs, "abs(x): the magnitude of x"),
    "min": Function(("number", "same"), "same", np.minimum, "min(a, b, ...): the lowest", many=True),
    "max": Function(("number", "same"), "same", np.maximum, "max(a, b, ...): the highest", many=True),
    "clamp": Function(("number", "same", "same"), "same", lambda x, a, b: np.minimum(np.maximum(x, a), b), "clamp(x, low, high)"),
    "round": Function(("number",), "same", _round, "round(x): to whole numbers, half away from zero"),
    "floor": Function(("number",), "same", np.floor, "floor(x): down to a whole number"),
    "ceil": Function(("number",), "same", np.ceil, "ceil(x): up to a whole number"),
    "sqrt": Function(("plain",), "plain", np.sqrt, "sqrt(x): of a plain number"),
    "log": Function(("plain",), "plain", np.log, "log(x): natural, of a plain number"),
    "log10": Function(("plain",), "plain", np.log10, "log10(x): to base 10, of a plain number"),
    "exp": Function(("plain",), "plain", np.exp, "exp(x): of a plain number"),
    "raw": Function(("field",), "plain", None, "raw(field): the number as it stands in the message"),
    "latitude": Function(("position",), "deg", None, "latitude(position)"),
    "longitude": Function(("position",), "deg", None, "longitude(position)"),
    "point": Function(("deg", "deg"), "position", None, "point(latitude, longitude)"),
    "distance": Function(("position", "position"), "m", None, "distance(a, b): along the ground"),
}


def distance_m(lat1: Any, lon1: Any, lat2: Any, lon2: Any) -> Any:
    """Ground distance in metres between positions in degrees; arrays broadcast.

    Vincenty's inverse formula on the WGS 84 ellipsoid (Survey Review 23, 1975), 12 rounds; nearly
    antipodal pairs, where it does not converge, fall back on the great circle.
    """
    major, flattening = 6378137.0, 1 / 298.257223563
    minor = major * (1 - flattening)
    phi1, phi2 = np.radians(lat1), np.radians(lat2)
    span = np.radians(np.asarray(lon2, float) - np.asarray(lon1, float))
    u1, u2 = np.arctan((1 - flattening) * np.tan(phi1)), np.arctan((1 - flattening) * np.tan(phi2))
    lam = span
    with np.errstate(all="ignore"):
        for _ in range(12):
            sin_sigma = np.hypot(np.cos(u2) * np.sin(lam), np.cos(u1) * np.sin(u2) - np.sin(u1) * np.cos(u2) * np.cos(lam))
            cos_sigma = np.sin(u1) * np.sin(u2) + np.cos(u1) * np.cos(u2) * np.cos(lam)
            sigma = np.arctan2(sin_sigma, cos_sigma)
            sin_alpha = np.where(sin_sigma == 0, 0.0, np.cos(u1) * np.cos(u2) * np.sin(lam) / sin_sigma)
            cos2_alpha = 1 - sin_alpha**2
            cos_2m = np.where(cos2_alpha == 0, 0.0, cos_sigma - 2 * np.sin(u1) * np.sin(u2) / cos2_alpha)
            c = flattening / 16 * cos2_alpha * (4 + flattening * (4 - 3 * cos2_alpha))
            before = lam
            lam = span + (1 - c) * flattening * sin_alpha * (sigma + c * sin_sigma * (cos_2m + c * cos_sigma * (2 * cos_2m**2 - 1)))
        u_sq = cos2_alpha * (major**2 - minor**2) / minor**2
        a = 1 + u_sq / 16384 * (4096 + u_sq * (-768 + u_sq * (320 - 175 * u_sq)))
        b = u_sq / 1024 * (256 + u_sq * (-128 + u_sq * (74 - 47 * u_sq)))
        delta = b * sin_sigma * (cos_2m + b / 4 * (cos_sigma * (2 * cos_2m**2 - 1) - b / 6 * cos_2m * (4 * sin_sigma**2 - 3) * (4 * cos_2m**2 - 3)))
        exact = minor * a * (sigma - delta)
        circle = EARTH_RADIUS_M * 2 * np.arcsin(np.sqrt(np.clip(np.sin((phi2 - phi1) / 2) ** 2 + np.cos(phi1) * np.cos(phi2) * np.sin(span / 2) ** 2, 0, 1)))
    good = np.isfinite(exact) & (np.abs(lam - before) < 1e-9)
    return np.where(good, exact, circle)
