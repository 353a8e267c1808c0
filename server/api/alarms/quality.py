"""How much the alarms of the lookback deserve to be trusted, and what costs most trust."""

from __future__ import annotations

import math
from collections import Counter
from datetime import UTC, datetime
from typing import Any

import numpy as np
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.alarms.quality import NEVER, Quality, Raised, quality
from server.records.alarms.models import PRIORITIES, Alarm, Shelf
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, Site
from server.records.people.models import ROLES, Person
from server.requests.moments import span

MOST = 500_000
WORST = 10


class FiguresOut(serializers.Serializer):
    count = serializers.IntegerField()
    per_hour = serializers.FloatField()
    per_hour_a_person = serializers.FloatField(help_text="divided by those who may take alarms")
    peak = serializers.IntegerField(help_text="the most in any ten minutes")
    peak_at = serializers.DateTimeField(allow_null=True)
    flood_share = serializers.FloatField(help_text="of the time, 0 to 1")
    floods = serializers.IntegerField()
    chattering = serializers.IntegerField(help_text="conditions on devices that were raised thrice in a minute")
    fleeting = serializers.IntegerField(help_text="went within a minute, and nobody took them")
    stale = serializers.IntegerField(help_text="open for more than a day")
    taking_median_s = serializers.FloatField(allow_null=True)
    taking_most_s = serializers.FloatField(allow_null=True, help_text="nine of ten were taken within it")
    lasting_median_s = serializers.FloatField(allow_null=True)
    lasting_most_s = serializers.FloatField(allow_null=True)
    priorities = serializers.DictField(child=serializers.IntegerField())
    shelved = serializers.IntegerField(help_text="how often something was shelved")


class WorstOut(serializers.Serializer):
    key = serializers.CharField(help_text="the number of a condition, the name of a device or site")
    title = serializers.CharField()
    count = serializers.IntegerField()
    share = serializers.FloatField(help_text="of all alarms, 0 to 1")
    chatters = serializers.BooleanField()


class QualityOut(serializers.Serializer):
    now = FiguresOut()
    before = FiguresOut(help_text="the same span just before")
    people = serializers.IntegerField(help_text="who may take alarms")
    conditions = WorstOut(many=True)
    devices = WorstOut(many=True)
    worst_share = serializers.FloatField(help_text="of the ten worst conditions together, 0 to 1")
    floods = serializers.ListField(child=serializers.ListField(child=serializers.DateTimeField()))


def us(moment: datetime | None) -> int:
    return NEVER if moment is None else round(moment.timestamp() * 1_000_000)


def at(moment: int) -> datetime | None:
    return None if moment == NEVER else datetime.fromtimestamp(moment / 1_000_000, UTC)


class QualityView(APIView):
    """Figures after ANSI/ISA-18.2 and IEC 62682 over the lookback, and over the span before it."""

    @extend_schema(
        parameters=[OpenApiParameter("from", str), OpenApiParameter("to", str)],
        responses=QualityOut,
        operation_id="alarm_quality",
        tags=["alarms"],
    )
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        before = start - (end - start)
        rows: list[Any] = list(
            Alarm.objects.filter(suppressed=False, raised_at__lt=end)
            .exclude(cleared_at__lt=before)
            .order_by("raised_at")
            .values_list(
                "raised_at", "cleared_at", "acknowledged_at", "condition_id", "device_id", "site_id", "priority"
            )[:MOST]
        )
        keys = {key: number for number, key in enumerate(dict.fromkeys(row[3:6] for row in rows))}
        moments = [np.array([us(row[k]) for row in rows], np.int64) for k in range(3)]
        raised = Raised(moments[0], moments[1], moments[2], np.array([keys[r[3:6]] for r in rows], np.int64))
        people = max(Person.objects.filter(is_active=True, role__in=ROLES[1:]).count(), 1)
        now = quality(raised, us(start), us(end))
        own = [row for row in rows if row[0] >= start]
        loud = set(now.chattering)
        told = {key for key, number in keys.items() if number in loud}
        return Response(
            {
                "now": figures(now, own, people, start, end),
                "before": figures(
                    quality(raised, us(before), us(start)),
                    [row for row in rows if before <= row[0] < start],
                    people,
                    before,
                    start,
                ),
                "people": people,
                **worst(own, told),
                "floods": [[at(a), at(b)] for a, b in now.floods[:100]],
            }
        )


def figures(found: Quality, rows: list[Any], people: int, start: datetime, end: datetime) -> dict[str, Any]:
    def known(seconds: float) -> float | None:
        return None if math.isnan(seconds) else seconds

    return {
        "count": found.count,
        "per_hour": found.per_hour,
        "per_hour_a_person": found.per_hour / people,
        "peak": found.peak,
        "peak_at": at(found.peak_at),
        "flood_share": found.flood,
        "floods": len(found.floods),
        "chattering": len(found.chattering),
        "fleeting": found.fleeting,
        "stale": found.stale,
        "taking_median_s": known(found.taking[0]),
        "taking_most_s": known(found.taking[1]),
        "lasting_median_s": known(found.lasting[0]),
        "lasting_most_s": known(found.lasting[1]),
        "priorities": {p: sum(row[6] == p for row in rows) for p in PRIORITIES},
        "shelved": Shelf.objects.filter(since__gte=start, since__lt=end).count(),
    }


def worst(rows: list[Any], chattering: set[tuple[int, int | None, int | None]]) -> dict[str, Any]:
    """The conditions, and the devices and sites, with most alarms."""
    by_condition = Counter(row[3] for row in rows).most_common(WORST)
    by_subject = Counter((row[4], row[5]) for row in rows).most_common(WORST)
    names = dict(Definition.objects.filter(pk__in=[key for key, _ in by_condition]).values_list("pk", "name"))
    devices = {
        pk: (name, title)
        for pk, name, title in Device.objects.filter(pk__in=[d for (d, _), _ in by_subject if d]).values_list(
            "pk", "name", "title"
        )
    }
    sites = {
        pk: (name, title)
        for pk, name, title in Site.objects.filter(pk__in=[s for (_, s), _ in by_subject if s]).values_list(
            "pk", "name", "title"
        )
    }
    total = max(len(rows), 1)
    loud_conditions, loud_subjects = {c for c, _, _ in chattering}, {(d, s) for _, d, s in chattering}

    def subject(device: int | None, site: int | None) -> tuple[str, str]:
        return devices.get(device or 0) or sites.get(site or 0) or ("", "?")

    return {
        "conditions": [
            {
                "key": str(key),
                "title": names.get(key, "?"),
                "count": n,
                "share": n / total,
                "chatters": key in loud_conditions,
            }
            for key, n in by_condition
        ],
        "devices": [
            {
                "key": subject(*key)[0],
                "title": subject(*key)[1],
                "count": n,
                "share": n / total,
                "chatters": key in loud_subjects,
            }
            for key, n in by_subject
        ],
        "worst_share": sum(n for _, n in by_condition) / total,
    }
