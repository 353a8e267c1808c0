"""Cases, trials that show how far they are, what a publish touches, and the way back."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.http import StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.batches import Payloads
from oculum.decoding.guesses import guesses
from oculum.language.from_table import from_table
from server.access.authentication import person_of
from server.access.errors import Refused
from server.access.models import record
from server.fleet.models import Device, DeviceType
from server.trials.again import preview
from server.trials.past import Span, curves, decoder_trial, same_length

from .api import DefinitionView, bytes_of, decoder_of, sound
from .cases import MOST, run
from .models import Case, Version
from .plans import decoder_plan
from .progress import told
from .publishing import effect, put_in_force
from .runners import runs
from .serial import (
    AgainIn,
    CaseChange,
    CaseIn,
    CaseOut,
    CasesRunOut,
    CurvesIn,
    CurvesOut,
    DefinitionOut,
    EffectOut,
    GuessesOut,
    GuessIn,
    InForceIn,
    RunIn,
    TableIn,
    TableOut,
    TrialAsk,
)

NO_CASES = "cases and progress belong to decoders"


class CasesView(generics.ListAPIView):
    """The cases of a decoder, by name."""

    serializer_class = CaseOut

    def get_queryset(self) -> Any:
        return Case.objects.filter(definition_id=self.kwargs["ident"]).order_by("name")

    @extend_schema(request=CaseIn, responses={201: CaseOut}, operation_id="add_case", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        """Keeps a message as a case."""
        definition = decoder_of(ident, NO_CASES)
        asked = CaseIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        if definition.cases.count() >= MOST:
            raise Refused("too many", f"a decoder has at most {MOST} cases")
        previous = data.get("previous_hex")
        try:
            with transaction.atomic():
                case = Case.objects.create(
                    definition=definition,
                    name=data["name"],
                    payload=bytes_of(data["payload_hex"], "payload_hex"),
                    received_at=data["received_at"],
                    headers=data.get("headers", {}),
                    constants=data.get("constants", {}),
                    previous=bytes_of(previous, "previous_hex") if previous else None,
                    expect=data["expect"],
                    person=person_of(request),
                )
        except IntegrityError:
            raise Refused("exists", f"there is a case named “{data['name']}” already", 409) from None
        record(person_of(request), "kept case", f"{definition.name}: {case.name}")
        return Response(CaseOut(case).data, 201)


class CaseView(APIView):
    """One case of a decoder."""

    @extend_schema(request=CaseChange, responses=CaseOut, operation_id="change_case", tags=["definitions"])
    def patch(self, request: Request, ident: int, case: int) -> Response:
        """Another name, or other expected values."""
        found = generics.get_object_or_404(Case, pk=case, definition_id=ident)
        asked = CaseChange(data=request.data)
        asked.is_valid(raise_exception=True)
        for name, value in asked.validated_data.items():
            setattr(found, name, value)
        try:
            with transaction.atomic():
                found.save(update_fields=list(asked.validated_data) or None)
        except IntegrityError:
            raise Refused("exists", f"there is a case named “{found.name}” already", 409) from None
        record(person_of(request), "changed case", f"{found.definition.name}: {found.name}")
        return Response(CaseOut(found).data)

    @extend_schema(responses={204: None}, operation_id="remove_case", tags=["definitions"])
    def delete(self, request: Request, ident: int, case: int) -> Response:
        found = generics.get_object_or_404(Case, pk=case, definition_id=ident)
        record(person_of(request), "removed case", f"{found.definition.name}: {found.name}")
        found.delete()
        return Response(status=204)


class RunCasesView(APIView):
    """A draft through all cases of its decoder."""

    writes = "viewer"

    @extend_schema(request=RunIn, responses=CasesRunOut, operation_id="run_cases", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        definition = decoder_of(ident, NO_CASES)
        asked = RunIn(data=request.data)
        asked.is_valid(raise_exception=True)
        plan = sound(asked.validated_data["text"], definition.type)
        found = run(plan, list(definition.cases.order_by("name")[:MOST]))
        return Response({"cases": found, "failing": sum(not r["passed"] for r in found)})


class EffectView(APIView):
    """What putting a version in force touches."""

    @extend_schema(responses=EffectOut, operation_id="effect", tags=["definitions"])
    def get(self, request: Request, ident: int) -> Response:
        return Response(effect(DefinitionView.find(ident)))


class InForceView(APIView):
    """Puts an earlier version in force again."""

    @extend_schema(request=InForceIn, responses=DefinitionOut, operation_id="put_in_force", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        asked = InForceIn(data=request.data)
        asked.is_valid(raise_exception=True)
        try:
            put_in_force(DefinitionView.find(ident), asked.validated_data["number"], person_of(request))
        except Version.DoesNotExist:
            raise Refused("not found", f"there is no version {asked.validated_data['number']}", 404) from None
        return Response(DefinitionOut(DefinitionView.find(ident)).data)


class TrialProgressView(APIView):
    """A draft over stored messages: one JSON object a line, {"done", "total"} as it goes, at last {"result"}.

    Closing the connection ends the work.
    """

    writes = "viewer"

    @extend_schema(
        request=TrialAsk,
        responses={(200, "application/x-ndjson"): str},
        operation_id="trial_with_progress",
        tags=["definitions"],
    )
    def post(self, request: Request, ident: int) -> StreamingHttpResponse:
        definition = decoder_of(ident, NO_CASES)
        asked = TrialAsk(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        plan = sound(data["text"], definition.type)
        live = decoder_plan(definition.live.text, definition.live.fields) if definition.live else None
        start = data.get("start") or (timezone.now() - timedelta(days=data["days"]) if data.get("days") else None)
        devices = None
        if data["chosen"]:
            devices = [r.device for r in runs(definition) if r.because == "chosen"]
        if data.get("device"):
            devices = list(
                Device.objects.filter(name=data["device"], type=definition.type).values_list("pk", flat=True)
            )
        work = decoder_trial(plan, live, Span(definition.type_id, data["messages"], start, data.get("end"), devices))
        return told(request, work)


class AgainPreviewView(APIView):
    """What decoding again would change, held against what is stored: one JSON object a line, as a trial tells it."""

    writes = "viewer"

    @extend_schema(
        request=AgainIn,
        responses={(200, "application/x-ndjson"): str},
        operation_id="preview_decoding_again",
        tags=["definitions"],
    )
    def post(self, request: Request, key: str) -> StreamingHttpResponse:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        asked = AgainIn(data=request.data or {})
        asked.is_valid(raise_exception=True)
        work = preview(type_.pk, asked.validated_data.get("start"), asked.validated_data.get("end"))
        return told(request, work)


class FromTableView(APIView):
    """The draft of a decoder from the table of a data sheet; rows that it cannot read come with why."""

    writes = "viewer"

    @extend_schema(request=TableIn, responses=TableOut, operation_id="from_table", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = TableIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        try:
            found = from_table(data["text"], data["name"], data["source"], data["order"])
        except ValueError as error:
            raise Refused("invalid", str(error)) from None
        return Response(
            {
                "text": found.text,
                "columns": found.columns,
                "unread": [vars(u) for u in found.unread],
                "lines": found.lines,
            }
        )


class CurvesView(APIView):
    """What a draft makes of the last messages of a device, number by number."""

    writes = "viewer"

    @extend_schema(request=CurvesIn, responses=CurvesOut, operation_id="curves", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = CurvesIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        device = generics.get_object_or_404(
            Device.objects.select_related("type"), name=data["device"], type__key=data["type"]
        )
        plan = sound(data["text"], device.type)
        return Response(curves(plan, device.pk, device.name, data["until"]))


class GuessView(APIView):
    """Bytes of the last messages of a type, read in every plausible way."""

    writes = "viewer"

    @extend_schema(request=GuessIn, responses=GuessesOut, operation_id="guess", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = GuessIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        type_ = generics.get_object_or_404(DeviceType, key=data["type"])
        found = same_length(type_.pk, data.get("device"), data["length"])
        ways = (
            guesses(
                Payloads.of(found, [0] * len(found)), data["first"], data["last"], data.get("high"), data.get("low")
            )
            if found
            else []
        )
        rows = [
            {
                "storage": g.storage,
                "order": g.order,
                "what": g.what,
                "values": [v if abs(v) < 1e300 else None for v in g.values.tolist()],
            }
            for g in ways
        ]
        return Response({"guesses": rows, "messages": len(found)})
