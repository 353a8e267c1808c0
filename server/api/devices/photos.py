"""Photos of devices: small pictures, kept in the database with everything else and given out as what they are."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import IO, Any

from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiResponse, extend_schema
from rest_framework import generics
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.records.fleet.models import Device, Photo
from server.records.people.models import record
from server.requests.authentication import person_of
from server.rules.refusal import Refused

MOST = 1_000_000
# How files of each kind begin: JPEG (ISO/IEC 10918-1), PNG (ISO/IEC 15948), WebP (RFC 9649).
BEGINNINGS = {
    "image/jpeg": lambda data: data.startswith(b"\xff\xd8\xff"),
    "image/png": lambda data: data.startswith(b"\x89PNG\r\n\x1a\n"),
    "image/webp": lambda data: data.startswith(b"RIFF") and data[8:12] == b"WEBP",
}


class Picture(BaseParser):
    """The body as it is."""

    media_type = "image/*"

    def parse(
        self, stream: IO[Any], media_type: str | None = None, parser_context: Mapping[str, Any] | None = None
    ) -> Any:
        return stream.read()


def kind_of(data: bytes) -> str:
    """The media type of a picture, by how it begins. Raises Refused."""
    if len(data) > MOST:
        raise Refused("too large", f"a photo has at most {MOST:,} bytes, found {len(data):,}", 413)
    found = next((kind for kind, begins in BEGINNINGS.items() if begins(data)), None)
    if found is None:
        raise Refused("invalid", "a photo is a JPEG, PNG or WebP file; this begins as none of them")
    return found


class PhotoView(APIView):
    """What a device looks like, where it is."""

    parser_classes = [Picture]

    @extend_schema(
        responses={(200, "image/*"): OpenApiTypes.BINARY, 404: OpenApiResponse(description="it has none")},
        operation_id="photo",
        tags=["devices"],
    )
    def get(self, request: Request, name: str) -> HttpResponse:
        photo = generics.get_object_or_404(Photo, device__name=name)
        data = bytes(photo.data)
        answer = HttpResponse(data, content_type=photo.kind)
        answer["ETag"] = f'"{hashlib.sha256(data).hexdigest()[:20]}"'
        # Nobody's file is more than a picture here, whatever else it may hold.
        answer["Content-Security-Policy"] = "default-src 'none'; sandbox"
        answer["X-Content-Type-Options"] = "nosniff"
        answer["Cache-Control"] = "private, no-cache"
        return answer

    @extend_schema(
        request={"image/*": OpenApiTypes.BINARY}, responses={204: None}, operation_id="set_photo", tags=["devices"]
    )
    def put(self, request: Request, name: str) -> Response:
        """Takes a JPEG, PNG or WebP file of at most a million bytes; one that was there before goes."""
        device = generics.get_object_or_404(Device, name=name)
        data = request.data if isinstance(request.data, bytes) else b""
        kind = kind_of(data)
        with transaction.atomic():
            Photo.objects.update_or_create(device=device, defaults={"kind": kind, "data": data})
            record(person_of(request), "set photo", device.name, {"bytes": len(data)})
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="remove_photo", tags=["devices"])
    def delete(self, request: Request, name: str) -> Response:
        device = generics.get_object_or_404(Device, name=name)
        with transaction.atomic():
            if Photo.objects.filter(device=device).delete()[0]:
                record(person_of(request), "removed photo", device.name)
        return Response(status=204)
