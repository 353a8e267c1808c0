"""Sites, device types, devices, keys, setpoints."""

from __future__ import annotations

import shlex
from collections import Counter
from datetime import UTC, datetime
from functools import reduce
from operator import or_
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Count, ProtectedError, Q, QuerySet
from django.db.models.fields.json import KeyTextTransform
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.access.authentication import person_of
from server.access.errors import Refused
from server.access.fields import whole
from server.access.models import record
from server.access.moments import span
from server.access.revisions import changing, lock_trees, tagged
from server.alarms.models import Alarm
from server.definitions.models import Definition, Hold, Version
from server.definitions.plans import condition_plan
from server.definitions.publishing import hold
from server.definitions.runners import runs
from server.definitions.uses import taken_away, uses_of
from server.engine.registry import matches
from server.history.states import DeviceState, device_states, json_of, rhythm, value_at

from .models import Device, DeviceType, Photo, Setpoint, Site
from .registering import give_key, registry_changed, remove_setpoint, set_setpoint, wait_for_broker
from .serial import STATES, DeviceChange, DeviceIn, DeviceOut, DevicePage, KeyOut, SetpointIn, SiteOut, TypeOut

RHYTHM_BUCKETS = 48
SPAN = [
    OpenApiParameter("from", str, description="start of the lookback"),
    OpenApiParameter("to", str, description="its end, if that is not now"),
]


class SitesView(generics.ListCreateAPIView):
    """Places, as a tree."""

    serializer_class = SiteOut
    queryset = Site.objects.annotate(device_count=Count("devices")).order_by("name")

    def perform_create(self, serializer: Any) -> None:
        with transaction.atomic():
            lock_trees()
            check_depth(serializer.validated_data.get("parent"))
            site = serializer.save()
            registry_changed(person_of(self.request))
            record(person_of(self.request), "added site", site.name)


MOST_DEEP = 16


def chain(thing: Any, up: str) -> list[Any]:
    """A thing and what it lies in, up to the top. Ends also where somebody has made a ring."""
    found: list[Any] = []
    while thing is not None and len(found) <= MOST_DEEP and all(thing.pk != other.pk for other in found):
        found.append(thing)
        thing = getattr(thing, up)
    return found


def check_depth(parent: Site | None) -> None:
    if len(chain(parent, "parent")) >= MOST_DEEP:
        raise Refused("invalid", f"sites lie in each other at most {MOST_DEEP} deep")


class SiteView(APIView):
    """One place."""

    @extend_schema(responses=SiteOut, operation_id="site", tags=["sites"])
    def get(self, request: Request, name: str) -> Response:
        site = generics.get_object_or_404(SitesView.queryset, name=name)
        return tagged(Response(SiteOut(site).data), site.revision)

    @extend_schema(request=SiteOut, responses=SiteOut, operation_id="change_site", tags=["sites"])
    def patch(self, request: Request, name: str) -> Response:
        with transaction.atomic():
            lock_trees()
            site = changing(request, Site.objects.all(), name, name=name)
            asked = SiteOut(site, data=request.data, partial=True)
            asked.is_valid(raise_exception=True)
            if asked.validated_data.get("name", name) != name:
                raise Refused("invalid", "the name of a site stands in links and stays as it is; change its title")
            above = asked.validated_data.get("parent", site.parent)
            if site.pk in [s.pk for s in chain(above, "parent")]:
                raise Refused("invalid", "a site cannot lie in itself")
            check_depth(above)
            asked.save()
            registry_changed(person_of(request))
            record(person_of(request), "changed site", site.name, told(asked))
        return self.get(request, name)

    @extend_schema(responses={204: None}, operation_id="delete_site", tags=["sites"])
    def delete(self, request: Request, name: str) -> Response:
        """Only a site with nothing in it can be deleted."""
        with transaction.atomic():
            lock_trees()
            site = changing(request, Site.objects.all(), name, name=name)
            inside = [d.title for d in site.devices.all()[:3]] + [s.title for s in Site.objects.filter(parent=site)[:3]]
            if inside:
                raise Refused("in use", f"in {site.title} there are {', '.join(inside)}; move them first", 409)
            for own in Setpoint.objects.filter(site=site):
                set_setpoint(own.type, own.name, None, person_of(request), site=site.pk)
            site.delete()
            registry_changed(person_of(request))
            record(person_of(request), "deleted site", name)
        return Response(status=204)


def told(asked: serializers.BaseSerializer[Any]) -> dict[str, object]:
    """What a change was asked to be, for the record."""
    return {
        name: str(asked.initial_data.get(name))[:200] for name in asked.validated_data if name in asked.initial_data
    }


def types() -> QuerySet[DeviceType]:
    return DeviceType.objects.annotate(device_count=Count("devices", filter=~Q(devices__phase="retired"))).order_by(
        "key"
    )


def with_decoders(found: list[DeviceType]) -> list[DeviceType]:
    """Types with the decoder of each, and how many messages of the last day wait for one."""
    decoders = {d.type_id: d for d in Definition.objects.filter(kind="decoder").select_related("live")}
    bare = [t.pk for t in found if t.pk not in decoders or decoders[t.pk].live is None]
    with connection.cursor() as cursor:
        cursor.execute(
            "select d.type_id, count(*) from refused r join fleet_device d on d.id = r.device_id"
            " where d.type_id = any(%s) and r.received_at > now() - interval '1 day' and r.code = 'no decoder' group"
            " by 1",
            (bare,),
        )
        waiting = dict(cursor.fetchall())
    for type_ in found:
        type_.waiting_today = waiting.get(type_.pk, 0)  # type: ignore[attr-defined]
        decoder = decoders.get(type_.pk)
        type_.decoder = decoder.pk if decoder else None  # type: ignore[attr-defined]
        type_.decoder_version = decoder.live.number if decoder and decoder.live else None  # type: ignore[attr-defined]
    return found


class TypesView(generics.ListCreateAPIView):
    """Device types with their fields and setpoints."""

    serializer_class = TypeOut

    def get_queryset(self) -> QuerySet[DeviceType]:
        return types()

    def paginate_queryset(self, queryset: Any) -> Any:
        page = super().paginate_queryset(queryset)
        return with_decoders(list(page or []))

    def perform_create(self, serializer: Any) -> None:
        with transaction.atomic():
            type_ = serializer.save()
            for setpoint in type_.setpoints:
                set_setpoint(type_, setpoint["name"], setpoint["value"], person_of(self.request))
            record(person_of(self.request), "added device type", type_.key)


class TypeView(APIView):
    """One device type."""

    @extend_schema(responses=TypeOut, operation_id="type", tags=["types"])
    def get(self, request: Request, key: str) -> Response:
        type_ = with_decoders([generics.get_object_or_404(types(), key=key)])[0]
        return tagged(Response(TypeOut(type_).data), type_.revision)

    @extend_schema(request=TypeOut, responses=TypeOut, operation_id="change_type", tags=["types"])
    def patch(self, request: Request, key: str) -> Response:
        """Changes what units of one make share. What a running decoder or condition uses stays as it is."""
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            asked = TypeOut(type_, data=request.data, partial=True)
            asked.is_valid(raise_exception=True)
            data = asked.validated_data
            if data.get("key", key) != key:
                raise Refused("invalid", "the key of a device type is in its definitions and stays as it is")
            before = {s["name"]: s for s in type_.setpoints}
            check_uses(type_, data.get("fields", type_.fields), data.get("setpoints", type_.setpoints))
            type_ = asked.save()
            now = {s["name"]: s for s in type_.setpoints}
            for name in before.keys() - now.keys():
                remove_setpoint(type_, name, person_of(request))
            for name, setpoint in now.items():
                if before.get(name) != setpoint:
                    set_setpoint(type_, name, setpoint["value"], person_of(request))
            registry_changed(person_of(request))
            record(person_of(request), "changed device type", type_.key, told(asked))
        return self.get(request, key)

    @extend_schema(responses={204: None}, operation_id="delete_type", tags=["types"])
    def delete(self, request: Request, key: str) -> Response:
        """Only a type that no device has and no definition names can be deleted."""
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            having = [d.name for d in Device.objects.filter(type=type_)[:3]]
            naming = [f"the {d.kind} {d.name}" for d in Definition.objects.filter(type=type_)[:3]]
            if having or naming:
                by = ", ".join(having + naming)
                raise Refused("in use", f"{key} is the type of {by}, also where these are retired or ended", 409)
            type_.delete()
            registry_changed(person_of(request))
            record(person_of(request), "deleted device type", key)
        return Response(status=204)


def check_uses(type_: DeviceType, fields: list[dict[str, Any]], setpoints: list[dict[str, Any]]) -> None:
    """Raises Refused where something that is used would be gone, or become another thing."""
    used = uses_of(type_)
    gone = [("field", *found) for found in taken_away(type_.fields, fields, ("kind", "unit"), used.fields)]
    gone += [("setpoint", *found) for found in taken_away(type_.setpoints, setpoints, ("unit",), used.setpoints)]
    if gone:
        what, name, how, users = gone[0]
        by = " and ".join([", ".join(users[:3]), *(["others"] if len(users) > 3 else [])])
        raise Refused(
            "in use",
            f"the {what} `{name}` {how}, but {by} uses it; change that first",
            409,
            uses=[{"what": w, "name": n, "how": h, "used_by": u} for w, n, h, u in gone],
        )


class TypeSetpointView(APIView):
    """A setpoint's value: of the type, or its override on one device or site (null takes the override away)."""

    writes = "operator"

    @extend_schema(request=SetpointIn, responses=TypeOut, operation_id="set_setpoint", tags=["types"])
    def put(self, request: Request, key: str, name: str) -> Response:
        asked = SetpointIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            if name not in {s["name"] for s in type_.setpoints}:
                raise Refused("not found", f"`{name}` is not a setpoint of {type_.key}", 404)
            device = generics.get_object_or_404(Device, name=data["device"], type=type_) if data.get("device") else None
            site = generics.get_object_or_404(Site, name=data["site"]) if data.get("site") else None
            if device is not None and site is not None:
                raise Refused("invalid", "an override is on a device or on a site, not on both")
            place = {"device": device.pk if device else None, "site": site.pk if site else None}
            set_setpoint(type_, name, data["value"], person_of(request), **place)
            about = {"value": data["value"], "device": data.get("device"), "site": data.get("site")}
            record(person_of(request), "changed setpoint", f"{type_.key} {name}", about)
        return Response(TypeOut(with_decoders([generics.get_object_or_404(types(), key=key)])[0]).data)


# devices ------------------------------------------------------------------------
def selected(request: Request) -> QuerySet[Device]:
    """Devices that the query names: q, type, site (with those within), gateway, label."""
    found = Device.objects.select_related("type", "site", "gateway").exclude(phase="retired")
    params = request.query_params
    if params.get("phase"):
        found = Device.objects.select_related("type", "site", "gateway").filter(phase=params["phase"])
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
    if params.get("site"):
        found = found.filter(site_id__in=within(params["site"]))
    if params.get("gateway"):
        found = found.filter(gateway__name=params["gateway"])
    if "=" in params.get("label", ""):
        name, _, text = params["label"].partition("=")
        found = found.filter(labels__contains={name: text})
    return found


def within(name: str) -> list[int]:
    """A site and all sites in it."""
    children: dict[int | None, list[int]] = {}
    start = None
    for pk, parent, site_name in Site.objects.values_list("id", "parent_id", "name"):
        children.setdefault(parent, []).append(pk)
        if site_name == name:
            start = pk
    found, waiting = [], [start] if start else []
    while waiting:
        site = waiting.pop()
        if site in found:
            continue
        found.append(site)
        waiting += children.get(site, [])
    return found


def open_alarms(device_ids: list[int], at: datetime, past: bool) -> dict[int, list[dict[str, Any]]]:
    found: dict[int, list[dict[str, Any]]] = {}
    query = Alarm.objects.filter(device_id__in=device_ids, raised_at__lte=at)
    query = query.filter(Q(cleared_at=None) | Q(cleared_at__gt=at)) if past else query.filter(cleared_at=None)
    for alarm in query.order_by("raised_at"):
        taken = alarm.acknowledged_at is not None and (not past or alarm.acknowledged_at <= at)
        found.setdefault(alarm.device_id, []).append(
            {
                "id": alarm.pk,
                "priority": alarm.priority,
                "text": alarm.text,
                "raised_at": alarm.raised_at,
                "acknowledged": taken,
            }
        )
    return found


def row_of(
    device: Device, state: DeviceState | None, alarms: list[dict[str, Any]], strokes: tuple[list[int], list[int]]
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
    }


class DevicesView(APIView):
    """Devices with their states, alarms and rhythm over the lookback; and adding one."""

    @extend_schema(
        parameters=[
            *SPAN,
            *(OpenApiParameter(n, str) for n in ("q", "type", "site", "gateway", "label", "state", "phase", "order")),
            OpenApiParameter("limit", int),
            OpenApiParameter("offset", int),
        ],
        responses=DevicePage,
        operation_id="devices",
        tags=["devices"],
    )
    def get(self, request: Request) -> Response:
        start, end, past = span(request)
        states = device_states(end, past)
        found = [d for d in selected(request).order_by("name") if d.pk in states or d.phase == "retired"]
        counts = Counter(states[d.pk].state if d.pk in states else "waiting" for d in found)
        if request.query_params.get("state") in STATES:
            found = [d for d in found if d.pk in states and states[d.pk].state == request.query_params["state"]]
        alarms = open_alarms([d.pk for d in found], end, past)
        order = request.query_params.get("order", "worst")
        if order == "worst":
            rank = {"critical": 0, "high": 1, "medium": 2, "low": 3}
            weight = {"silent": 0, "undecodable": 1, "overdue": 2, "waiting": 3, "reporting": 4}

            def key(d: Device) -> tuple[Any, ...]:
                own = alarms.get(d.pk, [])
                return (
                    min((rank[a["priority"]] for a in own), default=9),
                    weight[states[d.pk].state] if d.pk in states else 9,
                    d.name,
                )

            found.sort(key=key)
        elif order == "heard":
            never = datetime.min.replace(tzinfo=UTC)
            found.sort(key=lambda d: ((states[d.pk].received_at if d.pk in states else None) or never, d.name))
        elif order == "match":
            asked = request.query_params.get("q", "").strip().lower()
            found.sort(key=lambda d: closeness(d, asked))
        limit, offset = bounded(request)
        page = found[offset : offset + limit]
        strokes = rhythm([d.pk for d in page], start, end, RHYTHM_BUCKETS)
        rows = [row_of(d, states.get(d.pk), alarms.get(d.pk, []), strokes[d.pk]) for d in page]
        return Response({"count": len(found), "states": dict(counts), "results": rows})

    @extend_schema(request=DeviceIn, responses=DeviceOut, operation_id="add_device", tags=["devices"])
    def post(self, request: Request) -> Response:
        asked = DeviceIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            lock_trees()
            device = asked.save()
            device.part = device.gateway.part if device.gateway else 0
            device.save(update_fields=["part"])
            registry_changed(person_of(request))
            record(person_of(request), "added device", device.name, {"type": device.type.key})
        return Response(device_out(device, *span(request)), 201)


def closeness(device: Device, asked: str) -> tuple[int, str]:
    """How well a device fits words: what begins with them first, then what has them, then where they only stand
    near.
    """
    title, name = device.title.lower(), device.name.lower()
    rank = 0 if title.startswith(asked) or name.startswith(asked) else 1 if asked in title or asked in name else 2
    return rank, device.name


def bounded(request: Request) -> tuple[int, int]:
    limit = whole(request.query_params.get("limit", "100"), 500)
    offset = whole(request.query_params.get("offset", "0"), 10**9)
    if not limit or offset is None:
        raise Refused("invalid", "limit is a whole number from 1 to 500, offset one from 0 to a billion")
    return limit, offset


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
        plan = condition_plan(definition.live.text, device.type.key, definition.live.fields, definition.live.setpoints)
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
    from server.engine.store import moment as from_us

    state = device_states(end, past).get(device.pk)
    strokes = rhythm([device.pk], start, end, RHYTHM_BUCKETS)[device.pk]
    row = row_of(device, state, open_alarms([device.pk], end, past).get(device.pk, []), strokes)
    declared = {f["name"]: f for f in device.type.fields}
    if past:
        known = value_at(device.pk, end, set(declared))
    else:
        with connection.cursor() as cursor:
            cursor.execute("select fields from latest where device_id = %s", (device.pk,))
            found = cursor.fetchone()
        fields = json_of(found[0]) if found else {}
        known = {name: (v[0], from_us(v[1]), v[2], from_us(v[3])) for name, v in fields.items()}
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

    @extend_schema(parameters=SPAN, responses=DeviceOut, operation_id="device", tags=["devices"])
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
            device.part = through.part if through is not None else 0
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
                    cursor.execute("select stream_turn(0)")
                    cursor.execute(
                        "select exists (select 1 from latest where device_id = %(id)s) or exists"
                        " (select 1 from message where device_id = %(id)s or via_id = %(id)s)"
                        " or exists (select 1 from reading_row where device_id = %(id)s)",
                        {"id": device.pk},
                    )
                    if cursor.fetchone()[0]:
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
