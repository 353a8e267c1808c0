"""What is asked about definitions, and what is answered."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import orjson
from django.utils import timezone
from rest_framework import serializers

from oculum.language import limits
from server.records.again.models import DecodeAgain
from server.records.definitions.models import Case, Definition, Version
from server.records.fleet.models import DeviceType, Site
from server.requests.fields import Amount, Moment, Words
from server.rules.all_kinds import RULES
from server.rules.plans import sentence, trouble
from server.rules.refusal import Refused
from server.rules.selection import Selection

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
    field = serializers.CharField(allow_blank=True, help_text="empty where a quantity of fields is compared")
    sign = serializers.CharField()
    setpoint = serializers.CharField(allow_null=True)
    number = serializers.FloatField(allow_null=True)
    unit = serializers.CharField(allow_null=True)
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()
    words = serializers.CharField(help_text="the quantity that is compared, as it is written")
    priority = serializers.CharField(help_text="of the step")
    deadband = serializers.FloatField(help_text="in `band_unit`")
    band_unit = serializers.CharField(allow_null=True, help_text="in which a deadband is written here")
    held_s = serializers.FloatField(help_text="how long the rule has to hold, seconds")


class LineWords(serializers.Serializer):
    line = serializers.IntegerField()
    act = serializers.CharField()
    words = serializers.CharField()


class TakenAway(serializers.Serializer):
    field = serializers.CharField()
    users = serializers.ListField(child=serializers.CharField())


class CheckIn(serializers.Serializer):
    kind = serializers.ChoiceField(RULES.names)
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(required=False, allow_null=True)


class CheckOut(serializers.Serializer):
    problems = ProblemOut(many=True)
    good = serializers.BooleanField()
    fields = FieldSpecOut(many=True)  # type: ignore[assignment]
    limits = LimitAt(many=True)
    draws = serializers.CharField(allow_null=True, help_text="the field that a chart of it shows")
    type = serializers.CharField(allow_null=True)
    priority = serializers.CharField(allow_null=True)
    sentence = serializers.CharField(allow_null=True, help_text="what a condition does, in plain words")
    source = serializers.CharField(allow_null=True)  # type: ignore[assignment]
    needs_before = serializers.BooleanField(help_text="whether it speaks of the message before")
    lines = LineWords(many=True, help_text="of a route, what each line does")
    takes_away = TakenAway(many=True, help_text="fields in force that something uses and this one does not give")


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


class TrialBar(serializers.Serializer):
    raised_at = serializers.DateTimeField()
    cleared_at = serializers.DateTimeField(allow_null=True)
    priority = serializers.CharField(help_text="the highest it had")


class TrialSpan(TrialBar):
    value = serializers.FloatField(allow_null=True)
    limit = serializers.FloatField(allow_null=True)
    unit = serializers.CharField(allow_null=True, help_text="of value and limit")
    message = serializers.CharField(allow_null=True, help_text="that raised it")
    against = serializers.ChoiceField(
        ["same", "new", "changed"], allow_null=True, help_text="how it stands to the version in force"
    )


class TrialRow(serializers.Serializer):
    device = serializers.CharField(help_text="the name of the device, or of the site")
    title = serializers.CharField()
    limit = serializers.FloatField(allow_null=True, help_text="of the first comparison, at the end of the span")
    own_limit = serializers.BooleanField()
    raised = serializers.IntegerField()
    in_alarm_s = serializers.FloatField()
    longest_s = serializers.FloatField()
    again = serializers.IntegerField(help_text="raised within an hour of being cleared")
    spans = TrialSpan(many=True, help_text="at most the last 200")
    gone = TrialBar(many=True, help_text="what the version in force would have raised, and the draft would not")


class TrialAgainst(serializers.Serializer):
    raised = serializers.IntegerField(help_text="by the version in force")
    new = serializers.IntegerField()
    gone = serializers.IntegerField()
    changed = serializers.IntegerField()
    same = serializers.IntegerField()


class TrialIncident(serializers.Serializer):
    id = serializers.IntegerField()
    device = serializers.CharField()
    begin = serializers.DateTimeField()
    end = serializers.DateTimeField()
    real = serializers.BooleanField()
    raised = serializers.BooleanField(allow_null=True, help_text="null where the trial does not reach over it")


class Supposed(serializers.DictField):
    """Values of setpoints that are tried in place of those of the type."""

    child = Amount(min_value=-1e12, max_value=1e12)

    def to_internal_value(self, data: Any) -> Any:
        found = super().to_internal_value(data)
        if len(found) > 20:
            raise serializers.ValidationError("at most 20 setpoints are tried at once")
        return found


class DayCount(serializers.Serializer):
    day = serializers.CharField()
    count = serializers.IntegerField()


class ConditionTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    subjects = serializers.ChoiceField(["devices", "sites"], help_text="of what `device` and `devices` speak here")
    devices = serializers.IntegerField()
    own_limits = serializers.IntegerField(help_text="of them, with a setpoint of their own")
    raised = serializers.IntegerField()
    still_open = serializers.IntegerField()
    devices_raised = serializers.IntegerField()
    median_s = serializers.FloatField(allow_null=True, help_text="how long an alarm lasted, as a rule")
    longest_s = serializers.FloatField(allow_null=True)
    by_day = DayCount(many=True)
    unit = serializers.CharField(allow_null=True, help_text="of the limits of the rows")
    rows = TrialRow(many=True, help_text="those with an alarm, the most first; at most 500")
    rows_in_all = serializers.IntegerField()
    never = serializers.ListField(child=serializers.CharField(), help_text="titles; at most 50")
    never_in_all = serializers.IntegerField()
    against = TrialAgainst(allow_null=True)
    incidents = TrialIncident(many=True)


class RouteTrialLine(serializers.Serializer):
    line = serializers.IntegerField()
    seen = serializers.IntegerField()
    took = serializers.IntegerField()
    failed = serializers.IntegerField()
    examples = serializers.ListField(child=serializers.CharField(), help_text="messages, at most 5")


class ReasonCount(serializers.Serializer):
    reason = serializers.CharField()
    count = serializers.IntegerField()


class OutletCount(serializers.Serializer):
    outlet = serializers.CharField()
    readings = serializers.IntegerField()


class RouteTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    values = serializers.IntegerField(help_text="as decoded")
    gone = serializers.IntegerField(help_text="of them, dropped or thinned out on the way, by all routes")
    lines = RouteTrialLine(many=True)
    reasons = ReasonCount(many=True, help_text="dropped, by reason, by all routes")
    sent = OutletCount(many=True, help_text="what this route would have sent")
    fields = TrialField(many=True, help_text="that differ from what the routes in force give")  # type: ignore[assignment]
    against = serializers.BooleanField(help_text="whether a version of it is in force")


class TraceCurve(serializers.Serializer):
    words = serializers.CharField(help_text="the quantity that is compared, as it is written")
    unit = serializers.CharField(allow_null=True)
    t = serializers.ListField(child=serializers.FloatField(), help_text="seconds since 1970")
    v = serializers.ListField(child=serializers.FloatField(allow_null=True))
    limit = serializers.ListField(child=serializers.FloatField(allow_null=True))


class TraceOut(serializers.Serializer):
    curves = TraceCurve(many=True)
    holds = serializers.ListField(child=serializers.DictField())
    alarms = TrialBar(many=True)
    looked = serializers.IntegerField(help_text="at how many moments it was looked at")


class SuggestedPoint(serializers.Serializer):
    value = serializers.FloatField()
    held_s = serializers.FloatField()
    raised = serializers.IntegerField()
    a_day = serializers.FloatField()
    devices = serializers.IntegerField()


class SuggestedOut(serializers.Serializer):
    unit = serializers.CharField(allow_null=True)
    words = serializers.CharField()
    setpoint = serializers.CharField(allow_null=True)
    sign = serializers.CharField()
    values = serializers.IntegerField()
    percentiles = serializers.ListField(child=serializers.FloatField())
    points = SuggestedPoint(many=True)


class WorkStep(serializers.Serializer):
    """A line of long work: how far it is, at last what came of it."""

    done = serializers.IntegerField(required=False)
    total = serializers.IntegerField(required=False)


class TraceStep(WorkStep):
    result = TraceOut(required=False)


class SuggestedStep(WorkStep):
    result = SuggestedOut(required=False)


class TrialOut(serializers.Serializer):
    decoder = DecoderTrialOut(required=False)
    condition = ConditionTrialOut(required=False)
    route = RouteTrialOut(required=False)
    seconds = serializers.FloatField()


class AgainOut(serializers.ModelSerializer):
    behind = serializers.IntegerField(read_only=True, default=0, help_text="jobs that wait behind this one")

    class Meta:
        model = DecodeAgain
        fields = ["id", "state", "reason", "total", "done", "decoded", "asked_at", "start", "end", "behind"]


class FunctionOut(serializers.Serializer):
    name = serializers.CharField()
    words = serializers.CharField(help_text="how it is used")
    kind = serializers.CharField(help_text="of the definitions that can speak of it")


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
    days = Amount(
        required=False,
        allow_null=True,
        min_value=0.01,
        max_value=31,
        help_text="back from now; of conditions 7 by default",
    )
    start = Moment(
        required=False, allow_null=True, help_text="of the span of arrival; of what lies in it, the last `messages`"
    )
    end = Moment(required=False, allow_null=True)
    supposed = Supposed(required=False, help_text="of conditions: setpoints that are tried")

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
