"""Texts as they are checked, formatted, shown as a form and tried on a message."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from oculum.language import limits
from server.requests.fields import Moment
from server.rules.all_kinds import RULES

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
