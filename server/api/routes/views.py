"""The book of routes: what each line does and has done, their order, where readings go, and one message through all."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import psycopg
from django.conf import settings
from django.db import connection
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language import limits
from oculum.language.routes.plan import Drop, RoutePlan, Send, Thin
from server.api.definitions.serial import DefinitionOut
from server.api.definitions.text_shapes import TEXT, ReadingOut
from server.api.definitions.trial_shapes import TrialField
from server.api.definitions.views import bytes_of, definitions, problems_of
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType
from server.records.telling.models import Outlet
from server.requests.authentication import person_of
from server.requests.bounds import long_work
from server.requests.fields import Moment, whole
from server.requests.moments import LOOKBACK, as_then, span
from server.rules.publishing import check
from server.rules.refusal import Refused
from server.rules.routes import lines, plan_of, reorder
from server.store.figures import LineFigures, by_line, by_type, messages_by_type, waiting
from server.trials.routes import One, draft_of, order_trial, passed_through, stored_message

ENDS = {"drop": "dropped", "correct": "changed", "derive": "derived", "thin": "thinned out", "mark": "marked"}
ENDS |= {"gather": "gathered", "send": "sent", "stop": "ended"}
NEVER = LineFigures()
MOST_TRIED = 5_000  # messages over which another order is looked at


class RouteLine(serializers.Serializer):
    line = serializers.IntegerField()
    act = serializers.CharField()
    words = serializers.CharField(help_text="what it does, with what stands below it")
    seen = serializers.IntegerField(help_text="readings of one moment that came to it and have what it speaks of")
    took = serializers.IntegerField(help_text="of them, those that it took")
    failed = serializers.IntegerField(help_text="of them, those of which it could not tell; they go on unchanged")
    curve = serializers.ListField(
        child=serializers.IntegerField(), help_text="taken, in at most 48 equal parts of the span"
    )
    message = serializers.CharField(allow_null=True, help_text="the last message that it took or failed at")


class RouteOutlet(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    blocked = serializers.BooleanField()
    why = serializers.CharField()
    waiting = serializers.IntegerField()
    next_at = serializers.DateTimeField(allow_null=True)


class BookRow(serializers.Serializer):
    definition = DefinitionOut()
    place = serializers.IntegerField(allow_null=True, help_text="counted from 1, of those in force")
    types = serializers.ListField(child=serializers.CharField(), help_text="titles")
    ends = serializers.CharField(help_text="what it does with what it takes, in a word or two")
    seen = serializers.IntegerField()
    took = serializers.IntegerField()
    failed = serializers.IntegerField()
    curve = serializers.ListField(child=serializers.IntegerField())
    lines = RouteLine(many=True)
    outlets = RouteOutlet(many=True)


class BookOut(serializers.Serializer):
    rows = BookRow(many=True)
    messages = serializers.IntegerField(help_text="of the span, of all types")


def outlet_states() -> dict[str, dict[str, Any]]:
    """Outlets as a route shows them, by name."""
    with connection.cursor() as cursor:
        known = waiting(cursor, timezone.now())
    found = {}
    for outlet in Outlet.objects.order_by("name"):
        waits = known.get(outlet.pk)
        found[outlet.name] = {
            "id": outlet.pk,
            "name": outlet.name,
            "blocked": bool(outlet.failures) or not outlet.on,
            "why": outlet.last_error if outlet.on else "it is switched off",
            "waiting": waits.readings if waits is not None else 0,
            "next_at": outlet.opens_at,
        }
    return found


def book_row(
    definition: Definition, place: int | None, figures: dict[tuple[int, int], LineFigures], outlets: dict[str, Any]
) -> dict[str, Any]:
    plan = plan_of(definition.live) if definition.live is not None else None
    own = []
    for entry in lines(plan) if plan is not None else ():
        found = figures.get((definition.live_id or 0, entry["line"]), NEVER)
        own.append(
            entry
            | {
                "seen": found.seen,
                "took": found.took,
                "failed": found.failed,
                "curve": found.curve,
                "message": str(found.message) if found.message is not None else None,
            }
        )
    acting = [entry for entry in own if entry["act"] in ENDS] or own
    best = max(acting, key=lambda entry: entry["took"], default=None)
    return {
        "definition": DefinitionOut(definition).data,
        "place": place,
        "types": [t.title for t in definition.on.all()],
        "ends": ", ".join(dict.fromkeys(ENDS[e["act"]] for e in own if e["act"] in ENDS)),
        "seen": max((e["seen"] for e in own), default=0),
        "took": best["took"] if best is not None else 0,
        "failed": sum(e["failed"] for e in own),
        "curve": best["curve"] if best is not None else NEVER.curve,
        "lines": own,
        "outlets": [outlets[name] for name in (plan.outlets if plan is not None else ()) if name in outlets],
    }


class BookView(APIView):
    """All routes in their order, with what each line has done in a span."""

    @extend_schema(parameters=LOOKBACK, responses=BookOut, operation_id="book_of_routes", tags=["routes"])
    @as_then
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        found = definitions().filter(kind="route").prefetch_related("on").order_by("place", "name")
        with connection.cursor() as cursor:
            figures = by_line(cursor, start, end)
            messages = sum(messages_by_type(cursor, start, end).values())
        outlets = outlet_states()
        rows, place = [], 0
        for definition in found:
            place += definition.live_id is not None
            rows.append(book_row(definition, place if definition.live_id else None, figures, outlets))
        return Response({"rows": rows, "messages": messages})


class OrderIn(serializers.Serializer):
    routes = serializers.ListField(child=serializers.IntegerField(min_value=1), max_length=5_000)


class OrderView(APIView):
    """The order in which readings pass the routes."""

    @extend_schema(request=OrderIn, responses={204: None}, operation_id="order_routes", tags=["routes"])
    def put(self, request: Request) -> Response:
        """All routes that have a place, the first first."""
        asked = OrderIn(data=request.data)
        asked.is_valid(raise_exception=True)
        reorder(asked.validated_data["routes"], person_of(request))
        return Response(status=204)


class OrderSent(serializers.Serializer):
    outlet = serializers.CharField()
    now = serializers.IntegerField(help_text="readings in the order in force")
    then = serializers.IntegerField(help_text="in the other one")


class OrderTrialOut(serializers.Serializer):
    types = serializers.ListField(child=serializers.CharField(), help_text="titles of those it concerns")
    messages = serializers.IntegerField(help_text="their last ones, which were looked at")
    fields = TrialField(many=True, help_text="those that would differ")  # type: ignore[assignment]
    sent = OrderSent(many=True, help_text="outlets that would get more or fewer readings")


class OrderTrialView(APIView):
    """What another order would make otherwise of the last messages. Nothing is kept or sent."""

    writes = "viewer"

    @extend_schema(request=OrderIn, responses=OrderTrialOut, operation_id="try_order", tags=["routes"])
    def post(self, request: Request) -> Response:
        asked = OrderIn(data=request.data)
        asked.is_valid(raise_exception=True)
        with long_work.held(person_of(request)):
            return Response(order_trial(asked.validated_data["routes"], MOST_TRIED))


# one message -----------------------------------------------------------------------------------
class TryIn(serializers.Serializer):
    message = serializers.CharField(required=False, allow_null=True, max_length=20, help_text="a stored one, by number")
    device = serializers.CharField(required=False, allow_null=True, max_length=63, help_text="of a written one")
    payload_hex = serializers.CharField(required=False, allow_blank=True, max_length=2 * limits.PAYLOAD_BYTES)
    topic = serializers.CharField(required=False, allow_blank=True, max_length=400, default="")
    received_at = Moment(required=False, allow_null=True)
    definition = serializers.IntegerField(required=False, allow_null=True, min_value=1, max_value=2**31 - 1)
    text = serializers.CharField(
        **TEXT, required=False, allow_null=True, help_text="a draft in place of the definition"
    )


class TryStep(serializers.Serializer):
    route = serializers.CharField()
    definition = serializers.IntegerField(help_text="0 for a draft that is not kept")
    version = serializers.IntegerField(allow_null=True, help_text="null for the draft")
    line = serializers.IntegerField()
    act = serializers.CharField()
    what = serializers.ChoiceField(["took", "failed"])
    because = serializers.CharField(required=False)
    fields = serializers.DictField(  # type: ignore[assignment]
        required=False, help_text="field to what stood before and what stands now"
    )
    device = serializers.CharField()
    at = serializers.DateTimeField()


class TrySent(serializers.Serializer):
    outlet = serializers.CharField()
    definition = serializers.IntegerField()
    line = serializers.IntegerField()
    at = serializers.DateTimeField()
    values = serializers.DictField()
    marks = serializers.DictField()


class TryOut(serializers.Serializer):
    before = ReadingOut(many=True, help_text="as decoded")
    after = ReadingOut(many=True, help_text="as stored")
    steps = TryStep(many=True)
    sent = TrySent(many=True)
    error = serializers.CharField(allow_null=True, help_text="why it was refused by its decoder")
    decoder = serializers.BooleanField(help_text="whether there is one")


class TryView(APIView):
    """One message, stored or written, through its decoder and all routes, line by line; nothing is kept or sent."""

    writes = "viewer"

    @extend_schema(request=TryIn, responses=TryOut, operation_id="try_routes", tags=["routes"])
    def post(self, request: Request) -> Response:
        asked = TryIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        draft = None
        if data.get("text") is not None:
            plan, problems = check("route", data["text"], None)
            if not isinstance(plan, RoutePlan):
                raise Refused("definition", problems[0].message, problems=problems_of(problems))
            draft = draft_of(plan, data.get("definition") or 0)
        with psycopg.connect(settings.INSTANCE.database_url(), autocommit=True) as own:
            found = passed_through(own, message_of(own, data), draft)
        numbers = dict(
            Definition.objects.filter(kind="route", live__isnull=False).values_list("live_id", "live__number")
        )
        for step in found["steps"]:
            step["version"] = numbers.get(step["version"])
        return Response(found)


def message_of(own: psycopg.Connection[Any], data: dict[str, Any]) -> One:
    """The message that was asked for. Raises Refused."""
    if data.get("message"):
        number = whole(data["message"])
        found = stored_message(own, number) if number is not None else None
        if found is None:
            raise Refused("not found", "there is no such message of a registered device any more", 404)
        return found
    if not data.get("device"):
        raise Refused("invalid", "say which message: the number of a stored one, or a device and a payload")
    device = generics.get_object_or_404(Device, name=data["device"])
    at: datetime = data.get("received_at") or timezone.now()
    payload = bytes_of(data.get("payload_hex", ""), "payload_hex")
    return One(2**62, at, device.pk, payload, {"topic": data["topic"]})


# where readings go ------------------------------------------------------------------------------
class FlowNode(serializers.Serializer):
    id = serializers.CharField()
    kind = serializers.ChoiceField(["type", "route", "outlet"])
    title = serializers.CharField()
    count = serializers.IntegerField()
    blocked = serializers.BooleanField()


class FlowLink(serializers.Serializer):
    source = serializers.CharField()  # type: ignore[assignment]
    target = serializers.CharField()
    count = serializers.IntegerField()
    what = serializers.CharField(help_text="seen by a route, sent to an outlet, dropped or thinned out")


class FlowOut(serializers.Serializer):
    nodes = FlowNode(many=True)
    links = FlowLink(many=True)
    unrouted = serializers.ListField(child=serializers.CharField(), help_text="titles of types that no route is on")


class FlowView(APIView):
    """Where readings of a span went: from device types through routes to outlets, or out of the stream."""

    @extend_schema(parameters=LOOKBACK, responses=FlowOut, operation_id="flow_of_readings", tags=["routes"])
    @as_then
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        with connection.cursor() as cursor:
            rows, messages = by_type(cursor, start, end), messages_by_type(cursor, start, end)
        types = {t.pk: t.title for t in DeviceType.objects.all()}
        routes = {
            d.pk: d
            for d in Definition.objects.filter(kind="route", live__isnull=False)
            .select_related("live", "live__definition__type")
            .order_by("place")
        }
        outlets = outlet_states()
        nodes: dict[str, dict[str, Any]] = {}
        links: dict[tuple[str, str, str], int] = {}
        for type_, count in sorted(messages.items(), key=lambda pair: -pair[1]):
            if type_ in types:
                nodes[f"t{type_}"] = node(f"t{type_}", "type", types[type_], count)
        routed: set[int] = set()
        for ident, definition in routes.items():
            plan = plan_of(definition.live) if definition.live is not None else None
            if plan is None:
                continue
            own = [row for row in rows if row[0] == ident and row[1] == definition.live_id]
            nodes[f"r{ident}"] = node(f"r{ident}", "route", definition.name, 0)
            seen: dict[int, int] = {}
            for _, _, _, type_, count, _ in own:
                seen[type_] = max(seen.get(type_, 0), count)
            for type_, count in seen.items():
                routed.add(type_)
                if f"t{type_}" in nodes:
                    links[f"t{type_}", f"r{ident}", "seen"] = count
                    nodes[f"r{ident}"]["count"] += count
            acts = {act.line: act for act in plan.lines}
            for _, _, line, _, _, took in own:
                act = acts.get(line)
                if isinstance(act, Send) and act.outlet in outlets:
                    outlet = outlets[act.outlet]
                    key = f"o{outlet['id']}"
                    nodes.setdefault(key, node(key, "outlet", act.outlet, 0, outlet["blocked"]))["count"] += took
                    links[f"r{ident}", key, "sent"] = links.get((f"r{ident}", key, "sent"), 0) + took
                elif isinstance(act, Drop | Thin):
                    what = "dropped" if isinstance(act, Drop) else "thinned out"
                    links[f"r{ident}", what, what] = links.get((f"r{ident}", what, what), 0) + took
        return Response(
            {
                "nodes": list(nodes.values()),
                "links": [
                    {"source": source, "target": target, "what": what, "count": count}
                    for (source, target, what), count in links.items()
                ],
                "unrouted": [types[t] for t in messages if t in types and t not in routed],
            }
        )


def node(ident: str, kind: str, title: str, count: int, blocked: bool = False) -> dict[str, Any]:
    return {"id": ident, "kind": kind, "title": title, "count": count, "blocked": blocked}
