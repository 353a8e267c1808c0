"""Which device runs which version: rollouts, held devices, and the list of both."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import connection
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.text import harmless
from server.api.definitions.serial import SelectionIn, selection_of
from server.api.definitions.views import decoder_of, versioned
from server.records.alarms.models import Alarm
from server.records.definitions.models import Definition, Hold, Rollout, Version
from server.records.fleet.models import Device
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.requests.moments import LOOKBACK, span
from server.requests.paging import Pages
from server.rules.kinds import NotFirst
from server.rules.publishing import NothingInForce, give_first, hold, withdraw
from server.rules.refusal import Refused
from server.rules.runs import runs
from server.store.refused import by_reason, of_devices

NAMED = 12
NO_VERSIONS = (
    "versions of decoders and conditions can go to chosen devices first; a route counts for all that it selects"
)


def counts(version: Version | None, devices: list[int], since: datetime) -> dict[str, int]:
    """Messages of devices since a moment, how many of them were refused wholly or in part, and what a version of a
    condition raised for them.
    """
    with connection.cursor() as cursor:
        messages, refused = of_devices(cursor, devices, since)
    raised = Alarm.objects.filter(version=version, device_id__in=devices, raised_at__gte=since).count()
    return {"devices": len(devices), "messages": messages, "refused": refused, "raised": raised}


class CountsOut(serializers.Serializer):
    version = serializers.IntegerField(allow_null=True)
    devices = serializers.IntegerField()
    messages = serializers.IntegerField(help_text="since it began, at most 200,000 are counted")
    refused = serializers.IntegerField(help_text="wholly or in part")
    raised = serializers.IntegerField(help_text="alarms that the version of a condition raised since it began")


class RolloutOut(serializers.Serializer):
    number = serializers.IntegerField(
        allow_null=True, help_text="the version that chosen devices have first; null where no rollout is under way"
    )
    labels = serializers.DictField(child=serializers.CharField())
    site = serializers.CharField(allow_null=True)
    site_title = serializers.CharField(allow_null=True)
    share = serializers.IntegerField()
    began_at = serializers.DateTimeField(allow_null=True)
    who = serializers.CharField(allow_null=True)
    text = serializers.CharField(allow_null=True)
    chosen = CountsOut(allow_null=True)
    others = CountsOut(allow_null=True)
    held = serializers.IntegerField()


class RolloutIn(SelectionIn):
    number = serializers.IntegerField(min_value=1, max_value=2**31 - 1)


class ChosenOut(serializers.Serializer):
    devices = serializers.IntegerField()
    of = serializers.IntegerField()
    held = serializers.IntegerField()
    names = serializers.ListField(child=serializers.CharField())


class RunsOut(serializers.Serializer):
    device = serializers.CharField()
    title = serializers.CharField()
    site = serializers.CharField(allow_null=True)
    version = serializers.IntegerField(allow_null=True)
    because = serializers.ChoiceField(["in force", "chosen", "held"])
    why = serializers.CharField(allow_blank=True)


class HoldIn(serializers.Serializer):
    number = serializers.IntegerField(min_value=1, max_value=2**31 - 1)
    why = Words(max_length=300, required=False, allow_blank=True, default="")


def rollout_out(definition: Definition) -> dict[str, Any]:
    rollout = Rollout.objects.filter(definition=definition).select_related("version", "site", "person").first()
    held = Hold.objects.filter(version__definition=definition).count()
    if rollout is None:
        return {
            "number": None,
            "labels": {},
            "site": None,
            "site_title": None,
            "share": 100,
            "began_at": None,
            "who": None,
            "text": None,
            "chosen": None,
            "others": None,
            "held": held,
        }
    all_ = runs(definition)
    groups = [[r.device for r in all_ if r.because == because] for because in ("chosen", "in force")]
    versions = (rollout.version, definition.live)
    chosen, others = (counts(v, own, rollout.began_at) for v, own in zip(versions, groups, strict=True))
    return {
        "number": rollout.version.number,
        "labels": rollout.labels,
        "site": rollout.site.name if rollout.site else None,
        "site_title": rollout.site.title if rollout.site else None,
        "share": rollout.share,
        "began_at": rollout.began_at,
        "who": rollout.person.called if rollout.person else None,
        "text": rollout.version.text,
        "chosen": chosen | {"version": rollout.version.number},
        "others": others | {"version": definition.live.number if definition.live else None},
        "held": held,
    }


class RolloutView(APIView):
    """A version that chosen devices have before the others."""

    @extend_schema(responses=RolloutOut, operation_id="rollout", tags=["definitions"])
    def get(self, request: Request, ident: int) -> Response:
        return Response(rollout_out(versioned(ident, NO_VERSIONS)))

    @extend_schema(request=RolloutIn, responses=RolloutOut, operation_id="change_rollout", tags=["definitions"])
    def put(self, request: Request, ident: int) -> Response:
        """Begins a rollout of a version, or changes which devices are chosen."""
        definition = versioned(ident, NO_VERSIONS)
        asked = RolloutIn(data=request.data)
        asked.is_valid(raise_exception=True)
        version = definition.versions.filter(number=asked.validated_data["number"]).first()
        if version is None:
            raise Refused("not found", f"there is no version {asked.validated_data['number']}", 404)
        if version.pk == definition.live_id:
            raise Refused("invalid", f"version {version.number} is in force for all devices already")
        try:
            give_first(definition, version, selection_of(asked.validated_data), person_of(request))
        except NothingInForce:
            raise Refused(
                "nothing in force", "no version is in force for the other devices; publish this one for all", 409
            ) from None
        except NotFirst as error:
            raise Refused("invalid", str(error)) from None
        return Response(rollout_out(definition))

    @extend_schema(responses=RolloutOut, operation_id="withdraw_rollout", tags=["definitions"])
    def delete(self, request: Request, ident: int) -> Response:
        """The chosen devices have the version in force again. What they sent meanwhile can be decoded again."""
        definition = versioned(ident, NO_VERSIONS)
        if not withdraw(definition, person_of(request)):
            raise Refused("not found", "no rollout is under way", 404)
        return Response(rollout_out(definition))


class ChosenView(APIView):
    """How many devices a selection would choose."""

    writes = "viewer"

    @extend_schema(request=SelectionIn, responses=ChosenOut, operation_id="chosen", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        definition = versioned(ident, NO_VERSIONS)
        asked = SelectionIn(data=request.data)
        asked.is_valid(raise_exception=True)
        found = runs(definition, selection_of(asked.validated_data))
        names = [r.name for r in found if r.because == "chosen"]
        return Response(
            {
                "devices": len(names),
                "of": len(found),
                "held": sum(r.because == "held" for r in found),
                "names": names[:NAMED],
            }
        )


class RunsView(APIView):
    """Which device runs which version of a decoder, and because of what."""

    @extend_schema(
        parameters=[
            OpenApiParameter("q", str),
            OpenApiParameter("version", int),
            OpenApiParameter("because", str),
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=RunsOut(many=True),
        operation_id="runs",
        tags=["definitions"],
    )
    def get(self, request: Request, ident: int) -> Response:
        definition = versioned(ident, NO_VERSIONS)
        ask = request.query_params
        numbers = dict(Version.objects.filter(definition=definition).values_list("id", "number"))
        whys = dict(Hold.objects.filter(device__type=definition.type_id).values_list("device__name", "why"))
        q, version, because = ask.get("q", "").lower(), ask.get("version"), ask.get("because")
        rows = [
            {
                "device": r.name,
                "title": r.title,
                "site": r.site,
                "version": numbers.get(r.version or 0),
                "because": r.because,
                "why": whys.get(r.name, "") if r.because == "held" else "",
            }
            for r in runs(definition)
            if q in r.name or q in r.title.lower()
        ]
        rows = [
            r
            for r in rows
            if (not version or str(r["version"]) == version) and (not because or r["because"] == because)
        ]
        pages = Pages()
        page = pages.paginate_queryset(rows, request, view=self)  # type: ignore[arg-type]
        return pages.get_paginated_response(page)


class FailingReason(serializers.Serializer):
    code = serializers.CharField()
    reason = serializers.CharField()
    line = serializers.IntegerField()
    version = serializers.IntegerField(allow_null=True)
    messages = serializers.IntegerField()
    devices = serializers.IntegerField()
    last_at = serializers.DateTimeField()
    example = serializers.CharField(help_text="the last such message")


class FailingOut(serializers.Serializer):
    messages = serializers.IntegerField()
    devices = serializers.IntegerField()
    reasons = FailingReason(many=True)


class FailingView(APIView):
    """What a decoder refuses in a span of arrival, by reason, with the last message of each."""

    @extend_schema(parameters=LOOKBACK, responses=FailingOut, operation_id="failing", tags=["definitions"])
    def get(self, request: Request, ident: int) -> Response:
        definition = decoder_of(ident, "a decoder refuses messages; other definitions do not")
        start, end, _ = span(request)
        with connection.cursor() as cursor:
            messages, devices, found = by_reason(cursor, definition.type_id, start, end)
        reasons = [
            vars(one) | {"reason": harmless(one.reason), "example": str(one.example), "line": one.line or 0}
            for one in found
        ]
        return Response({"messages": messages, "devices": devices, "reasons": reasons})


class HoldView(APIView):
    """A device that stays on a version, whatever is put in force."""

    @extend_schema(request=HoldIn, responses={204: None}, operation_id="hold_device", tags=["devices"])
    def put(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        asked = HoldIn(data=request.data)
        asked.is_valid(raise_exception=True)
        number = asked.validated_data["number"]
        version = Version.objects.filter(
            definition__kind="decoder", definition__type=device.type_id, number=number
        ).first()
        if version is None:
            raise Refused("not found", f"the decoder of {name} has no version {number}", 404)
        hold(device, version, asked.validated_data["why"], person_of(request))
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="let_go_device", tags=["devices"])
    def delete(self, request: Request, name: str) -> Response:
        hold(generics.get_object_or_404(Device, name=name), None, "", person_of(request))
        return Response(status=204)
