"""All that people have written as files of text, out and in."""

from __future__ import annotations

import io
import zipfile
from typing import Any

from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.archive.applying import apply
from server.api.archive.files import files_of, items
from server.requests.authentication import person_of


class ArchiveOut(serializers.Serializer):
    files = serializers.DictField(child=serializers.CharField(), help_text="path to text")


class ArchiveIn(serializers.Serializer):
    files = serializers.DictField(child=serializers.CharField(allow_blank=True, trim_whitespace=False))
    dry_run = serializers.BooleanField(default=True)
    remove = serializers.BooleanField(default=False, help_text="also what does not stand in the archive")


class ArchiveChange(serializers.Serializer):
    kind = serializers.CharField()
    name = serializers.CharField()
    path = serializers.CharField()
    becomes = serializers.ChoiceField(["created", "changed", "unchanged", "removed", "left", "refused"])
    difference = serializers.CharField(allow_blank=True)
    why = serializers.CharField(allow_blank=True)


class AppliedOut(serializers.Serializer):
    changes = ArchiveChange(many=True)
    applied = serializers.BooleanField(help_text="false for a dry run, or where something is refused")


class ArchiveFileView(APIView):
    """The same as one file (ZIP). Its bytes depend on what is written alone."""

    @extend_schema(responses={(200, "application/zip"): bytes}, operation_id="archive_file", tags=["archive"])
    def get(self, request: Request) -> HttpResponse:
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w", zipfile.ZIP_DEFLATED) as out:
            for path, text in files_of(items()).items():
                out.writestr(zipfile.ZipInfo(f"oculum/{path}", (1980, 1, 1, 0, 0, 0)), text)
        answer = HttpResponse(body.getvalue(), content_type="application/zip")
        answer["Content-Disposition"] = 'attachment; filename="oculum-definitions.zip"'
        return answer


class ArchiveView(APIView):
    """Types, definitions, tables, fences, sites, setpoints and ways of telling; no devices, no secrets."""

    writes = "admin"

    @extend_schema(responses=ArchiveOut, operation_id="archive", tags=["archive"])
    def get(self, request: Request) -> Response:
        return Response({"files": files_of(items())})

    @extend_schema(request=ArchiveIn, responses=AppliedOut, operation_id="apply_archive", tags=["archive"])
    def post(self, request: Request) -> Response:
        """Shows what would become of it, or does it: all in one transaction, or nothing."""
        asked = ArchiveIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data: dict[str, Any] = asked.validated_data
        plan = apply(data["files"], person_of(request), data["dry_run"], data["remove"])
        applied = not data["dry_run"] and not plan.refused
        return Response({"changes": [vars(change) for change in plan.changes], "applied": applied})
