"""Constants of devices, such as a calibration, each valid from a moment on."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.text import harmless
from server.records.fleet.models import Constant, Device
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Moment
from server.rules.refusal import Refused
from server.rules.registering import registry_changed

MOST = 1e300
MOST_CONSTANTS = 2000


class ConstantIn(serializers.Serializer):
    name = serializers.RegexField(r"^[a-z][a-z0-9_]{0,62}$")
    value = serializers.JSONField()
    valid_from = Moment(required=False)

    def validate_value(self, value: Any) -> Any:
        if isinstance(value, str) and len(value) <= 200:
            return harmless(value)
        if isinstance(value, bool) or isinstance(value, int | float) and abs(value) < MOST:
            return value
        raise serializers.ValidationError("a constant is a number, a text of at most 200 characters, true or false")


class ConstantOut(serializers.ModelSerializer):
    class Meta:
        model = Constant
        fields = ["id", "name", "value", "valid_from"]


class ConstantsView(APIView):
    """The constants of a device, such as its calibration, each valid from a moment on."""

    @extend_schema(responses=ConstantOut(many=True), operation_id="constants", tags=["devices"])
    def get(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        return Response(ConstantOut(device.constants.order_by("name", "valid_from"), many=True).data)

    @extend_schema(request=ConstantIn, responses={201: ConstantOut}, operation_id="set_constant", tags=["devices"])
    def post(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        asked = ConstantIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        with transaction.atomic():
            if device.constants.count() >= MOST_CONSTANTS:
                raise Refused("too many", f"a device has at most {MOST_CONSTANTS} values of constants")
            constant, _ = Constant.objects.update_or_create(
                device=device,
                name=data["name"],
                valid_from=data.get("valid_from") or timezone.now(),
                defaults={"value": data["value"]},
            )
            about = {"value": constant.value, "valid_from": constant.valid_from.isoformat()}
            record(person_of(request), "set constant", f"{device.name} {constant.name}", about)
            registry_changed(person_of(request))
        return Response(ConstantOut(constant).data, 201)


class ConstantView(APIView):
    """One value of a constant."""

    @extend_schema(responses={204: None}, operation_id="remove_constant", tags=["devices"])
    def delete(self, request: Request, name: str, ident: int) -> Response:
        constant = generics.get_object_or_404(Constant, pk=ident, device__name=name)
        with transaction.atomic():
            record(person_of(request), "removed constant", f"{name} {constant.name}", {"value": constant.value})
            constant.delete()
            registry_changed(person_of(request))
        return Response(status=204)
