"""Watch: what changed, what fades, what is new; the fleet's states over time by any grouping; figures of health."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from django.db import connection
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.history.stretches import NAMES
from server.api.devices.devices import selected
from server.api.watch.serial import BandsOut, HealthOut, WatchOut
from server.requests.authentication import person_of
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, as_then, moment_asked, span
from server.requests.paging import bounded
from server.rules.brief import Brief, briefs
from server.rules.groups import Grouped, grouped
from server.rules.health import Figures, figures
from server.rules.refusal import Refused
from server.rules.states import states_over_time
from server.rules.told import handover, watched

BY = OpenApiParameter("by", str, description="all, type, site, gateway, firmware or label:NAME")
CHOICE = [OpenApiParameter(n, str) for n in ("q", "type", "site", "gateway", "label")]
LETTERS = {-1: " ", **{k: name[0] for k, name in enumerate(NAMES)}}
MOST_BUCKETS, MOST_ROWS = 400, 200
ORDERS = ("title", "availability", "decoded", "complete", "delay", "clock", "alarm")


def figures_out(one: Figures) -> dict[str, Any]:
    return {
        "devices": one.devices,
        "messages": one.messages,
        "expected": one.expected,
        "availability": one.availability,
        "decoded": one.decoded,
        "complete": one.complete,
        "delay_s": one.delay,
        "delay_max_s": one.delay_max,
        "clock_s": one.clock,
        "alarm_s": one.alarm,
        "states_s": one.states,
    }


def in_service(request: Request) -> list[Brief]:
    return briefs(selected(request).filter(phase="in service"))


class HealthView(APIView):
    """Figures of health over a span, of devices or of groups of them, worst first or by name."""

    @extend_schema(
        parameters=[
            *LOOKBACK,
            OpenApiParameter("by", str, description="device, or as for bands"),
            OpenApiParameter("device", str, many=True, description="only these, by name"),
            OpenApiParameter("order", str, enum=ORDERS),
            *CHOICE,
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=HealthOut,
        operation_id="health_of_devices",
        tags=["watch"],
    )
    @as_then
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        limit, offset = bounded(request)
        by, order = request.query_params.get("by", "device"), request.query_params.get("order", "title")
        if order not in ORDERS:
            raise Refused("invalid", f"order: found `{order[:40]}`, expected {', '.join(ORDERS)}")
        only = request.query_params.getlist("device")[:500]
        devices = [d for d in in_service(request) if not only or d.name in only]
        with connection.cursor() as cursor:
            found = figures(cursor, start, end, [d.pk for d in devices])
        if by == "device":
            groups = [Grouped(d.name, d.title, [d]) for d in devices]
        else:
            groups = grouped(devices, by)
        health = found.grouped([[d.pk for d in group.devices] for group in groups])
        places = [place for place, count in enumerate(health.devices.tolist()) if count]
        figure = None if order == "title" else getattr(health, order).tolist()

        def worst(place: int) -> tuple[Any, ...]:
            value, title = figure[place] if figure is not None else 0.0, groups[place].title
            unknown = math.isnan(value)
            return unknown, 0.0 if unknown else -abs(value) if order in ("delay", "clock", "alarm") else value, title

        places.sort(key=worst)
        rows = [
            {"key": groups[place].key, "title": groups[place].title, **figures_out(health.told(place))}
            for place in places[offset : offset + limit]
        ]
        return Response({"count": len(places), "whole": figures_out(found.together()), "results": rows})


class BandsView(APIView):
    """The fleet's states over the lookback by what devices have in common; with `group`, its devices one by one."""

    @extend_schema(
        parameters=[
            *LOOKBACK,
            BY,
            OpenApiParameter("group", str, description="key of a group whose devices are told"),
            OpenApiParameter("parts", int, description="parts of the span, at most 400"),
            *CHOICE,
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=BandsOut,
        operation_id="bands",
        tags=["watch"],
    )
    @as_then
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        limit, offset = bounded(request)
        parts = whole(request.query_params.get("parts", "120"), MOST_BUCKETS)
        if not parts:
            raise Refused("invalid", f"parts is a whole number from 1 to {MOST_BUCKETS}")
        devices = in_service(request)
        groups = grouped(devices, request.query_params.get("by", "site"))
        wanted = request.query_params.get("group")
        if wanted is not None:
            groups = [g for g in groups if g.key == wanted]
        width = (end - start) / parts
        numbers = np.array(sorted(d.pk for g in groups for d in g.devices), np.int64)
        with connection.cursor() as cursor:
            states = states_over_time(cursor, numbers, start, width, parts, end)
        place = {d: i for i, d in enumerate(numbers.tolist())}
        bands = []
        for group in groups:
            own = states[[place[d.pk] for d in group.devices]]
            counts = {name: (own == k).sum(axis=0).tolist() for k, name in enumerate(NAMES)}
            bands.append({"key": group.key, "title": group.title, "devices": len(group.devices), **counts})
        rows = []
        if wanted is not None:
            listed = sorted((d for g in groups for d in g.devices), key=lambda d: d.title)[offset:][
                : min(limit, MOST_ROWS)
            ]
            rows = [
                {"name": d.name, "title": d.title, "states": "".join(LETTERS[s] for s in states[place[d.pk]].tolist())}
                for d in listed
            ]
        return Response(
            {
                "start": start,
                "part_s": width.total_seconds(),
                "parts": parts,
                "count": len(numbers),
                "bands": bands,
                "rows": rows,
            }
        )


class WatchView(APIView):
    """What changed in the lookback, what fades, what is new, and how that compares with before."""

    @extend_schema(parameters=LOOKBACK, responses=WatchOut, operation_id="watch", tags=["watch"])
    @as_then
    def get(self, request: Request) -> Response:
        return Response(watched(*span(request)))


class HandoverView(APIView):
    """The same as one text, as a shift hands it over."""

    @extend_schema(
        parameters=LOOKBACK,
        responses={(200, "text/markdown"): OpenApiTypes.STR},
        operation_id="handover",
        tags=["watch"],
    )
    @as_then
    def get(self, request: Request) -> HttpResponse:
        start, end, past = span(request)
        told = watched(start, end, past)
        zone = person_of(request).zone or "UTC"
        return HttpResponse(
            handover(told, zone, moment_asked(request, "to")), content_type="text/markdown; charset=utf-8"
        )
