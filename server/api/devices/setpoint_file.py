"""The values that places have of their own as CSV, out and in."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.devices.serial import MOST_LIMIT
from server.api.devices.setpoints import MOST_CHANGES, SOURCES, Place, apply
from server.records.fleet.models import Device, DeviceType, Site
from server.requests.authentication import person_of
from server.requests.fields import Amount
from server.requests.revisions import changing
from server.rules.refusal import Refused

HEAD = ["of", "name", "title"]


class SetpointFile(serializers.Serializer):
    text = serializers.CharField(max_length=1_000_000, trim_whitespace=False)
    dry_run = serializers.BooleanField(default=False, help_text="only say what would become of each line")


class FileLine(serializers.Serializer):
    line = serializers.IntegerField()
    name = serializers.CharField()
    becomes = serializers.ChoiceField(["changed", "unchanged", "refused"])
    says = serializers.CharField(help_text="what is changed, or why it is refused")


@dataclass
class Line:
    number: int
    name: str
    changes: list[dict[str, Any]]
    why: str | None = None


class SetpointsFileView(APIView):
    """The values that places have of their own as CSV (RFC 4180), out and in. An empty cell is one taken from above."""

    writes = "operator"

    @extend_schema(responses={(200, "text/csv"): str}, operation_id="setpoints_file", tags=["types"])
    def get(self, request: Request, key: str) -> HttpResponse:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        place = Place(type_)
        names = [s["name"] for s in type_.setpoints]
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow([*HEAD, *names])
        writer.writerow(["type", type_.key, type_.title, *(told(s["value"]) for s in type_.setpoints)])
        for site, _ in place.tree():
            own = [told(place.by_site.get((site.pk, n))) for n in names]
            writer.writerow(["site", site.name, site.title, *own])
        for device in type_.devices.exclude(phase="retired").order_by("name"):
            own = [told(place.by_device.get((device.pk, n))) for n in names]
            writer.writerow(["device", device.name, device.title, *own])
        answer = HttpResponse(out.getvalue(), content_type="text/csv; charset=utf-8")
        answer["Content-Disposition"] = f'attachment; filename="setpoints-{type_.key}.csv"'
        return answer

    @extend_schema(request=SetpointFile, responses=FileLine(many=True), operation_id="bring_setpoints", tags=["types"])
    def post(self, request: Request, key: str) -> Response:
        """Lines that cannot be read are refused with the reason; the others are taken."""
        asked = SetpointFile(data=request.data)
        asked.is_valid(raise_exception=True)
        with transaction.atomic():
            type_ = changing(request, DeviceType.objects.all(), key, key=key)
            lines = read_file(type_, asked.validated_data["text"])
            if sum(len(line.changes) for line in lines) > MOST_CHANGES:
                raise Refused("too many", f"at most {MOST_CHANGES:,} values are changed at once")
            if not asked.validated_data["dry_run"]:
                apply(type_, (change for line in lines for change in line.changes), person_of(request))
        return Response(
            [
                {
                    "line": line.number,
                    "name": line.name,
                    "becomes": "refused" if line.why else "changed" if line.changes else "unchanged",
                    "says": line.why or ", ".join(f"{c['name']} {c['said']}" for c in line.changes),
                }
                for line in lines
            ]
        )


def told(value: float | None) -> str:
    return "" if value is None else f"{value:.12g}"


def read_file(type_: DeviceType, text: str) -> list[Line]:
    """Lines of a file with what each changes. Raises Refused where its head cannot be read."""
    rows = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"))))
    head = [cell.strip() for cell in rows[0]] if rows else []
    known = {s["name"]: s["value"] for s in type_.setpoints}
    if head[:2] != HEAD[:2]:
        raise Refused("invalid", f"line 1: found `{','.join(head)[:80]}`, expected columns `of`, `name` and setpoints")
    columns = {name: k for k, name in enumerate(head) if k > 1 and name != "title"}
    strange = [name for name in columns if name not in known]
    if strange:
        raise Refused(
            "invalid", f"line 1: `{strange[0][:60]}` is not a setpoint of {type_.key}; it has {', '.join(known)}"
        )
    place = Place(type_)
    devices = {d.name: d for d in type_.devices.exclude(phase="retired")}
    sites = {s.name: s for s in place.sites.values()}
    found = []
    for number, row in enumerate(rows[1:], start=2):
        if not any(cell.strip() for cell in row):
            continue
        cells = [*(cell.strip() for cell in row), *[""] * len(head)]
        of, name = cells[0], cells[1]
        line = Line(number, name[:63], [])
        found.append(line)
        if of not in SOURCES:
            line.why = f"found `{of[:40]}`, expected `type`, `site` or `device`"
        elif of == "site" and name not in sites:
            line.why = f"there is no site `{name[:60]}`"
        elif of == "device" and name not in devices:
            line.why = f"there is no device `{name[:60]}` of this type"
        elif of == "type" and name != type_.key:
            line.why = f"the file is for {type_.key}, found `{name[:60]}`"
        else:
            _changes(line, of, cells, columns, known, place, devices, sites)
    return found


def _changes(
    line: Line,
    of: str,
    cells: list[str],
    columns: dict[str, int],
    known: dict[str, float | None],
    place: Place,
    devices: dict[str, Device],
    sites: dict[str, Site],
) -> None:
    for setpoint, column in columns.items():
        text = cells[column]
        try:
            value = Amount(min_value=-MOST_LIMIT, max_value=MOST_LIMIT).run_validation(text) if text else None
        except serializers.ValidationError:
            line.why, line.changes = f"{setpoint}: found `{text[:40]}`, expected a number", []
            return
        if of == "type":
            before, target = known[setpoint], {}
        elif of == "site":
            before, target = place.by_site.get((sites[cells[1]].pk, setpoint)), {"site": cells[1]}
        else:
            before, target = place.by_device.get((devices[cells[1]].pk, setpoint)), {"device": cells[1]}
        if of == "type" and value is None and before is not None:
            line.why, line.changes = f"{setpoint}: a type has a value for each of its setpoints", []
            return
        if value != before:
            said = f"{told(before) or 'none'} → {told(value) or 'as above'}"
            line.changes.append({"name": setpoint, "value": value, "said": said, **target})
