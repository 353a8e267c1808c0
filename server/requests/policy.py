"""The content security policy of every answer that Django gives."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from django.conf import settings
from django.http import HttpRequest, HttpResponse

STRICT = (
    "default-src 'self'; style-src 'self'{nonce}; style-src-attr 'unsafe-inline'; img-src 'self' data:{tiles};"
    " connect-src 'self'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
)
DOCUMENTATION = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none';"
    " base-uri 'none'; frame-ancestors 'none'"
)


def strict(nonce: str | None = None) -> str:
    """tiles of the map come from where they are configured to."""
    parts = urlsplit(settings.TILES)
    tiles = f" {parts.scheme}://{parts.netloc}" if parts.netloc else ""
    return STRICT.format(nonce=f" 'nonce-{nonce}'" if nonce else "", tiles=tiles)


class ContentPolicy:
    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        policy = DOCUMENTATION if request.path.startswith("/api/v1/docs") else strict()
        response.headers.setdefault("Content-Security-Policy", policy)
        response.headers.setdefault("Cache-Control", "no-store")
        return response
