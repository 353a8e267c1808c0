"""What is stored, what it takes, and how long it is kept."""

from __future__ import annotations

import shutil
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.records.fleet.models import DeviceType
from server.records.people.models import record
from server.requests.authentication import person_of
from server.rules.refusal import Refused
from server.store.keeping import KINDS, LEAST_DAYS, MOST_DAYS, READINGS, days_kept, keep_for, size_of_all, taken


class DayTaken(serializers.Serializer):
    day = serializers.DateField()
    bytes = serializers.IntegerField()


class KindTaken(serializers.Serializer):
    what = serializers.ChoiceField(KINDS)
    bytes = serializers.IntegerField()
    rows = serializers.IntegerField(help_text="about how many")
    since = serializers.DateTimeField(allow_null=True)
    days = serializers.IntegerField(help_text="how long it is kept")
    by_day = DayTaken(many=True, help_text="of messages and readings, oldest first")


class TypeKept(serializers.Serializer):
    type = serializers.CharField()
    title = serializers.CharField()
    days = serializers.IntegerField(allow_null=True, help_text="null: as all readings")


class StorageOut(serializers.Serializer):
    kinds = KindTaken(many=True)
    types = TypeKept(many=True)
    free = serializers.IntegerField(help_text="bytes left on the disk")
    database = serializers.IntegerField(help_text="bytes of the whole database")


class KeptIn(serializers.Serializer):
    what = serializers.ChoiceField(KINDS)
    type = serializers.CharField(required=False, allow_null=True, max_length=63, help_text="of readings only")
    days = serializers.IntegerField(min_value=LEAST_DAYS, max_value=MOST_DAYS, allow_null=True)


class StorageIn(serializers.Serializer):
    kept = KeptIn(many=True)


def told() -> dict[str, Any]:
    with connection.cursor():
        own = connection.connection
        days, found = days_kept(own), taken(own)
        whole = size_of_all(own)
    types = DeviceType.objects.order_by("title").exclude(key="site")
    return {
        "kinds": [
            {
                "what": one.what,
                "bytes": one.size,
                "rows": one.rows,
                "since": one.since,
                "days": days[one.what, 0],
                "by_day": [{"day": day, "bytes": size} for day, size in sorted(one.by_day.items())],
            }
            for one in found
        ],
        "types": [{"type": t.key, "title": t.title, "days": days.get((READINGS, t.pk))} for t in types],
        "free": shutil.disk_usage(settings.INSTANCE.folder).free,
        "database": whole,
    }


class StorageView(APIView):
    """What is stored and for how long; an administrator changes that. What is older goes within ten minutes."""

    writes = "admin"

    @extend_schema(responses=StorageOut, operation_id="storage", tags=["access"])
    def get(self, request: Request) -> Response:
        return Response(told())

    @extend_schema(request=StorageIn, responses=StorageOut, operation_id="keep", tags=["access"])
    def put(self, request: Request) -> Response:
        asked = StorageIn(data=request.data)
        asked.is_valid(raise_exception=True)
        wanted: dict[tuple[str, int], int | None] = {}
        words = {}
        for one in asked.validated_data["kept"]:
            key = one.get("type")
            if key and one["what"] != READINGS:
                raise Refused("invalid", f"type: only readings are kept by type, not {one['what']}")
            type_ = DeviceType.objects.filter(key=key).first() if key else None
            if key and type_ is None:
                raise Refused("not found", f"type: there is no device type `{key}`", 404)
            wanted[one["what"], type_.pk if type_ is not None else 0] = one["days"]
            words[f"{one['what']} of {key}" if key else one["what"]] = one["days"]
        with transaction.atomic(), connection.cursor():
            keep_for(connection.connection, wanted)
            record(person_of(request), "changed how long is kept", "", words)
        return Response(told())
