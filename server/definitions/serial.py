"""What is asked about definitions, and what is answered."""

from __future__ import annotations

from typing import Any

import orjson
from rest_framework import serializers

from oculum.language import limits
from server.access.errors import Refused
from server.access.fields import Amount, Moment, Words
from server.fleet.models import DeviceType, Site
from server.history.models import DecodeAgain

from .models import Case, Definition, Version
from .plans import trouble
from .rollouts import Selection

TEXT: dict[str, Any] = {"max_length": limits.SOURCE_CHARACTERS, "allow_blank": True, "trim_whitespace": False}


class ProblemOut(serializers.Serializer):
    message = serializers.CharField()
    severity = serializers.CharField()
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()
    fix = serializers.CharField(allow_null=True)


class FieldSpecOut(serializers.Serializer):
    name = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)


class LimitAt(serializers.Serializer):
    field = serializers.CharField()
    sign = serializers.CharField()
    setpoint = serializers.CharField(allow_null=True)
    number = serializers.FloatField(allow_null=True)
    unit = serializers.CharField(allow_null=True)
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()


class CheckIn(serializers.Serializer):
    kind = serializers.ChoiceField(["decoder", "condition"])
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(required=False, allow_null=True)


class CheckOut(serializers.Serializer):
    problems = ProblemOut(many=True)
    good = serializers.BooleanField()
    fields = FieldSpecOut(many=True)  # type: ignore[assignment]
    limits = LimitAt(many=True)
    type = serializers.CharField(allow_null=True)
    priority = serializers.CharField(allow_null=True)
    source = serializers.CharField(allow_null=True)  # type: ignore[assignment]
    needs_before = serializers.BooleanField(help_text="whether it speaks of the message before")


class FormIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    line = serializers.IntegerField(min_value=1, max_value=limits.SOURCE_CHARACTERS)


class SlotOut(serializers.Serializer):
    label = serializers.CharField()  # type: ignore[assignment]
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()
    text = serializers.CharField()
    kind = serializers.ChoiceField(["text", "choice", "word"])
    options = serializers.ListField(child=serializers.CharField())
    prefix = serializers.CharField()
    whole = serializers.IntegerField(help_text="the column from which it is taken out")
    optional = serializers.BooleanField()
    what = serializers.CharField(help_text="unit, field, type, or nothing")


class LineForm(serializers.Serializer):
    title = serializers.CharField()
    line = serializers.IntegerField()
    slots = SlotOut(many=True)


class FormOut(serializers.Serializer):
    form = LineForm(allow_null=True)


class FormatIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)


class FormatOut(serializers.Serializer):
    text = serializers.CharField()


class DecodeIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(required=False, allow_null=True)
    payload_hex = serializers.CharField(max_length=140_000, allow_blank=True)
    received_at = Moment(required=False)
    headers = serializers.DictField(child=serializers.CharField(max_length=400, allow_blank=True), required=False)
    constants = serializers.DictField(child=serializers.JSONField(), required=False)
    previous_hex = serializers.CharField(max_length=140_000, required=False, allow_null=True)


class PlaceOut(serializers.Serializer):
    first = serializers.IntegerField()
    last = serializers.IntegerField()
    high = serializers.IntegerField()
    low = serializers.IntegerField()
    whole = serializers.BooleanField()
    little = serializers.BooleanField()


class MarkOut(serializers.Serializer):
    line = serializers.IntegerField()
    field = serializers.CharField(help_text="empty where an expression of the line reads, as a check does")
    turn = serializers.IntegerField()
    places = PlaceOut(many=True)
    raw = serializers.ListField(child=serializers.JSONField(allow_null=True), allow_null=True)
    paths = serializers.ListField(child=serializers.CharField())
    spots = serializers.ListField(child=serializers.ListField(child=serializers.JSONField()))


class ReadingOut(serializers.Serializer):
    field = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    value = serializers.JSONField(allow_null=True)
    text = serializers.CharField(allow_null=True)
    missing = serializers.CharField(allow_null=True)
    at = serializers.DateTimeField()
    device = serializers.CharField(allow_null=True)


class PartOut(serializers.Serializer):
    part = serializers.CharField()
    device = serializers.CharField(allow_null=True)
    error = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()


class DecodeError(serializers.Serializer):
    code = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()
    byte = serializers.IntegerField(allow_null=True)


class DecodeOut(serializers.Serializer):
    values = ReadingOut(many=True)
    marks = MarkOut(many=True)
    error = DecodeError(allow_null=True)
    unread = serializers.IntegerField()
    tail = serializers.IntegerField()
    checked = serializers.BooleanField(help_text="a check was computed, and the message was taken")
    untaken = serializers.ListField(child=serializers.IntegerField(), help_text="lines that this message did not take")
    parts = PartOut(many=True)
    received_at = serializers.DateTimeField()
    document = serializers.JSONField(allow_null=True)


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
    name = Words(max_length=120)
    draft_who = serializers.SerializerMethodField(help_text="who changed the draft last")
    last_number = serializers.IntegerField(read_only=True, allow_null=True)

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
            "open_alarms",
            "refused_today",
            "waiting_today",
            "trouble",
            "rolling_out",
            "last_number",
        ]
        read_only_fields = ["draft_number", "draft_at", "retired"]
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

    def get_trouble(self, definition: Definition) -> str | None:
        return trouble(definition)

    def get_rolling_out(self, definition: Definition) -> int | None:
        return definition.rollout.version.number if hasattr(definition, "rollout") else None


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


class TrialIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    messages = serializers.IntegerField(min_value=1, max_value=100_000, default=5_000)
    days = Amount(min_value=0.01, max_value=31, default=7)


class TrialReason(serializers.Serializer):
    code = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()
    count = serializers.IntegerField()
    example = serializers.CharField()


class Distribution(serializers.Serializer):
    low = serializers.FloatField()
    high = serializers.FloatField()
    middle = serializers.FloatField()
    counts = serializers.ListField(child=serializers.IntegerField())


class TrialField(serializers.Serializer):
    field = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    distribution = Distribution(allow_null=True)
    values = serializers.IntegerField()
    missing = serializers.IntegerField()
    differ = serializers.IntegerField(allow_null=True)
    state = serializers.ChoiceField(["same", "new", "lost"])
    low = serializers.FloatField(allow_null=True)
    high = serializers.FloatField(allow_null=True)


class DecoderTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    decoded = serializers.IntegerField()
    failed = serializers.IntegerField()
    partly = serializers.IntegerField()
    decoded_before = serializers.IntegerField(allow_null=True)
    reasons = TrialReason(many=True)
    fields = TrialField(many=True)  # type: ignore[assignment]


class TrialSpan(serializers.Serializer):
    device = serializers.CharField()
    raised_at = serializers.DateTimeField()
    cleared_at = serializers.DateTimeField(allow_null=True)
    value = serializers.FloatField(allow_null=True)
    limit = serializers.FloatField(allow_null=True)


class DeviceCount(serializers.Serializer):
    device = serializers.CharField()
    count = serializers.IntegerField()


class DayCount(serializers.Serializer):
    day = serializers.CharField()
    count = serializers.IntegerField()


class ConditionTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    devices = serializers.IntegerField()
    raised = serializers.IntegerField()
    still_open = serializers.IntegerField()
    devices_raised = serializers.IntegerField()
    by_device = DeviceCount(many=True)
    by_day = DayCount(many=True)
    spans = TrialSpan(many=True)


class TrialOut(serializers.Serializer):
    decoder = DecoderTrialOut(required=False)
    condition = ConditionTrialOut(required=False)
    seconds = serializers.FloatField()


class AgainOut(serializers.ModelSerializer):
    behind = serializers.IntegerField(read_only=True, default=0, help_text="jobs that wait behind this one")

    class Meta:
        model = DecodeAgain
        fields = ["id", "state", "reason", "total", "done", "decoded", "asked_at", "start", "end", "behind"]


class FunctionOut(serializers.Serializer):
    name = serializers.CharField()
    words = serializers.CharField()


class UnitOut(serializers.Serializer):
    code = serializers.CharField(help_text="by the UCUM")
    printed = serializers.CharField()
    words = serializers.CharField(help_text="what it is called, and what is measured in it")


class LanguageOut(serializers.Serializer):
    functions = FunctionOut(many=True)
    checks = serializers.ListField(child=serializers.CharField())
    units = UnitOut(many=True)


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


class CurvesIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(max_length=63)
    device = serializers.CharField(max_length=63)
    until = Moment(help_text="the last messages that had arrived by then")


class CurveOut(serializers.Serializer):
    field = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    t = serializers.ListField(child=serializers.FloatField(), help_text="seconds since 1970")
    v = serializers.ListField(child=serializers.FloatField(allow_null=True))


class CurvesOut(serializers.Serializer):
    messages = serializers.IntegerField()
    decoded = serializers.IntegerField()
    fields = CurveOut(many=True)  # type: ignore[assignment]

    def get_fields(self) -> dict[str, Any]:
        return {
            "messages": serializers.IntegerField(),
            "decoded": serializers.IntegerField(),
            "fields": CurveOut(many=True),
        }


class EffectOut(serializers.Serializer):
    devices = serializers.IntegerField()
    conditions = serializers.IntegerField()
    open_alarms = serializers.IntegerField()
    routes = serializers.IntegerField()


class InForceIn(serializers.Serializer):
    number = serializers.IntegerField(min_value=1, max_value=2**31 - 1)


class TrialAsk(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    messages = serializers.IntegerField(min_value=1, max_value=100_000, default=5_000)
    device = serializers.CharField(required=False, allow_null=True, max_length=63)
    chosen = serializers.BooleanField(
        required=False, default=False, help_text="only messages of the devices that a rollout chose"
    )
    days = Amount(required=False, allow_null=True, min_value=0.01, max_value=31)
    start = Moment(
        required=False, allow_null=True, help_text="of the span of arrival; of what lies in it, the last `messages`"
    )
    end = Moment(required=False, allow_null=True)

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if data.get("start") and data.get("end") and data["start"] >= data["end"]:
            raise serializers.ValidationError("a span has a start and a later end")
        return data


class TableIn(serializers.Serializer):
    text = serializers.CharField(max_length=200_000, trim_whitespace=False)
    name = serializers.RegexField(r"^[a-z][a-z0-9_]{0,62}$")
    source = serializers.ChoiceField(["bytes", "registers"], default="bytes")  # type: ignore[assignment]
    order = serializers.ChoiceField(["big", "little"], default="big")


class UnreadOut(serializers.Serializer):
    row = serializers.IntegerField()
    text = serializers.CharField()
    why = serializers.CharField()


class TableOut(serializers.Serializer):
    text = serializers.CharField()
    columns = serializers.DictField(child=serializers.IntegerField())
    unread = UnreadOut(many=True)
    lines = serializers.IntegerField()


class GuessIn(serializers.Serializer):
    type = serializers.CharField(max_length=63)
    device = serializers.CharField(required=False, allow_null=True, max_length=63)
    length = serializers.IntegerField(min_value=1, max_value=limits.PAYLOAD_BYTES)
    first = serializers.IntegerField(min_value=0, max_value=limits.PAYLOAD_BYTES)
    last = serializers.IntegerField(min_value=0, max_value=limits.PAYLOAD_BYTES)
    high = serializers.IntegerField(required=False, allow_null=True, min_value=0, max_value=63)
    low = serializers.IntegerField(required=False, allow_null=True, min_value=0, max_value=63)

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if not data["first"] <= data["last"] < data["length"] or data["last"] - data["first"] > 7:
            raise serializers.ValidationError("choose one to eight bytes that follow each other, within the message")
        if data.get("high") is not None and not (data.get("low") or 0) <= data["high"] < 8 * (
            data["last"] - data["first"] + 1
        ):
            raise serializers.ValidationError("the bits lie outside of the bytes")
        return data


class GuessOut(serializers.Serializer):
    storage = serializers.CharField()
    order = serializers.CharField(allow_null=True)
    what = serializers.CharField()
    values = serializers.ListField(child=serializers.FloatField(allow_null=True))


class GuessesOut(serializers.Serializer):
    guesses = GuessOut(many=True)
    messages = serializers.IntegerField()
