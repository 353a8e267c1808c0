"""Alarms: what is open, taking one, noting; and the journal."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from typing import Any

from django.db import connection, transaction
from django.db.models import Case, Count, IntegerField, OuterRef, Q, Subquery, Value, When
from django.db.models.functions import Coalesce
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.text import harmless
from server.access.authentication import person_of
from server.access.errors import Refused
from server.access.fields import whole
from server.access.moments import moment, span
from server.access.paging import bounded

from .models import PRIORITIES, Alarm, JournalEntry


class AlarmOut(serializers.ModelSerializer):
    condition = serializers.CharField(source="condition.name")
    definition = serializers.IntegerField(source="condition_id")
    version = serializers.IntegerField(source="version.number")
    device = serializers.CharField(source="device.name")
    device_title = serializers.CharField(source="device.title")
    site_title = serializers.SerializerMethodField()
    acknowledged_by = serializers.SerializerMethodField()
    undo_until = serializers.SerializerMethodField(help_text="until when the asker can give it back")
    notes = serializers.IntegerField(help_text="how many there are")
    message_id = serializers.CharField(allow_null=True)

    class Meta:
        model = Alarm
        fields = [
            "id",
            "condition",
            "definition",
            "version",
            "device",
            "device_title",
            "site_title",
            "priority",
            "text",
            "field",
            "value",
            "limit",
            "unit",
            "raised_at",
            "cleared_at",
            "acknowledged_at",
            "acknowledged_by",
            "undo_until",
            "notes",
            "message_id",
        ]

    def get_site_title(self, alarm: Alarm) -> str | None:
        return alarm.device.site.title if alarm.device.site else None

    def get_acknowledged_by(self, alarm: Alarm) -> str | None:
        return alarm.acknowledged_by.called if alarm.acknowledged_by else None

    def get_undo_until(self, alarm: Alarm) -> datetime | None:
        if alarm.acknowledged_at is None or alarm.acknowledged_by_id != self.context["person"].pk:
            return None
        until = alarm.acknowledged_at + UNDO
        return until if until > timezone.now() else None


class AlarmPage(serializers.Serializer):
    count = serializers.IntegerField()
    unacknowledged = serializers.IntegerField()
    results = AlarmOut(many=True)


class EntryOut(serializers.ModelSerializer):
    who = serializers.SerializerMethodField()
    device = serializers.CharField(source="alarm.device.name")
    device_title = serializers.CharField(source="alarm.device.title")
    condition = serializers.CharField(source="alarm.condition.name")
    priority = serializers.CharField(source="alarm.priority")
    alarm = serializers.IntegerField(source="alarm_id")
    text = serializers.CharField(source="alarm.text")
    unit = serializers.CharField(source="alarm.unit")
    message_id = serializers.CharField(allow_null=True)
    version = serializers.SerializerMethodField()

    class Meta:
        model = JournalEntry
        fields = [
            "id",
            "what",
            "at",
            "learned_at",
            "who",
            "note",
            "value",
            "limit",
            "unit",
            "device",
            "device_title",
            "condition",
            "priority",
            "alarm",
            "text",
            "message_id",
            "version",
        ]

    def get_who(self, entry: JournalEntry) -> str | None:
        return entry.person.called if entry.person else None

    def get_version(self, entry: JournalEntry) -> int | None:
        return entry.version.number if entry.version else None


class JournalPage(serializers.Serializer):
    count = serializers.IntegerField()
    results = EntryOut(many=True)


class NoteIn(serializers.Serializer):
    note = serializers.CharField(max_length=1000, required=False, allow_blank=True)


UNDO = timedelta(minutes=10)  # how long an acknowledgement can be given back by who gave it


def everything() -> Any:
    noted = JournalEntry.objects.filter(alarm=OuterRef("pk"), what="noted").order_by()
    notes = noted.values("alarm").annotate(n=Count("pk")).values("n")
    rank = Case(*(When(priority=p, then=Value(i)) for i, p in enumerate(PRIORITIES)), output_field=IntegerField())
    return Alarm.objects.select_related("condition", "version", "device", "device__site", "acknowledged_by").annotate(
        rank=rank, notes=Coalesce(Subquery(notes, output_field=IntegerField()), 0)
    )


def answered(request: Request, found: Any, many: bool = False) -> Any:
    return AlarmOut(found, many=many, context={"person": person_of(request)}).data


class AlarmsView(APIView):
    """Open alarms, worst first; with `past`, those of the lookback, newest first."""

    @extend_schema(
        parameters=[OpenApiParameter(n, str) for n in ("show", "device", "condition", "from", "to")]
        + [OpenApiParameter("limit", int), OpenApiParameter("offset", int)],
        responses=AlarmPage,
        operation_id="alarms",
        tags=["alarms"],
    )
    def get(self, request: Request) -> Response:
        """`show` is open (default) or all."""
        limit, offset = bounded(request)
        found = everything()
        params = request.query_params
        if params.get("device"):
            found = found.filter(device__name=params["device"])
        if params.get("condition"):
            condition = whole(params["condition"], 2**31 - 1)
            if condition is None:
                raise Refused("invalid", "condition is a number")
            found = found.filter(condition_id=condition)
        if params.get("show") == "all":
            start, end, _ = span(request)
            found = (
                found.filter(raised_at__lte=end)
                .filter(Q(cleared_at=None) | Q(cleared_at__gte=start))
                .order_by("-raised_at")
            )
        else:
            at = moment(request, "to")
            found = (
                found.filter(raised_at__lte=at).filter(Q(cleared_at=None) | Q(cleared_at__gt=at))
                if at
                else found.filter(cleared_at=None)
            )
            found = found.order_by("rank", "-raised_at")
        page = found[offset : offset + limit]
        return Response(
            {
                "count": found.count(),
                "unacknowledged": found.filter(acknowledged_at=None).count(),
                "results": answered(request, page, many=True),
            }
        )


class SummaryOut(serializers.Serializer):
    definition = serializers.IntegerField()
    condition = serializers.CharField()
    priority = serializers.CharField()
    raised = serializers.IntegerField()
    devices = serializers.IntegerField()
    untaken = serializers.IntegerField(help_text="over, and taken by nobody")
    last_at = serializers.DateTimeField()
    most_device = serializers.CharField()
    most_count = serializers.IntegerField()


class SummaryView(APIView):
    """What was raised in the lookback, by condition: how often, on how many devices, and which device most."""

    @extend_schema(
        parameters=[OpenApiParameter("from", str), OpenApiParameter("to", str)],
        responses=SummaryOut(many=True),
        operation_id="alarm_summary",
        tags=["alarms"],
    )
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        with connection.cursor() as cursor:
            cursor.execute(
                "select condition_id, d.name, min(a.priority), sum(a.n)::int, count(*)::int, sum(a.untaken)::int,"
                " max(a.last), (array_agg(v.title order by a.n desc))[1], max(a.n)::int"
                " from (select condition_id, device_id, min(priority) as priority, count(*) as n, count(*) filter"
                " (where cleared_at is not null and acknowledged_at is null) as untaken,"
                " max(raised_at) as last from alarms_alarm where raised_at > %s and raised_at <= %s group by 1, 2) a"
                " join definitions_definition d on d.id = a.condition_id join fleet_device v on v.id = a.device_id"
                " group by 1, 2 order by 4 desc limit 50",
                (start, end),
            )
            names = [
                "definition",
                "condition",
                "priority",
                "raised",
                "devices",
                "untaken",
                "last_at",
                "most_device",
                "most_count",
            ]
            return Response([dict(zip(names, row, strict=True)) for row in cursor.fetchall()])


class AlarmView(APIView):
    """One alarm."""

    @extend_schema(responses=AlarmOut, operation_id="alarm", tags=["alarms"])
    def get(self, request: Request, ident: int) -> Response:
        return Response(answered(request, generics.get_object_or_404(everything(), pk=ident)))


def told(alarm: Alarm) -> None:
    with connection.cursor() as cursor:
        body = {"messages": 0, "devices": [alarm.device.name], "alarms": [alarm.pk], "control": []}
        cursor.execute("insert into live_change (body) values (%s::jsonb)", (json.dumps(body),))
        cursor.execute("select pg_notify('oculum_live', '')")


class AcknowledgeView(APIView):
    """Takes an alarm. Taking it twice changes nothing."""

    writes = "operator"

    @extend_schema(request=NoteIn, responses=AlarmOut, operation_id="acknowledge", tags=["alarms"])
    def post(self, request: Request, ident: int) -> Response:
        asked = NoteIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            alarm = generics.get_object_or_404(Alarm.objects.select_for_update(), pk=ident)
            if alarm.acknowledged_at is None:
                now = timezone.now()
                alarm.acknowledged_at, alarm.acknowledged_by = now, person_of(request)
                alarm.save(update_fields=["acknowledged_at", "acknowledged_by"])
                JournalEntry.objects.create(
                    alarm=alarm,
                    what="acknowledged",
                    at=now,
                    learned_at=now,
                    person=person_of(request),
                    note=harmless(asked.validated_data.get("note", ""), 1000),
                )
                told(alarm)
        return Response(answered(request, everything().get(pk=ident)))

    @extend_schema(responses=AlarmOut, operation_id="give_back", tags=["alarms"])
    def delete(self, request: Request, ident: int) -> Response:
        """Gives an alarm back, for ten minutes after one took it oneself. The journal keeps both."""
        with transaction.atomic():
            alarm = generics.get_object_or_404(Alarm.objects.select_for_update(of=["self"]), pk=ident)
            now = timezone.now()
            if alarm.acknowledged_at is not None:
                if alarm.acknowledged_by != person_of(request):
                    who = alarm.acknowledged_by.called if alarm.acknowledged_by else "somebody who is gone"
                    raise Refused("not yours", f"{who} took this alarm, and only they can give it back", 409)
                if now > alarm.acknowledged_at + UNDO:
                    raise Refused("too late", "an alarm can be given back for ten minutes; write a note instead", 409)
                alarm.acknowledged_at = alarm.acknowledged_by = None
                alarm.save(update_fields=["acknowledged_at", "acknowledged_by"])
                JournalEntry.objects.create(
                    alarm=alarm, what="given back", at=now, learned_at=now, person=person_of(request)
                )
                told(alarm)
        return Response(answered(request, everything().get(pk=ident)))


class NoteView(APIView):
    """Adds a note to an alarm."""

    writes = "operator"

    @extend_schema(request=NoteIn, responses=AlarmOut, operation_id="note", tags=["alarms"])
    def post(self, request: Request, ident: int) -> Response:
        asked = NoteIn(data=request.data)
        asked.is_valid(raise_exception=True)
        alarm = generics.get_object_or_404(Alarm, pk=ident)
        text = harmless(asked.validated_data.get("note", "").strip(), 1000)
        if not text:
            raise Refused("invalid", "an empty note says nothing")
        now = timezone.now()
        with transaction.atomic():
            JournalEntry.objects.create(
                alarm=alarm, what="noted", at=now, learned_at=now, person=person_of(request), note=text
            )
            told(alarm)
        return Response(answered(request, everything().get(pk=ident)))


class JournalView(APIView):
    """What happened to alarms in the lookback, newest first."""

    @extend_schema(
        parameters=[OpenApiParameter(n, str) for n in ("device", "alarm", "from", "to")]
        + [OpenApiParameter("limit", int), OpenApiParameter("offset", int)],
        responses=JournalPage,
        operation_id="journal",
        tags=["alarms"],
    )
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        found = JournalEntry.objects.select_related("alarm", "alarm__device", "alarm__condition", "person", "version")
        if request.query_params.get("alarm"):
            found = found.filter(alarm_id=whole(request.query_params["alarm"], 2**31 - 1) or 0)
        else:
            start, end, _ = span(request)
            found = found.filter(at__gte=start, at__lte=end)
        if request.query_params.get("device"):
            found = found.filter(alarm__device__name=request.query_params["device"])
        found = found.order_by("-at", "-id")
        return Response({"count": found.count(), "results": EntryOut(found[offset : offset + limit], many=True).data})
