"""What is asked about definitions, and what is answered."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import orjson
from django.utils import timezone
from rest_framework import serializers

from oculum.language import limits
from server.api.definitions.text_shapes import TEXT
from server.records.again.models import DecodeAgain
from server.records.definitions.models import Case, Definition, Version
from server.records.fleet.models import DeviceType, Site
from server.requests.fields import Moment, Words
from server.rules.all_kinds import RULES
from server.rules.plans import sentence, trouble
from server.rules.refusal import Refused
from server.rules.selection import Selection


class VersionOut(serializers.ModelSerializer):
    who = serializers.SerializerMethodField()

    class Meta:
        model = Version
        fields = ["id", "number", "text", "at", "why", "who"]

    def get_who(self, version: Version) -> str:
        if version.person is None:
            return "Oculum"  # the demo, or a decoder made from what devices say of themselves
        return version.person.called


class DefinitionOut(serializers.ModelSerializer):
    type = serializers.SlugRelatedField(slug_field="key", queryset=DeviceType.objects.all())
    type_title = serializers.CharField(source="type.title", read_only=True)
    live = VersionOut(read_only=True, allow_null=True)
    open_alarms = serializers.IntegerField(read_only=True, required=False)
    refused_today = serializers.IntegerField(read_only=True, required=False)
    waiting_today = serializers.IntegerField(read_only=True, required=False)
    rolling_out = serializers.SerializerMethodField()
    trouble = serializers.SerializerMethodField(help_text="why the version in force no longer reads well")
    sentence = serializers.SerializerMethodField(help_text="what the version in force does, in plain words")
    name = Words(max_length=120)
    draft_who = serializers.SerializerMethodField(help_text="who changed the draft last")
    last_number = serializers.IntegerField(read_only=True, allow_null=True)
    off_who = serializers.SerializerMethodField(help_text="who switched a condition off, where it is")

    kind = serializers.ChoiceField(RULES.names)

    class Meta:
        model = Definition
        fields = [
            "id",
            "kind",
            "name",
            "type",
            "type_title",
            "draft",
            "draft_number",
            "draft_who",
            "draft_at",
            "live",
            "retired",
            "instruction",
            "off_until",
            "off_why",
            "off_who",
            "open_alarms",
            "refused_today",
            "waiting_today",
            "trouble",
            "sentence",
            "rolling_out",
            "last_number",
        ]
        read_only_fields = ["draft_number", "draft_at", "retired", "instruction", "off_until", "off_why"]
        extra_kwargs = {"draft": {"trim_whitespace": False, "max_length": limits.SOURCE_CHARACTERS}}

    def validate_name(self, value: str) -> str:
        return value.strip()

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        same = Definition.objects.filter(kind=attrs.get("kind"), name__iexact=attrs.get("name", ""))
        if same.exists():
            raise Refused("exists", f"there is a {attrs['kind']} of this name already", 409)
        return attrs

    def get_draft_who(self, definition: Definition) -> str | None:
        return definition.draft_by.called if definition.draft_by is not None else None

    def get_off_who(self, definition: Definition) -> str | None:
        return definition.off_by.called if definition.off_by is not None else None

    def get_trouble(self, definition: Definition) -> str | None:
        return trouble(definition)

    def get_sentence(self, definition: Definition) -> str | None:
        return sentence(definition.kind, definition.live, definition.type.key) if definition.live is not None else None

    def get_rolling_out(self, definition: Definition) -> int | None:
        return definition.rollout.version.number if hasattr(definition, "rollout") else None


class OffIn(serializers.Serializer):
    until = Moment()
    why = Words(max_length=300)

    def validate_until(self, value: datetime) -> datetime:
        if not timezone.now() < value <= timezone.now() + timedelta(days=90):
            raise serializers.ValidationError("a condition is switched off until a moment within the next 90 days")
        return value


class DraftIn(serializers.Serializer):
    draft = serializers.CharField(**TEXT)
    draft_number = serializers.IntegerField(min_value=0, max_value=2**31 - 2)


class SelectionIn(serializers.Serializer):
    """Devices with all the labels, at the site or below it, of the share: all three hold at once."""

    labels = serializers.DictField(child=Words(max_length=100), required=False)
    site = serializers.SlugRelatedField(slug_field="name", queryset=Site.objects.all(), required=False, allow_null=True)
    share = serializers.IntegerField(
        min_value=1, max_value=100, required=False, default=100, help_text="percent of them"
    )


def selection_of(data: dict[str, Any]) -> Selection:
    return Selection.of(
        {
            "labels": data.get("labels"),
            "site": data["site"].pk if data.get("site") else None,
            "share": data.get("share"),
        }
    )


class PublishIn(serializers.Serializer):
    first = SelectionIn(required=False, allow_null=True, help_text="only these devices have the version at first")
    text = serializers.CharField(**TEXT)
    despite_cases = serializers.BooleanField(required=False, default=False)
    why = Words(max_length=300, required=False, allow_blank=True)
    base = serializers.IntegerField(
        required=False, allow_null=True, min_value=0, max_value=2**31 - 1, help_text="the newest version that was seen"
    )
    draft_number = serializers.IntegerField(required=False, allow_null=True, min_value=0, max_value=2**31 - 1)


class AgainOut(serializers.ModelSerializer):
    behind = serializers.IntegerField(read_only=True, default=0, help_text="jobs that wait behind this one")

    class Meta:
        model = DecodeAgain
        fields = ["id", "state", "reason", "total", "done", "decoded", "asked_at", "start", "end", "behind"]


class AgainIn(serializers.Serializer):
    start = Moment(required=False, allow_null=True)
    end = Moment(required=False, allow_null=True)

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if (data.get("start") is None) != (data.get("end") is None) or (
            data.get("start") and data["start"] >= data["end"]
        ):
            raise serializers.ValidationError(
                "a span has a start and a later end; without both, the refused messages are meant"
            )
        return data


class AgainState(serializers.Serializer):
    state = serializers.ChoiceField(["paused", "waiting"])


class CaseOut(serializers.ModelSerializer):
    payload_hex = serializers.SerializerMethodField()
    previous_hex = serializers.SerializerMethodField()
    expect = serializers.JSONField()
    headers = serializers.JSONField()
    constants = serializers.JSONField()

    class Meta:
        model = Case
        fields = ["id", "name", "payload_hex", "received_at", "headers", "constants", "previous_hex", "expect", "at"]

    def get_payload_hex(self, case: Case) -> str:
        return bytes(case.payload).hex()

    def get_previous_hex(self, case: Case) -> str | None:
        return bytes(case.previous).hex() if case.previous is not None else None


def expectation(value: Any) -> Any:
    """What a case expects, as it is kept. Raises ValidationError."""
    if not isinstance(value, dict) or not ({"readings", "error"} & value.keys()) or len(orjson.dumps(value)) > 500_000:
        raise serializers.ValidationError("expected an object with `readings`, a list, or `error`, a code")
    if not isinstance(value.get("readings", []), list):
        raise serializers.ValidationError("`readings` is a list")
    for reading in value.get("readings", []):
        if (
            not isinstance(reading, dict)
            or not isinstance(reading.get("field"), str)
            or not isinstance(reading.get("at"), str)
        ):
            raise serializers.ValidationError("each reading has at least `field`, `value` and `at`")
    return value


class CaseIn(serializers.Serializer):
    name = Words(max_length=120)
    payload_hex = serializers.CharField(max_length=2 * limits.PAYLOAD_BYTES, allow_blank=True)
    received_at = Moment()
    headers = serializers.DictField(child=serializers.CharField(max_length=400, allow_blank=True), required=False)
    constants = serializers.DictField(child=serializers.JSONField(), required=False)
    previous_hex = serializers.CharField(max_length=2 * limits.PAYLOAD_BYTES, required=False, allow_null=True)
    expect = serializers.JSONField()

    def validate_expect(self, value: Any) -> Any:
        return expectation(value)


class CaseChange(serializers.Serializer):
    name = Words(max_length=120, required=False)
    expect = serializers.JSONField(required=False)

    def validate_expect(self, value: Any) -> Any:
        return expectation(value)


class CaseRun(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    passed = serializers.BooleanField()
    differences = serializers.ListField(child=serializers.CharField())
    gives = serializers.JSONField(help_text="what the draft makes of it, as `expect` says it")


class CasesRunOut(serializers.Serializer):
    cases = CaseRun(many=True)
    failing = serializers.IntegerField()


class RunIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)


class EffectOut(serializers.Serializer):
    devices = serializers.IntegerField()
    conditions = serializers.IntegerField()
    open_alarms = serializers.IntegerField()
    routes = serializers.IntegerField()


class InForceIn(serializers.Serializer):
    number = serializers.IntegerField(min_value=1, max_value=2**31 - 1)
