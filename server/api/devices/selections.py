"""Selections of devices that are kept under a name: what the list is filtered by, its order and its columns."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
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

PARTS = ("q", "type", "site", "gateway", "label", "state", "phase", "order")
MOST = 200


class KeptSelectionIn(serializers.Serializer):
    query = serializers.DictField(
        child=serializers.CharField(max_length=200, allow_blank=True), help_text=f"any of {', '.join(PARTS)}"
    )
    columns = serializers.ListField(child=serializers.CharField(max_length=80), required=False, default=list)

    def validate_query(self, value: dict[str, str]) -> dict[str, str]:
        strange = sorted(set(value) - set(PARTS))
        if strange:
            raise serializers.ValidationError(f"found `{strange[0][:40]}`, expected {', '.join(PARTS)}")
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

    @extend_schema(responses=KeptSelectionOut(many=True), operation_id="selections", tags=["devices"])
    def get(self, request: Request) -> Response:
        return Response([told(one) for one in Selection.objects.select_related("person").order_by("name")[:MOST]])


class SelectionView(APIView):
    """One by its name."""

    writes = "operator"

    @extend_schema(request=KeptSelectionIn, responses=KeptSelectionOut, operation_id="keep_selection", tags=["devices"])
    def put(self, request: Request, name: str) -> Response:
        asked = KeptSelectionIn(data=request.data)
        asked.is_valid(raise_exception=True)
        known = Words(max_length=80).run_validation(name)
        if not Selection.objects.filter(name=known).exists() and Selection.objects.count() >= MOST:
            raise Refused("invalid", f"{MOST} selections are kept already; remove one first")
        one, _ = Selection.objects.update_or_create(
            name=known, defaults={**asked.validated_data, "person": person_of(request)}
        )
        record(person_of(request), "kept selection", known, {"query": one.query})
        return Response(told(one))

    @extend_schema(responses={204: None}, operation_id="remove_selection", tags=["devices"])
    def delete(self, request: Request, name: str) -> Response:
        generics.get_object_or_404(Selection, name=name).delete()
        record(person_of(request), "removed selection", name)
        return Response(status=204)
