"""Arrivals as they came, unknown senders, onboarding."""

from __future__ import annotations

import re
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
from server.requests.moments import moment
from server.requests.paging import bounded
from server.requests.revisions import lock_trees
from server.rules.refusal import Refused
from server.rules.registering import give_key, registry_changed
from server.store.beside import beside
from server.store.messages import HTTP, ITSELF, LOADED, MQTT
from server.store.stretches import begin

CHANNELS = {MQTT: "MQTT", HTTP: "HTTP", LOADED: "loading", ITSELF: "Oculum itself"}
SHOWN_BYTES = 64
QUERY = """
select m.id, m.received_at, m.device_id, d.name, d.title, t.key, m.unknown_id, u.name, v.name, m.channel, m.topic,
    length(m.payload),
       substring(m.payload for {shown}), r.code, r.reason, r.line, r.byte, r.version_id
from {source} left join fleet_device d on d.id = m.device_id left join fleet_devicetype t on t.id = d.type_id
left join intake_unknownsender u on u.id = m.unknown_id left join fleet_device v on v.id = m.via_id
left join refused r on r.message_id = m.id
"""


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
    outcome = serializers.ChoiceField(["decoded", "refused", "no decoder", "waiting", "unknown sender"])
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


def arrival_of(row: tuple[Any, ...], worked_off: int) -> dict[str, Any]:
    (
        ident,
        received,
        device_id,
        name,
        title,
        type_key,
        unknown_id,
        unknown,
        via,
        channel,
        topic,
        size,
        payload,
        code,
        reason,
        line,
        byte,
        _,
    ) = row
    payload = bytes(payload)
    if device_id is None:
        outcome = "unknown sender"
    elif code == "no decoder":
        outcome = "no decoder"
    elif code:
        outcome = "refused"
    else:
        outcome = "decoded" if ident <= worked_off else "waiting"
    text = as_text(payload)
    if text is None and size > len(payload):
        text = as_text(payload[:-3])
    return {
        "id": str(ident),
        "received_at": received,
        "device": name,
        "device_title": title,
        "type": type_key,
        "unknown": harmless(unknown, 63) if unknown else None,
        "unknown_id": unknown_id,
        "via": via,
        "channel": CHANNELS[channel],
        "topic": harmless(topic),
        "size": size,
        "hex": payload.hex(),
        "text": text,
        "outcome": outcome,
        "code": code,
        "reason": harmless(reason) if reason else None,
        "line": line,
        "byte": byte if byte is not None and byte >= 0 else None,
    }


def worked_off() -> int:
    with connection.cursor() as cursor:
        cursor.execute("select coalesce(min(id), 0) from engine_cursor")
        row = cursor.fetchone()
    return int(row[0])


OF_TYPE = """(
    select p.* from fleet_device f join fleet_devicetype y on y.id = f.type_id
    join lateral (
        select * from message where device_id = f.id and received_at <= %(end)s
        order by received_at desc limit %(limit)s
    ) p on true
    where y.key = %(type)s
) m"""
REFUSED = """(
    select p.* from (
        select message_id, received_at from refused q
        join fleet_device f on f.id = q.device_id join fleet_devicetype y on y.id = f.type_id
        where q.received_at <= %(end)s and (q.code = 'no decoder') = %(bare)s
            and (%(type)s = '' or y.key = %(type)s) and (%(device)s = '' or f.name = %(device)s)
        order by q.received_at desc limit %(limit)s
    ) k join message p on p.id = k.message_id and p.received_at = k.received_at
) m"""


def arrivals(
    where: list[str], values: dict[str, Any], limit: int, shown: int = SHOWN_BYTES, source: str = "message m"
) -> list[dict[str, Any]]:
    """Arrivals newest first; `source` is where they are picked from."""
    done = worked_off()
    with connection.cursor() as cursor:
        cursor.execute(
            QUERY.format(shown=shown, source=source)
            + (" where " + " and ".join(where) if where else "")
            + " order by m.received_at desc, m.id desc limit %(limit)s",
            {**values, "limit": limit},
        )
        return [arrival_of(row, done) for row in cursor.fetchall()]


def topic_pattern(topic: str) -> str:
    """A filter of MQTT as PostgreSQL's regular expression."""
    levels = ["[^/]*" if level == "+" else re.escape(level) for level in topic.split("/")]
    if levels[-1] == "\\#" or levels[-1] == "#":
        return "^" + "/".join(levels[:-1]) + ("(/.*)?$" if len(levels) > 1 else "")
    return "^" + "/".join(levels) + "$"


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
        end = moment(request, "to") or timezone.now() + timedelta(days=1)
        where, values = (
            ["m.received_at <= %(end)s"],
            {"end": end, "device": params.get("device", ""), "type": params.get("type", "")},
        )
        source, outcome = "message m", params.get("outcome")
        if outcome in ("refused", "no decoder"):
            source, values["bare"] = REFUSED, outcome == "no decoder"
        elif params.get("device"):
            where.append("m.device_id = (select id from fleet_device where name = %(device)s)")
        elif params.get("unknown"):
            values["unknown"] = whole(params["unknown"], 2**31 - 1)
            if values["unknown"] is None:
                raise Refused("invalid", "unknown is the number of an unknown sender")
            where.append("m.unknown_id = %(unknown)s")
        elif params.get("type"):
            source = OF_TYPE
        else:
            # Bounded, so that a rare outcome does not search all of history.
            where.append("m.received_at > %(end)s - interval '3 days'")
        topic = params.get("topic", "")
        if topic:
            if len(topic) > 250 or not TOPIC.fullmatch(topic):
                raise Refused("invalid", "topic is a filter: levels between `/`, `+` for any one, `#` for all further")
            where += ["m.topic ~ %(topic)s", "m.received_at > %(end)s - interval '6 hours'"]
            values["topic"] = topic_pattern(topic)
        if outcome == "unknown sender":
            where.append("m.unknown_id is not null")
        elif outcome == "decoded":
            where.append("r.code is null and m.device_id is not null")
        found = arrivals(where, values, limit + 1, source=source)
        return Response({"results": found[:limit], "more": len(found) > limit})


class ArrivalView(APIView):
    """One arrival, whole."""

    @extend_schema(responses=WholeArrivalOut, operation_id="arrival", tags=["arrivals"])
    def get(self, request: Request, ident: int) -> Response:
        found = arrivals(["m.id = %(id)s"], {"id": ident}, 1, 65_536)
        if not found:
            raise Refused("not found", "this arrival is not kept any more, or never was", 404)
        told = beside(ident)
        return Response(
            found[0]
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
                cursor.execute("select stream_turn(0)")
            through = f"{harmless(unknown.name, 63)} through {unknown.through.username}"
            device: Device = asked.save(adopted_from=through[:200])
            if device.gateway is None and unknown.through.device is not None and unknown.through.device.type.is_gateway:
                device.gateway = unknown.through.device
            device.save()
            unknown.adopted_as = device
            unknown.save()
            with connection.cursor() as cursor:
                cursor.execute(
                    "update message set device_id = %s, unknown_id = null where unknown_id = %s",
                    (device.pk, unknown.pk),
                )
                cursor.execute(
                    "insert into refused (message_id, received_at, device_id, code, reason) select id, received_at,"
                    " device_id, 'no decoder', 'arrived before the device was adopted'"
                    " from message where device_id = %s on conflict do nothing",
                    (device.pk,),
                )
                cursor.execute(
                    "insert into activity (device_id, hour, messages, failed) select device_id,"
                    " date_trunc('hour', received_at, 'UTC'), count(*), count(*)"
                    " from message where device_id = %s group by 1, 2 on conflict do nothing",
                    (device.pk,),
                )
                cursor.execute(
                    "insert into latest select device_id, id, received_at, (select count(*) from message where"
                    " device_id = %s), true, '{}' from message where device_id = %s"
                    " order by received_at desc limit 1 on conflict do nothing",
                    (device.pk, device.pk),
                )
                cursor.execute(
                    "insert into activity_unsummed select distinct hour from activity where"
                    " device_id = %s on conflict do nothing",
                    (device.pk,),
                )
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
            cursor.execute(
                "select d.name, i.reason, sum(i.count)::bigint from intake_refusal i left join fleet_device d on d.id"
                " = i.device_id"
                " where i.minute > now() - interval '1 day' group by 1, 2 order by 3 desc limit 100"
            )
            return Response([{"device": d, "reason": r, "count": n} for d, r, n in cursor.fetchall()])
