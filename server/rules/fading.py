"""What gets worse slowly, over two weeks by the day: batteries, links, clocks, delays (docs/health.md)."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np
from django.db import connection

from oculum.history.trends import Trend, theil_sen
from server.records.fleet.models import Device, DeviceType
from server.store.series import daily_medians
from server.store.summed import Daily, by_day

DAYS = 14
BATTERY, CLOCK, DELAY, LINK = KINDS = ("battery", "clock", "delay", "link")
SOON_DAYS = 45.0  # batteries that last no longer
LEAST_LINK_DB = 3.0
CLOCK_S, CLOCK_PER_DAY_S = 60.0, 5.0
EVEN = 20  # how much farther than it scatters a clock has moved that is behind
DELAY_S = 60.0
KEPT_S = 600

Days = list[float | None]


@dataclass(frozen=True)
class Fades:
    """A device of which something gets worse. level: what counts as empty; days: medians or means by day, oldest first,
    None where there is none.
    """

    kind: str
    device: int
    field: str
    unit: str | None
    trend: Trend
    days: Days
    level: float | None = None

    @property
    def at(self) -> float:
        return self.trend.last

    @property
    def per_day(self) -> float:
        return self.trend.per_day

    @property
    def left(self) -> tuple[float, float, float | None] | None:
        """Days until it is empty: likely, at the earliest, at the latest."""
        return self.trend.until(self.level) if self.level is not None else None

    @property
    def rank(self) -> tuple[int, float]:
        return KINDS.index(self.kind), self.left[0] if self.left is not None else -abs(self.per_day)


def fades(end: datetime) -> list[Fades]:
    """Batteries that will be empty, links that weaken, clocks that drift, delays that grow, up to a whole ten minutes.
    They are looked for once in that time.
    """
    return _fades(end - timedelta(seconds=end.timestamp() % KEPT_S), int(time.time() // KEPT_S))


@lru_cache(maxsize=16)
def _fades(end: datetime, _: int) -> list[Fades]:
    with connection.cursor() as cursor:
        return looked_for(cursor, end)


def looked_for(cursor: Any, end: datetime) -> list[Fades]:
    daily = by_day(cursor, (end - timedelta(days=DAYS - 1)).date(), end)
    found = [*batteries_and_links(cursor, end), *clocks(daily), *delays(daily)]
    return sorted(found, key=lambda f: f.rank)


def trends(device: np.ndarray, values: np.ndarray) -> Iterator[tuple[int, Trend, np.ndarray]]:
    """Of values by day, float (n, DAYS), NaN where there is none: the trend of each device of which enough is known."""
    for own, trend, days in zip(device.tolist(), theil_sen(np.arange(DAYS), values), values, strict=True):
        if trend is not None:
            yield own, trend, days


def told(days: np.ndarray) -> Days:
    return [None if np.isnan(v) else float(v) for v in days]


def role_of(fields: Iterable[dict[str, Any]], what: str) -> dict[str, Any] | None:
    """The field of a type that tells of its battery, or of its link: by name and unit."""
    for spec in fields:
        name, unit = spec["name"], spec.get("unit") or ""
        if spec["kind"] not in ("number", "integer"):
            continue
        if what == BATTERY and (name.startswith("batt") or name.endswith("_battery")) and unit in ("V", "mV", "%"):
            return spec
        if what == LINK and unit.startswith("dB") and (name.startswith(("rssi", "link", "signal")) or "mW" in unit):
            return spec
    return None


def batteries_and_links(cursor: Any, end: datetime) -> list[Fades]:
    """Of devices in service whose types tell of them."""
    found = []
    devices_of: dict[int, list[int]] = {}
    for type_id, device in Device.objects.filter(phase="in service").values_list("type_id", "pk"):
        devices_of.setdefault(type_id, []).append(device)
    for type_ in DeviceType.objects.filter(pk__in=devices_of):
        devices = devices_of[type_.pk]
        for kind in (BATTERY, LINK):
            spec = role_of(type_.fields, kind)
            if spec is None:
                continue
            empty = f"{spec['name']}_min"
            level = next((s["value"] for s in type_.setpoints if s["name"] == empty), None)
            first = (end - timedelta(days=DAYS - 1)).date()
            for device, trend, days in trends(*daily_medians(cursor, devices, spec["name"], first, DAYS)):
                one = Fades(kind, device, spec["name"], spec.get("unit"), trend, told(days), level)
                if _runs_out(one) if kind == BATTERY else _weakens(trend):
                    found.append(one)
    return found


def _runs_out(one: Fades) -> bool:
    return one.left is not None and one.left[0] <= SOON_DAYS


def _weakens(trend: Trend) -> bool:
    return -trend.per_day * trend.days > max(LEAST_LINK_DB, 2 * trend.spread) and trend.high < 0


def clocks(daily: Daily) -> list[Fades]:
    """How far ahead clocks are, from the quickest message of each hour. Behind may also be late: only a clock goes
    wrong as evenly as is asked for there.
    """
    found = []
    for device, trend, days in trends(daily.device, -daily.quickest):
        scatter = EVEN if trend.last < 0 else 2
        moved = abs(trend.per_day) * trend.days
        if moved > scatter * trend.spread and abs(trend.last) > CLOCK_S and abs(trend.per_day) > CLOCK_PER_DAY_S:
            found.append(Fades(CLOCK, device, "", "s", trend, told(days)))
    return found


def delays(daily: Daily) -> list[Fades]:
    """Messages that arrive later and later after they were measured."""
    found = []
    for device, trend, days in trends(daily.device, np.where(daily.delay > 0, daily.delay, np.nan)):
        grown = trend.per_day * trend.days
        if grown > max(DELAY_S, 3 * trend.spread, (trend.last - grown) / 2) and trend.low > 0:
            found.append(Fades(DELAY, device, "", "s", trend, told(days)))
    return found
