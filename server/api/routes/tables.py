"""Reference tables: small tables of known things that routes look up, as CSV out and in."""

from __future__ import annotations

import re

from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.records.definitions.models import ReferenceTable
from server.records.people.models import record
from server.requests.authentication import person_of
from server.requests.fields import Words
from server.requests.revisions import changing, tagged
from server.rules.refusal import Refused
from server.rules.registering import control
from server.rules.routes import looking_up
from server.rules.tables import keep, read, written

MOST = 100


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
