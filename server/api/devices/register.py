"""Sites and device types."""

from __future__ import annotations

from typing import Any

from django.db import connection, transaction
from django.db.models import Count, OuterRef, Q, QuerySet, Subquery
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.routes.check import SITE
from server.api.devices.serial import SiteOut, TypeOut
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType, Setpoint, Site
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.moments import LOOKBACK, as_then
from server.requests.revisions import changing, lock_trees, tagged
from server.rules.refusal import Refused
from server.rules.registering import registry_changed, remove_setpoint, set_setpoint
from server.rules.sites import sites_as_devices, without_device
from server.rules.trees import chain, check_depth
from server.rules.uses import taken_away, uses_of
from server.store.counts import how_many
from server.store.refused import waiting_today


class SitesView(generics.ListCreateAPIView):
    """Places, as a tree."""

    serializer_class = SiteOut
    queryset = Site.objects.annotate(
        device_count=how_many(Device.objects.exclude(type__key=SITE).filter(site=OuterRef("pk")), "site"),
        own_device=Subquery(
            Device.objects.filter(type__key=SITE, site=OuterRef("pk")).order_by("pk").values("name")[:1]
        ),
    ).order_by("name")

    @extend_schema(parameters=LOOKBACK[1:])
    @as_then
    def get(self, request: Request, *args: Any, **kwargs: Any) -> Response:
        return super().get(request, *args, **kwargs)

    def perform_create(self, serializer: Any) -> None:
        with transaction.atomic():
            lock_trees()
            check_depth(serializer.validated_data.get("parent"))
            site = serializer.save()
            registry_changed(person_of(self.request))
            sites_as_devices(person_of(self.request))
            record(person_of(self.request), "added site", site.name)


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
            Device.objects.filter(type__key=SITE, site=site).update(title=site.title)
            registry_changed(person_of(request))
            record(person_of(request), "changed site", site.name, told(asked))
        return self.get(request, name)

    @extend_schema(responses={204: None}, operation_id="delete_site", tags=["sites"])
    def delete(self, request: Request, name: str) -> Response:
        """Only a site with nothing in it can be deleted."""
        with transaction.atomic():
            lock_trees()
            site = changing(request, Site.objects.all(), name, name=name)
            devices, below = (
                site.devices.exclude(type__key=SITE).order_by("title"),
                Site.objects.filter(parent=site).order_by("title"),
            )
            inside = [d.title for d in devices[:3]] + [s.title for s in below[:3]]
            if inside:
                raise Refused("in use", f"in {site.title} there are {', '.join(inside)}; move them first", 409)
            without_device(site)
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
        waiting = waiting_today(cursor, bare)
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
            having = [d.name for d in Device.objects.filter(type=type_).order_by("name")[:3]]
            own = Definition.objects.filter(type=type_).order_by("kind", "name")
            naming = [f"the {d.kind} {d.name}" for d in own[:3]]
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
