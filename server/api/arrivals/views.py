"""Arrivals as they came, unknown senders, onboarding."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.routes.check import TOPIC
from oculum.text import harmless
from server.api.devices.devices import key_out
from server.api.devices.serial import DeviceIn, KeyOut, own_name
from server.records.fleet.models import NAME, Credential, Device
from server.records.people.models import record
from server.records.senders.models import UnknownSender
from server.requests.authentication import person_of
from server.requests.fields import whole
from server.requests.moments import moment_asked
from server.requests.paging import bounded
from server.requests.revisions import lock_trees
from server.rules.refusal import Refused
from server.rules.registering import give_key, registry_changed
from server.store.arrivals import Arrival, arrival, arrivals, give_over, worked_off
from server.store.beside import beside
from server.store.messages import HTTP, ITSELF, LOADED, MQTT
from server.store.refused import BARE, turned_away
from server.store.stretches import begin
from server.store.turns import stream_turn

CHANNELS = {MQTT: "MQTT", HTTP: "HTTP", LOADED: "loading", ITSELF: "Oculum itself"}
SHOWN_BYTES, MOST_BYTES = 64, 65_536


class ArrivalOut(serializers.Serializer):
    id = serializers.CharField()
    received_at = serializers.DateTimeField()
    device = serializers.CharField(allow_null=True)
    device_title = serializers.CharField(allow_null=True)
    type = serializers.CharField(allow_null=True)
    unknown = serializers.CharField(allow_null=True)
    unknown_id = serializers.IntegerField(allow_null=True)
    via = serializers.CharField(allow_null=True)
    channel = serializers.CharField()
    topic = serializers.CharField()
    size = serializers.IntegerField()
    hex = serializers.CharField(help_text="of a list: the first 64 bytes")
    text = serializers.CharField(allow_null=True, help_text="where the payload is text, harmless to show")
    outcome = serializers.ChoiceField(["decoded", "refused", BARE, "waiting", "unknown sender"])
    code = serializers.CharField(allow_null=True)
    reason = serializers.CharField(allow_null=True)
    line = serializers.IntegerField(allow_null=True)
    byte = serializers.IntegerField(allow_null=True)


class WholeArrivalOut(ArrivalOut):
    headers = serializers.DictField(
        child=serializers.CharField(), help_text="what the sender told beside it, and the topic"
    )
    constants = serializers.DictField(
        child=serializers.JSONField(), help_text="of the device, as they were at its arrival"
    )
    previous_hex = serializers.CharField(allow_null=True, help_text="the device's message before")


class ArrivalPage(serializers.Serializer):
    results = ArrivalOut(many=True)
    more = serializers.BooleanField()


class UnknownOut(serializers.ModelSerializer):
    name = serializers.SerializerMethodField()
    through = serializers.CharField(source="through.username")

    class Meta:
        model = UnknownSender
        fields = ["id", "name", "through", "first_at", "last_at", "messages", "turned_away"]

    def get_name(self, unknown: UnknownSender) -> str:
        return harmless(unknown.name, 63)


class OnboardingOut(serializers.Serializer):
    name = serializers.CharField(validators=[NAME], max_length=63)
    made_at = serializers.DateTimeField(read_only=True)

    def validate_name(self, value: str) -> str:
        return own_name(value)


class RefusalOut(serializers.Serializer):
    device = serializers.CharField(allow_null=True)
    reason = serializers.CharField()
    count = serializers.IntegerField()


def as_text(payload: bytes) -> str | None:
    try:
        text = payload.decode()
    except UnicodeDecodeError:
        return None
    if not text or sum(c.isprintable() or c in "\r\n\t" for c in text) < len(text):
        return None
    return harmless(text.replace("\r", "").replace("\n", " ⏎ ").replace("\t", " "), 70_000)


def shown(one: Arrival, done: int) -> dict[str, Any]:
    """An arrival as it is answered; done: up to which message every engine has come."""
    if one.device_id is None:
        outcome = "unknown sender"
    elif one.code == BARE:
        outcome = BARE
    elif one.code:
        outcome = "refused"
    else:
        outcome = "decoded" if one.id <= done else "waiting"
    text = as_text(one.payload)
    if text is None and one.size > len(one.payload):
        text = as_text(one.payload[:-3])
    return {
        "id": str(one.id),
        "received_at": one.received_at,
        "device": one.device,
        "device_title": one.title,
        "type": one.type,
        "unknown": harmless(one.unknown, 63) if one.unknown else None,
        "unknown_id": one.unknown_id,
        "via": one.via,
        "channel": CHANNELS[one.channel],
        "topic": harmless(one.topic),
        "size": one.size,
        "hex": one.payload.hex(),
        "text": text,
        "outcome": outcome,
        "code": one.code,
        "reason": harmless(one.reason) if one.reason else None,
        "line": one.line,
        "byte": one.byte if one.byte is not None and one.byte >= 0 else None,
    }


def whole_arrival(ident: int) -> dict[str, Any] | None:
    """One arrival with all of its bytes; None where it is not kept any more."""
    with connection.cursor() as cursor:
        found = arrival(cursor, ident, MOST_BYTES)
        return shown(found, worked_off(cursor)) if found is not None else None


class ArrivalsView(APIView):
    """The last arrivals, newest first; raw, whether anything can decode them or not."""

    @extend_schema(
        parameters=[OpenApiParameter(n, str) for n in ("device", "type", "outcome", "unknown", "to", "topic")]
        + [OpenApiParameter("limit", int)],
        responses=ArrivalPage,
        operation_id="arrivals",
        tags=["arrivals"],
    )
    def get(self, request: Request) -> Response:
        limit, _ = bounded(request)
        params = request.query_params
        end = moment_asked(request, "to") or timezone.now() + timedelta(days=1)
        unknown = None
        if params.get("unknown"):
            unknown = whole(params["unknown"], 2**31 - 1)
            if unknown is None:
                raise Refused("invalid", "unknown is the number of an unknown sender")
        topic = params.get("topic", "")
        if topic and (len(topic) > 250 or not TOPIC.fullmatch(topic)):
            raise Refused("invalid", "topic is a filter: levels between `/`, `+` for any one, `#` for all further")
        with connection.cursor() as cursor:
            rows = arrivals(
                cursor,
                end,
                limit + 1,
                SHOWN_BYTES,
                device=params.get("device", ""),
                type_=params.get("type", ""),
                outcome=params.get("outcome", ""),
                unknown=unknown,
                topic=topic,
            )
            done = worked_off(cursor)
        found = [shown(row, done) for row in rows]
        return Response({"results": found[:limit], "more": len(found) > limit})


class ArrivalView(APIView):
    """One arrival, whole."""

    @extend_schema(responses=WholeArrivalOut, operation_id="arrival", tags=["arrivals"])
    def get(self, request: Request, ident: int) -> Response:
        found = whole_arrival(ident)
        if found is None:
            raise Refused("not found", "this arrival is not kept any more, or never was", 404)
        told = beside(ident)
        return Response(
            found
            | {
                "headers": told.headers,
                "constants": told.constants,
                "previous_hex": told.previous.hex() if told.previous is not None else None,
            }
        )


class UnknownSendersView(generics.ListAPIView):
    """Names that spoke through a gateway or an onboarding key, and are no devices yet."""

    serializer_class = UnknownOut
    queryset = (
        UnknownSender.objects.filter(adopted_as=None).select_related("through", "through__device").order_by("-last_at")
    )


class AdoptView(APIView):
    """Makes a device of an unknown sender: with a key of its own, and its arrivals so far."""

    @extend_schema(request=DeviceIn, responses=KeyOut, operation_id="adopt", tags=["arrivals"])
    def post(self, request: Request, ident: int) -> Response:
        asked = DeviceIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            lock_trees()
            # Nobody else adopts it meanwhile, and nothing of it arrives that would stay behind.
            unknown = generics.get_object_or_404(
                UnknownSender.objects.select_for_update(of=("self",)).select_related("through", "through__device"),
                pk=ident,
                adopted_as=None,
            )
            with connection.cursor() as cursor:
                stream_turn(cursor)
            through = f"{harmless(unknown.name, 63)} through {unknown.through.username}"
            device: Device = asked.save(adopted_from=through[:200])
            if device.gateway is None and unknown.through.device is not None and unknown.through.device.type.is_gateway:
                device.gateway = unknown.through.device
            device.save()
            unknown.adopted_as = device
            unknown.save()
            with connection.cursor() as cursor:
                give_over(cursor, unknown.pk, device.pk)
                begin(cursor, device.pk)
            key = give_key(device)
            registry_changed(person_of(request), accounts=True)
            came = {"came_as": harmless(unknown.name, 63), "through": unknown.through.username}
            record(person_of(request), "adopted device", device.name, came)
        return Response(key_out(device.name, key), 201)


class OnboardingView(APIView):
    """Named keys through which devices that are not registered yet may speak."""

    reads = "engineer"

    @extend_schema(responses=OnboardingOut(many=True), operation_id="onboarding", tags=["arrivals"])
    def get(self, request: Request) -> Response:
        found = Credential.objects.exclude(onboarding=None).order_by("onboarding")
        return Response([{"name": c.onboarding, "made_at": c.made_at} for c in found])

    @extend_schema(request=OnboardingOut, responses=KeyOut, operation_id="add_onboarding", tags=["arrivals"])
    def post(self, request: Request) -> Response:
        asked = OnboardingOut(data=request.data)
        asked.is_valid(raise_exception=True)
        name = asked.validated_data["name"]
        if Device.objects.filter(name=name).exists():
            raise Refused("invalid", f"`{name}` is a device; choose another name")
        with transaction.atomic():
            key = give_key(onboarding=name)
            registry_changed(person_of(request), accounts=True)
            record(person_of(request), "gave onboarding key", name)
        return Response(key_out(name, key, "your-device"), 201)


class RefusalsView(APIView):
    """Arrivals that were turned away in the last day: too large, too many, beyond a quota."""

    @extend_schema(responses=RefusalOut(many=True), operation_id="refusals", tags=["arrivals"])
    def get(self, request: Request) -> Response:
        with connection.cursor() as cursor:
            return Response([{"device": d, "reason": r, "count": n} for d, r, n in turned_away(cursor)])
