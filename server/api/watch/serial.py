"""What Watch tells, as the document of the API says it."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers


class HealthFigures(serializers.Serializer):
    devices = serializers.IntegerField()
    messages = serializers.IntegerField()
    expected = serializers.FloatField(allow_null=True, help_text="by cadence, of the time in which Oculum listened")
    availability = serializers.FloatField(allow_null=True, help_text="messages to those expected, 0 to 1")
    decoded = serializers.FloatField(allow_null=True, help_text="share of messages that decode, 0 to 1")
    complete = serializers.FloatField(allow_null=True, help_text="share of values that are not missing, 0 to 1")
    delay_s = serializers.FloatField(allow_null=True, help_text="mean from measured to received")
    delay_max_s = serializers.FloatField(allow_null=True)
    clock_s = serializers.FloatField(allow_null=True, help_text="how far the clock is ahead")
    alarm_s = serializers.FloatField(help_text="time with an open alarm")
    states_s = serializers.DictField(child=serializers.FloatField(), help_text="time in each state")


class HealthRow(HealthFigures):
    key = serializers.CharField()
    title = serializers.CharField()


class HealthOut(serializers.Serializer):
    count = serializers.IntegerField()
    whole = HealthFigures()
    results = HealthRow(many=True)


class BandOut(serializers.Serializer):
    key = serializers.CharField()
    title = serializers.CharField()
    devices = serializers.IntegerField()
    reporting = serializers.ListField(child=serializers.IntegerField())
    overdue = serializers.ListField(child=serializers.IntegerField())
    silent = serializers.ListField(child=serializers.IntegerField())
    undecodable = serializers.ListField(child=serializers.IntegerField())


class BandRow(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    states = serializers.CharField(help_text="a letter a part: r, o, s, u, or a blank before it was heard")


class BandsOut(serializers.Serializer):
    start = serializers.DateTimeField()
    part_s = serializers.FloatField(help_text="length of a part; each device counts as what it was for most of it")
    parts = serializers.IntegerField()
    count = serializers.IntegerField(help_text="devices in the groups told")
    bands = BandOut(many=True)
    rows = BandRow(many=True, help_text="the devices of the one group that is asked for")


class FadingOut(serializers.Serializer):
    kind = serializers.ChoiceField(["battery", "clock", "delay", "link"])
    device = serializers.CharField()
    title = serializers.CharField()
    site_title = serializers.CharField(allow_null=True)
    field = serializers.CharField()
    words = serializers.CharField()
    days = serializers.ListField(child=serializers.FloatField(allow_null=True), help_text="by day, two weeks")
    level = serializers.FloatField(allow_null=True)


class UnusualOut(serializers.Serializer):
    device = serializers.CharField()
    title = serializers.CharField()
    site_title = serializers.CharField(allow_null=True)
    field = serializers.CharField()
    words = serializers.CharField()


class OverOut(serializers.Serializer):
    condition = serializers.CharField()
    times = serializers.IntegerField()
    alarm = serializers.IntegerField(help_text="the last of them")
    text = serializers.CharField()
    at = serializers.DateTimeField()


class FreshOut(serializers.Serializer):
    kind = serializers.ChoiceField(["device", "version", "sender"])
    words = serializers.CharField()
    link = serializers.CharField()
    at = serializers.DateTimeField(allow_null=True)


class ComparedOut(serializers.Serializer):
    days = serializers.IntegerField(help_text="how long before; 0 is the span itself")
    raised = serializers.IntegerField()
    messages = serializers.IntegerField()
    availability = serializers.FloatField(allow_null=True)
    decoded = serializers.FloatField(allow_null=True)
    silent = serializers.FloatField(allow_null=True)
    undecodable = serializers.FloatField(allow_null=True)
    delay = serializers.FloatField(allow_null=True)


class GapOut(serializers.Serializer):
    since = serializers.DateTimeField()
    until = serializers.DateTimeField()


class WatchOut(serializers.Serializer):
    devices = serializers.IntegerField(help_text="in service")
    states = serializers.DictField(child=serializers.IntegerField())
    raised = serializers.IntegerField()
    usual = serializers.FloatField(allow_null=True, help_text="median of the spans before of the same length")
    open = serializers.IntegerField()
    untaken = serializers.IntegerField()
    fading = FadingOut(many=True)
    fading_count = serializers.IntegerField()
    unusual = UnusualOut(many=True)
    unusual_count = serializers.IntegerField()
    over = OverOut(many=True)
    over_count = serializers.IntegerField()
    fresh = FreshOut(many=True)
    fresh_count = serializers.IntegerField()
    shelved = serializers.IntegerField()
    shelved_until = serializers.DateTimeField(allow_null=True)
    suppressed = serializers.IntegerField()
    blocked = serializers.ListField(child=serializers.CharField())
    compared = ComparedOut(many=True)
    gaps = GapOut(many=True, help_text="in which Oculum did not listen; they are counted against nobody")

    def get_fields(self) -> dict[str, Any]:
        return {"from": serializers.DateTimeField(), "to": serializers.DateTimeField(), **super().get_fields()}
