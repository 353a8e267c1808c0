"""Devices: found, told whole, added, changed, given keys."""

from __future__ import annotations

import shlex
from collections import Counter
from dataclasses import dataclass
from datetime import datetime
from functools import reduce
from operator import or_
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import ProtectedError, Q, QuerySet
from django.db.models.fields.json import KeyTextTransform
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.routes.check import SITE
from oculum.register.world import matches
from server.api.devices.columns import FIGURES, MOST_COLUMNS, Column, checked, columns_of, in_order
from server.api.devices.register import told
from server.api.devices.serial import DeviceChange, DeviceIn, DeviceOut, DevicePage, KeyOut
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.definitions.models import Definition, Hold, Version
from server.records.fleet.models import Device, Photo, Setpoint
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.moments import LOOKBACK, as_then, span
from server.requests.paging import bounded
from server.requests.revisions import changing, lock_trees, tagged
from server.rules.alarms import open_at
from server.rules.brief import Brief, briefs
from server.rules.plans import plan_of
from server.rules.publishing import hold
from server.rules.refusal import Refused
from server.rules.registering import give_key, registry_changed, wait_for_broker
from server.rules.runs import runs
from server.rules.states import STATES, WAITING, DeviceState, States, device_states
from server.rules.trees import chain, within
from server.store.activity import known_from, rhythm
from server.store.arrays import NEVER
from server.store.arrivals import was_heard
from server.store.turns import stream_turn
from server.store.values import newest, value_at

RHYTHM_BUCKETS = 48


def selected(request: Request) -> QuerySet[Device]:
    """Devices that the query names: q, type, site (with those within), gateway, label; sites themselves by type."""
    params = request.query_params
    wanted = Q(phase=params["phase"]) if params.get("phase") else ~Q(phase="retired")
    found = Device.objects.select_related("type", "site", "gateway").filter(wanted)
    for number, word in enumerate(params.get("q", "").split()[:6]):
        name, equals, text = word.partition("=")
        if equals and name:
            found = found.annotate(**{f"label_{number}": KeyTextTransform(name, "labels")})
            found = found.filter(**{f"label_{number}__istartswith": text})
            continue
        parts = ("name", "title", "site__title", "type__title", "labels", "gateway__name", "gateway__title")
        found = found.filter(reduce(or_, (Q(**{f"{part}__icontains": word}) for part in parts)))
    if params.get("type"):
        found = found.filter(type__key=params["type"])
    elif params.get("order") != "match":  # sites are no units in the field: they are found by words and by their type
        found = found.exclude(type__key=SITE)
    if params.get("site"):
        found = found.filter(site_id__in=within(params["site"]))
    if params.get("gateway"):
        found = found.filter(gateway__name=params["gateway"])
    if "=" in params.get("label", ""):
        name, _, text = params["label"].partition("=")
        found = found.filter(labels__contains={name: text})
    return found


def open_alarms(device_ids: list[int] | None, at: datetime, past: bool) -> dict[int, list[dict[str, Any]]]:
    """By device; of some, or of all."""
    found: dict[int, list[dict[str, Any]]] = {}
    query = open_at(Alarm.objects.filter(device__isnull=False), at if past else None)
    if device_ids is not None:
        query = query.filter(device_id__in=device_ids)
    columns = ("device_id", "pk", "priority", "text", "raised_at", "acknowledged_at")
    for device, ident, priority, text, raised, taken in query.order_by("raised_at").values_list(*columns):
        found.setdefault(device, []).append(
            {
                "id": ident,
                "priority": priority,
                "text": text,
                "raised_at": raised,
                "acknowledged": taken is not None and (not past or taken <= at),
            }
        )
    return found


def row_of(
    device: Device | Brief,
    state: DeviceState | None,
    alarms: list[dict[str, Any]],
    strokes: tuple[list[int], list[int]],
    columns: dict[str, Column],
    start: datetime,
    end: datetime,
) -> dict[str, Any]:
    return {
        "id": device.pk,
        "name": device.name,
        "title": device.title,
        "type": device.type.key,
        "type_title": device.type.title,
        "site": device.site.name if device.site else None,
        "site_title": device.site.title if device.site else None,
        "gateway": device.gateway.name if device.gateway else None,
        "labels": device.labels,
        "phase": device.phase,
        "state": state.state if state else "waiting",
        "received_at": state.received_at if state else None,
        "cadence_s": device.cadence_s or device.type.cadence_s,
        "alarms": alarms,
        "rhythm": strokes[0],
        "failing": strokes[1],
        "known_from": known_from(device.registered_at, strokes[0], start, end),
        "columns": {name: column.cells.get(device.pk) for name, column in columns.items()},
    }


ORDER = OpenApiParameter(
    "order", str, description="worst, name, heard, match, or a column; with - before it from the top down"
)
STANDING = [OpenApiParameter(n, str) for n in ("q", "type", "site", "gateway", "label", "state", "phase")]
WEIGHTS = [("silent", "undecodable", "overdue", "waiting", "reporting").index(name) for name in STATES]


@dataclass(frozen=True)
class Chosen:
    """The devices that a list asks for, in its order. counts: by state, before one of them is asked for."""

    devices: list[Brief]
    states: States
    alarms: dict[int, list[dict[str, Any]]]
    counts: Counter[str]

    @classmethod
    def of(cls, request: Request, start: datetime, end: datetime, past: bool) -> Chosen:
        """Raises Refused."""
        states = device_states(end, past)
        found = [d for d in briefs(selected(request).order_by("name")) if d.pk in states or d.phase == "retired"]
        kinds = states.by_device(states.state)
        counts = Counter({STATES[k]: n for k, n in Counter(kinds.get(d.pk, WAITING) for d in found).items()})
        if request.query_params.get("state") in STATES:
            wanted = STATES.index(request.query_params["state"])
            found = [d for d in found if kinds.get(d.pk) == wanted]
        alarms = open_alarms(None, end, past)
        order = request.query_params.get("order", "worst")
        by = order.removeprefix("-")
        if by not in ("worst", "name", "heard", "match"):
            checked([by])
            column = columns_of([by], found, start, end, past)[by]
            if by == "clock":  # ahead or behind, by how far
                column = Column({d: None if s is None else abs(float(s)) for d, s in column.cells.items()})
            found = in_order(found, column, order.startswith("-"))
        elif order == "worst":

            def weight(d: Brief) -> tuple[Any, ...]:
                rank = min((PRIORITIES.index(a["priority"]) for a in alarms.get(d.pk, [])), default=9)
                return rank, WEIGHTS[kinds[d.pk]] if d.pk in kinds else 9, d.name

            found.sort(key=weight)
        elif order == "heard":
            heard = states.by_device(states.received)
            found.sort(key=lambda d: (heard.get(d.pk, NEVER), d.name))
        elif order == "match":
            asked = request.query_params.get("q", "").strip().lower()
            found.sort(key=lambda d: closeness(d, asked))
        return cls(found, states, alarms, counts)


class DevicesView(APIView):
    """Devices with their states, alarms and rhythm over the lookback; and adding one."""

    @extend_schema(
        parameters=[
            *LOOKBACK,
            *STANDING,
            ORDER,
            OpenApiParameter(
                "column",
                str,
                many=True,
                description=f"{', '.join(FIGURES)}, value:FIELD or label:NAME; at most {MOST_COLUMNS}",
            ),
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=DevicePage,
        operation_id="devices",
        tags=["devices"],
    )
    @as_then
    def get(self, request: Request) -> Response:
        start, end, past = span(request)
        chosen = Chosen.of(request, start, end, past)
        wanted = checked(request.query_params.getlist("column"))
        limit, offset = bounded(request)
        page = chosen.devices[offset : offset + limit]
        strokes = rhythm([d.pk for d in page], start, end, RHYTHM_BUCKETS)
        columns = columns_of(wanted, page, start, end, past)
        rows = [
            row_of(d, chosen.states.get(d.pk), chosen.alarms.get(d.pk, []), strokes[d.pk], columns, start, end)
            for d in page
        ]
        units = {name: column.unit for name, column in columns.items()}
        return Response({"count": len(chosen.devices), "states": dict(chosen.counts), "units": units, "results": rows})

    @extend_schema(request=DeviceIn, responses=DeviceOut, operation_id="add_device", tags=["devices"])
    def post(self, request: Request) -> Response:
        asked = DeviceIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            lock_trees()
            device = asked.save()
            registry_changed(person_of(request))
            record(person_of(request), "added device", device.name, {"type": device.type.key})
        return Response(device_out(device, *span(request)), 201)


def closeness(device: Brief, asked: str) -> tuple[int, str]:
    """How well a device fits words: what begins with them first, then what has them, then where they only stand
    near.
    """
    title, name = device.title.lower(), device.name.lower()
    rank = 0 if title.startswith(asked) or name.startswith(asked) else 1 if asked in title or asked in name else 2
    return rank, device.name


def setpoints_of(device: Device) -> list[dict[str, Any]]:
    """Every setpoint of the device with the value in force and where it comes from."""
    overrides = {(s.name, s.device_id, s.site_id): s.value for s in Setpoint.objects.filter(type=device.type)}
    found = []
    for setpoint in device.type.setpoints:
        name = setpoint["name"]
        row = {
            "name": name,
            "unit": setpoint["unit"],
            "value": setpoint["value"],
            "source": "type",
            "source_title": device.type.title,
        }
        site = next((s for s in chain(device.site, "parent") if (name, None, s.pk) in overrides), None)
        if site is not None:
            row |= {"value": overrides[name, None, site.pk], "source": "site", "source_title": site.title}
        if (name, device.pk, None) in overrides:
            row |= {"value": overrides[name, device.pk, None], "source": "device", "source_title": "this device"}
        found.append(row)
    return found


def limits_of(device: Device, setpoints: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The limits that published conditions hold this device against, to be drawn on charts."""
    values = {s["name"]: s["value"] for s in setpoints}
    found = []
    for definition in Definition.objects.filter(kind="condition", type=device.type, live__isnull=False).select_related(
        "live"
    ):
        assert definition.live is not None
        plan = plan_of(definition.live, device.type.key)
        if plan is None or not matches(device.labels, plan.labels):
            continue
        for limit in plan.limits:
            found.append(
                {
                    "condition": definition.name,
                    "definition": definition.pk,
                    "priority": plan.priority,
                    "field": limit.field,
                    "sign": limit.sign,
                    "value": values.get(limit.setpoint) if limit.setpoint else limit.number,
                    "unit": limit.unit,
                    "setpoint": limit.setpoint,
                }
            )
    return found


def version_run(decoder: Definition | None, device: Device) -> tuple[int | None, str | None]:
    """The number of the version that a device's messages are decoded by, and because of what."""
    if decoder is None:
        return None, None
    (run,) = runs(decoder, devices=Device.objects.filter(pk=device.pk))
    number = Version.objects.filter(pk=run.version or 0).values_list("number", flat=True).first()
    return (number, run.because) if number is not None else (None, None)


def device_out(device: Device, start: datetime, end: datetime, past: bool) -> dict[str, Any]:
    from server.store.times import moment

    states = device_states(end, past, [device.pk])
    state = states.get(device.pk)
    strokes = rhythm([device.pk], start, end, RHYTHM_BUCKETS)[device.pk]
    row = row_of(device, state, open_alarms([device.pk], end, past).get(device.pk, []), strokes, {}, start, end)
    declared = {f["name"]: f for f in device.type.fields}
    if past:
        known = value_at(device.pk, end, set(declared))
    else:
        with connection.cursor() as cursor:
            _, fields = newest(cursor, [device.pk]).get(device.pk, (0, {}))
        known = {name: (v[0], moment(v[1]), v[2], moment(v[3])) for name, v in fields.items()}
    values = []
    for name, field in declared.items():
        value, at, message, received = known.get(name, (None, None, None, None))
        values.append(
            {
                "field": name,
                "kind": field["kind"],
                "title": field.get("title") or "",
                "unit": field.get("unit"),
                "codes": field.get("codes") or {},
                "value": value,
                "at": at,
                "message": str(message) if message is not None else None,
                "received_at": received,
            }
        )
    decoder = Definition.objects.filter(kind="decoder", type=device.type).first()
    version, because = version_run(decoder, device)
    setpoints = setpoints_of(device)
    return row | {
        "revision": device.revision,
        "latitude": device.latitude,
        "longitude": device.longitude,
        "registered_at": device.registered_at,
        "adopted_from": device.adopted_from,
        "has_key": hasattr(device, "credential"),
        "behind": device.behind.count(),
        "zone": device.site.zone if device.site else "UTC",
        "site_caretaker": device.site.caretaker if device.site else "",
        "site_attended": device.site.attended if device.site else "",
        "own_cadence_s": device.cadence_s,
        "photo_at": Photo.objects.filter(device=device).values_list("at", flat=True).first(),
        "decoder": decoder.pk if decoder else None,
        "decoder_version": version,
        "decoder_because": because,
        "values": values,
        "setpoints": setpoints,
        "limits": limits_of(device, setpoints),
    }


class DeviceView(APIView):
    """One device: what it is, its values, limits and alarms."""

    @extend_schema(parameters=LOOKBACK, responses=DeviceOut, operation_id="device", tags=["devices"])
    @as_then
    def get(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device.objects.select_related("type", "site", "gateway"), name=name)
        return tagged(Response(device_out(device, *span(request))), device.revision)

    @extend_schema(request=DeviceChange, responses=DeviceOut, operation_id="change_device", tags=["devices"])
    def patch(self, request: Request, name: str) -> Response:
        with transaction.atomic():
            lock_trees()
            device = changing(request, Device.objects.all(), name, name=name)
            before = device.type_id
            asked = DeviceChange(device, data=request.data, partial=True)
            asked.is_valid(raise_exception=True)
            through = asked.validated_data.get("gateway", device.gateway)
            if device.pk in [d.pk for d in chain(through, "gateway")]:
                raise Refused("invalid", "a device cannot speak through itself")
            for field, value in asked.validated_data.items():
                setattr(device, field, value)
            device.revise()
            if device.type_id != before and Hold.objects.filter(device=device).exists():
                hold(device, None, "it is of another type now", person_of(request))
            registry_changed(person_of(request), accounts=True)
            record(person_of(request), "changed device", device.name, told(asked))
        return self.get(request, name)

    @extend_schema(responses={204: None}, operation_id="delete_device", tags=["devices"])
    def delete(self, request: Request, name: str) -> Response:
        """Only a device that never sent anything can be deleted; others are retired."""
        try:
            with transaction.atomic():
                device = changing(request, Device.objects.all(), name, name=name)
                with connection.cursor() as cursor:
                    # Nobody writes into the stream until this is settled.
                    stream_turn(cursor)
                    if was_heard(cursor, device.pk):
                        raise Refused("in use", f"{device.name} has messages; set its phase to retired instead", 409)
                device.delete()
                registry_changed(person_of(request), accounts=True)
                record(person_of(request), "deleted device", name)
        except ProtectedError:
            raise Refused("in use", f"devices speak through {name}; give them another gateway first", 409) from None
        return Response(status=204)


def key_out(username: str, key: str, claimed: str | None = None) -> dict[str, Any]:
    instance = settings.INSTANCE
    topic = f"up/{username}" + (f"/for/{claimed}" if claimed else "")
    query = f"?for={claimed}" if claimed else ""
    return {
        "key": key,
        "username": username,
        "topic": topic,
        "mosquitto_pub": f"printf 'hello' | mosquitto_pub -h 127.0.0.1 -p {instance.broker_port}"
        f" -u {shlex.quote(username)} -P {key} -q 1 -t {shlex.quote(topic)} -s",
        "curl": f"printf 'hello' | curl -H 'Authorization: Bearer {key}' --data-binary @-"
        f" '{instance.address}in/{query}'",
        "broker_ready": wait_for_broker(),
    }


class DeviceKeyView(APIView):
    """A fresh key for a device; the one before ends."""

    @extend_schema(request=None, responses=KeyOut, operation_id="give_key", tags=["devices"])
    def post(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        if device.phase == "retired":
            raise Refused("retired", f"{name} is retired; a retired device gets no key", 409)
        with transaction.atomic():
            key = give_key(device)
            registry_changed(person_of(request), accounts=True)
            record(person_of(request), "gave key", device.name)
        return Response(key_out(device.name, key), 201)
