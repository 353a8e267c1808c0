"""Reference tables: small tables of known things that routes look up, as CSV out and in."""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass, field
from typing import Any

from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.quantities import UnitError, parse_unit
from oculum.text import harmless
from server.records.definitions.models import ReferenceTable
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.requests.revisions import changing, tagged
from server.rules.refusal import Refused
from server.rules.registering import control
from server.rules.routes import looking_up

MOST_ROWS, MOST_COLUMNS, MOST_TEXT, MOST = 10_000, 32, 200, 100
NAME = re.compile(r"[a-z][a-z0-9_]{0,62}")
HEAD = re.compile(
    r"(?P<name>[^\s\[\]!*]+)(?:\s+\[(?P<unit>[^\s]+)\])?(?:\s+(?P<kind>text|number|flag))?(?P<marks>[ !*]*)"
)
TRUE, FALSE = {"true", "yes", "1"}, {"false", "no", "0"}


class ColumnOut(serializers.Serializer):
    name = serializers.CharField()
    kind = serializers.ChoiceField(["text", "number", "flag"])
    unit = serializers.CharField(allow_null=True)
    required = serializers.BooleanField()  # type: ignore[assignment]
    unique = serializers.BooleanField()


class TableRow(serializers.ModelSerializer):
    columns = ColumnOut(many=True)
    rows = serializers.SerializerMethodField(help_text="how many")
    used_by = serializers.SerializerMethodField(help_text="routes in force that look it up")

    class Meta:
        model = ReferenceTable
        fields = ["id", "name", "columns", "rows", "used_by", "revision", "at"]

    def get_rows(self, table: ReferenceTable) -> int:
        return len(table.rows)

    def get_used_by(self, table: ReferenceTable) -> list[str]:
        return looking_up(table.name)


class TableWhole(TableRow):
    values = serializers.ListField(
        child=serializers.ListField(child=serializers.JSONField(allow_null=True)), source="rows"
    )

    class Meta(TableRow.Meta):
        fields = [*TableRow.Meta.fields, "values"]


class ReferenceIn(serializers.Serializer):
    name = Words(max_length=80)
    text = serializers.CharField(max_length=1_000_000, trim_whitespace=False, help_text="CSV (RFC 4180)")
    dry_run = serializers.BooleanField(default=False, help_text="only say what would become of it")


class RefusedRow(serializers.Serializer):
    line = serializers.IntegerField()
    why = serializers.CharField()


class TableRead(serializers.Serializer):
    columns = ColumnOut(many=True)
    rows = serializers.IntegerField()
    refused = RefusedRow(many=True)
    table = TableWhole(allow_null=True, help_text="null for a dry run, or where a row was refused")


@dataclass
class Read:
    columns: list[dict[str, Any]]
    rows: list[list[Any]] = field(default_factory=list)
    refused: list[dict[str, Any]] = field(default_factory=list)


def read(text: str) -> Read:
    """The rows of a file, those that are sound. Raises Refused where its head cannot be read.

    A column's heading is its name; in brackets a unit, which makes it a number; `text`, `number` or `flag`; `!` for one
    that every row must have, `*` for one whose values differ. The first column is the key: it is both.
    """
    lines = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"))))
    if not lines or not any(cell.strip() for cell in lines[0]):
        raise Refused("invalid", "line 1: the file is empty; expected headings such as `device, offset [mg/L]`")
    if len(lines[0]) > MOST_COLUMNS:
        raise Refused("invalid", f"line 1: found {len(lines[0])} columns; at most {MOST_COLUMNS} are taken")
    columns = [column(cell, k) for k, cell in enumerate(lines[0])]
    names = [c["name"] for c in columns]
    twice = next((n for n in names if names.count(n) > 1), None)
    if twice is not None:
        raise Refused("invalid", f"line 1: `{twice}` stands twice")
    found = Read(columns)
    known: list[dict[Any, int]] = [{} for _ in columns]
    for number, cells in enumerate(lines[1:], start=2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(found.rows) >= MOST_ROWS:
            raise Refused("too many", f"a table has at most {MOST_ROWS:,} rows")
        try:
            found.rows.append(row(cells, columns, known, number))
        except ValueError as error:
            found.refused.append({"line": number, "why": str(error)})
    return found


def column(cell: str, place: int) -> dict[str, Any]:
    """A heading as a column. Raises Refused."""
    parts = HEAD.fullmatch(cell.strip())
    if parts is None or not NAME.fullmatch(parts["name"]):
        words = "a name of small letters, digits and `_`, then perhaps a unit in brackets, as in `offset [mg/L]`"
        raise Refused("invalid", f"line 1, column {place + 1}: found `{harmless(cell, 60)}`, expected {words}")
    unit, kind = parts["unit"], parts["kind"]
    if unit is not None:
        try:
            parse_unit(unit)
        except UnitError as error:
            raise Refused("invalid", f"line 1, column {place + 1}: {error}") from None
        if kind not in (None, "number"):
            raise Refused("invalid", f"line 1, column {place + 1}: a {kind} has no unit")
    return {
        "name": parts["name"],
        "kind": kind or ("number" if unit is not None else "text"),
        "unit": unit or ("1" if kind == "number" else None),
        "required": place == 0 or "!" in parts["marks"],
        "unique": place == 0 or "*" in parts["marks"],
    }


def row(cells: list[str], columns: list[dict[str, Any]], known: list[dict[Any, int]], number: int) -> list[Any]:
    """A row's values. known: by column, values and the lines that they stand in. Raises ValueError with the reason."""
    if len(cells) > len(columns):
        raise ValueError(f"found {len(cells)} cells, expected {len(columns)}")
    found: list[Any] = []
    for k, about in enumerate(columns):
        text = cells[k].strip() if k < len(cells) else ""
        found.append(value(text, about))
    for k, (about, one) in enumerate(zip(columns, found, strict=True)):
        if about["unique"] and one is not None and one in known[k]:
            raise ValueError(f"{about['name']}: `{harmless(str(one), 60)}` stands in line {known[k][one]} already")
    for k, one in enumerate(found):
        if one is not None:
            known[k].setdefault(one, number)
    return found


def value(text: str, about: dict[str, Any]) -> Any:
    name, kind = about["name"], about["kind"]
    if not text:
        if about["required"]:
            raise ValueError(f"{name}: found nothing, expected a value")
        return None
    if len(text) > MOST_TEXT:
        raise ValueError(f"{name}: found {len(text)} characters; at most {MOST_TEXT} are taken")
    if kind == "text":
        return harmless(text, MOST_TEXT)
    if kind == "flag":
        if text.lower() not in TRUE | FALSE:
            raise ValueError(f"{name}: found `{harmless(text, 40)}`, expected yes or no")
        return text.lower() in TRUE
    if not re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?", text, re.ASCII) or abs(float(text)) > 1e30:
        raise ValueError(f"{name}: found `{harmless(text, 40)}`, expected a number")
    return float(text)


def written(table: ReferenceTable) -> str:
    """A table as a file that gives the same table again."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = []
    for k, about in enumerate(table.columns):
        unit = about["unit"]
        cell = about["name"] + (f" [{unit}]" if unit not in (None, "1") else "")
        cell += " number" if unit == "1" else " flag" if about["kind"] == "flag" else ""
        marks = "" if k == 0 else ("!" if about["required"] else "") + ("*" if about["unique"] else "")
        head.append(f"{cell} {marks}" if marks else cell)
    writer.writerow(head)
    for values in table.rows:
        writer.writerow([_cell(v) for v in values])
    return out.getvalue()


def _cell(one: Any) -> str:
    if one is None:
        return ""
    if isinstance(one, bool):
        return "yes" if one else "no"
    return f"{one:.15g}" if isinstance(one, float) else str(one)


def keep(table: ReferenceTable, found: Read, person: Any) -> None:
    """Puts rows into a table, and the change into the stream."""
    if (
        table.pk
        and {c["name"]: (c["kind"], c["unit"]) for c in table.columns}.items()
        - {c["name"]: (c["kind"], c["unit"]) for c in found.columns}.items()
    ):
        users = looking_up(table.name)
        if users:
            raise Refused("in use", f"columns would go or change, and “{users[0]}” looks this table up", 409)
    table.columns, table.rows, table.person = found.columns, found.rows, person
    control("table", {"name": table.name, "columns": found.columns, "rows": found.rows}, person)


class TablesView(APIView):
    """Reference tables."""

    @extend_schema(responses=TableRow(many=True), operation_id="tables", tags=["routes"])
    def get(self, request: Request) -> Response:
        return Response(TableRow(ReferenceTable.objects.order_by("name")[:MOST], many=True).data)

    @extend_schema(request=ReferenceIn, responses={201: TableRead}, operation_id="add_table", tags=["routes"])
    def post(self, request: Request) -> Response:
        """Where a row is refused, nothing is kept."""
        asked = ReferenceIn(data=request.data)
        asked.is_valid(raise_exception=True)
        name, found = asked.validated_data["name"].strip(), read(asked.validated_data["text"])
        if ReferenceTable.objects.filter(name__iexact=name).exists():
            raise Refused("exists", f"there is a table named “{name}” already", 409)
        if ReferenceTable.objects.count() >= MOST:
            raise Refused("too many", f"there are at most {MOST} tables")
        answer = {"columns": found.columns, "rows": len(found.rows), "refused": found.refused[:200], "table": None}
        if asked.validated_data["dry_run"] or found.refused:
            return Response(answer, 200)
        with transaction.atomic():
            table = ReferenceTable(name=name)
            keep(table, found, person_of(request))
            table.save()
            record(person_of(request), "added table", name, {"rows": len(found.rows)})
        return Response(answer | {"table": TableWhole(table).data}, 201)


class TableChange(serializers.Serializer):
    text = serializers.CharField(max_length=1_000_000, trim_whitespace=False, help_text="CSV (RFC 4180)")
    dry_run = serializers.BooleanField(default=False)


class TableView(APIView):
    """One reference table."""

    @extend_schema(responses=TableWhole, operation_id="table", tags=["routes"])
    def get(self, request: Request, ident: int) -> Response:
        table = generics.get_object_or_404(ReferenceTable, pk=ident)
        return tagged(Response(TableWhole(table).data), table.revision)

    @extend_schema(request=TableChange, responses=TableRead, operation_id="change_table", tags=["routes"])
    def put(self, request: Request, ident: int) -> Response:
        """All rows anew. Where one is refused, nothing is changed."""
        asked = TableChange(data=request.data)
        asked.is_valid(raise_exception=True)
        found = read(asked.validated_data["text"])
        answer = {"columns": found.columns, "rows": len(found.rows), "refused": found.refused[:200], "table": None}
        if asked.validated_data["dry_run"] or found.refused:
            return Response(answer)
        with transaction.atomic():
            table = changing(request, ReferenceTable.objects.all(), f"table {ident}", pk=ident)
            keep(table, found, person_of(request))
            table.revise()
            record(person_of(request), "changed table", table.name, {"rows": len(found.rows)})
        return Response(answer | {"table": TableWhole(table).data})

    @extend_schema(responses={204: None}, operation_id="remove_table", tags=["routes"])
    def delete(self, request: Request, ident: int) -> Response:
        with transaction.atomic():
            table = generics.get_object_or_404(ReferenceTable.objects.select_for_update(), pk=ident)
            users = looking_up(table.name)
            if users:
                raise Refused("in use", f"“{users[0]}” looks this table up", 409)
            control("table", {"name": table.name, "columns": [], "rows": None}, person_of(request))
            record(person_of(request), "removed table", table.name)
            table.delete()
        return Response(status=204)


class TableFileView(APIView):
    """A reference table as CSV."""

    @extend_schema(responses={(200, "text/csv"): str}, operation_id="table_file", tags=["routes"])
    def get(self, request: Request, ident: int) -> HttpResponse:
        table = generics.get_object_or_404(ReferenceTable, pk=ident)
        answer = HttpResponse(written(table), content_type="text/csv; charset=utf-8")
        safe = re.sub(r"[^A-Za-z0-9_-]+", "-", table.name)
        answer["Content-Disposition"] = f'attachment; filename="{safe}.csv"'
        return answer
