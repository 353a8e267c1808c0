"""Setpoints of a type as one table: its own, those of sites and devices; many at once; what they were."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from typing import Any

import numpy as np
from django.conf import settings
from django.db import connection, transaction
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.conditions.plan import ConditionPlan
from server.api.devices.register import types, with_decoders
from server.api.devices.serial import SetpointIn, TypeOut
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType, Setpoint, Site
from server.records.people.models import Person, record
from server.requests.authentication import person_of
from server.requests.bounds import long_work
from server.requests.fields import whole
from server.requests.revisions import changing
from server.rules.plans import plan_in_force
from server.rules.refusal import Refused
from server.rules.registering import set_setpoint
from server.store.columns import pieces
from server.store.register import setpoint_changes
from server.store.rows import specs

MOST_ROWS = 200
MOST_CHANGES = 2_000
PAST = timedelta(days=7)
SOURCES = ["type", "site", "device"]


class TypeSetpointView(APIView):
    """A setpoint's value: of the type, or its override on one device or site (null takes the override away)."""

    writes = "operator"

    @extend_schema(request=SetpointIn, responses=TypeOut, operation_id="set_setpoint", tags=["types"])
    def put(self, request: Request, key: str, name: str) -> Response:
        asked = SetpointIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            apply(type_, [{"name": name, **asked.validated_data}], person_of(request))
        return Response(TypeOut(with_decoders([generics.get_object_or_404(types(), key=key)])[0]).data)


def apply(type_: DeviceType, changes: Iterable[dict[str, Any]], person: Person) -> None:
    """Sets values of a type, of its sites and its devices; each is on record. Raises Refused."""
    for change in changes:
        name, value = change["name"], change["value"]
        device, site = change.get("device"), change.get("site")
        if name not in {s["name"] for s in type_.setpoints}:
            raise Refused("not found", f"`{name}` is not a setpoint of {type_.key}", 404)
        if device and site:
            raise Refused("invalid", "an override is on a device or on a site, not on both")
        own = generics.get_object_or_404(Device, name=device, type=type_) if device else None
        place = generics.get_object_or_404(Site, name=site) if site else None
        set_setpoint(type_, name, value, person, device=own.pk if own else None, site=place.pk if place else None)
        about = {"value": value, "device": device, "site": site}
        record(person, "changed setpoint", f"{type_.key} {name}", about)


class ChangeIn(SetpointIn):
    name = serializers.CharField(max_length=63)


class ManyIn(serializers.Serializer):
    changes = ChangeIn(many=True)

    def validate_changes(self, value: list[dict[str, Any]]) -> list[dict[str, Any]]:
        if len(value) > MOST_CHANGES:
            raise serializers.ValidationError(f"at most {MOST_CHANGES:,} values are set at once")
        return value


class Cell(serializers.Serializer):
    value = serializers.FloatField(allow_null=True)
    own = serializers.BooleanField(help_text="it is set here, and not taken from above")
    source = serializers.ChoiceField(SOURCES)  # type: ignore[assignment]
    source_title = serializers.CharField()


class LimitsRow(serializers.Serializer):
    kind = serializers.ChoiceField(SOURCES)
    name = serializers.CharField()
    title = serializers.CharField()
    depth = serializers.IntegerField(help_text="of a site in its tree")
    site = serializers.CharField(allow_null=True)
    cells = serializers.DictField(child=Cell(), help_text="by setpoint")


class LimitsColumn(serializers.Serializer):
    name = serializers.CharField()
    unit = serializers.CharField()


class LimitsOut(serializers.Serializer):
    columns = LimitsColumn(many=True)
    rows = LimitsRow(many=True, help_text="the type, then sites as a tree, then devices by name")
    devices = serializers.IntegerField()


class Place:
    """Values in force at every place: the nearest above that has one. Own values by (site or device, name)."""

    def __init__(self, type_: DeviceType) -> None:
        self.type = type_
        self.sites = {s.pk: s for s in Site.objects.all()}
        self.by_site: dict[tuple[int, str], float] = {}
        self.by_device: dict[tuple[int, str], float] = {}
        for one in Setpoint.objects.filter(type=type_):
            if one.site_id is not None:
                self.by_site[one.site_id, one.name] = one.value
            elif one.device_id is not None:
                self.by_device[one.device_id, one.name] = one.value

    def of_type(self, setpoint: dict[str, Any]) -> dict[str, Any]:
        return {"value": setpoint["value"], "own": True, "source": "type", "source_title": self.type.title}

    def of_site(self, site: int | None, setpoint: dict[str, Any]) -> dict[str, Any]:
        at, seen = site, set[int]()
        while at is not None and at in self.sites and at not in seen:
            seen.add(at)
            value = self.by_site.get((at, setpoint["name"]))
            if value is not None:
                title = self.sites[at].title
                return {"value": value, "own": at == site, "source": "site", "source_title": title}
            at = self.sites[at].parent_id
        return self.of_type(setpoint) | {"own": False}

    def of_device(self, device: Device, setpoint: dict[str, Any]) -> dict[str, Any]:
        value = self.by_device.get((device.pk, setpoint["name"]))
        if value is not None:
            return {"value": value, "own": True, "source": "device", "source_title": device.title}
        return self.of_site(device.site_id, setpoint) | {"own": False}

    def tree(self) -> list[tuple[Site, int]]:
        """Sites in the order of their tree, with their depth."""
        found: list[tuple[Site, int]] = []

        def below(parent: int | None, depth: int) -> None:
            own = [s for s in self.sites.values() if s.parent_id == parent]
            for site in sorted(own, key=lambda s: s.title.casefold()):
                found.append((site, depth))
                below(site.pk, depth + 1)

        below(None, 0)
        return found


class LimitsView(APIView):
    """The setpoints of a type as a table: each value with where it comes from; devices by the page."""

    writes = "operator"

    @extend_schema(
        parameters=[
            OpenApiParameter("offset", int),
            OpenApiParameter("search", str, description="part of a device's name or title"),
            OpenApiParameter("own", bool, description="only devices with a value of their own"),
        ],
        responses=LimitsOut,
        operation_id="setpoints",
        tags=["types"],
    )
    def get(self, request: Request, key: str) -> Response:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        place = Place(type_)
        devices = type_.devices.exclude(phase="retired").select_related("site").order_by("name")
        search = request.query_params.get("search", "")[:80]
        if search:
            devices = devices.filter(title__icontains=search) | devices.filter(name__icontains=search)
        if request.query_params.get("own") in ("true", "1"):
            devices = devices.filter(pk__in={device for device, _ in place.by_device})
        offset = whole(request.query_params.get("offset")) or 0

        def row(kind: str, name: str, title: str, depth: int, site: str | None, of: Any) -> dict[str, Any]:
            cells = {s["name"]: of(s) for s in type_.setpoints}
            return {"kind": kind, "name": name, "title": title, "depth": depth, "site": site, "cells": cells}

        rows = [row("type", type_.key, type_.title, 0, None, place.of_type)] if offset == 0 else []
        if offset == 0 and not search:
            for site, depth in place.tree():
                rows.append(row("site", site.name, site.title, depth, None, lambda s, at=site.pk: place.of_site(at, s)))
        for one in devices[offset : offset + MOST_ROWS]:
            at = one.site.title if one.site else None
            rows.append(row("device", one.name, one.title, 0, at, lambda s, d=one: place.of_device(d, s)))
        columns = [{"name": s["name"], "unit": s["unit"]} for s in type_.setpoints]
        return Response({"columns": columns, "rows": rows, "devices": devices.count()})

    @extend_schema(request=ManyIn, responses=LimitsOut, operation_id="set_setpoints", tags=["types"])
    def put(self, request: Request, key: str) -> Response:
        """Sets many values at once: all of them, or none where one is refused."""
        asked = ManyIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            apply(type_, asked.validated_data["changes"], person_of(request))
        return self.get(request, key)


# what it was, and how it stands to the past -------------------------------------------------
class SetpointChange(serializers.Serializer):
    at = serializers.DateTimeField()
    who = serializers.CharField(allow_null=True)
    setpoint = serializers.CharField()
    of = serializers.ChoiceField(SOURCES)
    name = serializers.CharField(allow_null=True, help_text="of the site or device; null: it is gone")
    title = serializers.CharField(allow_null=True)
    value = serializers.FloatField(allow_null=True, help_text="null: taken away")


class SetpointHistoryView(APIView):
    """Who set which value when, the newest first: at most 200."""

    @extend_schema(
        parameters=[
            OpenApiParameter("setpoint", str),
            OpenApiParameter("device", str),
            OpenApiParameter("site", str),
            OpenApiParameter("of", str, description="`type`: only values of the type itself"),
        ],
        responses=SetpointChange(many=True),
        operation_id="setpoint_history",
        tags=["types"],
    )
    def get(self, request: Request, key: str) -> Response:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        asked = {name: request.query_params.get(name) or None for name in ("setpoint", "device", "site")}
        device = generics.get_object_or_404(Device, name=asked["device"]).pk if asked["device"] else None
        site = generics.get_object_or_404(Site, name=asked["site"]).pk if asked["site"] else None
        with connection.cursor() as cursor:
            rows = setpoint_changes(
                cursor,
                type_.pk,
                MOST_ROWS,
                name=asked["setpoint"],
                device=device,
                site=site,
                of_type=request.query_params.get("of") == "type",
            )
        people = {p.pk: p.called for p in Person.objects.filter(pk__in={r.person for r in rows if r.person})}
        sites = {s.pk: s for s in Site.objects.filter(pk__in={r.site for r in rows if r.site})}
        devices = {d.pk: d for d in Device.objects.filter(pk__in={r.device for r in rows if r.device})}

        def place(site: int | None, device: int | None) -> dict[str, Any]:
            of = "device" if device else "site" if site else "type"
            found: Any = devices.get(device) if device else sites.get(site) if site else None
            if of == "type":
                return {"of": of, "name": type_.key, "title": type_.title}
            return {"of": of, "name": found and found.name, "title": found and found.title}

        return Response(
            [
                {"at": one.at, "who": people.get(one.person or 0), "setpoint": one.name, "value": one.value}
                | place(one.site, one.device)
                for one in rows
            ]
        )


class PastRow(serializers.Serializer):
    low = serializers.FloatField()
    high = serializers.FloatField()
    beyond = serializers.FloatField(help_text="share of the values that lie beyond the limit in force, 0 to 1")


class PastColumn(serializers.Serializer):
    setpoint = serializers.CharField()
    field = serializers.CharField(help_text="that a condition in force compares with it")
    sign = serializers.CharField()
    devices = serializers.DictField(child=PastRow())


class SetpointPastView(APIView):
    """How limits stand to what devices sent in seven days, by setpoint and the field that a condition compares."""

    @extend_schema(responses=PastColumn(many=True), operation_id="setpoint_past", tags=["types"])
    def get(self, request: Request, key: str) -> Response:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        compared = compared_with(type_)
        known = specs(type_.fields)
        fields = [known[f] for f in dict.fromkeys(f for f, _ in compared.values()) if f in known]
        if not fields:
            return Response([])
        end = timezone.now()
        place = Place(type_)
        devices = {d.pk: d for d in type_.devices.exclude(phase="retired")}
        setpoints = {s["name"]: s for s in type_.setpoints}
        with long_work.held(person_of(request)):
            url = settings.INSTANCE.database_url()
            parts = [p.readings for p in pieces(url, type_.pk, end - PAST, end, fields, False)]
        whose = np.concatenate([p.device for p in parts]) if parts else np.zeros(0, np.int64)
        found = []
        for name, (field, sign) in compared.items():
            if field not in known or name not in setpoints:
                continue
            values = np.concatenate([p.values[field].astype(float) for p in parts])
            rows = {}
            for ident in np.unique(whose).tolist():
                own = values[(whose == ident) & np.isfinite(values)]
                limit = place.of_device(devices[ident], setpoints[name])["value"] if ident in devices else None
                if not len(own) or limit is None:
                    continue
                beyond = own < limit if sign in ("<", "<=") else own > limit
                rows[devices[ident].name] = {
                    "low": float(own.min()),
                    "high": float(own.max()),
                    "beyond": float(beyond.mean()),
                }
            found.append({"setpoint": name, "field": field, "sign": sign, "devices": rows})
        return Response(found)


def compared_with(type_: DeviceType) -> dict[str, tuple[str, str]]:
    """By setpoint the field that a condition in force holds against it, and how."""
    found: dict[str, tuple[str, str]] = {}
    conditions = Definition.objects.filter(kind="condition", type=type_, live__isnull=False).select_related(
        "live", "type"
    )
    for one in conditions.order_by("name"):
        plan = plan_in_force(one)
        for limit in plan.limits if isinstance(plan, ConditionPlan) else ():
            if limit.setpoint and limit.field:
                found.setdefault(limit.setpoint, (limit.field, limit.sign))
    return found
