"""Why: the way from the bytes of a message to a value, an alarm, and the people who took it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

import psycopg
from django.conf import settings
from django.db import connection
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.routes.check import SITE
from oculum.language.wording import lasting
from oculum.quantities import measured
from server.api.alarms.serial import AlarmOut, EntryOut, answered, titled
from server.api.arrivals.views import ArrivalOut, whole_arrival
from server.records.alarms.models import Alarm, JournalEntry
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import Device
from server.records.people.models import Person
from server.requests.fields import whole
from server.rules.alarms import everything
from server.rules.plans import decoder_plan, plan_of
from server.rules.refusal import Refused
from server.rules.trees import chain
from server.store.beside import beside
from server.store.past import before, rows_of_message
from server.store.register import setpoint_then
from server.store.times import moment
from server.trials.past import explain
from server.trials.routes import passed_through, stored_message


class WhyStep(serializers.Serializer):
    stage = serializers.ChoiceField(
        ["message", "bytes", "route", "reading", "before", "limit", "condition", "alarm", "person"]
    )
    title = serializers.CharField()
    detail = serializers.CharField()
    at = serializers.DateTimeField(allow_null=True)
    definition = serializers.IntegerField(allow_null=True)
    version = serializers.IntegerField(allow_null=True)
    text = serializers.CharField(allow_null=True)


class WhyOut(serializers.Serializer):
    about = serializers.CharField()
    steps = WhyStep(many=True)
    arrival = ArrivalOut(allow_null=True)
    places = serializers.ListField(child=serializers.DictField())
    alarm = AlarmOut(allow_null=True)
    entries = EntryOut(many=True)


def shown(value: Any, spec: dict[str, Any]) -> str:
    """A value with its unit, in words where it is a code or a flag."""
    if value is None:
        return "no value"
    kind = spec.get("kind")
    if kind == "code":
        return (spec.get("codes") or {}).get(str(int(value)), f"code {int(value)}")
    if kind == "flag":
        return "yes" if value else "no"
    if kind == "position":
        return f"{value[0]:.6f}, {value[1]:.6f}"
    if kind == "time":
        return moment(int(value)).isoformat()
    if kind in ("number", "integer"):
        return measured(f"{float(value):.10g}", spec.get("unit"))
    return str(value)[:200]


def step(
    stage: str,
    title: str,
    detail: str,
    at: datetime | None = None,
    version: Version | None = None,
    text: str | None = None,
) -> dict[str, Any]:
    return {
        "stage": stage,
        "title": title,
        "detail": detail,
        "at": at,
        "definition": version.definition_id if version else None,
        "version": version.number if version else None,
        "text": text,
    }


def path_of_reading(
    device: Device, field: str, message_id: int
) -> tuple[list[dict[str, Any]], dict[str, Any] | None, list[dict[str, int]]]:
    """Message, bytes and reading: the message is decoded once more by the version that made the reading."""
    spec: dict[str, Any] = next((f for f in device.type.fields if f["name"] == field), {"kind": "number"})
    arrival = whole_arrival(message_id)
    if arrival is None:
        return (
            [step("message", "The message is not kept any more", "its retention is over; what it said stays")],
            None,
            [],
        )
    way = (
        f"by {arrival['channel']}"
        + (f" through {arrival['via']}" if arrival["via"] else "")
        + f", {arrival['size']} bytes"
    )
    sender = arrival["device_title"] if device.type.key == SITE else device.title
    steps = [step("message", f"Message of {sender}", way, arrival["received_at"])]
    with connection.cursor() as cursor:
        rows = rows_of_message(cursor, device.pk, message_id, arrival["received_at"])
    for row in rows:
        version_id, values, at = row.version, row.values, row.at
        reason = row.missing.get(field)
        if field not in values and reason is None:
            continue
        version = Version.objects.select_related("definition").get(pk=version_id)
        plan = decoder_plan(version.text, version.fields)
        places: list[dict[str, int]] = []
        if plan is not None:
            known = beside(message_id)
            told = explain(
                plan,
                bytes.fromhex(arrival["hex"]),
                round(arrival["received_at"].timestamp() * 1e6),
                known.headers,
                known.constants,
                known.previous,
            )
            mark = next((m for m in told["marks"] if m["field"] == field), None)
            if mark is not None:
                places = mark["places"]
                line = version.text.split("\n")[mark["line"] - 1].strip()
                where = ", ".join(mark["paths"]) if mark["paths"] else "; ".join(_place(p) for p in places)
                raw = ", ".join(str(r) for r in mark["raw"]) if mark["raw"] else ""
                steps.append(
                    step(
                        "bytes",
                        f"Line {mark['line']} of decoder {version.definition.name}",
                        f"{where}" + (f", raw {raw}" if raw else ""),
                        None,
                        version,
                        line,
                    )
                )
        steps += by_routes(device, field, message_id, at)
        value = _worded(values, row.missing, field, spec)
        steps.append(step("reading", f"{field} = {value}", "measured", at))
        return steps + stood_before(device, field, spec, at, (value, message_id)), arrival, places
    return steps, arrival, []


def _worded(values: Mapping[str, Any], missing: Mapping[str, str], field: str, spec: dict[str, Any]) -> str:
    return shown(values[field], spec) if field in values else f"missing: {missing.get(field)}"


def stood_before(
    device: Device, field: str, spec: dict[str, Any], at: datetime, now: tuple[str, int]
) -> list[dict[str, Any]]:
    """What a field of a moment was said to be before, the last first, and what took its place. now: what it is said to
    be, and by which message.
    """
    with connection.cursor() as cursor:
        found = [b for b in before(cursor, device.pk, at, MOST_BEFORE) if field in b.values or field in b.missing]
    versions = {v.pk: v for v in Version.objects.filter(pk__in=[b.version for b in found]).select_related("definition")}
    steps = []
    for one in found:
        value = _worded(one.values, one.missing, field, spec)
        if value != now[0]:
            # A message makes way for later ones; for itself or an earlier one only where it was decoded again.
            again = "its message was decoded again" if one.message >= now[1] else "another message of this moment came"
            version = versions.get(one.version)
            steps.append(step("before", f"It was {value}", f"until {again}", one.until, version))
        now = value, one.message
    return steps


DID = {
    "drop": "dropped",
    "correct": "corrected",
    "derive": "derived",
    "thin": "held back",
    "send": "sent",
    "gather": "gathered",
}
MOST_MEMBERS, MOST_BEFORE = 6, 20


def by_routes(device: Device, field: str, message_id: int, at: datetime) -> list[dict[str, Any]]:
    """What routes did to a reading on its way: each line that touched it, as it was in force when the message came."""
    site = device.site_id if device.type.key == SITE else None
    if site is None and not Definition.objects.filter(kind="route", on=device.type).exists():
        return []
    with psycopg.connect(settings.INSTANCE.database_url(), autocommit=True) as own:
        one = stored_message(own, message_id)
        found = passed_through(own, one, None, True, site) if one is not None else {"steps": []}
    versions = {
        v.pk: v
        for v in Version.objects.filter(pk__in=[s["version"] for s in found["steps"]]).select_related("definition")
    }
    steps = []
    for one_step in found["steps"]:
        gathered = one_step["act"] == "gather"
        if not gathered and (one_step["device"] != device.name or one_step["at"] != at):
            continue
        if one_step["act"] not in DID or (gathered and site is None):
            continue
        changed = one_step.get("fields", {})
        if field not in changed and not (one_step["what"] == "failed" and one_step["act"] == "derive"):
            continue
        version = versions.get(one_step["version"])
        was, now = changed.get(field, [None, None])
        detail = f"{_told(was)} to {_told(now)}" if one_step["act"] in ("correct", "derive") else f"it was {_told(was)}"
        if gathered:
            detail = _made_of([m for m in found["members"] if m["field"] == field], one_step["device"])
        if one_step["what"] == "failed":
            detail = f"could not tell: {one_step['because']}"
        line = version.text.split("\n")[one_step["line"] - 1].strip() if version is not None else None
        title = f"{DID[one_step['act']].capitalize()} by route “{one_step['route']}”, line {one_step['line']}"
        steps.append(step("route", title, detail, None, version, line))
    return steps


def _made_of(members: list[dict[str, Any]], last: str) -> str:
    """The devices that a site's reading was made of, the last that reported first."""
    listed = sorted(members, key=lambda m: (m["device"] != last, m["device"]))
    told = [f"{m['device']} {_told(next((v for v in m['values'] if v is not None), None))}" for m in listed]
    more = f" and {len(told) - MOST_MEMBERS} more" if len(told) > MOST_MEMBERS else ""
    if not told:
        return f"all that was measured in the step; it was worked out when {last} reported"
    return f"from {', '.join(told[:MOST_MEMBERS])}{more}; it was worked out when {last} reported"


def _told(value: Any) -> str:
    return "nothing" if value is None else f"{value:.10g}" if isinstance(value, float) else str(value)


def _place(place: dict[str, int]) -> str:
    where = (
        f"byte {place['first']}" if place["first"] == place["last"] else f"bytes {place['first']} to {place['last']}"
    )
    if place["whole"]:
        return where
    return where + (
        f" bit {place['high']}" if place["high"] == place["low"] else f" bits {place['high']} to {place['low']}"
    )


class WhyReadingView(APIView):
    """Where a value comes from: bytes, line, version."""

    @extend_schema(
        parameters=[OpenApiParameter("device", str), OpenApiParameter("field", str), OpenApiParameter("message", str)],
        responses=WhyOut,
        operation_id="why_reading",
        tags=["why"],
    )
    def get(self, request: Request) -> Response:
        device = generics.get_object_or_404(
            Device.objects.select_related("type"), name=request.query_params.get("device", "")
        )
        message = whole(request.query_params.get("message"))
        if message is None:
            raise Refused("invalid", "message is the number of an arrival")
        field = request.query_params.get("field", "")
        steps, arrival, places = path_of_reading(device, field, message)
        return Response(
            {
                "about": f"{device.title}: {field}",
                "steps": steps,
                "arrival": arrival,
                "places": places,
                "alarm": None,
                "entries": [],
            }
        )


def whose_setpoint(alarm: Alarm, name: str) -> str:
    """Whose value of a setpoint was in force when an alarm was raised, and who had set it, in the stream's order."""
    device, type_ = alarm.device, alarm.version.definition.type
    sites = chain(device.site if device is not None else alarm.site, "parent")
    with connection.cursor() as cursor:
        found = {
            (one.device, one.site): one
            for one in setpoint_then(cursor, type_.pk, name, alarm.message_id, alarm.raised_at)
        }
    places: list[tuple[tuple[int | None, int | None], str]] = [
        *([((device.pk, None), f"of {device.title}")] if device is not None else []),
        *(((None, site.pk), f"of {site.title}") for site in sites),
        ((None, None), f"of the type {type_.title}"),
    ]
    for place, words in places:
        one = found.get(place)
        if one is not None and one.value is not None:
            who = Person.objects.filter(pk=one.person or 0).first()
            by = who.called if who is not None else "the demo or a program"
            return f"setpoint {name} {words}, set by {by} on {one.at:%-d %B %Y %H:%M} UTC"
    return f"setpoint {name}, as it was in force then"


class WhyAlarmView(APIView):
    """Why an alarm was raised: from bytes to the people who took it."""

    @extend_schema(responses=WhyOut, operation_id="why_alarm", tags=["why"])
    def get(self, request: Request, ident: int) -> Response:
        alarms = everything().select_related("device__type", "version__definition__type")
        alarm = generics.get_object_or_404(alarms, pk=ident)
        steps, arrival, places = (
            path_of_reading(alarm.device, alarm.field, alarm.message_id)
            if alarm.message_id and alarm.field and alarm.device is not None
            else ([], None, [])
        )
        version: Version = alarm.version
        plan = plan_of(version, version.definition.type.key)
        limit = next((i for i in plan.limits if i.field and i.field == alarm.field), None) if plan else None
        if limit is not None and alarm.limit is not None:
            source = whose_setpoint(alarm, limit.setpoint) if limit.setpoint else "a number in the condition's text"
            steps.append(step("limit", f"The limit was {measured(format(alarm.limit, 'g'), alarm.unit)}", source))
        rule = next((line.strip() for line in version.text.split("\n") if line.strip().startswith("raise ")), "")
        stage_ = next((s for s in plan.steps if s.priority == alarm.priority), plan.steps[0]) if plan else None
        held = f"; held for {lasting(stage_.held_us)}" if stage_ and stage_.held_us else ""
        steps.append(
            step(
                "condition",
                f"Condition “{version.definition.name}”",
                f"{alarm.priority} priority{held}",
                None,
                version,
                rule,
            )
        )
        entries = list(
            JournalEntry.objects.filter(alarm=alarm)
            .select_related("alarm", "alarm__device", "alarm__condition", "person", "version")
            .order_by("at", "id")
        )
        for entry in entries:
            late = (entry.learned_at - entry.at).total_seconds()
            learned = f"learned {late:.0f} s later" if late >= 1 else ""
            who = entry.person.called if entry.person else ""
            stage = "person" if entry.person else "alarm"
            value = f"at {measured(format(entry.value, 'g'), alarm.unit)}" if entry.value is not None else ""
            steps.append(
                step(
                    stage,
                    entry.what.capitalize() + (f" by {who}" if who else ""),
                    " · ".join(t for t in (value, entry.note, learned) if t),
                    entry.at,
                )
            )
        return Response(
            {
                "about": f"{titled(alarm)}: {alarm.condition.name}",
                "steps": steps,
                "arrival": arrival,
                "places": places,
                "alarm": answered(request, alarm),
                "entries": EntryOut(entries, many=True).data,
            }
        )
