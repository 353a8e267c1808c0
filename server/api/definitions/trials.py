"""A draft over the stored past: the answer at once, or with how far it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import Any

from django.http import StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.conditions.plan import ConditionPlan
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.routes.plan import RoutePlan
from server.api.definitions.progress import told
from server.api.definitions.trial_shapes import TrialAsk, TrialOut
from server.api.definitions.views import DefinitionView, problems_of
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType
from server.requests.authentication import person_of
from server.requests.bounds import long_work
from server.rules.plans import decoder_plan, plan_in_force
from server.rules.publishing import check
from server.rules.refusal import Refused
from server.rules.runs import runs
from server.trials.conditions import condition_trial
from server.trials.past import PastSpan, decoder_trial
from server.trials.routes import route_trial

Work = Iterator[dict[str, Any]]
DAYS = 7


def of_decoder(definition: Definition, plan: DecoderPlan, asked: dict[str, Any]) -> Work:
    """The last messages of a span, decoded by the draft and by the version in force."""
    live = decoder_plan(definition.live.text, definition.live.fields) if definition.live else None
    start = asked.get("start") or (timezone.now() - timedelta(days=asked["days"]) if asked.get("days") else None)
    devices = None
    if asked["chosen"]:
        devices = [r.device for r in runs(definition) if r.because == "chosen"]
    if asked.get("device"):
        devices = list(Device.objects.filter(name=asked["device"], type=definition.type).values_list("pk", flat=True))
    return decoder_trial(plan, live, PastSpan(definition.type_id, asked["messages"], start, asked.get("end"), devices))


def span_of(asked: dict[str, Any]) -> tuple[datetime, datetime]:
    """Start and end of a trial. Raises Refused."""
    end = asked.get("end") or timezone.now()
    start = asked.get("start") or end - timedelta(days=asked.get("days") or DAYS)
    if start >= end:
        raise Refused("span", "a span has a start and a later end")
    if end - start > timedelta(days=31):
        raise Refused("span", "a trial reaches over 31 days at most")
    return start, end


def of_condition(definition: Definition, plan: ConditionPlan, asked: dict[str, Any]) -> Work:
    """How often it would have been raised, and against the version in force where that watches the same."""
    start, end = span_of(asked)
    before = plan_in_force(definition)
    if before is not None:
        same = (before.device_type, before.each_site) == (plan.device_type, plan.each_site)
        before = before if same and (before != plan or asked.get("supposed")) else None
    incidents = list(definition.incidents.order_by("begin", "id"))
    type_ = DeviceType.objects.get(key=plan.device_type)
    return condition_trial(plan, type_, start, end, before, asked.get("supposed"), incidents)


def of_route(definition: Definition, plan: RoutePlan, asked: dict[str, Any]) -> Work:
    """What it would have done to the messages of a span, against the version in force."""
    start, end = span_of({**asked, "days": asked.get("days") or 1})
    return route_trial(plan, definition.pk, definition.live_id is not None, start, end, asked["messages"])


WORK: dict[str, Callable[[Definition, Any, dict[str, Any]], Work]] = {
    "decoder": of_decoder,
    "condition": of_condition,
    "route": of_route,
}


def work(request: Request, ident: int) -> tuple[Definition, Work]:
    """What was asked for. Raises Refused where the text does not read well."""
    definition = DefinitionView.find(ident)
    asked = TrialAsk(data=request.data)
    asked.is_valid(raise_exception=True)
    plan = checked_plan(definition, asked.validated_data["text"])
    return definition, WORK[definition.kind](definition, plan, asked.validated_data)


def checked_plan(definition: Definition, text: str) -> Any:
    """The plan of a draft. Raises Refused where it does not read well."""
    plan, problems = check(definition.kind, text, definition.type)
    if plan is None:
        raise Refused("definition", problems[0].message, problems=problems_of(problems))
    return plan


class TrialView(APIView):
    """A draft over the stored past; nothing is changed."""

    writes = "viewer"

    @extend_schema(request=TrialAsk, responses=TrialOut, operation_id="trial", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        began = timezone.now()
        with long_work.held(person_of(request)):
            definition, steps = work(request, ident)
            *_, last = steps
        return Response({definition.kind: last["result"], "seconds": (timezone.now() - began).total_seconds()})


class TrialProgressView(APIView):
    """A draft over the stored past: one JSON object a line, {"done", "total"} as it goes, at last {"result"}.

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
        return told(request, work(request, ident)[1])
