"""Cases, trials that show how far they are, what a publish touches, and the way back."""

from __future__ import annotations

from typing import Any

from django.db import IntegrityError, transaction
from django.http import StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.batches import Payloads
from oculum.drafting.from_table import from_table
from oculum.drafting.guesses import guesses
from oculum.text import harmless
from server.api.definitions.draft_shapes import GuessesOut, GuessIn, TableIn, TableOut
from server.api.definitions.progress import told
from server.api.definitions.serial import (
    AgainIn,
    CaseChange,
    CaseIn,
    CaseOut,
    CasesRunOut,
    DefinitionOut,
    EffectOut,
    InForceIn,
    RunIn,
)
from server.api.definitions.trial_shapes import CurvesIn, CurvesOut
from server.api.definitions.views import DefinitionView, bytes_of, decoder_of, sound
from server.records.definitions.models import Case, Version
from server.records.fleet.models import Device, DeviceType
from server.records.people.models import record
from server.requests.authentication import person_of
from server.rules.cases import MOST, run
from server.rules.publishing import effect, put_in_force
from server.rules.refusal import Refused
from server.trials.again import preview
from server.trials.past import curves, same_length
from server.trials.proposing import QUESTIONS, propose

NO_CASES = "cases belong to decoders"


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


class InstructionIn(serializers.Serializer):
    instruction = serializers.CharField(max_length=5000, allow_blank=True, help_text="Markdown")


class InstructionView(APIView):
    """What to do about an alarm of a condition, as its engineer says it."""

    @extend_schema(request=InstructionIn, responses=DefinitionOut, operation_id="instruct", tags=["definitions"])
    def put(self, request: Request, ident: int) -> Response:
        definition = DefinitionView.find(ident)
        if definition.kind != "condition":
            raise Refused("invalid", "instructions belong to conditions: alarms are of them")
        asked = InstructionIn(data=request.data)
        asked.is_valid(raise_exception=True)
        rows = asked.validated_data["instruction"].splitlines()
        definition.instruction = "\n".join(harmless(row, 1000) for row in rows)[:5000]
        definition.save(update_fields=["instruction"])
        record(person_of(request), "changed instruction", definition.name)
        return Response(DefinitionOut(DefinitionView.find(ident)).data)


class ProposeIn(serializers.Serializer):
    type = serializers.SlugRelatedField(slug_field="key", queryset=DeviceType.objects.all())
    question = serializers.ChoiceField(QUESTIONS)
    field = serializers.CharField(max_length=63, required=False, allow_blank=True)


class ProposalOut(serializers.Serializer):
    name = serializers.CharField()
    text = serializers.CharField()
    because = serializers.CharField(help_text="on what its numbers rest")


class ProposeView(APIView):
    """A first condition from a question, with numbers from the field's own past; nothing is kept."""

    writes = "engineer"

    @extend_schema(request=ProposeIn, responses=ProposalOut, operation_id="propose", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = ProposeIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        return Response(vars(propose(data["type"], data["question"], data.get("field", ""), timezone.now())))


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
