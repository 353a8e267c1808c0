"""Trials as the API tells them, and what they are asked with."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from server.api.definitions.text_shapes import TEXT
from server.requests.fields import Amount, Moment


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
