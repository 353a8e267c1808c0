"""Notes on a device, each at a moment; with the versions by which its messages came to be decoded."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.records.definitions.models import Version
from server.records.fleet.models import Device, Note
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Moment, Words
from server.requests.moments import LOOKBACK, span
from server.rules.refusal import Refused

MOST_NOTES, MOST_SHOWN = 5_000, 200


class DeviceNoteIn(serializers.Serializer):
    text = Words(max_length=500)
    at = Moment(required=False)


class DeviceNoteOut(serializers.Serializer):
    id = serializers.IntegerField()
    at = serializers.DateTimeField()
    text = serializers.CharField()
    who = serializers.CharField(allow_blank=True)
    own = serializers.BooleanField(help_text="whether whoever asks may remove it")


class DecoderPublished(serializers.Serializer):
    at = serializers.DateTimeField()
    definition = serializers.IntegerField()
    number = serializers.IntegerField()
    why = serializers.CharField(allow_blank=True)


class NotesOut(serializers.Serializer):
    count = serializers.IntegerField(help_text="notes in the span")
    results = DeviceNoteOut(many=True)
    versions = DecoderPublished(many=True, help_text="of its decoder, published in the span")


def note_out(note: Note, request: Request) -> dict[str, Any]:
    person = person_of(request)
    return {
        "id": note.pk,
        "at": note.at,
        "text": note.text,
        "who": note.person.called if note.person else "",
        "own": note.person_id == person.pk or person.may("engineer"),
    }


class NotesView(APIView):
    """Notes on a device of a span, the newest first; and writing one."""

    writes = "operator"

    @extend_schema(parameters=LOOKBACK, responses=NotesOut, operation_id="notes", tags=["devices"])
    def get(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        start, end, _ = span(request)
        found = Note.objects.filter(device=device, at__gt=start, at__lte=end).select_related("person").order_by("-at")
        versions = Version.objects.filter(
            definition__kind="decoder", definition__type=device.type, at__gt=start, at__lte=end
        ).order_by("-at")[:MOST_SHOWN]
        return Response(
            {
                "count": found.count(),
                "results": [note_out(note, request) for note in found[:MOST_SHOWN]],
                "versions": [
                    {"at": v.at, "definition": v.definition_id, "number": v.number, "why": v.why} for v in versions
                ],
            }
        )

    @extend_schema(request=DeviceNoteIn, responses={201: DeviceNoteOut}, operation_id="write_note", tags=["devices"])
    def post(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        asked = DeviceNoteIn(data=request.data)
        asked.is_valid(raise_exception=True)
        if device.notes.count() >= MOST_NOTES:
            raise Refused("too many", f"a device has at most {MOST_NOTES:,} notes")
        with transaction.atomic():
            at = asked.validated_data.get("at") or timezone.now()
            text = asked.validated_data["text"]
            note = Note.objects.create(device=device, at=at, text=text, person=person_of(request))
            record(person_of(request), "wrote a note", name, {"at": at.isoformat(), "text": text})
        return Response(note_out(note, request), 201)


class NoteView(APIView):
    """One note: whoever wrote it, or an engineer, may remove it."""

    writes = "operator"

    @extend_schema(responses={204: None}, operation_id="remove_note", tags=["devices"])
    def delete(self, request: Request, name: str, ident: int) -> Response:
        note = generics.get_object_or_404(Note, pk=ident, device__name=name)
        if not note_out(note, request)["own"]:
            raise Refused("permission denied", "a note is removed by whoever wrote it, or by an engineer", 403)
        with transaction.atomic():
            record(person_of(request), "removed a note", name, {"at": note.at.isoformat(), "text": note.text})
            note.delete()
        return Response(status=204)
