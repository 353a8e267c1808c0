"""What definitions are drafted from: tables and examples."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from oculum.language import limits


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
