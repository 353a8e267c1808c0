"""Who is calling: a person with a session, or a program with a token."""

from __future__ import annotations

import hmac
from typing import Any

from django.utils import timezone
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework import authentication, exceptions
from rest_framework.request import Request

from server.records.people.models import ROLES, Person, Token
from server.rules.keys import digest


class SessionAuthentication(authentication.SessionAuthentication):
    def authenticate_header(self, request: Request) -> str:
        return "Session"


SCHEME = "Bearer oct_"


def token_of(header: str) -> Token | None:
    """The token of an `Authorization` header, with its person's role bounded by its own; None where it is not known,
    was withdrawn, or its person may not sign in.
    """
    key = header.removeprefix("Bearer ").strip()
    parts = key.split("_")
    if not header.startswith(SCHEME) or not key.isascii() or len(key) > 100 or len(parts) != 3:
        return None
    token = Token.objects.select_related("person").filter(prefix=parts[1]).first()
    if token is None or not hmac.compare_digest(bytes(token.digest), digest(key)) or not token.person.is_active:
        return None
    now = timezone.now()
    if token.used_at is None or (now - token.used_at).total_seconds() > 60:
        Token.objects.filter(pk=token.pk).update(used_at=now)
    person = token.person
    person.role = ROLES[min(ROLES.index(person.role), ROLES.index(token.role))]
    return token


class TokenAuthentication(authentication.BaseAuthentication):
    """`Authorization: Bearer oct_...`; the token's role bounds the person's."""

    def authenticate(self, request: Request) -> tuple[Person, Any] | None:
        header = request.headers.get("Authorization", "")
        if not header.startswith(SCHEME):
            return None
        token = token_of(header)
        if token is None:
            raise exceptions.AuthenticationFailed("this token is not known, or was withdrawn")
        return token.person, token

    def authenticate_header(self, request: Request) -> str:
        return "Bearer"


class _TokenScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    target_class = TokenAuthentication
    name = "token"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer", "description": "a program's token, oct_..."}


class _SessionScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    target_class = SessionAuthentication
    name = "session"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        from django.conf import settings

        return {"type": "apiKey", "in": "cookie", "name": settings.SESSION_COOKIE_NAME}


def by_session(request: Request) -> bool:
    """Whether a person asks, signed in in a browser; not a program by a token."""
    return request.auth is None


def person_of(request: Request) -> Person:
    """The person behind an authenticated request."""
    person = request.user
    assert isinstance(person, Person)
    return person
