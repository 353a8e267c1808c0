"""How readings lie: a field among all devices of its kind over time, and how often each value comes."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.db import connection
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.history.summing import quantiles, spread, summed
from server.api.history.views import MOST_READ, NUMERIC
from server.records.fleet.models import Device, DeviceType
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, span
from server.rules.refusal import Refused
from server.store.series import read_series
from server.store.times import iso, us

SHARES = (0.1, 0.5, 0.9)
DECILES = tuple(k / 10 for k in range(11))
MOST_AMONG, MOST_BINS, MOST_PARTS = 200, 200, 500


def number(request: Request, name: str, default: int, most: int) -> int:
    """A whole number from 1 to `most`. Raises Refused."""
    text = request.query_params.get(name, str(default))
    found = whole(text, most)
    if not found:
        raise Refused("invalid", f"{name}: found `{text[:20]}`, expected 1 to {most}")
    return found


def numeric(type_: DeviceType, name: str) -> dict[str, Any]:
    """A field of a type that has numbers. Raises Refused."""
    spec = next((f for f in type_.fields if f["name"] == name), None)
    if spec is None:
        raise Refused("not found", f"field: `{name[:63]}` is not a field of {type_.key}", 404)
    if spec["kind"] not in NUMERIC:
        raise Refused("invalid", f"field: `{name[:63]}` is no number")
    return spec


class AmongOut(serializers.Serializer):
    field = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    devices = serializers.IntegerField(help_text="how many it is made of")
    of = serializers.IntegerField(help_text="how many there are; more than 200 are represented by 200, evenly chosen")
    at = serializers.ListField(child=serializers.DateTimeField(), help_text="where each part begins")
    every_s = serializers.FloatField()
    low = serializers.ListField(child=serializers.FloatField(allow_null=True), help_text="a tenth lie below it")
    middle = serializers.ListField(child=serializers.FloatField(allow_null=True))
    high = serializers.ListField(child=serializers.FloatField(allow_null=True), help_text="a tenth lie above it")


class AmongView(APIView):
    """Where the devices of a type lie over time: of each part of the span the tenths and the middle of their means."""

    @extend_schema(
        parameters=[
            OpenApiParameter("type", str, required=True),
            OpenApiParameter("field", str, required=True),
            OpenApiParameter("site", str),
            OpenApiParameter("points", int, description=f"parts, at most {MOST_PARTS}"),
            *LOOKBACK,
        ],
        responses=AmongOut,
        operation_id="among",
        tags=["history"],
    )
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        type_ = generics.get_object_or_404(DeviceType, key=request.query_params.get("type", ""))
        spec = numeric(type_, request.query_params.get("field", ""))
        parts = number(request, "points", 120, MOST_PARTS)
        found = Device.objects.filter(type=type_, phase="in service").order_by("pk")
        if site := request.query_params.get("site"):
            found = found.filter(site__name=site)
        every = list(found.values_list("pk", flat=True))
        chosen = [every[k * len(every) // MOST_AMONG] for k in range(MOST_AMONG)] if len(every) > MOST_AMONG else every
        begin = us(start) + 1
        step = -(-(us(end) - us(start)) // parts)
        with connection.cursor() as cursor:
            read, cut = read_series(cursor, chosen, [spec["name"]], start, end, MOST_READ)
        if cut:
            raise Refused("invalid", f"more than {MOST_READ:,} readings in this span; ask for a shorter one")
        courses = np.full((len(read), parts), np.nan)
        for row, (at, value) in enumerate(read.values()):
            own = np.isfinite(value)
            some, means, _ = summed(at[own], value[own], begin, step, parts, "mean", us(end), None)
            courses[row, some] = means
        told = quantiles(courses, SHARES)
        low, middle, high = ([None if np.isnan(v) else v for v in row] for row in told.tolist())
        return Response(
            {
                "field": spec["name"],
                "unit": spec.get("unit"),
                "devices": len(read),
                "of": len(every),
                "at": [iso(begin + k * step) for k in range(parts)],
                "every_s": step / 1e6,
                "low": low,
                "middle": middle,
                "high": high,
            }
        )


class SpreadOut(serializers.Serializer):
    field = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    values = serializers.IntegerField(help_text="how many readings there are")
    edges = serializers.ListField(child=serializers.FloatField(), help_text="of the bins, one more than these")
    counts = serializers.ListField(child=serializers.IntegerField(), help_text="readings in each bin")
    deciles = serializers.ListField(child=serializers.FloatField(), help_text="smallest, tenths, largest; 11")


class SpreadView(APIView):
    """How often each value of a device's field came in a span: all readings, in equal bins."""

    @extend_schema(
        parameters=[
            OpenApiParameter("field", str, required=True),
            OpenApiParameter("bins", int, description=f"at most {MOST_BINS}"),
            *LOOKBACK,
        ],
        responses=SpreadOut,
        operation_id="spread",
        tags=["history"],
    )
    def get(self, request: Request, name: str) -> Response:
        start, end, _ = span(request)
        device = generics.get_object_or_404(Device.objects.select_related("type"), name=name)
        spec = numeric(device.type, request.query_params.get("field", ""))
        bins = number(request, "bins", 40, MOST_BINS)
        with connection.cursor() as cursor:
            read, cut = read_series(cursor, [device.pk], [spec["name"]], start, end, MOST_READ)
        if cut:
            raise Refused("invalid", f"more than {MOST_READ:,} readings in this span; ask for a shorter one")
        _, values = next(iter(read.values()), (np.zeros(0), np.zeros(0)))
        values = values[np.isfinite(values)]
        counts, edges = spread(values, bins) if len(values) else (np.zeros(0, np.int64), np.zeros(0))
        return Response(
            {
                "field": spec["name"],
                "unit": spec.get("unit"),
                "values": len(values),
                "edges": edges.tolist(),
                "counts": counts.tolist(),
                "deciles": np.quantile(values, DECILES).tolist() if len(values) else [],
            }
        )
