"""Readings over time, the fleet's health over time, figures of the pipeline, and the answer to why."""

from __future__ import annotations

from collections import Counter
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.history.stretches import NAMES
from oculum.language.routes.plan import Drop, Thin
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, Fence
from server.records.senders.models import UnknownSender
from server.records.telling.models import EXPIRED, Delivery, Outlet
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, as_then, moment_asked, span
from server.rules.alarms import open_at
from server.rules.plans import trouble
from server.rules.refusal import Refused
from server.rules.routes import plan_of
from server.rules.shelves import shelved
from server.rules.states import device_states, states_over_time
from server.store.arrivals import arrived_lately, engine_behind
from server.store.figures import by_line
from server.store.raised import open_in
from server.store.refused import failing_types, refused_before
from server.store.register import in_service
from server.store.series import read_series
from server.store.summed import messages_by_hour

MOST_ROWS = 400_000
MOST_BUCKETS = 400
LATELY = timedelta(minutes=10)
MINUTE = timedelta(minutes=1)


class SeriesField(serializers.Serializer):
    field = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    kind = serializers.CharField()
    t = serializers.ListField(child=serializers.FloatField(), help_text="seconds since 1970")
    v = serializers.ListField(child=serializers.FloatField(allow_null=True), help_text="values, or means of buckets")
    low = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    high = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    count = serializers.IntegerField()


class SeriesOut(serializers.Serializer):
    fields = SeriesField(many=True)  # type: ignore[assignment]

    def get_fields(self) -> dict[str, Any]:
        return {
            "fields": SeriesField(many=True),
            "from": serializers.DateTimeField(),
            "to": serializers.DateTimeField(),
            "cut": serializers.BooleanField(),
        }


class Bucket(serializers.Serializer):
    at = serializers.DateTimeField()
    reporting = serializers.IntegerField()
    overdue = serializers.IntegerField()
    silent = serializers.IntegerField()
    undecodable = serializers.IntegerField()
    alarm = serializers.IntegerField()
    messages = serializers.IntegerField(help_text="of all devices")
    worst = serializers.CharField(allow_null=True, help_text="highest priority among the open alarms")


class LookbackOut(serializers.Serializer):
    bucket_s = serializers.IntegerField()
    devices = serializers.IntegerField()
    buckets = Bucket(many=True)


class OverviewOut(serializers.Serializer):
    at = serializers.DateTimeField()
    devices = serializers.IntegerField()
    states = serializers.DictField(child=serializers.IntegerField())
    maintenance = serializers.IntegerField()
    messages_per_minute = serializers.FloatField()
    refused_per_minute = serializers.FloatField()
    unknown_senders = serializers.IntegerField()
    decoders = serializers.IntegerField()
    failing_types = serializers.ListField(child=serializers.CharField())
    conditions = serializers.IntegerField()
    routes = serializers.IntegerField(help_text="in force")
    failing_routes = serializers.ListField(
        child=serializers.CharField(), help_text="a line of them could not tell more often than not, within the hour"
    )
    routes_keep = serializers.FloatField(help_text="the share of readings that routes do not drop, 0 to 1")
    conditions_in_trouble = serializers.IntegerField(help_text="in force, but no longer readable with their type")
    fences = serializers.IntegerField()
    outlets = serializers.IntegerField(help_text="in use")
    blocked_outlets = serializers.ListField(child=serializers.CharField(), help_text="their last try failed")
    undelivered = serializers.IntegerField(help_text="given up after a day")
    open_alarms = serializers.IntegerField()
    unacknowledged = serializers.IntegerField()
    by_priority = serializers.DictField(child=serializers.IntegerField())
    engine_behind = serializers.IntegerField()
    engine_seen = serializers.DateTimeField(allow_null=True)


def series(
    device: Device, names: list[str], start: datetime, end: datetime, points: int
) -> tuple[list[dict[str, Any]], bool]:
    """Values of fields over a span: as they are while they are few, else means and extremes of buckets."""
    declared = {f["name"]: f for f in device.type.fields}
    with connection.cursor() as cursor:
        collected, cut = read_series(cursor, [device.pk], names, start, end, MOST_ROWS)
    none = np.zeros(0, np.int64), np.zeros(0)
    found = []
    for name in names:
        at, v = collected.get((device.pk, name), none)
        t = at / 1e6
        row: dict[str, Any] = {
            "field": name,
            "unit": declared[name].get("unit"),
            "kind": declared[name]["kind"],
            "count": len(t),
            "low": None,
            "high": None,
        }
        if len(t) > points:
            step = (end - start).total_seconds() / (points // 2)
            bucket = ((t - start.timestamp()) // step).astype(int)
            heads = np.flatnonzero(np.diff(bucket, prepend=bucket[0] - 1))
            counts = np.diff(np.append(heads, len(t)))
            row["low"], row["high"] = np.minimum.reduceat(v, heads).tolist(), np.maximum.reduceat(v, heads).tolist()
            t, v = np.add.reduceat(t, heads) / counts, np.add.reduceat(v, heads) / counts
        row["t"], row["v"] = t.tolist(), v.tolist()
        found.append(row)
    return found, cut


class SeriesView(APIView):
    """Values of a device's fields over the lookback."""

    @extend_schema(
        parameters=[*LOOKBACK, OpenApiParameter("field", str, many=True), OpenApiParameter("points", int)],
        responses=SeriesOut,
        operation_id="series",
        tags=["devices"],
    )
    def get(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device.objects.select_related("type"), name=name)
        start, end, _ = span(request)
        names = request.query_params.getlist("field")[:16]
        declared = {f["name"] for f in device.type.fields}
        strange = next((n for n in names if n not in declared), None)
        if strange is not None:
            raise Refused("not found", f"`{strange[:60]}` is not a field of {device.type.key}", 404)
        asked = whole(request.query_params.get("points", "1200"))
        if asked is None:
            raise Refused("invalid", "points is a whole number")
        points = min(max(asked, 50), 5000)
        found, cut = series(device, names, start, end, points)
        return Response({"fields": found, "from": start, "to": end, "cut": cut})


class LookbackView(APIView):
    """The fleet's health by hour (or several): how many devices were in which state, how many in alarm."""

    @extend_schema(parameters=LOOKBACK, responses=LookbackOut, operation_id="lookback", tags=["fleet"])
    def get(self, request: Request) -> Response:
        start, end, _ = span(request, timedelta(days=7))
        hours_a_bucket = -(-int((end - start).total_seconds()) // (3600 * MOST_BUCKETS)) or 1
        first = start.replace(minute=0, second=0, microsecond=0)
        hours = int((end - first).total_seconds() // 3600) + 1
        return Response(health(first, hours, hours_a_bucket, end))


def health(first: datetime, hours: int, hours_a_bucket: int, end: datetime) -> dict[str, Any]:
    """Counts of devices in service by bucket, each in the state that it was in for most of it."""
    with connection.cursor() as cursor:
        devices, _, _ = in_service(cursor)
        messages = messages_by_hour(cursor, first, first + timedelta(hours=hours))
        spans = open_in(cursor, first, end)
        buckets, width = -(-hours // hours_a_bucket), timedelta(hours=hours_a_bucket)
        states = states_over_time(cursor, devices, first, width, buckets, end)
    counts = [(states == state).sum(axis=0) for state in range(len(NAMES))]
    alarm = np.zeros((len(devices), buckets), bool)
    rank = np.full(buckets, len(PRIORITIES))
    index = {d: i for i, d in enumerate(devices.tolist())}
    for device_id, raised, cleared, priority in spans:
        if device_id in index or device_id is None:  # None: on a site
            a, b = max((raised - first) // width, 0), min((cleared - first) // width, buckets - 1)
            if device_id is not None:
                alarm[index[device_id], a : b + 1] = True
            rank[a : b + 1] = np.minimum(rank[a : b + 1], PRIORITIES.index(priority))
    sums = [0] * buckets
    for hour, count in messages.items():
        sums[(hour - first) // width] += count
    return {
        "bucket_s": hours_a_bucket * 3600,
        "devices": len(devices),
        "buckets": [
            {
                "at": first + k * width,
                **{name: int(counts[state][k]) for state, name in enumerate(NAMES)},
                "alarm": int(alarm[:, k].sum()),
                "messages": sums[k],
                "worst": PRIORITIES[rank[k]] if rank[k] < len(PRIORITIES) else None,
            }
            for k in range(buckets)
        ],
    }


def pressure(cursor: Any, routes: list[Definition], end: datetime) -> tuple[list[str], float]:
    """Routes with a line that fails more often than not within the hour; the share of readings that are neither
    dropped nor held back.
    """
    figures = by_line(cursor, end - timedelta(hours=1), end)
    failing, gone, seen = [], 0, 0
    for definition in routes:
        plan = plan_of(definition.live) if definition.live is not None else None
        for act in plan.lines if plan is not None else ():
            found = figures.get((definition.live_id or 0, act.line))
            if found is None:
                continue
            seen = max(seen, found.seen)
            gone += found.took if isinstance(act, Drop | Thin) else 0
            if found.failed * 2 > found.seen and definition.name not in failing:
                failing.append(definition.name)
    return failing[:5], max(0.0, 1 - gone / seen) if seen else 1.0


class OverviewView(APIView):
    """The figures beside the places of the navigation, now or at a past moment."""

    @extend_schema(
        parameters=[OpenApiParameter("to", str)], responses=OverviewOut, operation_id="overview", tags=["fleet"]
    )
    @as_then
    def get(self, request: Request) -> Response:
        at = moment_asked(request, "to")
        past, end = at is not None, at or timezone.now()
        states = device_states(end, past).counts()
        with connection.cursor() as cursor:
            messages, unknown_messages = arrived_lately(cursor, end, LATELY)
            refused = refused_before(cursor, end, LATELY)
            failing = failing_types(cursor, end, timedelta(hours=1), 5)
            seen, behind = engine_behind(cursor)
        unknown = UnknownSender.objects.filter(adopted_as=None).count()
        open_ = open_at(Alarm.objects.exclude(shelved(at)), at)
        in_force: dict[str, list[Definition]] = {"decoder": [], "route": [], "condition": []}
        for definition in Definition.objects.filter(live__isnull=False).select_related(
            "type", "live__definition__type"
        ):
            in_force[definition.kind].append(definition)
        watching, routes = in_force["condition"], in_force["route"]
        outlets = list(Outlet.objects.filter(on=True).order_by("name").values_list("name", "failures"))
        alarms = list(open_.values_list("priority", "acknowledged_at"))
        by_priority = Counter(priority for priority, _ in alarms)
        with connection.cursor() as cursor:
            failing_routes, kept = pressure(cursor, routes, end)
        return Response(
            {
                "at": end,
                "routes": len(routes),
                "failing_routes": failing_routes,
                "routes_keep": kept,
                "devices": sum(states.values()),
                "states": dict(states),
                "maintenance": Device.objects.filter(phase="maintenance").count(),
                "messages_per_minute": messages / (LATELY / MINUTE),
                "refused_per_minute": (refused + unknown_messages) / (LATELY / MINUTE),
                "unknown_senders": unknown,
                "decoders": len(in_force["decoder"]),
                "failing_types": failing,
                "conditions": len(watching),
                "conditions_in_trouble": sum(trouble(d) is not None for d in watching),
                "fences": Fence.objects.count(),
                "outlets": len(outlets),
                "blocked_outlets": [name for name, failures in outlets if failures][:5],
                "undelivered": Delivery.objects.filter(state=EXPIRED).count(),
                "open_alarms": len(alarms),
                "unacknowledged": sum(taken is None for _, taken in alarms),
                "by_priority": dict(by_priority),
                "engine_behind": behind,
                "engine_seen": seen,
            }
        )
