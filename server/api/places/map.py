"""The map: where devices are at a moment, the way of one, and what is drawn below them."""

from __future__ import annotations

from datetime import datetime

from django.conf import settings
from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.conditions.plan import ConditionPlan
from oculum.language.expressions import Builtin, Called, Constant
from oculum.language.functions import distance_m
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, Site
from server.requests.moments import LOOKBACK, as_then, moment_asked, span
from server.rules.alarms import open_at
from server.rules.brief import briefs
from server.rules.plans import plan_in_force
from server.rules.states import STATES, device_states
from server.store.positions import newest_fixes, track_of

MOST_DEVICES = 5_000
MOST_POINTS = 1_500


class MapDevice(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    type = serializers.CharField()
    site = serializers.CharField(allow_null=True)
    state = serializers.CharField()
    priority = serializers.CharField(allow_null=True, help_text="the highest of its open alarms")
    taken = serializers.BooleanField(help_text="all of them are acknowledged")
    latitude = serializers.FloatField()
    longitude = serializers.FloatField()
    at = serializers.DateTimeField(allow_null=True, help_text="when it was measured; null: the position it was given")
    home = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    away_m = serializers.FloatField(allow_null=True, help_text="from the position it was given")


class MapSite(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    latitude = serializers.FloatField()
    longitude = serializers.FloatField()


class MapTiles(serializers.Serializer):
    url = serializers.CharField(help_text="with {z}, {x} and {y}")
    words = serializers.CharField(help_text="whose they are")


class MapOut(serializers.Serializer):
    at = serializers.DateTimeField()
    devices = MapDevice(many=True)
    without = serializers.IntegerField(help_text="devices of which no position is known")
    cut = serializers.BooleanField(help_text="there are more than 5,000")
    sites = MapSite(many=True)
    swing_m = serializers.DictField(
        child=serializers.FloatField(), help_text="by type: how far from home a condition in force lets its devices be"
    )
    tiles = MapTiles(allow_null=True)


class TrackOut(serializers.Serializer):
    device = serializers.CharField()
    points = serializers.ListField(
        child=serializers.ListField(child=serializers.FloatField()),
        help_text="latitude, longitude, seconds since 1970",
    )
    count = serializers.IntegerField(help_text="positions there are; of many, every so many is given")


class MapView(APIView):
    """Where every device is, or was at the end of the lookback: its newest position not older than a week, else the one
    that it was given.
    """

    @extend_schema(parameters=LOOKBACK[1:], responses=MapOut, operation_id="map", tags=["places"])
    @as_then
    def get(self, request: Request) -> Response:
        past = moment_asked(request, "to")
        at = past or timezone.now()
        states = device_states(at, past is not None)
        kinds = states.by_device(states.state)
        fixes = newest_fixes(at)
        alarms = worst(at)
        found, without = [], 0
        for device in briefs(Device.objects.exclude(phase="retired").order_by("name")):
            fix = fixes.get(device.pk)
            given = (device.latitude, device.longitude) if device.latitude is not None else None
            if fix is None and (given is None or given[1] is None):
                without += 1
                continue
            latitude, longitude = (fix.latitude, fix.longitude) if fix is not None else given or (0.0, 0.0)
            priority, taken = alarms.get(device.pk, (None, True))
            away = fix is not None and given is not None
            found.append(
                {
                    "name": device.name,
                    "title": device.title,
                    "type": device.type.key,
                    "site": device.site.name if device.site else None,
                    "state": STATES[kinds[device.pk]],
                    "priority": priority,
                    "taken": taken,
                    "latitude": latitude,
                    "longitude": longitude,
                    "at": fix.at if fix is not None else None,
                    "home": given,
                    "away_m": float(distance_m(latitude, longitude, *given)) if away and given else None,
                }
            )
        sites = Site.objects.exclude(latitude=None).exclude(longitude=None).order_by("name")
        tiles = {"url": settings.TILES, "words": settings.TILES_WORDS} if settings.TILES else None
        return Response(
            {
                "at": at,
                "devices": found[:MOST_DEVICES],
                "without": without,
                "cut": len(found) > MOST_DEVICES,
                "sites": [MapSite(s).data for s in sites],
                "swing_m": swings(),
                "tiles": tiles,
            }
        )


def worst(at: datetime) -> dict[int, tuple[str, bool]]:
    """By device the highest priority of its alarms open at a moment, and whether all are acknowledged."""
    open_ = open_at(Alarm.objects.filter(device__isnull=False), at)
    found: dict[int, tuple[str, bool]] = {}
    for device, priority, taken in open_.values_list("device_id", "priority", "acknowledged_at"):
        known, all_taken = found.get(device, (priority, True))
        highest = min(known, priority, key=PRIORITIES.index)
        found[device] = (highest, all_taken and taken is not None and taken <= at)
    return found


def swings() -> dict[str, float]:
    """By device type the least distance from home, m, that a condition in force compares with a number."""
    found: dict[str, float] = {}
    for definition in Definition.objects.filter(kind="condition", live__isnull=False).select_related("live", "type"):
        plan = plan_in_force(definition)
        for limit in plan.limits if isinstance(plan, ConditionPlan) else ():
            parts = list(limit.left.walk())
            home = any(isinstance(p, Builtin) and p.name == "home" for p in parts)
            far = any(isinstance(p, Called) and p.function == "distance" for p in parts)
            right = limit.right
            if home and far and isinstance(right, Constant) and isinstance(right.value, float):
                key = definition.type.key
                found[key] = min(found.get(key, right.value), right.value)
    return found


class TrackView(APIView):
    """The way of a device in the lookback."""

    @extend_schema(
        parameters=[OpenApiParameter("device", str, required=True), *LOOKBACK],
        responses=TrackOut,
        operation_id="track",
        tags=["places"],
    )
    def get(self, request: Request) -> Response:
        device = generics.get_object_or_404(Device, name=request.query_params.get("device", ""))
        start, end, _ = span(request)
        found = track_of(device.pk, start, end)
        step = max(-(-len(found) // MOST_POINTS), 1)
        kept = found[::step] + ([found[-1]] if found and (len(found) - 1) % step else [])
        points = [[f.latitude, f.longitude, f.at.timestamp()] for f in kept]
        return Response({"device": device.name, "points": points, "count": len(found)})


class GroundView(APIView):
    """What is drawn below: land and water as GeoJSON (RFC 7946), from the file that is configured."""

    @extend_schema(
        responses={(200, "application/geo+json"): serializers.DictField()}, operation_id="map_ground", tags=["places"]
    )
    def get(self, request: Request) -> HttpResponse:
        body = settings.GROUND.read_bytes()
        answer = HttpResponse(body, content_type="application/geo+json")
        answer["Cache-Control"] = "private, max-age=3600"
        return answer
