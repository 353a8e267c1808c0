"""Lists come in pages from the server."""

from __future__ import annotations

from rest_framework.pagination import LimitOffsetPagination
from rest_framework.request import Request

from server.requests.fields import whole
from server.rules.refusal import Refused


class Pages(LimitOffsetPagination):
    default_limit = 100
    max_limit = 500


def bounded(request: Request) -> tuple[int, int]:
    """limit and offset of a page, where a view makes it itself. Raises Refused."""
    limit = whole(request.query_params.get("limit", "100"), 500)
    offset = whole(request.query_params.get("offset", "0"), 10**9)
    if not limit or offset is None:
        raise Refused("invalid", "limit is a whole number from 1 to 500, offset one from 0 to a billion")
    return limit, offset
