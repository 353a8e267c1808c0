"""Selections of devices and of alarms that are kept under a name: what their list is filtered by, of devices also its
order and its columns.
"""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.devices.columns import checked
from server.records.fleet.models import Selection
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.rules.refusal import Refused

PARTS = {
    "devices": ("q", "type", "site", "gateway", "label", "state", "phase", "order"),
    "alarms": ("q", "priority", "site", "type", "person", "longer"),
}
MOST = 200  # of each
OF = [OpenApiParameter("of", str, enum=list(PARTS), description="devices, unless said otherwise")]


def of_what(request: Request) -> str:
    """What a selection is of. Raises Refused."""
    found = request.query_params.get("of", "devices")
    if found not in PARTS:
        raise Refused("invalid", f"of is one of {', '.join(PARTS)}; found `{found[:40]}`")
    return found


class KeptSelectionIn(serializers.Serializer):
    query = serializers.DictField(
        child=serializers.CharField(max_length=200, allow_blank=True), help_text="of the parameters that the list takes"
    )
    columns = serializers.ListField(child=serializers.CharField(max_length=80), required=False, default=list)

    def validate_query(self, value: dict[str, str]) -> dict[str, str]:
        parts = PARTS[self.context["of"]]
        strange = sorted(set(value) - set(parts))
        if strange:
            raise serializers.ValidationError(f"found `{strange[0][:40]}`, expected {', '.join(parts)}")
        return {name: text for name, text in value.items() if text}

    def validate_columns(self, value: list[str]) -> list[str]:
        try:
            return checked(value)
        except Refused as error:
            raise serializers.ValidationError(error.sentence) from None


class KeptSelectionOut(KeptSelectionIn):
    name = Words(max_length=80)
    by = serializers.CharField(allow_null=True, help_text="who has kept it")
    saved_at = serializers.DateTimeField()


def told(one: Selection) -> dict[str, Any]:
    return {
        "name": one.name,
        "query": one.query,
        "columns": one.columns,
        "by": one.person.called if one.person else None,
        "saved_at": one.saved_at,
    }


class SelectionsView(APIView):
    """All that are kept, for everybody."""

    @extend_schema(parameters=OF, responses=KeptSelectionOut(many=True), operation_id="selections", tags=["devices"])
    def get(self, request: Request) -> Response:
        found = Selection.objects.filter(of=of_what(request)).select_related("person").order_by("name")
        return Response([told(one) for one in found[:MOST]])


class SelectionView(APIView):
    """One by its name."""

    writes = "operator"

    @extend_schema(
        parameters=OF,
        request=KeptSelectionIn,
        responses=KeptSelectionOut,
        operation_id="keep_selection",
        tags=["devices"],
    )
    def put(self, request: Request, name: str) -> Response:
        of = of_what(request)
        asked = KeptSelectionIn(data=request.data, context={"of": of})
        asked.is_valid(raise_exception=True)
        known = Words(max_length=80).run_validation(name)
        kept = Selection.objects.filter(of=of)
        if not kept.filter(name=known).exists() and kept.count() >= MOST:
            raise Refused("invalid", f"{MOST} selections are kept already; remove one first")
        one, _ = Selection.objects.update_or_create(
            of=of, name=known, defaults={**asked.validated_data, "person": person_of(request)}
        )
        record(person_of(request), "kept selection", known, {"of": of, "query": one.query})
        return Response(told(one))

    @extend_schema(parameters=OF, responses={204: None}, operation_id="remove_selection", tags=["devices"])
    def delete(self, request: Request, name: str) -> Response:
        generics.get_object_or_404(Selection, of=of_what(request), name=name).delete()
        record(person_of(request), "removed selection", name)
        return Response(status=204)
