"""Times in requests: ISO 8601 with a zone, or nothing for now."""

from __future__ import annotations

import functools
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter
from rest_framework.request import Request

from server.requests.fields import EARLIEST, LATEST
from server.rules.refusal import Refused
from server.store.as_of import as_of

A = TypeVar("A")
SPAN = timedelta(days=800)  # what is asked for around it stays within what can be said


def moment_asked(request: Request, name: str) -> datetime | None:
    """The time given as query parameter `name`. Raises Refused."""
    text = request.query_params.get(name)
    if not text:
        return None
    try:
        found = datetime.fromisoformat(text.replace("Z", "+00:00").replace(" ", "+"))
    except ValueError:
        raise Refused("invalid", f"{name}: found `{text[:40]}`, expected a time such as 2000-01-01T00:00:00Z") from None
    if found.tzinfo is None:
        raise Refused("invalid", f"{name}: the time needs its zone, such as Z")
    try:
        found = found.astimezone(UTC)
    except OverflowError:
        found = datetime.max.replace(tzinfo=UTC)
    if not EARLIEST + SPAN <= found < LATEST - SPAN:
        raise Refused("invalid", f"{name}: a time from 1972 to 2197 is expected")
    return found


def span(request: Request, default: timedelta = timedelta(days=1)) -> tuple[datetime, datetime, bool]:
    """start, end, and whether the end is a past moment. At most 400 days."""
    end = moment_asked(request, "to")
    past = end is not None
    end = end or timezone.now()
    start = moment_asked(request, "from") or end - default
    if not start < end or end - start > timedelta(days=400):
        raise Refused("invalid", "`from` must lie before `to`, by at most 400 days")
    return start, end, past


def as_then(answer: Callable[..., A]) -> Callable[..., A]:
    """A view whose register is as it was at `to`, where that is given. What it answers is read inside."""

    @functools.wraps(answer)
    def answered(view: Any, request: Request, *more: Any, **named: Any) -> A:
        with as_of(moment_asked(request, "to")):
            return answer(view, request, *more, **named)

    return answered


# How the span is named in the document of the API.
LOOKBACK = [
    OpenApiParameter("from", str, description="start of the lookback"),
    OpenApiParameter("to", str, description="its end, if that is not now"),
]
