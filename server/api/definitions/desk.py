"""The desk of a condition: what it compares for one device, other limits over the past, and what people know of it."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.http import StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.conditions.plan import ConditionPlan
from server.api.definitions.progress import told
from server.api.definitions.serial import DefinitionOut, OffIn
from server.api.definitions.text_shapes import TEXT
from server.api.definitions.trial_shapes import SuggestedStep, Supposed, TraceStep
from server.api.definitions.trials import checked_plan, span_of
from server.api.definitions.views import DefinitionView
from server.records.definitions.models import Definition, Incident
from server.records.fleet.models import Device, DeviceType, Site
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Moment, Words
from server.rules.publishing import NothingInForce, switch_off, switch_on
from server.rules.refusal import Refused
from server.trials.limits import suggested
from server.trials.tracing import condition_trace

MOST_INCIDENTS = 500


class SpanAsk(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    start = Moment()
    end = Moment()


class TraceAsk(SpanAsk):
    device = serializers.CharField(max_length=63, help_text="the name of a device, or of a site where it watches sites")
    supposed = Supposed(required=False)


class SuggestAsk(SpanAsk):
    limit = serializers.IntegerField(min_value=0, max_value=20, default=0, help_text="which of its limits is moved")


class IncidentIn(serializers.Serializer):
    device = serializers.CharField(max_length=63, help_text="the name of a device, or of a site where it watches sites")
    begin = Moment()
    end = Moment()
    real = serializers.BooleanField(help_text="whether the condition should be raised for it")
    note = Words(max_length=300, required=False, allow_blank=True, default="")

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if data["begin"] > data["end"]:
            raise serializers.ValidationError("an incident begins before it ends")
        return data


class IncidentOut(serializers.ModelSerializer):
    device = serializers.SerializerMethodField()
    title = serializers.SerializerMethodField()
    who = serializers.SerializerMethodField()

    class Meta:
        model = Incident
        fields = ["id", "device", "title", "begin", "end", "real", "note", "who", "at"]

    def get_device(self, one: Incident) -> str:
        found = one.device or one.site
        return found.name if found is not None else ""

    def get_title(self, one: Incident) -> str:
        found = one.device or one.site
        return found.title if found is not None else ""

    def get_who(self, one: Incident) -> str | None:
        return one.person.called if one.person is not None else None


def condition_of(ident: int) -> Definition:
    """Raises Refused for another kind."""
    definition = DefinitionView.find(ident)
    if definition.kind != "condition":
        raise Refused("invalid", "this belongs to conditions")
    return definition


def condition_plan_of(definition: Definition, text: str) -> ConditionPlan:
    plan = checked_plan(definition, text)
    assert isinstance(plan, ConditionPlan)
    return plan


def subject_of(name: str, sites: bool) -> Device | Site:
    """The device, or the site, of a name. Raises Refused."""
    found = Site.objects.filter(name=name).first() if sites else Device.objects.filter(name=name).first()
    if found is None:
        raise Refused("not found", f"there is no {'site' if sites else 'device'} named “{name}”", 404)
    return found


class TraceView(APIView):
    """What a draft compares for one device, with its limits: curves, when its rule held, and what was raised.

    One JSON object a line: {"done", "total"} as it goes, at last {"result"}. Nothing is kept.
    """

    writes = "viewer"

    @extend_schema(
        request=TraceAsk,
        responses={(200, "application/x-ndjson"): TraceStep},
        operation_id="trace_condition",
        tags=["definitions"],
    )
    def post(self, request: Request, ident: int) -> StreamingHttpResponse:
        asked = TraceAsk(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        start, end = span_of(data)
        plan = condition_plan_of(condition_of(ident), data["text"])
        subject = subject_of(data["device"], plan.each_site)
        type_ = DeviceType.objects.get(key=plan.device_type)
        return told(request, condition_trace(plan, type_, subject.pk, start, end, data.get("supposed") or {}))


class SuggestView(APIView):
    """How often a draft would have been raised at other limits and delays; one JSON object a line, as a trial."""

    writes = "viewer"

    @extend_schema(
        request=SuggestAsk,
        responses={(200, "application/x-ndjson"): SuggestedStep},
        operation_id="suggest_limits",
        tags=["definitions"],
    )
    def post(self, request: Request, ident: int) -> StreamingHttpResponse:
        asked = SuggestAsk(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        start, end = span_of(data)
        plan = condition_plan_of(condition_of(ident), data["text"])
        type_ = DeviceType.objects.get(key=plan.device_type)
        return told(request, suggested(data["text"], plan, type_, start, end, data["limit"]))


class OffView(APIView):
    """A condition that does not watch for a time, with the reason: its alarms are cleared, and nothing is raised."""

    @extend_schema(request=OffIn, responses=DefinitionOut, operation_id="switch_off", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        asked = OffIn(data=request.data)
        asked.is_valid(raise_exception=True)
        try:
            switch_off(
                condition_of(ident), asked.validated_data["until"], asked.validated_data["why"], person_of(request)
            )
        except NothingInForce:
            raise Refused("invalid", "a condition that is not in force watches nothing as it is") from None
        return Response(DefinitionOut(DefinitionView.find(ident)).data)

    @extend_schema(responses=DefinitionOut, operation_id="switch_on", tags=["definitions"])
    def delete(self, request: Request, ident: int) -> Response:
        """It watches again from now on."""
        switch_on(condition_of(ident), person_of(request))
        return Response(DefinitionOut(DefinitionView.find(ident)).data)


class IncidentsView(generics.ListAPIView):
    """What people know of the past of a condition: spans in which it should be raised, or should not."""

    serializer_class = IncidentOut
    writes = "operator"

    def get_queryset(self) -> Any:
        found = Incident.objects.filter(definition_id=self.kwargs["ident"])
        return found.select_related("device", "site", "person").order_by("-begin", "-id")

    @extend_schema(request=IncidentIn, responses={201: IncidentOut}, operation_id="mark_incident", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        """Marks a span as real, or as not. What was marked in it for the device before gives way."""
        definition = condition_of(ident)
        asked = IncidentIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        if data["end"] > timezone.now():
            raise Refused("invalid", "an incident lies in the past: its end is still to come")
        name = data.pop("device")
        site = Site.objects.filter(name=name).first()
        device = Device.objects.filter(name=name).first() if site is None else None
        if site is None and device is None:
            raise Refused("not found", f"there is no device and no site named “{name}”", 404)
        with transaction.atomic():
            Definition.objects.select_for_update().get(pk=ident)
            own = Incident.objects.filter(definition_id=ident, device=device, site=site)
            own.filter(begin__lte=data["end"], end__gte=data["begin"]).delete()
            if Incident.objects.filter(definition_id=ident).count() >= MOST_INCIDENTS:
                raise Refused("too many", f"a condition has at most {MOST_INCIDENTS} incidents")
            made = Incident.objects.create(
                definition=definition, device=device, site=site, person=person_of(request), **data
            )
            said = "real" if made.real else "not real"
            record(person_of(request), "marked incident", f"{definition.name}: {name} at {made.begin:%F %R}, {said}")
        return Response(IncidentOut(made).data, 201)


class IncidentView(APIView):
    writes = "operator"

    @extend_schema(responses={204: None}, operation_id="remove_incident", tags=["definitions"])
    def delete(self, request: Request, ident: int, incident: int) -> Response:
        found = generics.get_object_or_404(Incident, pk=incident, definition_id=ident)
        record(person_of(request), "removed incident", f"{found.definition.name}: at {found.begin:%F %R}")
        found.delete()
        return Response(status=204)
