"""Readings for programs: of several devices and fields, as they are or in equal parts; and the newest ones."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import connection
from django.http import StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.history.summing import WAYS, summed
from server.api.devices.devices import selected
from server.records.fleet.models import Device
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, moment_asked, span
from server.requests.paging import bounded
from server.requests.tables import COLUMNAR, as_columns, as_csv, harmless_cell
from server.rules.refusal import Refused
from server.store.as_of import as_of
from server.store.series import Place, Row, read_rows, read_series, values_before
from server.store.times import iso, us
from server.store.values import newest

MOST_DEVICES, MOST_FIELDS, MOST_ROWS, MOST_READ = 500, 16, 10_000, 2_000_000
MOST_PARTS, MOST_POINTS = 5_000, 500_000
NUMERIC = ("number", "integer", "flag", "code", "time")
FORMS = ("json", "csv", *COLUMNAR)
TYPES = {
    "number": "number",
    "integer": "whole",
    "flag": "flag",
    "code": "number",
    "time": "number",
    "text": "text",
    "position": "pair",
}
UNITS_S = {"s": 1, "m": 60, "h": 3_600, "d": 86_400}
CHOICE = [
    OpenApiParameter("device", str, many=True, description="by name; or by what follows"),
    *(OpenApiParameter(n, str) for n in ("q", "type", "site", "gateway", "label")),
    OpenApiParameter("field", str, many=True, description=f"at most {MOST_FIELDS}"),
]


@dataclass(frozen=True)
class Asked:
    """devices by number; fields by name, with their units."""

    devices: dict[int, Device]
    fields: dict[str, str | None]
    kinds: dict[str, str]
    types: dict[str, str]


def asked(request: Request, most: int = MOST_DEVICES, least: int = 1) -> Asked:
    """The devices and fields that a request names, at least so many fields; all where it names none.

    Devices are chosen as they were at the end of the span. Raises Refused.
    """
    names = request.query_params.getlist("device")
    with as_of(moment_asked(request, "to")):
        found = selected(request)
        if names:
            found = found.filter(name__in=names[: most + 1])
            strange = sorted(set(names) - {d.name for d in found})
            if strange:
                raise Refused("not found", f"device: there is no `{strange[0][:63]}` among those asked for", 404)
        devices = {d.pk: d for d in found.order_by("name")[: most + 1]}
    if len(devices) > most:
        raise Refused("invalid", f"more than {most:,} devices match; ask for fewer at once")
    declared: dict[str, dict[str, Any]] = {}
    for device in devices.values():
        for spec in device.type.fields:
            declared.setdefault(spec["name"], spec)
    wanted = list(dict.fromkeys(request.query_params.getlist("field")))
    if not least <= len(wanted) <= MOST_FIELDS:
        raise Refused("invalid", f"field: found {len(wanted)}, expected {least} to {MOST_FIELDS} names")
    strange = [name for name in wanted if name not in declared]
    if strange:
        raise Refused("not found", f"field: `{strange[0][:63]}` is not a field of these devices", 404)
    specs = {n: declared[n] for n in wanted or declared}
    return Asked(
        devices,
        {n: spec.get("unit") for n, spec in specs.items()},
        {n: spec["kind"] for n, spec in specs.items()},
        {n: "large" if spec.get("wide") else TYPES[spec["kind"]] for n, spec in specs.items()},
    )


def every(request: Request, start: datetime, end: datetime) -> timedelta:
    """How long a part is: `every`, such as 10m, or the span over `points`. Raises Refused."""
    text, points = request.query_params.get("every"), request.query_params.get("points")
    if (text is None) == (points is None):
        raise Refused("invalid", "an aggregate needs either `every`, such as 10m, 1h or 1d, or `points`")
    if points is not None:
        parts = whole(points, MOST_PARTS)
        if not parts:
            raise Refused("invalid", f"points: found `{points[:20]}`, expected 1 to {MOST_PARTS}")
        return (end - start) / parts
    found = re.fullmatch(r"([1-9][0-9]{0,5})([smhd])", text or "", re.ASCII)
    if found is None:
        raise Refused("invalid", f"every: found `{(text or '')[:20]}`, expected a whole number of s, m, h or d: 10m")
    width = timedelta(seconds=int(found[1]) * UNITS_S[found[2]])
    if (end - start) / width > MOST_PARTS:
        raise Refused("invalid", f"every: more than {MOST_PARTS} parts in this span; a longer one is needed")
    return width


class RowOut(serializers.Serializer):
    device = serializers.CharField()
    at = serializers.DateTimeField()
    received_at = serializers.DateTimeField()
    message = serializers.CharField()
    values = serializers.DictField(help_text="by field")


class PartsOut(serializers.Serializer):
    device = serializers.CharField()
    field = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    at = serializers.ListField(child=serializers.DateTimeField(), help_text="where each part begins that has something")
    value = serializers.ListField(child=serializers.FloatField())
    count = serializers.ListField(child=serializers.IntegerField(), help_text="readings in each")


class HistoryOut(serializers.Serializer):
    units = serializers.DictField(child=serializers.CharField(allow_null=True), help_text="by field, UCUM")
    results = RowOut(many=True, help_text="row by row")
    series = PartsOut(many=True, help_text="in parts, where an aggregate is asked for")
    next = serializers.CharField(allow_null=True, help_text="pass it as `after` for the rows that follow")
    every_s = serializers.FloatField(allow_null=True, help_text="length of a part")


class HistoryView(APIView):
    """Readings measured in [from, to): row by row, or one number for each equal part of the span."""

    @extend_schema(
        parameters=[
            *CHOICE,
            *LOOKBACK,
            OpenApiParameter("order", str, enum=["asc", "desc"]),
            OpenApiParameter("limit", int, description=f"rows, at most {MOST_ROWS}"),
            OpenApiParameter("after", str, description="`next` of the answer before"),
            OpenApiParameter("aggregate", str, enum=["none", *WAYS]),
            OpenApiParameter("every", str, description="length of a part: 10m, 1h, 1d"),
            OpenApiParameter("points", int, description="how many parts, instead of `every`"),
            OpenApiParameter("as", str, enum=list(FORMS)),
        ],
        responses={
            (200, "application/json"): HistoryOut,
            (200, "text/csv"): OpenApiTypes.STR,
            **{(200, kind): OpenApiTypes.BINARY for kind in COLUMNAR.values()},
        },
        operation_id="history",
        tags=["history"],
    )
    def get(self, request: Request) -> Response | StreamingHttpResponse:
        start, end, _ = span(request)
        found = asked(request)
        how, kind = request.query_params.get("aggregate", "none"), request.query_params.get("as", "json")
        if kind not in FORMS:
            raise Refused("invalid", f"as: found `{kind[:20]}`, expected {', '.join(FORMS)}")
        if how == "none":
            return self._rows(request, found, start, end, kind)
        if how not in WAYS:
            raise Refused("invalid", f"aggregate: found `{how[:20]}`, expected none, {', '.join(WAYS)}")
        return self._parts(request, found, start, end, how, kind)

    def _rows(
        self, request: Request, found: Asked, start: datetime, end: datetime, kind: str
    ) -> Response | StreamingHttpResponse:
        order = request.query_params.get("order", "asc")
        if order not in ("asc", "desc"):
            raise Refused("invalid", f"order: found `{order[:20]}`, expected asc or desc")
        limit = whole(request.query_params.get("limit", "1000"), MOST_ROWS)
        if not limit:
            raise Refused("invalid", f"limit: a whole number from 1 to {MOST_ROWS} is expected")
        place = place_of(request.query_params.get("after"))
        fields = list(found.fields)

        def page(place: Place | None, most: int) -> list[Row]:
            with connection.cursor() as cursor:
                return read_rows(cursor, list(found.devices), fields, start, end, order == "desc", place, most)

        if kind == "csv":
            return as_csv(self._csv_rows(page, found, place), "readings.csv")
        if kind in COLUMNAR:
            types = {"device": "text", "at": "moment", "received_at": "moment", "message": "whole"}
            types |= found.types
            return as_columns(self._batches(page, found, place), types, kind, "readings")
        rows = page(place, limit)
        return Response(
            {
                "units": found.fields,
                "results": [
                    {
                        "device": found.devices[row.device].name,
                        "at": iso(row.at),
                        "received_at": iso(row.received),
                        "message": str(row.message),
                        "values": row.values,
                    }
                    for row in rows
                    if row.values
                ],
                "series": [],
                "next": key_of(rows[-1]) if len(rows) == limit else None,
                "every_s": None,
            }
        )

    def _batches(self, page: Any, found: Asked, place: Place | None) -> Iterator[dict[str, list[Any]]]:
        """All rows of the span by columns."""
        for rows in pages(page, place):
            batch: dict[str, list[Any]] = {
                "device": [found.devices[row.device].name for row in rows],
                "at": [row.at for row in rows],
                "received_at": [row.received for row in rows],
                "message": [row.message for row in rows],
            }
            for name, type_ in found.types.items():
                batch[name] = [typed(row.values.get(name), type_) for row in rows]
            yield batch

    def _csv_rows(self, page: Any, found: Asked, place: Place | None) -> Iterator[list[Any]]:
        """All rows of the span."""
        heads = [f"{name} [{unit}]" if unit else name for name, unit in found.fields.items()]
        yield ["device", "at", "received_at", *heads]
        for rows in pages(page, place):
            for row in rows:
                told = [cell_of(row.values.get(name, ""), kind) for name, kind in found.kinds.items()]
                yield [found.devices[row.device].name, iso(row.at), iso(row.received), *told]

    def _parts(
        self, request: Request, found: Asked, start: datetime, end: datetime, how: str, kind: str
    ) -> Response | StreamingHttpResponse:
        width = every(request, start, end)
        odd = [name for name, is_a in found.kinds.items() if is_a not in NUMERIC]
        if odd:
            raise Refused("invalid", f"field: `{odd[0]}` is no number, and has no {how.replace('_', ' ')}")
        step = round(width.total_seconds() * 1e6)
        parts = -(-(us(end) - us(start)) // step)
        if parts * len(found.devices) * len(found.fields) > MOST_POINTS:
            raise Refused("invalid", f"more than {MOST_POINTS:,} parts in all; ask for fewer or longer ones")
        tick = timedelta(microseconds=1)
        with connection.cursor() as cursor:
            read, cut = read_series(
                cursor, list(found.devices), list(found.fields), start - tick, end - tick, MOST_READ
            )
            before = (
                {name: values_before(cursor, found.devices, name, start - tick) for name in found.fields}
                if how == "time_weighted_mean"
                else {}
            )
        if cut:
            raise Refused("invalid", f"more than {MOST_READ:,} readings in this span; ask for a shorter one")
        none = np.zeros(0, np.int64), np.zeros(0)
        series: list[dict[str, Any]] = []
        for ident, device in found.devices.items():
            for name, unit in found.fields.items():
                at, value = read.get((ident, name), none)
                carried = before.get(name, {}).get(ident)
                some, values, counts = summed(at, value, us(start), step, parts, how, us(end), carried)
                if len(some):
                    series.append(
                        {
                            "device": device.name,
                            "field": name,
                            "unit": None if how == "count" else unit,
                            "at": [iso(us(start) + k * step) for k in some.tolist()],
                            "value": values.tolist(),
                            "count": counts.tolist(),
                        }
                    )
        if kind == "csv":
            return as_csv(csv_parts(series), f"readings-{how}.csv")
        if kind in COLUMNAR:
            types = dict.fromkeys(("device", "field", "unit"), "text")
            types |= {"at": "moment", "value": "number", "count": "whole"}
            return as_columns([column_parts(series)], types, kind, f"readings-{how}")
        return Response({"units": found.fields, "results": [], "series": series, "next": None, "every_s": step / 1e6})


def pages(page: Callable[[Place | None, int], list[Row]], place: Place | None) -> Iterator[list[Row]]:
    """All rows behind a place that say something, a page after the other."""
    while True:
        rows = page(place, MOST_ROWS)
        yield [row for row in rows if row.values]
        if len(rows) < MOST_ROWS:
            return
        place = Place(rows[-1].at, rows[-1].device, rows[-1].layout)


def typed(value: Any, type_: str) -> Any:
    """A stored value as a column takes it."""
    if value is None:
        return None
    match type_:
        case "whole":
            return int(value)
        case "large":
            return Decimal(value)
        case "flag":
            return bool(value)
        case "text":
            return str(value)
        case _:
            return value


def column_parts(series: Sequence[dict[str, Any]]) -> dict[str, list[Any]]:
    """Numbers of parts by columns."""
    return {
        **{name: [one[name] for one in series for _ in one["at"]] for name in ("device", "field", "unit")},
        "at": [us(datetime.fromisoformat(at)) for one in series for at in one["at"]],
        **{name: [value for one in series for value in one[name]] for name in ("value", "count")},
    }


def csv_parts(series: Sequence[dict[str, Any]]) -> Iterator[list[Any]]:
    yield ["device", "field", "unit", "at", "value", "count"]
    for one in series:
        for at, value, count in zip(one["at"], one["value"], one["count"], strict=True):
            yield [one["device"], one["field"], one["unit"] or "", at, value, count]


def cell_of(value: Any, kind: str) -> Any:
    """A value in a table: both numbers of a position in one cell, and no text that is taken for a formula."""
    if isinstance(value, list):
        return " ".join(map(str, value))
    return harmless_cell(value) if kind == "text" else value


def key_of(row: Row) -> str:
    return base64.urlsafe_b64encode(f"{row.at}.{row.device}.{row.layout}".encode()).decode()


def place_of(text: str | None) -> Place | None:
    """What `key_of` has made. Raises Refused."""
    if text is None:
        return None
    try:
        at, device, layout = (int(part) for part in base64.urlsafe_b64decode(text.encode()).decode().split("."))
    except ValueError:
        raise Refused("invalid", "after: pass what `next` said in the answer before") from None
    if not (-(2**62) < at < 2**62 and 0 <= device < 2**31 and 0 <= layout < 2**31):
        raise Refused("invalid", "after: pass what `next` said in the answer before")
    return Place(at, device, layout)


class NewestOut(serializers.Serializer):
    count = serializers.IntegerField()
    results = serializers.ListField(
        child=serializers.DictField(), help_text="device, received_at, and by field value, at and unit"
    )


class NewestView(APIView):
    """The newest readings of devices, by field."""

    @extend_schema(
        parameters=[*CHOICE, OpenApiParameter("limit", int), OpenApiParameter("offset", int)],
        responses=NewestOut,
        operation_id="newest",
        tags=["history"],
    )
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        names = request.query_params.getlist("device")[:MOST_DEVICES]
        wanted = set(request.query_params.getlist("field")[:MOST_FIELDS])
        found = selected(request)
        if names:
            found = found.filter(name__in=names)
        page = list(found.order_by("name")[offset : offset + limit])
        with connection.cursor() as cursor:
            latest = newest(cursor, [d.pk for d in page])
        results = []
        for device in page:
            received, fields = latest.get(device.pk, (None, {}))
            units = {spec["name"]: spec.get("unit") for spec in device.type.fields}
            values = {
                name: {"value": entry[0], "at": iso(entry[1]), "unit": units.get(name)}
                for name, entry in sorted(fields.items())
                if not wanted or name in wanted
            }
            results.append(
                {"device": device.name, "received_at": iso(received) if received else None, "values": values}
            )
        return Response({"count": found.count(), "results": results})
