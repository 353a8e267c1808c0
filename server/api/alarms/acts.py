"""What people do with alarms, one or many at once: each act is on record, and what cannot be done says why."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import connection, transaction
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.alarms.serial import UNDO, AlarmOut, answered
from server.records.alarms.models import Alarm, JournalEntry
from server.records.people.models import Person
from server.requests.authentication import person_of
from server.requests.fields import Moment, Words
from server.rules.alarms import everything
from server.rules.refusal import Refused
from server.rules.shelves import shelve, take_off
from server.store.notices import tell

MOST = 500


class ActIn(serializers.Serializer):
    alarms = serializers.ListField(child=serializers.IntegerField(min_value=1), min_length=1, max_length=MOST)


class NotedIn(ActIn):
    note = Words(max_length=1000, required=False, allow_blank=True)


class NoteIn(ActIn):
    note = Words(max_length=1000)


class ShelveIn(ActIn):
    until = Moment(help_text="when it comes back by itself; at most 31 days ahead")
    why = Words(max_length=300)


class AssignIn(ActIn):
    person = serializers.CharField(allow_null=True, help_text="who sees to it, by sign-in name; nothing for nobody")


class NotDone(serializers.Serializer):
    alarm = serializers.IntegerField()
    why = serializers.CharField()


class ActOut(serializers.Serializer):
    alarms = AlarmOut(many=True)
    refused = NotDone(many=True)


def entry(alarm: Alarm, what: str, request: Request, note: str = "") -> None:
    now = timezone.now()
    JournalEntry.objects.create(
        alarm=alarm, what=what, at=now, learned_at=now, person=person_of(request), note=note[:1000]
    )


class Acts(APIView):
    """An act on alarms. All or part of it: what cannot be done is told with its reason, the rest is done."""

    writes = "operator"

    def each(self, request: Request, asked: serializers.Serializer, act: Callable[[Alarm], object]) -> Response:
        ids = list(dict.fromkeys(asked.validated_data["alarms"]))
        refused: list[dict[str, Any]] = []
        with transaction.atomic():
            known = {a.pk: a for a in Alarm.objects.select_for_update(of=["self"]).filter(pk__in=ids).order_by("pk")}
            for ident in ids:
                if ident not in known:
                    refused.append({"alarm": ident, "why": "there is no such alarm"})
                    continue
                try:
                    act(known[ident])
                except Refused as error:
                    refused.append({"alarm": ident, "why": error.sentence})
            if len(refused) < len(ids):
                devices = sorted({a.device.name for a in known.values() if a.device is not None})
                with connection.cursor() as cursor:
                    tell(cursor, {"messages": 0, "devices": devices, "alarms": sorted(known), "control": []})
        if len(refused) == len(ids):
            raise Refused("not done", refused[0]["why"], 404 if not known else 409)
        found = everything().filter(pk__in=ids).order_by("rank", "-raised_at")
        return Response({"alarms": answered(request, found, many=True), "refused": refused})


class AcknowledgeView(Acts):
    """Takes alarms. Taking one twice changes nothing."""

    @extend_schema(request=NotedIn, responses=ActOut, operation_id="acknowledge", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = NotedIn(data=request.data)
        asked.is_valid(raise_exception=True)

        def act(alarm: Alarm) -> None:
            if alarm.acknowledged_at is None:
                alarm.acknowledged_at, alarm.acknowledged_by = timezone.now(), person_of(request)
                alarm.save(update_fields=["acknowledged_at", "acknowledged_by"])
                entry(alarm, "acknowledged", request, asked.validated_data.get("note", ""))

        return self.each(request, asked, act)


class GiveBackView(Acts):
    """Gives alarms back, for ten minutes after one took them oneself. The journal keeps both."""

    @extend_schema(request=ActIn, responses=ActOut, operation_id="give_back", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = ActIn(data=request.data)
        asked.is_valid(raise_exception=True)

        def act(alarm: Alarm) -> None:
            if alarm.acknowledged_at is None:
                return
            if alarm.acknowledged_by != person_of(request):
                who = alarm.acknowledged_by.called if alarm.acknowledged_by else "somebody who is gone"
                raise Refused("not yours", f"{who} took this alarm, and only they can give it back", 409)
            if timezone.now() > alarm.acknowledged_at + UNDO:
                raise Refused("too late", "an alarm can be given back for ten minutes; write a note instead", 409)
            alarm.acknowledged_at = alarm.acknowledged_by = None
            alarm.save(update_fields=["acknowledged_at", "acknowledged_by"])
            entry(alarm, "given back", request)

        return self.each(request, asked, act)


class NoteView(Acts):
    """Adds a note to alarms."""

    @extend_schema(request=NoteIn, responses=ActOut, operation_id="note", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = NoteIn(data=request.data)
        asked.is_valid(raise_exception=True)
        return self.each(request, asked, lambda alarm: entry(alarm, "noted", request, asked.validated_data["note"]))


class ShelveView(Acts):
    """Puts the conditions of alarms aside on their devices until a moment; they come back by themselves."""

    @extend_schema(request=ShelveIn, responses=ActOut, operation_id="shelve", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = ShelveIn(data=request.data)
        asked.is_valid(raise_exception=True)
        until, why = asked.validated_data["until"], asked.validated_data["why"]
        return self.each(request, asked, lambda alarm: shelve(alarm, person_of(request), until, why))


class UnshelveView(Acts):
    """Takes alarms off the shelf before its time."""

    @extend_schema(request=ActIn, responses=ActOut, operation_id="unshelve", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = ActIn(data=request.data)
        asked.is_valid(raise_exception=True)
        return self.each(request, asked, lambda alarm: take_off(alarm, person_of(request)))


class AssignView(Acts):
    """Says who sees to alarms."""

    @extend_schema(request=AssignIn, responses=ActOut, operation_id="assign", tags=["alarms"])
    def post(self, request: Request) -> Response:
        asked = AssignIn(data=request.data)
        asked.is_valid(raise_exception=True)
        name = asked.validated_data["person"]
        person = Person.objects.filter(username=name, is_active=True).first() if name else None
        if name and person is None:
            raise Refused("invalid", f"there is nobody who signs in as `{str(name)[:60]}`")

        def act(alarm: Alarm) -> None:
            if alarm.assigned_to != person:
                alarm.assigned_to = person
                alarm.save(update_fields=["assigned_to"])
                entry(alarm, "assigned", request, f"to {person.called}" if person else "to nobody")

        return self.each(request, asked, act)
