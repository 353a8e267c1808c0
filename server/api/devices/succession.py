"""A unit that takes another's place: its title, site, gateway, labels, own limits and constants."""

from __future__ import annotations

from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.devices.devices import device_out
from server.api.devices.serial import DeviceOut, own_name
from server.records.fleet.models import Device, Setpoint
from server.records.people.models import Person, record
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.requests.moments import span
from server.requests.revisions import changing, lock_trees
from server.rules.registering import registry_changed, set_setpoint

TAKEN = ("title", "type", "site", "gateway", "labels", "latitude", "longitude", "cadence_s")


class SuccessorIn(serializers.ModelSerializer):
    title = Words(max_length=120, required=False)

    class Meta:
        model = Device
        fields = ["name", "title"]

    def validate_name(self, value: str) -> str:
        return own_name(value)


def succeed(before: Device, name: str, title: str, person: Person | None) -> Device:
    """Registers a device in the place of another, which retires. Values and alarms stay with the unit that had them."""
    after = Device(name=name, **{field: getattr(before, field) for field in TAKEN})
    after.title = title or before.title
    after.save()
    for own in Setpoint.objects.filter(device=before):
        set_setpoint(own.type, own.name, own.value, person, device=after.pk)
    for constant in before.constants.all():
        after.constants.create(name=constant.name, value=constant.value, valid_from=constant.valid_from)
    for behind in before.behind.all():
        behind.gateway = after
        behind.revise()
    before.phase = "retired"
    before.revise()
    return after


class SuccessorView(APIView):
    """Another unit in a device's place."""

    @extend_schema(request=SuccessorIn, responses={201: DeviceOut}, operation_id="succeed", tags=["devices"])
    def post(self, request: Request, name: str) -> Response:
        """The new device takes over; the old one retires with all that it measured. The new one needs a key."""
        asked = SuccessorIn(data=request.data)
        with transaction.atomic():
            lock_trees()
            before = changing(request, Device.objects.all(), name, name=name)
            asked.is_valid(raise_exception=True)
            data = asked.validated_data
            after = succeed(before, data["name"], data.get("title", ""), person_of(request))
            registry_changed(person_of(request), accounts=True)
            record(person_of(request), "replaced by another unit", before.name, {"by": after.name})
            record(person_of(request), "added device", after.name, {"in the place of": before.name})
        return Response(device_out(after, *span(request)), 201)
