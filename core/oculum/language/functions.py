"""The built-in functions: what they take, what they give, how they are computed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..checks import NAMES as CHECKS
from ..clocks import known_zone, utc_to_local
from .abilities import Ability
from .patterns import matches

EARTH_RADIUS_M = 6_371_008.8  # mean radius, IUGG 1980


@dataclass(frozen=True)
class Function:
    """`takes` are argument kinds (`same`: a number in the unit of the first; `like`: of the kind of the first).

    `gives` is the kind of the result. `by_row` functions take and give plain values, one row at a time.
    """

    takes: tuple[str, ...]
    gives: str
    compute: Callable[..., Any] | None
    words: str
    many: bool = False
    by_row: bool = False
    needs: Ability | None = None


def _round(values: np.ndarray) -> np.ndarray:
    return np.copysign(np.floor(np.abs(values) + 0.5), values)


def _wrapped(values: Any, bits: Any) -> Any:
    """`values` modulo 2^bits, read as signed: the change of a counter that wraps."""
    whole = np.exp2(bits)
    return np.mod(np.asarray(values, float) + whole / 2, whole) - whole / 2


def _bit_count(values: Any) -> Any:
    return np.bitwise_count(np.asarray(values, float).astype(np.int64)).astype(float)


def _part(text: str, separator: str, number: float) -> str | None:
    parts = text.split(separator) if separator else [text]
    index = int(number) - 1 if number > 0 else int(number)
    return parts[index] if number and -len(parts) <= index < len(parts) else None


def _before_last(text: str, mark: str) -> str:
    return text.rpartition(mark)[0] if mark else text


def _after_last(text: str, mark: str) -> str:
    return text.rpartition(mark)[2] if mark else text


def _before_first(text: str, mark: str) -> str:
    return text.partition(mark)[0] if mark else text


def _after_first(text: str, mark: str) -> str:
    return text.partition(mark)[2] if mark else text


def _second_pass(moment: int, zone: str) -> bool:
    return known_zone(str(zone)) and utc_to_local(int(moment), str(zone))[1]


def bearing(lat1: Any, lon1: Any, lat2: Any, lon2: Any) -> Any:
    """Initial bearing along the great circle, degrees clockwise from north, 0 to below 360."""
    a, b, span = np.radians(lat1), np.radians(lat2), np.radians(np.asarray(lon2, float) - np.asarray(lon1, float))
    return np.mod(
        np.degrees(np.arctan2(np.sin(span) * np.cos(b), np.cos(a) * np.sin(b) - np.sin(a) * np.cos(b) * np.cos(span))),
        360.0,
    )


def _degrees(compute: Callable[[Any], Any]) -> Callable[[Any], Any]:
    return lambda x: np.degrees(compute(x))


def _of_degrees(compute: Callable[[Any], Any]) -> Callable[[Any], Any]:
    return lambda x: compute(np.radians(x))


FUNCTIONS: dict[str, Function] = {
    "abs": Function(("number",), "same", np.abs, "abs(x): the magnitude of x"),
    "min": Function(("number", "same"), "same", np.minimum, "min(a, b, ...): the lowest", many=True),
    "max": Function(("number", "same"), "same", np.maximum, "max(a, b, ...): the highest", many=True),
    "clamp": Function(
        ("number", "same", "same"), "same", lambda x, a, b: np.minimum(np.maximum(x, a), b), "clamp(x, low, high)"
    ),
    "round": Function(("number",), "same", _round, "round(x): to whole numbers, half away from zero"),
    "upward": Function(
        ("number", "same"),
        "same",
        np.mod,
        "upward(difference, steps): how far a counter of so many steps went up, which may have turned over: 10000 for"
        " one that goes from 9999 to 0",
    ),
    "floor": Function(("number",), "same", np.floor, "floor(x): down to a whole number"),
    "ceil": Function(("number",), "same", np.ceil, "ceil(x): up to a whole number"),
    "mod": Function(("number", "same"), "same", np.mod, "mod(a, b): what is left of a after whole steps of b"),
    "sqrt": Function(("plain",), "plain", np.sqrt, "sqrt(x): of a plain number"),
    "power": Function(
        ("plain", "plain"), "plain", lambda a, b: np.power(np.asarray(a, float), b), "power(a, b): a to the b"
    ),
    "log": Function(("plain",), "plain", np.log, "log(x): natural, of a plain number"),
    "log10": Function(("plain",), "plain", np.log10, "log10(x): to base 10, of a plain number"),
    "exp": Function(("plain",), "plain", np.exp, "exp(x): of a plain number"),
    "sin": Function(("deg",), "plain", _of_degrees(np.sin), "sin(angle)"),
    "cos": Function(("deg",), "plain", _of_degrees(np.cos), "cos(angle)"),
    "tan": Function(("deg",), "plain", _of_degrees(np.tan), "tan(angle)"),
    "asin": Function(("plain",), "deg", _degrees(np.arcsin), "asin(x): the angle"),
    "acos": Function(("plain",), "deg", _degrees(np.arccos), "acos(x): the angle"),
    "atan": Function(("plain",), "deg", _degrees(np.arctan), "atan(x): the angle"),
    "atan2": Function(
        ("number", "same"), "deg", lambda y, x: np.degrees(np.arctan2(y, x)), "atan2(y, x): the angle of a point"
    ),
    "wrapped": Function(
        ("number", "plain"),
        "same",
        _wrapped,
        "wrapped(difference, bits): the change of a counter of so many bits, which may have wrapped either way",
    ),
    "bit_count": Function(("plain",), "plain", _bit_count, "bit_count(x): how many bits are set"),
    "raw": Function(
        ("field",), "plain", None, "raw(field): the number as it stands in the message", needs=Ability.PAYLOAD
    ),
    "matches": Function(
        ("text", "text"),
        "truth",
        matches,
        'matches(text, "[A-Z]{2}[0-9]+"): whether a pattern takes all of a text',
        by_row=True,
    ),
    "first_known": Function(
        ("any", "like"), "same", None, "first_known(a, b, ...): the first that is not missing", many=True
    ),
    "size_of": Function(
        ("text",), "plain", lambda text: float(len(text.encode())), "size_of(text): its bytes in UTF-8", by_row=True
    ),
    "part": Function(
        ("text", "text", "plain"),
        "text",
        _part,
        'part(text, ",", 2): the second part between commas, -1 the last',
        by_row=True,
    ),
    "before_first": Function(
        ("text", "text"),
        "text",
        _before_first,
        "before_first(text, mark): what stands before the first mark",
        by_row=True,
    ),
    "after_first": Function(("text", "text"), "text", _after_first, "after_first(text, mark)", by_row=True),
    "before_last": Function(
        ("text", "text"), "text", _before_last, "before_last(text, mark): what stands before the last mark", by_row=True
    ),
    "after_last": Function(("text", "text"), "text", _after_last, "after_last(text, mark)", by_row=True),
    "lower": Function(("text",), "text", str.lower, "lower(text): in small letters", by_row=True),
    "upper": Function(("text",), "text", str.upper, "upper(text): in capital letters", by_row=True),
    "trimmed": Function(("text",), "text", str.strip, "trimmed(text): without blanks around it", by_row=True),
    "text_length": Function(
        ("text",), "plain", lambda text: float(len(text)), "text_length(text): its number of characters", by_row=True
    ),
    "contains": Function(
        ("text", "text"), "truth", lambda text, other: other in text, "contains(text, other)", by_row=True
    ),
    "starts_with": Function(("text", "text"), "truth", str.startswith, "starts_with(text, other)", by_row=True),
    "calendar": Function(
        ("plain",) * 6, "time", None, "calendar(year, month, day, hour, minute, second): a time in UTC"
    ),
    "second_pass": Function(
        ("time", "text"),
        "truth",
        _second_pass,
        "second_pass(time, zone): whether its local time comes for the second time that day",
        by_row=True,
    ),
    "amount": Function(
        ("number", "any"), "plain", None, "amount(speed, 1 km/h): how many of the unit, as a plain number"
    ),
    "latitude": Function(("position",), "deg", None, "latitude(position)"),
    "longitude": Function(("position",), "deg", None, "longitude(position)"),
    "point": Function(("deg", "deg"), "position", None, "point(latitude, longitude)"),
    "distance": Function(("position", "position"), "m", None, "distance(a, b): along the ground"),
    "bearing": Function(
        ("position", "position"), "deg", None, "bearing(a, b): the direction from a to b, clockwise from north"
    ),
}

AGGREGATES: dict[str, str] = {
    "sum_of": "sum_of(x): over the repeats; missing if one of them is",
    "mean_of": "mean_of(x): over the known ones",
    "min_of": "min_of(x): the lowest of the known ones",
    "max_of": "max_of(x): the highest of the known ones",
    "first_of": "first_of(x): the first known one",
    "last_of": "last_of(x): the last known one",
    "count_of": "count_of(x): how many repeats have x, missing or not; of something true or false, how many are true",
    "any_of": "any_of(rule): whether it is true in one of the repeats",
    "all_of": "all_of(rule): whether it is true in every repeat",
    "different_of": "different_of(x): how many different known values there are",
    "at_max_of": "at_max_of(rssi, gateway): the gateway where rssi is highest, the first of equal ones",
    "at_min_of": "at_min_of(rssi, gateway): the gateway where rssi is lowest, the first of equal ones",
    "join_of": 'join_of(text, ","): the texts one after the other',
}
EARLIER: dict[str, str] = {
    "before": "before(field): its value in the message before, of the same device",
    "previous": "previous(field): its last known value in this repeat",
}
BUILTINS: dict[str, str] = {
    "received": "received: the moment of arrival",
    "stamp": "stamp: the time that the readings have so far",
    "left": "left: bytes that are not read yet",
    "bits_left": "bits_left: bits that are not read yet",
    "index": "index: which repeat this is, counted from 1",
    "length": "length: bytes of the message, or of the part that is open",
}

WINDOWS: dict[str, str] = {
    "mean": "mean(x, 30 min): of the readings in the window",
    "time_mean": "time_mean(x, 1 h): each value counts for as long as it stood",
    "lowest": "lowest(x, 1 h)",
    "highest": "highest(x, 1 h)",
    "total": "total(x, 24 h): the sum of the readings",
    "count": "count(x, 1 h): how many readings; of something true or false, how many are true",
    "first": "first(x, 1 h): the oldest in the window",
    "last": "last(x, 1 h): the newest in the window",
    "change": "change(x, 1 h): against the newest reading at or before that time ago, not older than 1.5 times it",
    "relative_change": "relative_change(x, 1 h): the change divided by the older value",
    "rate": "rate(x, 1 h): the slope by least squares, of at least 3 readings",
    "deviation": "deviation(x, 1 h): the standard deviation of the sample",
    "percentile": "percentile(x, 95, 24 h): by linear interpolation, of at least 5 readings",
    "time_in": "time_in(rule, 1 h): how long a rule over one field held",
}
CALENDAR_WINDOWS = ("today", "this_week")
CLOCK: dict[str, str] = {
    "silent": "silent(30 min): nothing has arrived for so long; silent(oxygen, 1 h): no value of a field",
    "messages": "messages(1 h): how many arrived in the window",
    "age": "age(x): since its newest value was measured",
}
PLACES: dict[str, str] = {
    "inside": 'inside(fix, "fence"): in it or on its edge; inside(fix, "fence", 50 m): left only beyond the margin',
    "outside": 'outside(fix, "fence"): not inside',
    "enters": 'enters(fix, "fence"): inside, and not at the fix before',
    "leaves": 'leaves(fix, "fence", 50 m): outside, and inside at the fix before',
    "crosses": 'crosses(fix, "fence", 10 min): inside, or the way from the fix before, so long ago at most, meets it',
    "speed": "speed(fix): between the last two positions",
}
OF_DEVICE: dict[str, str] = {
    "cadence": "cadence: how often the device is expected to report",
    "learned_cadence": "learned_cadence: the median of its last 50 intervals, of at least 8, else its cadence",
    "cadence_spread": "cadence_spread: the median distance of those intervals from their median",
    "arrival_lag": "arrival_lag: how long after it was measured the newest reading arrived",
    "home": "home: where the device belongs",
}
OF_MEMBERS: dict[str, str] = {
    "max_of": "max_of(x): the highest of the site's members; max_of(x, 1 h): of values at most so old",
    "min_of": "min_of(x): the lowest of the site's members",
    "mean_of": "mean_of(x): over the site's members",
    "sum_of": "sum_of(x): over the site's members",
    "count_of": "count_of(rule): for how many members a rule holds",
    "share_of": "share_of(rule): for which share of the members, of those where it is known",
    "any_of": "any_of(rule): whether it holds for one of the members",
    "all_of": "all_of(rule): whether it holds for every member",
}
OF_READING: dict[str, str] = {
    "label": "label(stage): the text of a label of the device",
    "header": "header(port): what the transport says beside the message",
    "marked": "marked(season): what a line `mark season` further up has marked the reading with",
    "entry": 'entry("samples", offset, device): column `offset` of the row whose key is that value',
    "device": "device: the name of the device",
    "device_type": "device_type: the key of its type",
    "site": "site: the name of its site",
    "topic": "topic: what the message came on",
    "received": "received: the moment of arrival",
    "measured": "measured: the moment at which the reading was measured",
    "home": "home: where the device belongs",
}
READING_NAMES: dict[str, Literal["text", "time", "position"]] = {
    "device": "text",
    "device_type": "text",
    "site": "text",
    "topic": "text",
    "received": "time",
    "measured": "time",
    "home": "position",
}
# Functions that only some places have, by what they need.
ELSEWHERE: dict[str, Ability] = {
    **dict.fromkeys(CHECKS, Ability.PAYLOAD),
    **dict.fromkeys(OF_MEMBERS, Ability.MEMBERS),
    **dict.fromkeys(AGGREGATES, Ability.REPEATS),
    **dict.fromkeys(WINDOWS, Ability.PAST),
    **dict.fromkeys(CLOCK, Ability.CLOCK),
    **dict.fromkeys(PLACES, Ability.FENCES),
    **dict.fromkeys(EARLIER, Ability.BEFORE),
    **dict.fromkeys(("label", "header", "marked", "entry"), Ability.READING),
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
    sines, cosines = np.sin(u1) * np.sin(u2), np.cos(u1) * np.cos(u2)
    across, along, turned = np.cos(u2), np.cos(u1) * np.sin(u2), np.sin(u1) * np.cos(u2)

    def on_the_sphere(lam: Any) -> tuple[Any, ...]:
        """Sine and cosine of the arc, the arc, the sine and the squared cosine of its azimuth, cosine of its middle."""
        sin_lam, cos_lam = np.sin(lam), np.cos(lam)
        sin_sigma = np.hypot(across * sin_lam, along - turned * cos_lam)
        cos_sigma = sines + cosines * cos_lam
        sin_alpha = np.where(sin_sigma == 0, 0.0, cosines * sin_lam / sin_sigma)
        cos2_alpha = 1 - sin_alpha**2
        cos_2m = np.where(cos2_alpha == 0, 0.0, cos_sigma - 2 * sines / cos2_alpha)
        return sin_sigma, cos_sigma, np.arctan2(sin_sigma, cos_sigma), sin_alpha, cos2_alpha, cos_2m

    lam = span
    moved = np.full(np.shape(span + u1 + u2), np.inf)
    with np.errstate(all="ignore"):
        for _ in range(12):
            sin_sigma, cos_sigma, sigma, sin_alpha, cos2_alpha, cos_2m = on_the_sphere(lam)
            c = flattening / 16 * cos2_alpha * (4 + flattening * (4 - 3 * cos2_alpha))
            fresh = span + (1 - c) * flattening * sin_alpha * (
                sigma + c * sin_sigma * (cos_2m + c * cos_sigma * (2 * cos_2m**2 - 1))
            )
            # Each stops by itself: what its neighbours need changes no digit of it.
            going = ~(moved < 1e-13)
            lam, moved = np.where(going, fresh, lam), np.where(going, np.abs(fresh - lam), moved)
            if not (moved >= 1e-13).any():
                break
        sin_sigma, cos_sigma, sigma, _, cos2_alpha, cos_2m = on_the_sphere(lam)
        u_sq = cos2_alpha * (major**2 - minor**2) / minor**2
        a = 1 + u_sq / 16384 * (4096 + u_sq * (-768 + u_sq * (320 - 175 * u_sq)))
        b = u_sq / 1024 * (256 + u_sq * (-128 + u_sq * (74 - 47 * u_sq)))
        delta = (
            b
            * sin_sigma
            * (
                cos_2m
                + b
                / 4
                * (cos_sigma * (2 * cos_2m**2 - 1) - b / 6 * cos_2m * (4 * sin_sigma**2 - 3) * (4 * cos_2m**2 - 3))
            )
        )
        exact = minor * a * (sigma - delta)
        circle = (
            EARTH_RADIUS_M
            * 2
            * np.arcsin(
                np.sqrt(
                    np.clip(np.sin((phi2 - phi1) / 2) ** 2 + np.cos(phi1) * np.cos(phi2) * np.sin(span / 2) ** 2, 0, 1)
                )
            )
        )
    good = np.isfinite(exact) & (moved < 1e-9)
    return np.where(good, exact, circle)


def _exact_wrapped(value: int, bits: int) -> int | None:
    return None if not 0 < bits <= 64 else (value + (1 << (bits - 1))) % (1 << bits) - (1 << (bits - 1))


# What keeps all digits of whole numbers of more than 53 bits, in plain whole numbers; None where there is no value.
EXACT: dict[str, Callable[..., int | None]] = {
    "abs": abs,
    "min": min,
    "max": max,
    "clamp": lambda value, low, high: min(max(value, low), high),
    "round": lambda value: value,
    "floor": lambda value: value,
    "ceil": lambda value: value,
    "mod": lambda value, step: value % step if step else None,
    "upward": lambda value, steps: value % steps if steps else None,
    "wrapped": _exact_wrapped,
    "first_known": lambda *values: values[0],
}
