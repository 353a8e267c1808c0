"""What a shift hands over: what changed, what needs a hand, what fades, what is new, of a span of time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db.models import Count, Q

from oculum.history.trends import apart, median_of_others
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.definitions.models import Version
from server.records.fleet.models import Device, DeviceType
from server.records.senders.models import UnknownSender
from server.rules.health import Now, figures
from server.store.heard import heard_first, reporting
from server.store.values import newest

EARLIER = (1, 7, 28)  # days: the same span before
FAR = 5.0  # robust standard deviations from the neighbours
MOST = 12


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
    fresh = reporting(cursor)
    known = newest(cursor) if fresh else {}
    numbers = {
        type_.pk: [(spec["name"], spec.get("unit")) for spec in type_.fields if spec["kind"] == "number"]
        for type_ in DeviceType.objects.all()
    }
    values: dict[tuple[int, int, str, str | None], list[tuple[int, float]]] = {}
    for device, type_, site in fresh:
        _, fields = known.get(device, (0, {}))
        for name, unit in numbers[type_]:
            entry = fields.get(name)
            if entry is not None and isinstance(entry[0], int | float):
                values.setdefault((type_, site, name, unit), []).append((device, float(entry[0])))
    found: dict[int, Unusual] = {}
    for (_, _, name, unit), listed in values.items():
        column = np.array([value for _, value in listed])
        far, middle = apart(column), median_of_others(column) if len(column) > 1 else column
        for place in np.flatnonzero(np.abs(far) >= FAR).tolist():  # never of those of which nothing can be said
            device, value = listed[place]
            others = np.delete(column, place)
            low, high = float(others.min()), float(others.max())
            if max(low - value, value - high) <= high - low:  # no farther than these are from each other
                continue
            one = Unusual(device, name, unit, value, float(middle[place]), low, high, len(others), float(far[place]))
            if device not in found or abs(one.apart) > abs(found[device].apart):
                found[device] = one
    return sorted(found.values(), key=lambda u: -abs(u.apart))


def compared(cursor: Any, start: datetime, end: datetime) -> list[dict[str, Any]]:
    """Of a span, and of the same one a day, a week and four weeks before, as far as anything is known of them."""
    rows = []
    length, now = end - start, Now.read(cursor)
    for days in (0, *EARLIER):
        a, b = start - timedelta(days=days), end - timedelta(days=days)
        if days and length > timedelta(days=days, minutes=10):
            continue
        whole = figures(cursor, a, b, now=now).together()
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


def settled(start: datetime, end: datetime) -> list[tuple[str, int, Alarm]]:
    """Conditions of which alarms ended within the span, the weightiest first: title, how many, the last of them."""
    found = Alarm.objects.filter(cleared_at__gt=start, cleared_at__lte=end, suppressed=False)
    counts = dict(found.order_by().values_list("condition").annotate(Count("pk")))
    last = found.order_by("condition", "-cleared_at", "-pk").distinct("condition")
    newest = list(last.select_related("condition", "device", "device__site", "site"))
    told = [(a.condition.name, counts[a.condition_id], a) for a in newest]
    return sorted(told, key=lambda one: (PRIORITIES.index(one[2].priority), -one[1], one[0]))


def first_heard(cursor: Any, start: datetime, end: datetime) -> list[Device]:
    """Devices whose first message lies in the span."""
    ids = heard_first(cursor, start, end)
    return list(Device.objects.select_related("type", "site").filter(pk__in=ids).order_by("title")[:50])


def published(start: datetime, end: datetime) -> list[Version]:
    """Versions of definitions that were published in the span, newest first."""
    found = Version.objects.select_related("definition", "definition__type", "person")
    return list(found.filter(at__gt=start, at__lte=end).order_by("-at")[:50])


def unknown_senders(start: datetime, end: datetime) -> int:
    return UnknownSender.objects.filter(Q(first_at__gt=start), Q(first_at__lte=end), adopted_as=None).count()
