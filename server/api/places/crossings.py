"""Who went into an area and came out of it, for fences as they are and as they might be."""

from __future__ import annotations

import threading
import time
from datetime import datetime, timedelta

import numpy as np
from django.conf import settings
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.alarms.crossings import crossings
from oculum.register.fences import area_of
from server.api.places.fences import sound_feature
from server.records.fleet.models import Device, DeviceType
from server.records.people.models import Person
from server.requests.authentication import person_of
from server.requests.bounds import long_work
from server.requests.fields import Moment
from server.rules.refusal import Refused
from server.store.columns import Columns, pieces
from server.store.rows import specs
from server.store.times import moment

MOST_CROSSINGS = 500
MOST_READINGS = 5_000_000
MOST_KEPT, KEPT_S = 1_000_000, 60.0


class CrossingsAsk(serializers.Serializer):
    feature = serializers.JSONField(help_text="a fence as it is, or as it might be")
    start = Moment()
    end = Moment()


class Crossing(serializers.Serializer):
    at = serializers.DateTimeField()
    device = serializers.CharField()
    title = serializers.CharField()
    what = serializers.ChoiceField(["went in", "came out"])


class Inside(serializers.Serializer):
    device = serializers.CharField()
    title = serializers.CharField()
    since = serializers.DateTimeField(help_text="as far back as the span reaches")


class CrossingsOut(serializers.Serializer):
    positions = serializers.IntegerField()
    count = serializers.IntegerField()
    crossings = Crossing(many=True, help_text="the last 500, the newest first")
    inside = Inside(many=True, help_text="at the end of the span, the longest first")


class CrossingsView(APIView):
    """Who went into an area and came out of it in a span, and who is inside at its end, as conditions count it."""

    writes = "viewer"

    @extend_schema(request=CrossingsAsk, responses=CrossingsOut, operation_id="crossings", tags=["places"])
    def post(self, request: Request) -> Response:
        asked = CrossingsAsk(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        if data["start"] >= data["end"] or data["end"] - data["start"] > timedelta(days=31):
            raise Refused("span", "a span has a start and a later end, 31 days apart at most")
        area = area_of(sound_feature(data["feature"]))
        device, at, fix = recent.of(data["start"], data["end"], person_of(request))
        found = crossings(area, device, at, fix)
        last = slice(max(len(found.at) - MOST_CROSSINGS, 0), None)
        ids = {*found.device[last].tolist(), *found.inside}
        names = {pk: (name, title) for pk, name, title in Device.objects.filter(pk__in=ids).values_list(*NAMED)}
        rows = [
            {"at": moment(when), **told_as(names[who]), "what": "went in" if entered else "came out"}
            for who, when, entered in zip(
                found.device[last].tolist(), found.at[last].tolist(), found.entered[last].tolist(), strict=True
            )
            if who in names
        ]
        inside = sorted(found.inside.items(), key=lambda pair: pair[1])
        return Response(
            {
                "positions": len(at),
                "count": len(found.at),
                "crossings": rows[::-1],
                "inside": [{**told_as(names[who]), "since": moment(since)} for who, since in inside if who in names],
            }
        )


class Recent:
    """The positions of the span that was asked for last, for a minute: corners are moved, the past is not."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.span: tuple[datetime, datetime] | None = None
        self.until = 0.0
        self.found: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None

    def of(self, start: datetime, end: datetime, person: Person) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """As `positions`; who asks meanwhile for the same waits for it. Raises Refused."""
        with self.lock:
            if self.found is None or self.span != (start, end) or time.monotonic() > self.until:
                self.found = None
                with long_work.held(person):
                    found = positions(start, end)
                if len(found[1]) > MOST_KEPT:
                    return found
                self.found, self.span, self.until = found, (start, end), time.monotonic() + KEPT_S
            return self.found


recent = Recent()
NAMED = ("pk", "name", "title")


def told_as(named: tuple[str, str]) -> dict[str, str]:
    return {"device": named[0], "title": named[1]}


def positions(start: datetime, end: datetime) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Device, moment (µs) and latitude with longitude of all positions measured and arrived in a span, by the first
    position field of each type. Raises Refused where there are too many.
    """
    parts: list[Columns] = []
    fixes: list[np.ndarray] = []
    for type_ in DeviceType.objects.order_by("pk"):
        spec = next((s for s in specs(type_.fields).values() if s.kind == "position"), None)
        if spec is None:
            continue
        for piece in pieces(settings.INSTANCE.database_url(), type_.pk, start, end, [spec], False):
            parts.append(piece.readings)
            fixes.append(piece.readings.values[spec.name])
            if sum(map(len, parts)) > MOST_READINGS:
                raise Refused("too much", f"these are more than {MOST_READINGS:,} positions: choose a shorter span")
    if not parts:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, 2))
    device, at = (np.concatenate([getattr(p, name) for p in parts]) for name in ("device", "at"))
    return device, at, np.concatenate(fixes)
