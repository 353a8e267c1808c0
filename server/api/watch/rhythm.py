"""Rhythm: when the messages of many devices came, against their cadence, as rows to be scrolled through."""

from __future__ import annotations

from typing import Any

from django.db import connection
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.devices.columns import FIGURES, columns_of
from server.api.devices.devices import ORDER, STANDING, Chosen
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, as_then, span
from server.requests.paging import bounded
from server.rules.brief import Brief
from server.rules.groups import grouped
from server.rules.refusal import Refused
from server.rules.states import STATES
from server.store.activity import buckets, known_from, lateness, rhythm
from server.store.unheard import unheard

MOST_POINTS, USUAL = 800, 300


class RhythmRow(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    group = serializers.CharField(help_text="what rows are grouped by")
    state = serializers.ChoiceField(STATES)
    cadence_s = serializers.IntegerField(allow_null=True)
    figure = serializers.FloatField(allow_null=True, help_text="of `order`, or availability")
    messages = serializers.ListField(child=serializers.IntegerField(), help_text="by part of the span")
    known_from = serializers.IntegerField(help_text="the first part in which the device was known")
    failed = serializers.ListField(child=serializers.IntegerField(), help_text="refused ones by part of the span")
    late = serializers.ListField(
        child=serializers.ListField(child=serializers.FloatField()),
        help_text="how late the quickest messages were, where it shows: from and to which part, seconds",
    )


class RhythmOut(serializers.Serializer):
    count = serializers.IntegerField(help_text="devices in all")
    figure = serializers.CharField(help_text="which one it is")
    start = serializers.DateTimeField()
    part_s = serializers.FloatField(help_text="length of a part of the span")
    parts = serializers.IntegerField()
    unheard = serializers.ListField(
        child=serializers.ListField(child=serializers.DateTimeField()), help_text="where Oculum did not listen"
    )
    results = RhythmRow(many=True)


class RhythmView(APIView):
    """When messages came, device by device: in parts of the span, no finer than hours beyond two days."""

    @extend_schema(
        parameters=[
            *LOOKBACK,
            *STANDING,
            ORDER,
            OpenApiParameter(
                "group", str, description="rows of one stand together: type, site, gateway, firmware, label:NAME"
            ),
            OpenApiParameter("points", int, description=f"parts of the span, at most {MOST_POINTS}"),
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=RhythmOut,
        operation_id="rhythm",
        tags=["watch"],
    )
    @as_then
    def get(self, request: Request) -> Response:
        start, end, past = span(request)
        points = whole(request.query_params.get("points", str(USUAL)), MOST_POINTS)
        if not points:
            raise Refused("invalid", f"points: a whole number from 1 to {MOST_POINTS} is expected")
        chosen = Chosen.of(request, start, end, past)
        groups = grouped(chosen.devices, request.query_params.get("group") or "all")
        limit, offset = bounded(request)
        page = [(d, g.title) for g in groups for d in g.devices][offset : offset + limit]
        ids = [d.pk for d, _ in page]
        order = request.query_params.get("order", "").removeprefix("-")
        figure = order if order in FIGURES else "availability"
        told = columns_of([figure], [d for d, _ in page], start, end, past)[figure].cells
        counts, late = rhythm(ids, start, end, points), lateness(ids, start, end, points)
        with connection.cursor() as cursor:
            gaps = unheard(cursor, start, end)
        parts = buckets(start, end, points)

        def row(d: Brief, group: str) -> dict[str, Any]:
            return {
                "name": d.name,
                "title": d.title,
                "group": group,
                "state": chosen.states[d.pk].state if d.pk in chosen.states else "waiting",
                "cadence_s": d.cadence_s or d.type.cadence_s,
                "figure": told.get(d.pk),
                "messages": counts[d.pk][0],
                "known_from": known_from(d.registered_at, counts[d.pk][0], start, end),
                "failed": counts[d.pk][1],
                "late": late.get(d.pk, []),
            }

        return Response(
            {
                "count": len(chosen.devices),
                "figure": figure,
                "start": start,
                "part_s": (end - start).total_seconds() / parts,
                "parts": parts,
                "unheard": [list(gap) for gap in gaps],
                "results": [row(d, group) for d, group in page],
            }
        )
