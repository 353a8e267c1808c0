"""Fields of requests, in which nothing can stand that the rest of the product cannot take."""

from __future__ import annotations

import math
import re
from datetime import UTC, datetime
from typing import Any

from django.urls.converters import IntConverter
from rest_framework import serializers

from oculum.text import harmless

EARLIEST, LATEST = datetime(1970, 1, 1, tzinfo=UTC), datetime(2200, 1, 1, tzinfo=UTC)
MOST_IDENTITY = 2**53


class Moment(serializers.DateTimeField):
    """A time from 1970 to 2199, so that a span before or after it is one too."""

    def to_internal_value(self, value: Any) -> datetime:
        try:
            found = super().to_internal_value(value)
        except OverflowError:
            raise serializers.ValidationError("a time from 1970 to 2199 is expected") from None
        if found is None or not EARLIEST <= found < LATEST:
            raise serializers.ValidationError("a time from 1970 to 2199 is expected")
        return found


class Words(serializers.CharField):
    """A text that people read: marks of control and of direction are shown for what they are, not obeyed."""

    def to_internal_value(self, data: Any) -> str:
        text = super().to_internal_value(data)
        return harmless(text, len(text))


class Amount(serializers.FloatField):
    """A number that is one: neither infinite nor undefined."""

    def to_internal_value(self, data: Any) -> float:
        found = super().to_internal_value(data)
        if not math.isfinite(found):
            raise serializers.ValidationError("a number is expected")
        return found


class Latitude(Amount):
    def __init__(self, **options: Any) -> None:
        super().__init__(**{"min_value": -90, "max_value": 90, "allow_null": True, "required": False, **options})


class Longitude(Amount):
    def __init__(self, **options: Any) -> None:
        super().__init__(**{"min_value": -180, "max_value": 180, "allow_null": True, "required": False, **options})


class Identity(IntConverter):
    """The number of a thing in an address; what no number can be is not there."""

    regex = "[0-9]{1,15}"


def whole(text: str | None, most: int = MOST_IDENTITY) -> int | None:
    """A whole number in a query, of ASCII digits; None for anything else."""
    if text is None or not re.fullmatch(r"[0-9]{1,16}", text, re.ASCII):
        return None
    return int(text) if int(text) <= most else None
