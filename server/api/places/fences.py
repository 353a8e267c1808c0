"""Fences: named areas on the map, that conditions speak of; brought in and out as GeoJSON, and tried over the past."""

from __future__ import annotations

from functools import cache
from typing import Any

import orjson
from django.db import connection, transaction
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.register.fences import area_of
from server.records.definitions.models import Definition
from server.records.fleet.models import Fence
from server.records.people.models import Person, record
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.requests.moments import LOOKBACK, as_then
from server.requests.revisions import changing, tagged
from server.rules.plans import plan_in_force
from server.rules.refusal import Refused
from server.rules.registering import registry_changed
from server.rules.routes import in_order, plan_of
from server.store.register import history_of

MOST_CORNERS = 10_000
MOST_FEATURES = 500


class UsedBy(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()


class FenceOut(serializers.ModelSerializer):
    name = Words(max_length=120)
    feature = serializers.JSONField(help_text="GeoJSON: a Polygon, a MultiPolygon, or a Point with `radius_m`")
    used_by = serializers.SerializerMethodField(help_text="conditions in force that speak of it")
    area_m2 = serializers.SerializerMethodField()

    class Meta:
        model = Fence
        fields = ["id", "name", "feature", "revision", "used_by", "area_m2"]

    def validate_feature(self, value: Any) -> Any:
        return sound_feature(value)

    @extend_schema_field(UsedBy(many=True))
    def get_used_by(self, fence: Fence) -> list[dict[str, Any]]:
        users: dict[str, list[dict[str, Any]]] = self.context.get("users", users_by_fence)()
        return users.get(fence.name, [])

    def get_area_m2(self, fence: Fence) -> float:
        return area_of(fence.feature).size_m2()


def sound_feature(value: Any) -> dict[str, Any]:
    """A fence as it is kept. Raises ValidationError, saying what was found."""
    if corners(value) > MOST_CORNERS:
        raise serializers.ValidationError(f"a fence has at most {MOST_CORNERS:,} corners")
    try:
        area_of(value)
    except KeyError as error:
        raise serializers.ValidationError(f"this is no fence: it has no {error}") from None
    except (TypeError, ValueError, IndexError, AttributeError, RecursionError) as error:
        raise serializers.ValidationError(f"this is no fence: {str(error)[:200] or 'it has no geometry'}") from None
    return {key: value[key] for key in ("type", "geometry", "properties") if key in value}


def users_by_fence() -> dict[str, list[dict[str, Any]]]:
    """Conditions and routes in force by the names of the fences that they speak of."""
    found: dict[str, list[dict[str, Any]]] = {}
    conditions = Definition.objects.filter(kind="condition", live__isnull=False).select_related("live", "type")
    for one in conditions.order_by("name"):
        for name in getattr(plan_in_force(one), "fences", ()):
            found.setdefault(name, []).append({"id": one.pk, "name": one.name})
    for route in in_order().filter(live__isnull=False).select_related("live__definition__type"):
        plan = plan_of(route.live) if route.live is not None else None
        for name in plan.fences if plan is not None else ():
            found.setdefault(name, []).append({"id": route.pk, "name": route.name})
    return found


def corners(value: Any, deep: int = 0) -> int:
    """How many numbers there are in something nested."""
    if deep > 8:
        return MOST_CORNERS + 1
    if isinstance(value, dict):
        return sum(corners(part, deep + 1) for part in value.values())
    if isinstance(value, list):
        return sum(corners(part, deep + 1) for part in value)
    return isinstance(value, int | float)


class FencesView(generics.ListCreateAPIView):
    """Named areas on the map."""

    serializer_class = FenceOut
    queryset = Fence.objects.order_by("name")

    @extend_schema(parameters=LOOKBACK[1:])
    @as_then
    def get(self, request: Request, *args: Any, **kwargs: Any) -> Response:
        return super().get(request, *args, **kwargs)

    def get_serializer_context(self) -> dict[str, Any]:
        return {**super().get_serializer_context(), "users": cache(users_by_fence)}

    def perform_create(self, serializer: Any) -> None:
        with transaction.atomic():
            fence = serializer.save()
            registry_changed(person_of(self.request))
            record(person_of(self.request), "added fence", fence.name)


class FenceView(APIView):
    """One area. A change counts from its moment: conditions that speak of it are looked at then."""

    @extend_schema(responses=FenceOut, operation_id="fence", tags=["sites"])
    def get(self, request: Request, ident: int) -> Response:
        fence = generics.get_object_or_404(Fence, pk=ident)
        return tagged(Response(FenceOut(fence).data), fence.revision)

    @extend_schema(request=FenceOut, responses=FenceOut, operation_id="change_fence", tags=["sites"])
    def patch(self, request: Request, ident: int) -> Response:
        with transaction.atomic():
            fence = changing(request, Fence.objects.all(), f"fence {ident}", pk=ident)
            asked = FenceOut(fence, data=request.data, partial=True)
            asked.is_valid(raise_exception=True)
            if asked.validated_data.get("name", fence.name) != fence.name:
                raise_where_used(fence, "renamed")
            asked.save()
            fence.revise()
            registry_changed(person_of(request))
            record(person_of(request), "changed fence", fence.name)
        return self.get(request, ident)

    @extend_schema(responses={204: None}, operation_id="delete_fence", tags=["sites"])
    def delete(self, request: Request, ident: int) -> Response:
        """Only a fence that no condition in force speaks of can be deleted."""
        with transaction.atomic():
            fence = changing(request, Fence.objects.all(), f"fence {ident}", pk=ident)
            raise_where_used(fence, "deleted")
            name = fence.name
            fence.delete()
            registry_changed(person_of(request))
            record(person_of(request), "deleted fence", name)
        return Response(status=204)


def raise_where_used(fence: Fence, what: str) -> None:
    """Raises Refused (409) where a condition in force speaks of the fence by its name."""
    users = [one["name"] for one in users_by_fence().get(fence.name, [])]
    if users:
        sentence = f"“{fence.name}” cannot be {what}: {', '.join(users[:3])} speak of it"
        raise Refused("in use", sentence, 409, uses=users)


class FenceVersion(serializers.Serializer):
    number = serializers.IntegerField(help_text="1 is the first")
    at = serializers.DateTimeField(allow_null=True, help_text="from when on it counts; null: from the beginning")
    who = serializers.CharField(allow_null=True)
    name = serializers.CharField()
    feature = serializers.JSONField()


class FenceVersionsView(APIView):
    """What a fence has been, the newest first. Conditions count by the one of their moment."""

    @extend_schema(responses=FenceVersion(many=True), operation_id="fence_versions", tags=["places"])
    def get(self, request: Request, ident: int) -> Response:
        generics.get_object_or_404(Fence, pk=ident)
        with connection.cursor() as cursor:
            rows = history_of(cursor, "fence", ident)
        people = {p.pk: p.called for p in Person.objects.filter(pk__in=[r.person for r in rows if r.person])}
        found = [
            {"number": n, "at": one.at, "who": people.get(one.person or 0), **one.row}
            for n, one in enumerate(rows, start=1)
        ]
        return Response(found[::-1])


class FenceFile(serializers.Serializer):
    features = serializers.ListField(
        child=serializers.JSONField(), max_length=MOST_FEATURES, help_text="of a GeoJSON FeatureCollection"
    )
    dry_run = serializers.BooleanField(default=False, help_text="only say what would become of each")


class FenceRow(serializers.Serializer):
    number = serializers.IntegerField(help_text="of the feature, 1 is the first")
    name = serializers.CharField(allow_null=True)
    becomes = serializers.ChoiceField(["added", "changed", "unchanged", "refused"])
    why = serializers.CharField(allow_null=True, help_text="of a refusal")


class FencesFileView(APIView):
    """All fences as a GeoJSON FeatureCollection (RFC 7946), out and in; each is named by its property `name`."""

    @extend_schema(
        responses={(200, "application/geo+json"): serializers.DictField()}, operation_id="fences_file", tags=["places"]
    )
    def get(self, request: Request) -> HttpResponse:
        features = [
            {
                "type": "Feature",
                "geometry": fence.feature["geometry"],
                "properties": {**(fence.feature.get("properties") or {}), "name": fence.name},
            }
            for fence in Fence.objects.order_by("name")
        ]
        body = orjson.dumps({"type": "FeatureCollection", "features": features}, option=orjson.OPT_INDENT_2)
        answer = HttpResponse(body + b"\n", content_type="application/geo+json")
        answer["Content-Disposition"] = 'attachment; filename="fences.geojson"'
        return answer

    @extend_schema(request=FenceFile, responses=FenceRow(many=True), operation_id="bring_fences", tags=["places"])
    def post(self, request: Request) -> Response:
        """Adds and changes fences by their names, all of them at one moment. What is wrong with a feature is said, and
        the others are taken.
        """
        asked = FenceFile(data=request.data)
        asked.is_valid(raise_exception=True)
        rows, changed = [], False
        with transaction.atomic():
            known = {fence.name: fence for fence in Fence.objects.select_for_update().order_by("pk")}
            for number, value in enumerate(asked.validated_data["features"], start=1):
                row = taken(known, value)
                rows.append({"number": number, **row})
                changed |= row["becomes"] in ("added", "changed")
            if asked.validated_data["dry_run"]:
                transaction.set_rollback(True)
            elif changed:
                registry_changed(person_of(request))
                names = [str(row["name"]) for row in rows if row["becomes"] in ("added", "changed")]
                record(person_of(request), "brought in fences", ", ".join(names)[:300])
        return Response(rows)


def taken(known: dict[str, Fence], value: Any) -> dict[str, Any]:
    """Keeps one feature of a file, and says what became of it."""
    properties = value.get("properties") if isinstance(value, dict) else None
    name = properties.get("name") if isinstance(properties, dict) else None
    told = {"name": str(name)[:120] if name is not None else None, "why": None}
    if not isinstance(name, str) or not name.strip():
        return told | {"becomes": "refused", "why": "it has no name: a property `name` with a text is expected"}
    asked = FenceOut(known.get(name), data={"name": name, "feature": named_apart(value)}, partial=True)
    if not asked.is_valid():
        why = "; ".join(str(part) for parts in asked.errors.values() for part in parts)
        return told | {"becomes": "refused", "why": why}
    before = known.get(name)
    if before is not None and before.feature == asked.validated_data["feature"]:
        return told | {"becomes": "unchanged"}
    fence = asked.save()
    if before is not None:
        fence.revise()
    known[name] = fence
    return told | {"becomes": "changed" if before is not None else "added"}


def named_apart(value: dict[str, Any]) -> dict[str, Any]:
    """A feature without its name, which stands beside it."""
    properties = {k: v for k, v in (value.get("properties") or {}).items() if k != "name"}
    return {"type": "Feature", "geometry": value.get("geometry"), "properties": properties}
