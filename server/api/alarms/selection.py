"""Which alarms a list shows: open ones, those that went by themselves, shelved, explained, or all of the lookback."""

from __future__ import annotations

from datetime import timedelta
from functools import reduce
from operator import or_
from typing import Any

from django.db.models import Q
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter
from rest_framework.request import Request

from server.records.alarms.models import PRIORITIES
from server.requests.fields import whole
from server.requests.moments import moment_asked, span
from server.rules.alarms import everything, open_at
from server.rules.refusal import Refused
from server.rules.trees import within

SHOWS = ("open", "returned", "shelved", "suppressed", "all")
PARAMETERS = [
    OpenApiParameter("show", str, enum=SHOWS, description="open, unless said otherwise"),
    OpenApiParameter("device", str),
    OpenApiParameter("condition", int),
    OpenApiParameter("q", str, description="words that stand in the sentence, the condition's name or the device's"),
    OpenApiParameter("priority", str, description="one or several, with commas between them"),
    OpenApiParameter("site", str, description="with all sites in it"),
    OpenApiParameter("type", str),
    OpenApiParameter("person", str, description="who took it or has it assigned; `nobody` for neither"),
    OpenApiParameter("longer", int, description="open for at least so many seconds"),
    OpenApiParameter("ids", str, description="these alone, with commas between them; at most 100"),
    OpenApiParameter("from", str),
    OpenApiParameter("to", str),
]


def chosen(request: Request) -> Any:
    """The alarms that a request asks for, in the order of their list. Raises Refused."""
    params = request.query_params
    show = params.get("show", "open")
    if show not in SHOWS:
        raise Refused("invalid", f"show is one of {', '.join(SHOWS)}; found `{show[:40]}`")
    at = moment_asked(request, "to")
    found = filtered(everything(at), request)
    if params.get("ids"):
        numbers = [whole(part) for part in params["ids"].split(",")]
        if None in numbers or len(numbers) > 100:
            raise Refused("invalid", "ids are at most 100 whole numbers with commas between them")
        return found.filter(pk__in=numbers).order_by("rank", "-raised_at")
    if show == "suppressed":
        start, end, _ = span(request)
        return found.filter(suppressed=True, raised_at__gt=start, raised_at__lte=end).order_by("-raised_at")
    found = found.filter(suppressed=False)
    if show == "all":
        start, end, _ = span(request)
        return (
            found.filter(raised_at__lte=end)
            .filter(Q(cleared_at=None) | Q(cleared_at__gte=start))
            .order_by("-raised_at")
        )
    if show == "returned":
        start, end, _ = span(request)
        untaken = Q(acknowledged_at=None) if at is None else Q(acknowledged_at=None) | Q(acknowledged_at__gt=end)
        return found.filter(untaken, cleared_at__gt=start, cleared_at__lte=end).order_by("rank", "-cleared_at")
    found = open_at(found, at)
    return found.filter(shelved_until__isnull=show == "open").order_by("rank", "-raised_at")


def filtered(found: Any, request: Request) -> Any:
    params = request.query_params
    if params.get("device"):
        found = found.filter(device__name=params["device"])
    if params.get("condition"):
        condition = whole(params["condition"], 2**31 - 1)
        if condition is None:
            raise Refused("invalid", "condition is a number")
        found = found.filter(condition_id=condition)
    for word in params.get("q", "").split()[:8]:
        parts = ("text", "condition__name", "device__title", "device__name", "site__title")
        found = found.filter(reduce(or_, (Q(**{f"{part}__icontains": word[:80]}) for part in parts)))
    if params.get("priority"):
        wanted = params["priority"].split(",")
        if not set(wanted) <= set(PRIORITIES):
            raise Refused("invalid", f"priority is one or several of {', '.join(PRIORITIES)}")
        found = found.filter(priority__in=wanted)
    if params.get("site"):
        sites = within(params["site"])
        found = found.filter(Q(device__site_id__in=sites) | Q(site_id__in=sites))
    if params.get("type"):
        found = found.filter(condition__type__key=params["type"])
    if params.get("person") == "nobody":
        found = found.filter(acknowledged_by=None, assigned_to=None)
    elif params.get("person"):
        name = params["person"]
        found = found.filter(Q(acknowledged_by__username=name) | Q(assigned_to__username=name))
    if params.get("longer"):
        seconds = whole(params["longer"], 400 * 86_400)
        if seconds is None:
            raise Refused("invalid", "longer is a whole number of seconds, at most 400 days")
        end = moment_asked(request, "to") or timezone.now()
        found = found.filter(raised_at__lte=end - timedelta(seconds=seconds))
    return found
