"""Oculum watched like a device."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.requests.authentication import person_of
from server.rules.itself import own_device, watch_itself


class ItselfOut(serializers.Serializer):
    device = serializers.CharField(allow_null=True, help_text="the name of the device that Oculum is, where it is one")


class ItselfView(APIView):
    writes = "admin"

    @extend_schema(responses=ItselfOut, operation_id="itself", tags=["fleet"])
    def get(self, request: Request) -> Response:
        device = own_device()
        return Response({"device": device.name if device is not None else None})

    @extend_schema(request=None, responses={201: ItselfOut}, operation_id="watch_itself", tags=["fleet"])
    def post(self, request: Request) -> Response:
        """A device that reports once a minute how Oculum fares, its decoder, and conditions on it."""
        return Response({"device": watch_itself(person_of(request)).name}, 201)
