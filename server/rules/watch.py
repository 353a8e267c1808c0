"""What a shift hands over: what changed, what needs a hand, what fades, what is new, of a span of time."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np
from django.db import connection
from django.db.models import Q

from oculum.history.trends import apart, theil_sen
from server.records.alarms.models import Alarm
from server.records.definitions.models import Version
from server.records.fleet.models import Device
from server.records.senders.models import UnknownSender
from server.rules.health import BATTERY, LINK, TREND_DAYS, Fading, drifts, fading, figures, together
from server.store.rows import json_of

EARLIER = (1, 7, 28)  # days: the same span before
FAR = 5.0  # robust standard deviations from the neighbours
SOON_DAYS = 45.0  # batteries that last no longer
LEAST_LINK_DB = 3.0
CLOCK_S, CLOCK_PER_DAY_S = 60.0, 5.0
EVEN = 20
DELAY_S = 60.0
MOST = 12
KEPT_S = 600


@dataclass(frozen=True)
class Fades:
    """A device of which something gets worse slowly. at: where it stands; left: days, likely, earliest, latest."""

    kind: str
    device: int
    field: str
    unit: str | None
    at: float
    per_day: float
    left: tuple[float, float, float | None] | None
    level: float | None
    days: list[float | None]

    @property
    def rank(self) -> tuple[int, float]:
        kinds = (BATTERY, "clock", "delay", LINK)
        return kinds.index(self.kind), self.left[0] if self.left is not None else -abs(self.per_day)


def _of(one: Fading) -> Fades:
    return Fades(
        one.what, one.device, one.field, one.unit, one.trend.last, one.trend.per_day, one.left, one.level, one.days
    )


def fades(end: datetime) -> list[Fades]:
    """Batteries that will be empty, links that weaken, clocks that drift, delays that grow, over two weeks up to a
    whole ten minutes. They are looked for once in that time.
    """
    return _fades(end - timedelta(seconds=end.timestamp() % KEPT_S), int(time.time() // KEPT_S))


@lru_cache(maxsize=16)
def _fades(end: datetime, _: int) -> list[Fades]:
    with connection.cursor() as cursor:
        return _look(cursor, end)


def _look(cursor: Any, end: datetime) -> list[Fades]:
    found = [_of(one) for one in fading(cursor, BATTERY, end) if one.left is not None and one.left[0] <= SOON_DAYS]
    for one in fading(cursor, LINK, end):
        sunk = -one.trend.per_day * one.trend.days
        if sunk > max(LEAST_LINK_DB, 2 * one.trend.spread) and one.trend.high < 0:
            found.append(_of(one))
    for device, (trend, days) in drifts(cursor, end).items():
        # Behind may also be late: only a clock goes wrong as evenly as this.
        scatter = EVEN if trend.last < 0 else 2
        moved = abs(trend.per_day) * trend.days
        if moved > scatter * trend.spread and abs(trend.last) > CLOCK_S and abs(trend.per_day) > CLOCK_PER_DAY_S:
            found.append(Fades("clock", device, "", "s", trend.last, trend.per_day, None, None, days))
    found += _delays(cursor, end)
    return sorted(found, key=lambda f: f.rank)


def _delays(cursor: Any, end: datetime) -> list[Fades]:
    """Messages that arrive later and later after they were measured."""
    first = end - timedelta(days=TREND_DAYS)
    cursor.execute(
        "select device_id, floor(extract(epoch from hour - %s) / 86400)::int, sum(delay_sum) / sum(delays) from"
        " activity where hour >= %s and hour < %s and delays > 0 and delay_sum > 0 group by 1, 2",
        (first, first, end),
    )
    days: dict[int, np.ndarray] = {}
    for device, day, delay in cursor.fetchall():
        days.setdefault(device, np.full(TREND_DAYS, np.nan))[max(day, 0)] = delay
    found = []
    for device, values in days.items():
        trend = theil_sen(np.arange(TREND_DAYS), values)
        if trend is None:
            continue
        grown = trend.per_day * trend.days
        if grown > max(DELAY_S, 3 * trend.spread, (trend.last - grown) / 2) and trend.low > 0:
            shown = [None if np.isnan(v) else float(v) for v in values]
            found.append(Fades("delay", device, "", "s", trend.last, trend.per_day, None, None, shown))
    return found


@dataclass(frozen=True)
class Unusual:
    """A device whose newest value lies far from those of its neighbours: the same type at the same site.

    middle, low, high: of the neighbours, their median, lowest and highest. apart: in robust deviations of theirs.
    """

    device: int
    field: str
    unit: str | None
    value: float
    middle: float
    low: float
    high: float
    neighbours: int
    apart: float


def unusual(cursor: Any) -> list[Unusual]:
    """The one value of each device that lies farthest from its neighbours', where that is far."""
    cursor.execute(
        "select d.id, d.type_id, coalesce(d.site_id, 0), t.fields, l.fields, l.received_at > now() - 3 * interval '1"
        " second' * greatest(coalesce(d.cadence_s, t.cadence_s, 86400), 600) from fleet_device d join fleet_devicetype"
        " t on t.id = d.type_id join latest l on l.device_id = d.id where d.phase = 'in service' and not l.failed"
    )
    values: dict[tuple[int, int, str, str | None], list[tuple[int, float]]] = {}
    for device, type_, site, declared, latest, fresh in cursor.fetchall():
        newest = json_of(latest)
        for spec in json_of(declared):
            entry = newest.get(spec["name"])
            if fresh and entry is not None and spec["kind"] == "number" and isinstance(entry[0], int | float):
                key = type_, site, spec["name"], spec.get("unit")
                values.setdefault(key, []).append((device, float(entry[0])))
    found: dict[int, Unusual] = {}
    for (_, _, name, unit), listed in values.items():
        column = np.array([value for _, value in listed])
        for place, (device, value) in enumerate(listed):
            others = np.delete(column, place)
            far = apart(value, others)
            if far is None or abs(far) < FAR:
                continue
            low, middle, high = others.min(), np.median(others), others.max()
            if max(low - value, value - high) <= high - low:  # no farther than these are from each other
                continue
            one = Unusual(device, name, unit, value, float(middle), float(low), float(high), len(others), far)
            if device not in found or abs(far) > abs(found[device].apart):
                found[device] = one
    return sorted(found.values(), key=lambda u: -abs(u.apart))


def compared(cursor: Any, start: datetime, end: datetime) -> list[dict[str, Any]]:
    """Of a span, and of the same one a day, a week and four weeks before, as far as anything is known of them."""
    rows = []
    length = end - start
    for days in (0, *EARLIER):
        a, b = start - timedelta(days=days), end - timedelta(days=days)
        if days and length > timedelta(days=days, minutes=10):
            continue
        whole = together(list(figures(cursor, a, b).values()))
        spent = sum(whole.states.values())
        if days and not whole.messages:
            continue
        rows.append(
            {
                "days": days,
                "raised": Alarm.objects.filter(raised_at__gt=a, raised_at__lte=b, suppressed=False).count(),
                "messages": whole.messages,
                "availability": whole.availability,
                "decoded": whole.decoded,
                "silent": whole.states.get("silent", 0) / spent if spent else None,
                "undecodable": whole.states.get("undecodable", 0) / spent if spent else None,
                "delay": whole.delay,
            }
        )
    return rows


def usual(start: datetime, end: datetime) -> float | None:
    """How many alarms a span like this one had: the median of up to seven of its kind before, each a day earlier, or
    its own length.
    """
    step = max(timedelta(days=1), end - start)
    first = Alarm.objects.order_by("raised_at").values_list("raised_at", flat=True).first()
    counts = []
    for k in range(1, 8):
        a, b = start - k * step, end - k * step
        if first is None or a < first:
            break
        counts.append(Alarm.objects.filter(raised_at__gt=a, raised_at__lte=b, suppressed=False).count())
    return float(np.median(counts)) if counts else None


def settled(start: datetime, end: datetime) -> tuple[int, list[Alarm]]:
    """Alarms that ended within the span, the last first; how many there are."""
    found = Alarm.objects.filter(cleared_at__gt=start, cleared_at__lte=end, suppressed=False)
    some = found.select_related("condition", "device", "device__site", "site").order_by("-cleared_at")[:200]
    return found.count(), list(some)


def by_condition(alarms: Iterable[Alarm]) -> list[tuple[str, int, Alarm]]:
    """Title of a condition, how often, the newest."""
    counts = Counter(a.condition.name for a in alarms)
    newest: dict[str, Alarm] = {}
    for alarm in alarms:
        newest.setdefault(alarm.condition.name, alarm)
    return [(name, count, newest[name]) for name, count in counts.most_common()]


def first_heard(cursor: Any, start: datetime, end: datetime) -> list[Device]:
    """Devices whose first message lies in the span."""
    cursor.execute(
        "select device_id from (select device_id, min(since) as since from (select device_id, since from device_stretch"
        " union all select device_id, since from device_stands) s group by 1) x where since > %s and since <= %s and"
        " device_id in (select device_id from activity)",
        (start, end),
    )
    ids = [row[0] for row in cursor.fetchall()]
    return list(Device.objects.select_related("type", "site").filter(pk__in=ids).order_by("title")[:50])


def published(start: datetime, end: datetime) -> list[Version]:
    """Versions of definitions that were published in the span, newest first."""
    found = Version.objects.select_related("definition", "definition__type", "person")
    return list(found.filter(at__gt=start, at__lte=end).order_by("-at")[:50])


def unknown_senders(start: datetime, end: datetime) -> int:
    return UnknownSender.objects.filter(Q(first_at__gt=start), Q(first_at__lte=end), adopted_as=None).count()
