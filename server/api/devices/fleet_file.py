"""Many devices at once: as a file, out and in, and chosen ones changed together; each can be taken back."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.language.routes.check import SITE
from server.api.devices.devices import selected
from server.api.devices.serial import DeviceIn
from server.records.fleet.models import PHASES, Device
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.bounds import long_work
from server.requests.moments import as_then, span
from server.requests.revisions import lock_trees
from server.rules import fleet_lines
from server.rules.fleet_lines import Fleet, Line
from server.rules.refusal import Refused
from server.rules.states import STATES, device_states

SHOWN = 200
FILTERS = [OpenApiParameter(n, str) for n in ("q", "type", "site", "gateway", "label", "state", "phase")]


class FleetFile(serializers.Serializer):
    text = serializers.CharField(max_length=2_000_000, trim_whitespace=False)
    dry_run = serializers.BooleanField(default=False, help_text="only say what would become of each line")


class FleetChange(serializers.Serializer):
    devices = serializers.ListField(
        child=serializers.CharField(max_length=63), allow_null=True, max_length=fleet_lines.MOST,
        help_text="names; null for all that the query selects",
    )  # fmt: skip
    site = serializers.CharField(required=False, allow_null=True, max_length=63)
    gateway = serializers.CharField(required=False, allow_null=True, max_length=63)
    phase = serializers.ChoiceField(PHASES, required=False)
    labels = serializers.DictField(
        child=serializers.CharField(allow_null=True, max_length=63), required=False,
        help_text="name to text; null takes a label off, others stay",
    )  # fmt: skip
    setpoints = serializers.DictField(
        child=serializers.FloatField(allow_null=True), required=False,
        help_text="name to a value of its own; with null the site's or the type's counts again, others stay",
    )  # fmt: skip
    dry_run = serializers.BooleanField(default=False)


class FleetLine(serializers.Serializer):
    line = serializers.IntegerField()
    name = serializers.CharField()
    becomes = serializers.ChoiceField(["created", "changed", "unchanged", "refused"])
    says = serializers.CharField(help_text="what is changed, or why it is refused")


class FleetOut(serializers.Serializer):
    created = serializers.IntegerField()
    changed = serializers.IntegerField()
    unchanged = serializers.IntegerField()
    refused = serializers.IntegerField()
    lines = FleetLine(many=True, help_text=f"the refused ones first; at most {SHOWN} that are not unchanged")
    undo = serializers.CharField(help_text="a file that makes the changed devices again what they were")


class Row(DeviceIn):
    """A line, held against what was read once."""

    def __init__(self, fleet: Fleet, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        gateways = {name: d for name, d in fleet.devices.items() if d.type.is_gateway}
        self.fields["type"] = _Known(fleet.types, "device type")
        self.fields["site"] = _Known(fleet.sites, "site", allow_null=True, required=False)
        self.fields["gateway"] = _Known(gateways, "gateway", allow_null=True, required=False)
        name = self.fields["name"]
        name.validators = [v for v in name.validators if not hasattr(v, "queryset")]


class _Known(serializers.Field):
    def __init__(self, known: dict[str, Any], what: str, **options: Any) -> None:
        super().__init__(**options)
        self.known, self.what = known, what

    def to_internal_value(self, data: Any) -> Any:
        if data not in self.known:
            raise serializers.ValidationError(f"there is no {self.what} `{str(data)[:60]}`")
        return self.known[data]


def judge(lines: list[Line], fleet: Fleet) -> None:
    """Refuses what cannot be, with the reason."""
    seen: set[str] = set()
    for line in lines:
        if line.why is None and line.name in seen:
            line.why = "the device stands in the file twice"
        seen.add(line.name)
        if line.why is not None or not line.changed:
            continue
        if line.before is None and line.after["type"] is None:
            line.why = "type: a device that is not there yet needs one"
            continue
        line.why = _strange_setpoint(line, fleet)
        if line.why is not None:
            continue
        data = {"name": line.name, **line.after} if line.before is None else {n: line.after[n] for n in line.changed}
        data.pop("setpoints", None)
        if {"latitude", "longitude"} & data.keys():
            data |= {n: line.after.get(n, (line.before or {}).get(n)) for n in ("latitude", "longitude")}
        asked = Row(fleet, data=data, partial=line.before is not None)
        if not asked.is_valid():
            name, told = next(iter(asked.errors.items()))
            line.why = f"{name}: {told[0] if isinstance(told, list) else next(iter(told.values()))}"
    for name in fleet.ring(lines):
        for line in lines:
            if line.name == name and line.why is None:
                line.why = "gateway: it would speak through itself"


def _strange_setpoint(line: Line, fleet: Fleet) -> str | None:
    """Why a line's setpoints cannot be, if they cannot."""
    key = line.after.get("type") or (line.before or {}).get("type")
    type_ = fleet.types.get(key or "")
    known = [s["name"] for s in type_.setpoints] if type_ is not None else []
    strange = next((name for name in line.after.get("setpoints", {}) if name not in known), None)
    if strange is None or type_ is None:
        return None
    expected = f"one of {', '.join(known)}" if known else "none: the type has no setpoints"
    return f"setpoints: found `{strange[:40]}`, expected {expected}"


def answered(lines: list[Line]) -> Response:
    counts = {name: sum(line.becomes == name for line in lines) for name in ("created", "changed", "unchanged")}
    told = sorted((line for line in lines if line.becomes != "unchanged"), key=lambda one: one.why is None)
    before = [(line.name, line.before) for line in lines if line.becomes == "changed" and line.before is not None]
    return Response(
        counts
        | {
            "refused": sum(line.why is not None for line in lines),
            "lines": [
                {"line": one.number, "name": one.name, "becomes": one.becomes, "says": one.says} for one in told[:SHOWN]
            ],
            "undo": fleet_lines.written(before) if before else "",
        }
    )


def chosen(request: Request) -> list[Device]:
    """Devices that the query selects, those that stand for sites left out."""
    found = list(selected(request).exclude(type__key=SITE).order_by("name"))
    if request.query_params.get("state") in STATES:
        _, end, past = span(request)
        states = device_states(end, past)
        kinds = states.by_device(states.state)
        wanted = STATES.index(request.query_params["state"])
        found = [d for d in found if kinds.get(d.pk) == wanted]
    return found


class FleetFileView(APIView):
    """Devices as CSV (RFC 4180), out and in. Columns that are left out stay as they are; an empty cell takes away."""

    writes = "engineer"

    @extend_schema(
        parameters=FILTERS, responses={(200, "text/csv"): str}, operation_id="devices_file", tags=["devices"]
    )
    @as_then
    def get(self, request: Request) -> HttpResponse:
        fleet = Fleet()
        text = fleet_lines.written((d.name, fleet.told(d)) for d in chosen(request))
        answer = HttpResponse(text, content_type="text/csv; charset=utf-8")
        answer["Content-Disposition"] = 'attachment; filename="devices.csv"'
        return answer

    @extend_schema(request=FleetFile, responses=FleetOut, operation_id="bring_devices", tags=["devices"])
    def post(self, request: Request) -> Response:
        """Lines that cannot be read are refused with the reason; the others are taken, all at once."""
        asked = FleetFile(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        with long_work.held(person_of(request)), transaction.atomic():
            lock_trees()
            fleet = Fleet()
            lines = fleet_lines.read(data["text"], fleet)
            judge(lines, fleet)
            return self.done(request, lines, fleet, data["dry_run"], "brought in")

    def done(self, request: Request, lines: list[Line], fleet: Fleet, dry_run: bool, word: str) -> Response:
        found = answered(lines)
        if not dry_run:
            fleet_lines.keep(lines, fleet, person_of(request))
            about = {name: found.data[name] for name in ("created", "changed", "refused")}
            if about["created"] or about["changed"]:
                record(person_of(request), word, "devices", about)
        return found


class FleetChangeView(FleetFileView):
    """Chosen devices, or all that a query selects, changed together."""

    http_method_names = ["post", "options"]

    @extend_schema(
        request=FleetChange, parameters=FILTERS, responses=FleetOut, operation_id="change_devices", tags=["devices"]
    )
    def post(self, request: Request) -> Response:
        asked = FleetChange(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        with long_work.held(person_of(request)), transaction.atomic():
            lock_trees()
            fleet = Fleet()
            names = data["devices"] if data["devices"] is not None else [d.name for d in chosen(request)]
            if len(names) > fleet_lines.MOST:
                raise Refused("too many", f"at most {fleet_lines.MOST:,} devices are changed at once")
            plain = {name: data[name] for name in ("site", "gateway", "phase") if name in data}
            lines = []
            for number, name in enumerate(dict.fromkeys(names), start=1):
                line = Line(number, name)
                lines.append(line)
                if name not in fleet.devices:
                    line.why = "there is no such device"
                    continue
                labels = dict(fleet.devices[name].labels)
                for label, text in data.get("labels", {}).items():
                    labels.pop(label, None)
                    if text:
                        labels[label] = text
                own = fleet.setpoints.get(fleet.devices[name].pk, {}) | data.get("setpoints", {})
                own = {setpoint: value for setpoint, value in own.items() if value is not None}
                fleet_lines.ask(line, plain | {"labels": labels, "setpoints": own}, fleet)
            judge(lines, fleet)
            return self.done(request, lines, fleet, data["dry_run"], "changed together")
