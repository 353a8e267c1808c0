"""What the fleet's API takes and gives."""

from __future__ import annotations

import re
from typing import Any
from zoneinfo import available_timezones

from rest_framework import serializers

from oculum.quantities import UnitError, parse_unit
from server.intake.accounts import reserved
from server.records.fleet.models import KINDS, PHASES, Device, DeviceType, Site
from server.requests.fields import Amount, Latitude, Longitude, Words
from server.rules.states import STATES

MOST_LIMIT = 1e15
PAGES = {"add", "types", "sites"}  # stand where a device's page would


class FieldOut(serializers.Serializer):
    name = serializers.RegexField(
        r"^[a-z][a-z0-9_]{0,62}$",
        error_messages={"invalid": "a field's name has letters a-z, digits and underscores, beginning with a letter"},
    )
    kind = serializers.ChoiceField(KINDS)
    unit = serializers.CharField(allow_null=True, required=False, default=None, max_length=40)
    codes = serializers.DictField(child=Words(max_length=60), required=False, default=dict)
    wide = serializers.BooleanField(required=False, default=False)
    difference = serializers.BooleanField(
        required=False, default=False, help_text="of two temperatures: the zero of the scale does not count"
    )
    title = Words(max_length=80, required=False, default="", allow_blank=True)

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if "kind" not in attrs:
            return attrs  # of a change of a part of the type; see `whole`
        numeric = attrs["kind"] in ("number", "integer")
        if attrs.get("unit") and not numeric:
            raise serializers.ValidationError(f"a {attrs['kind']} has no unit")
        if numeric:
            attrs["unit"] = attrs.get("unit") or "1"
            try:
                parse_unit(attrs["unit"])
            except UnitError as error:
                raise serializers.ValidationError(f"{error}; units are UCUM codes such as Cel, mg/L, V") from None
        if any(re.fullmatch(r"0|[1-9][0-9]{0,14}", k, re.ASCII) is None for k in attrs.get("codes", {})):
            raise serializers.ValidationError("the numbers of a code are whole, from 0 to 999,999,999,999,999")
        return attrs


class SetpointOut(serializers.Serializer):
    name = serializers.RegexField(r"^[a-z][a-z0-9_]{0,62}$")
    unit = serializers.CharField(max_length=40)
    value = Amount(allow_null=True, min_value=-MOST_LIMIT, max_value=MOST_LIMIT)

    def validate_unit(self, value: str) -> str:
        try:
            parse_unit(value)
        except UnitError as error:
            raise serializers.ValidationError(f"{error}; units are UCUM codes such as Cel, mg/L, V") from None
        return value


def whole(kind: type[serializers.Serializer], value: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The parts of a list, each of them whole, also where the request changes a part of the thing only."""
    asked = kind(data=value, many=True)
    asked.is_valid(raise_exception=True)
    return list(asked.validated_data)


class SiteOut(serializers.ModelSerializer):
    title = Words(max_length=120)
    caretaker = Words(
        max_length=200, required=False, allow_blank=True, help_text="who looks after it, how to reach them"
    )
    attended = Words(max_length=120, required=False, allow_blank=True, help_text="when somebody is there")
    latitude = Latitude()
    longitude = Longitude()
    parent = serializers.SlugRelatedField(
        slug_field="name", queryset=Site.objects.all(), allow_null=True, required=False
    )  # type: ignore[assignment]
    devices = serializers.IntegerField(source="device_count", read_only=True, required=False)
    own_device = serializers.CharField(
        read_only=True, required=False, allow_null=True, help_text="the device that its own readings belong to"
    )

    class Meta:
        model = Site
        fields = [
            *("name", "title", "parent", "zone", "latitude", "longitude", "caretaker", "attended"),
            *("devices", "own_device", "revision"),
        ]

    def update(self, instance: Site, validated_data: dict[str, Any]) -> Site:
        for name, value in validated_data.items():
            setattr(instance, name, value)
        instance.revise()
        return instance

    def validate_zone(self, value: str) -> str:
        if value not in available_timezones():
            raise serializers.ValidationError(f"`{value}` is no zone of the IANA database, such as UTC")
        return value


class TypeOut(serializers.ModelSerializer):
    title = Words(max_length=120)
    fields = FieldOut(many=True, required=False)  # type: ignore[assignment]
    setpoints = SetpointOut(many=True, required=False)
    devices = serializers.IntegerField(source="device_count", read_only=True, required=False)
    decoder = serializers.IntegerField(read_only=True, required=False, allow_null=True)
    decoder_version = serializers.IntegerField(read_only=True, required=False, allow_null=True)
    waiting_today = serializers.IntegerField(
        read_only=True, required=False, help_text="messages of the last day that wait for a decoder"
    )

    class Meta:
        model = DeviceType
        fields = [
            "key",
            "title",
            "fields",
            "setpoints",
            "cadence_s",
            "is_gateway",
            "devices",
            "decoder",
            "decoder_version",
            "waiting_today",
            "revision",
        ]

    def create(self, validated_data: dict[str, Any]) -> DeviceType:
        return DeviceType.objects.create(**validated_data)

    def update(self, instance: DeviceType, validated_data: dict[str, Any]) -> DeviceType:
        for name, value in validated_data.items():
            setattr(instance, name, value)
        instance.revise()
        return instance

    def validate_fields(self, value: list[dict[str, Any]]) -> list[dict[str, Any]]:
        return unique(whole(FieldOut, value))

    def validate_setpoints(self, value: list[dict[str, Any]]) -> list[dict[str, Any]]:
        return unique(whole(SetpointOut, value))


def unique(value: list[dict[str, Any]]) -> list[dict[str, Any]]:
    names = [v["name"] for v in value]
    twice = next((n for n in names if names.count(n) > 1), None)
    if twice:
        raise serializers.ValidationError(f"`{twice}` stands twice")
    if len(value) > 256:
        raise serializers.ValidationError("at most 256")
    return value


def own_name(value: str) -> str:
    """A name that is free for devices and their like. Raises ValidationError."""
    if reserved(value):
        raise serializers.ValidationError("names that begin with `oculum` are Oculum's own; choose another one")
    if value in PAGES:
        raise serializers.ValidationError(f"`{value}` is a page beside the devices; choose another name")
    return value


class DeviceIn(serializers.ModelSerializer):
    type = serializers.SlugRelatedField(slug_field="key", queryset=DeviceType.objects.all())
    site = serializers.SlugRelatedField(slug_field="name", queryset=Site.objects.all(), allow_null=True, required=False)
    gateway = serializers.SlugRelatedField(
        slug_field="name", queryset=Device.objects.filter(type__is_gateway=True), allow_null=True, required=False
    )
    title = Words(max_length=120)
    labels = serializers.DictField(child=Words(max_length=63), required=False)
    latitude = Latitude()
    longitude = Longitude()

    class Meta:
        model = Device
        fields = ["name", "title", "type", "site", "gateway", "labels", "latitude", "longitude", "phase", "cadence_s"]

    def validate_name(self, value: str) -> str:
        return own_name(value)

    def validate_labels(self, value: dict[str, str]) -> dict[str, str]:
        if len(value) > 32 or any(not k or len(k) > 63 or not k.replace("_", "a").isalnum() for k in value):
            raise serializers.ValidationError(
                "a device has at most 32 labels; their names have letters, digits and underscores"
            )
        return value

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if (attrs.get("latitude") is None) != (attrs.get("longitude") is None) and (
            "latitude" in attrs or "longitude" in attrs
        ):
            raise serializers.ValidationError({"latitude": "a position has both, latitude and longitude"})
        return attrs


class DeviceChange(DeviceIn):
    class Meta(DeviceIn.Meta):
        fields = ["title", "type", "site", "gateway", "labels", "latitude", "longitude", "phase", "cadence_s"]


class ValueOut(serializers.Serializer):
    field = serializers.CharField()
    title = serializers.CharField(help_text="as people call it; empty: by its name")
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    codes = serializers.DictField(child=serializers.CharField())
    value = serializers.JSONField(allow_null=True)
    at = serializers.DateTimeField(allow_null=True)
    message = serializers.CharField(allow_null=True)
    received_at = serializers.DateTimeField(allow_null=True)


class OpenAlarm(serializers.Serializer):
    id = serializers.IntegerField()
    priority = serializers.CharField()
    text = serializers.CharField()
    raised_at = serializers.DateTimeField()
    acknowledged = serializers.BooleanField()


class DeviceRowOut(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    title = serializers.CharField()
    type = serializers.CharField()
    type_title = serializers.CharField()
    site = serializers.CharField(allow_null=True)
    site_title = serializers.CharField(allow_null=True)
    gateway = serializers.CharField(allow_null=True)
    labels = serializers.DictField(child=serializers.CharField())
    phase = serializers.ChoiceField(PHASES)
    state = serializers.ChoiceField(STATES)
    received_at = serializers.DateTimeField(allow_null=True)
    cadence_s = serializers.IntegerField(allow_null=True)
    alarms = OpenAlarm(many=True)
    rhythm = serializers.ListField(child=serializers.IntegerField(), help_text="messages by bucket of the lookback")
    failing = serializers.ListField(
        child=serializers.IntegerField(), help_text="refused messages by bucket of the lookback"
    )
    known_from = serializers.IntegerField(help_text="the first bucket in which the device was known")
    columns = serializers.DictField(child=serializers.JSONField(allow_null=True), help_text="by name, as asked for")


class DevicePage(serializers.Serializer):
    count = serializers.IntegerField()
    units = serializers.DictField(child=serializers.CharField(allow_null=True), help_text="of the columns asked for")
    states = serializers.DictField(child=serializers.IntegerField())
    results = DeviceRowOut(many=True)


class LimitOut(serializers.Serializer):
    condition = serializers.CharField()
    definition = serializers.IntegerField()
    priority = serializers.CharField()
    field = serializers.CharField()
    sign = serializers.CharField()
    value = serializers.FloatField(allow_null=True)
    unit = serializers.CharField(allow_null=True)
    setpoint = serializers.CharField(allow_null=True)


class SetpointInForce(serializers.Serializer):
    name = serializers.CharField()
    unit = serializers.CharField()
    value = serializers.FloatField(allow_null=True)
    source = serializers.ChoiceField(["type", "site", "device"])  # type: ignore[assignment]
    source_title = serializers.CharField()


class DeviceOut(DeviceRowOut):
    revision = serializers.IntegerField(help_text="also the ETag")
    latitude = serializers.FloatField(allow_null=True)
    longitude = serializers.FloatField(allow_null=True)
    registered_at = serializers.DateTimeField()
    adopted_from = serializers.CharField()
    has_key = serializers.BooleanField()
    behind = serializers.IntegerField()
    photo_at = serializers.DateTimeField(allow_null=True, help_text="when its photo was set; null: it has none")
    decoder = serializers.IntegerField(allow_null=True)
    decoder_version = serializers.IntegerField(allow_null=True, help_text="the version that this device runs")
    decoder_because = serializers.ChoiceField(["in force", "chosen", "held"], allow_null=True)
    own_cadence_s = serializers.IntegerField(allow_null=True, help_text="null: as its type has it")
    zone = serializers.CharField()
    site_caretaker = serializers.CharField(help_text="who looks after its site; empty where nobody is named")
    site_attended = serializers.CharField(help_text="when somebody is at its site")
    values = ValueOut(many=True)
    setpoints = SetpointInForce(many=True)
    limits = LimitOut(many=True)


class KeyOut(serializers.Serializer):
    key = serializers.CharField(help_text="shown this once")
    username = serializers.CharField()
    topic = serializers.CharField()
    mosquitto_pub = serializers.CharField()
    curl = serializers.CharField()
    broker_ready = serializers.BooleanField()


class SetpointIn(serializers.Serializer):
    value = Amount(allow_null=True, min_value=-MOST_LIMIT, max_value=MOST_LIMIT)
    device = serializers.CharField(required=False, allow_null=True)
    site = serializers.CharField(required=False, allow_null=True)
