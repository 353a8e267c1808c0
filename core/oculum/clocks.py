"""Written times: patterns of letters, calendars, local time in a zone. Times are int64 microseconds since 1970, UTC."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

SECOND = 1_000_000
DAY = 86_400 * SECOND
_LETTERS = {"Y": "year", "M": "month", "D": "day", "h": "hour", "m": "minute", "s": "second"}
_WIDTHS = {"Y": (2, 4), "M": (2,), "D": (2,), "h": (2,), "m": (2,), "s": (2,)}
_MARKS, _DIGITS = [4, 7, 10, 13, 16], [0, 1, 2, 3, 5, 6, 8, 9, 11, 12, 14, 15, 17, 18]  # of a time in ISO 8601
_MARKED = np.frombuffer(b"--T::", np.uint8)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@lru_cache(maxsize=512)
def pattern_parts(pattern: str) -> tuple[tuple[str, int], ...]:
    """The parts of a pattern in their order: (letter or literal text, number of digits or 0)."""
    return tuple(
        (run[0], len(run)) if run[0] in _LETTERS else (run, 0)
        for run in re.findall(r"Y+|M+|D+|h+|m+|s+|[^YMDhms]+", pattern)
    )


def pattern_problem(pattern: str) -> str | None:
    """What is wrong with a pattern such as `YYYYMMDDhhmmss`, or None."""
    if not 2 <= len(pattern) <= 40:
        return "a pattern of a time has 2 to 40 characters, such as `YYYYMMDDhhmmss`"
    letters = [part for part in pattern_parts(pattern) if part[1]]
    names = [letter for letter, _ in letters]
    if len(set(names)) != len(names):
        return "a part stands twice in the pattern of this time"
    for letter, width in letters:
        if width not in _WIDTHS[letter]:
            return f"the {_LETTERS[letter]} takes {' or '.join(str(w) for w in _WIDTHS[letter])} letters, found {width}"
    if {"Y", "M", "D"} & set(names) and not {"Y", "M", "D"} <= set(names):
        return "a date has year, month and day: write YYYY, MM and DD, or none of them"
    if not names:
        return "a pattern is made of YYYY, MM, DD, hh, mm and ss"
    if not {"Y", "h"} & set(names):
        return "a clock without a date has hours: write hh"
    return None


def calendar_us(year: Any, month: Any, day: Any, hour: Any, minute: Any, second: Any) -> tuple[np.ndarray, np.ndarray]:
    """Microseconds of a date and time, and whether it is in the calendar (proleptic Gregorian, years 1 to 9999)."""
    parts = [np.atleast_1d(np.asarray(p)).astype(np.int64) for p in (year, month, day, hour, minute, second)]
    y, mo, d, h, mi, s = np.broadcast_arrays(*parts)
    good = (
        (y >= 1)
        & (y <= 9999)
        & (mo >= 1)
        & (mo <= 12)
        & (d >= 1)
        & (h >= 0)
        & (h < 24)
        & (mi >= 0)
        & (mi < 60)
        & (s >= 0)
        & (s < 60)
    )
    months = (np.where(good, y, 1970) - 1970) * 12 + np.where(good, mo, 1) - 1
    first = months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    following = (months + 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    good &= d <= following - first
    us = (first + np.where(good, d, 1) - 1) * DAY + np.where(good, h * 3600 + mi * 60 + s, 0) * SECOND
    return us, good


@lru_cache(maxsize=256)
def _changes(zone: str, year: int) -> tuple[int, tuple[tuple[int, int, int], ...]]:
    """The offset of a zone at the start of a year, and its changes during it: (moment, offset before, offset after)."""
    place = zone_of(zone)

    def offset(us: int) -> int:
        moment = (_EPOCH + timedelta(microseconds=us)).astimezone(place)
        found = moment.utcoffset()
        assert found is not None
        return found // timedelta(microseconds=1)

    begin = int(np.datetime64(f"{year:04d}-01-01", "us").astype(np.int64)) - 2 * DAY
    end = int(np.datetime64(f"{year + 1:04d}-01-01", "us").astype(np.int64)) + 2 * DAY
    at, here = begin, offset(begin)
    start = here
    found: list[tuple[int, int, int]] = []
    while at < end:
        after = min(at + DAY // 2, end)
        there = offset(after)
        if there != here:
            low, high = at, after
            while high - low > SECOND:
                middle = (low + high) // 2 // SECOND * SECOND
                if middle <= low:
                    break
                low, high = (middle, high) if offset(middle) == here else (low, middle)
            found.append((high, here, there))
        at, here = after, there
    return start, tuple(found)


@lru_cache(maxsize=256)
def zone_of(zone: str) -> tzinfo:
    """A time zone by its name, or by its offset such as `+01:00`. Raises ValueError, OSError or KeyError."""
    fixed = re.fullmatch(r"([+-])([01][0-9]):?([0-5][0-9])", zone)
    if fixed is None:
        return ZoneInfo(zone)
    offset = timedelta(hours=int(fixed[2]), minutes=int(fixed[3]))
    return timezone(-offset if fixed[1] == "-" else offset)


def known_zone(zone: str) -> bool:
    try:
        zone_of(zone)
    except (ValueError, OSError, KeyError):
        return False
    return True


def local_to_utc(local: np.ndarray, zone: str, again: np.ndarray) -> np.ndarray:
    """UTC of local times in one zone. again: bool, the second pass of an hour that comes twice.

    A local time that does not occur is read with the offset that held before.
    """
    result = local.copy()
    years = local.astype("datetime64[us]").astype("datetime64[Y]").astype(np.int64) + 1970
    for year in np.unique(years).tolist():
        rows = np.flatnonzero(years == year)
        start, changes = _changes(zone, min(max(year, 2), 9998))
        offsets = np.array([start, *(after for _, _, after in changes)], np.int64)
        here, twice = local[rows], again[rows]
        first = np.array([at + max(before, after) for at, before, after in changes], np.int64)
        second = np.array([at + after for at, _, after in changes], np.int64)
        index = np.where(twice, np.searchsorted(second, here, "right"), np.searchsorted(first, here, "right"))
        result[rows] = here - offsets[index]
    return result


def utc_to_local(us: int, zone: str) -> tuple[datetime, bool]:
    """Local time in a zone, and whether that local time comes for the second time."""
    local = (_EPOCH + timedelta(microseconds=us)).astimezone(zone_of(zone))
    return local, bool(local.fold)


def written_us(
    parts: dict[str, np.ndarray], received: np.ndarray, zones: Any, again: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Moments from the parts of a pattern, by letter; and which of them are in the calendar.

    zones: the name of a zone a row (object (m,)), or None for UTC. Without a date the moment nearest to
    `received` is taken; a year of two digits lies in the hundred years around it.
    """
    count = len(received)
    zero = np.zeros(count, np.int64)
    time = [parts.get(letter, zero) for letter in "hms"]
    names = np.full(count, None, object) if zones is None else zones
    good = np.ones(count, bool)
    local_now = received.copy()
    groups = [(name, np.flatnonzero(names == name)) for name in {n for n in names.tolist() if n}]
    for name, rows in groups:
        if not known_zone(name):
            good[rows] = False
        elif "Y" not in parts:
            offset = [utc_to_local(int(r), name)[0].utcoffset() or timedelta() for r in received[rows]]
            local_now[rows] += np.array([o // timedelta(microseconds=1) for o in offset], np.int64)
    if "Y" in parts:
        year = parts["Y"]
        if parts.get("short") is not None:
            now = received.astype("datetime64[us]").astype("datetime64[Y]").astype(np.int64) + 1970
            year = np.where(year > 99, year, now + np.mod(year - now + 50, 100) - 50)
        local, fine = calendar_us(year, parts["M"], parts["D"], *time)
        good &= fine
    else:
        local, fine = calendar_us(1970, 1, 1, *time)
        good &= fine
        local = local + np.floor_divide(local_now - local + DAY // 2, DAY) * DAY
    result = local.copy()
    for name, rows in groups:
        rows = rows[good[rows]]
        if len(rows):
            result[rows] = local_to_utc(local[rows], name, again[rows])
    return result, good


def parse_written(text: str, pattern: str) -> dict[str, int] | None:
    """The parts of a time written as `pattern` says, by letter; None if it is not."""
    found: dict[str, int] = {}
    at = 0
    for part, width in pattern_parts(pattern):
        if width:
            piece = text[at : at + width]
            if len(piece) != width or not (piece.isascii() and piece.isdigit()):
                return None
            found[part] = int(piece)
            at += width
        else:
            if text[at : at + len(part)] != part:
                return None
            at += len(part)
    return found if at == len(text) else None


_EXTENDED = re.compile(r"(\d{4})-(\d\d)-(\d\d)T(\d\d):(\d\d):(\d\d)(?:[.,](\d{1,9}))?(Z|[+-]\d\d:\d\d)")
_BASIC = re.compile(r"(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)(?:[.,](\d{1,9}))?(Z|[+-]\d\d(?:\d\d)?)")


def iso(us: int) -> str:
    """A time as ISO 8601 in UTC, with decimals of a second where there are some; years beyond the calendar as
    microseconds.
    """
    try:
        found = _EPOCH + timedelta(microseconds=us)
    except OverflowError:
        return f"{us} us"
    text = found.strftime("%Y-%m-%dT%H:%M:%S")
    return f"{text}.{found.microsecond:06d}".rstrip("0").rstrip(".") + "Z" if found.microsecond else f"{text}Z"


def isos_us(texts: list[str]) -> np.ndarray | None:
    """int64 (n,): microseconds of ISO 8601 times that are all written as `2000-01-01T00:00:00Z`, or all with as many
    decimals (up to six); None where one is not.
    """
    size = len(texts[0]) if texts else 0
    if not (size == 20 or 22 <= size <= 27) or set(map(len, texts)) != {size}:
        return None
    whole = "".join(texts)
    if not whole.isascii():
        return None
    letters = np.frombuffer(whole.encode(), np.uint8).reshape(-1, size)
    if not (letters[:, _MARKS] == _MARKED).all() or not (letters[:, -1] == 90).all():  # Z
        return None
    if size > 20 and not ((letters[:, 19] == 46) | (letters[:, 19] == 44)).all():
        return None
    digits = letters[:, [*_DIGITS, *range(20, size - 1)]].astype(np.int64) - 48
    if ((digits < 0) | (digits > 9)).any():
        return None
    year = digits[:, :4] @ np.array([1000, 100, 10, 1])
    us, good = calendar_us(year, *(digits[:, k] * 10 + digits[:, k + 1] for k in (4, 6, 8, 10, 12)))
    if not (good.all() and (year > 0).all()):
        return None
    return us + digits[:, 14:] @ 10 ** np.arange(5, 5 - digits[:, 14:].shape[1], -1)


def iso_us(text: str) -> int:
    """Microseconds of an ISO 8601 time with its zone, extended or basic form. Raises ValueError."""
    if (
        len(text) == 20
        and text[10] == "T"
        and text[19] == "Z"
        and text[4] == "-" == text[7]
        and text[13] == ":" == text[16]
        and text.isascii()
    ):
        # the usual form; what is no calendar date, or no digit, raises
        moment = datetime.fromisoformat(text)
        return (
            (moment.toordinal() - 719_163) * 86_400 + moment.hour * 3600 + moment.minute * 60 + moment.second
        ) * SECOND
    match = (_EXTENDED.fullmatch(text) or _BASIC.fullmatch(text)) if text.isascii() else None
    if not match:
        raise ValueError(text)
    *numbers, fraction, zone = match.groups()
    y, mo, d, h, mi, s = (int(n) for n in numbers)
    moment = datetime(y, mo, d, h, mi, s, tzinfo=UTC)
    us = (moment - _EPOCH) // timedelta(microseconds=1) + round(int(fraction.ljust(9, "0")) / 1000 if fraction else 0)
    if zone != "Z":
        digits = zone[1:].replace(":", "")
        hours, minutes = int(digits[:2]), int(digits[2:] or 0)
        if hours > 23 or minutes > 59:
            raise ValueError(text)
        us -= (1 if zone[0] == "+" else -1) * (hours * 3600 + minutes * 60) * SECOND
    return us
