"""Lists come in pages from the server."""

from rest_framework.pagination import LimitOffsetPagination


class Pages(LimitOffsetPagination):
    default_limit = 100
    max_limit = 500
