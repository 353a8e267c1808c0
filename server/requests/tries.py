"""Tries to sign in: counted before the password is looked at, so that tries at once count as well.

What is watched is an address, and a name from browsers that have not signed in by it before. A browser that has carries
a mark; it is watched by itself, so that nobody can lock a name out for the one whose it is.
"""

from __future__ import annotations

import hashlib
import secrets

from django.core import signing
from django.db import connection
from django.http import HttpRequest
from django.utils import timezone
from rest_framework.response import Response

from server.store.turns import count_tries, forgive_tries

COOKIE_AGE = 400 * 86_400
PER_MINUTE = 10
SALT = "oculum.browser"


def cookie_name() -> str:
    from django.conf import settings

    return f"oculum_browser_{settings.INSTANCE.web_port}"


def known_browser(request: HttpRequest, username: str) -> str | None:
    """The mark of a browser by which this name has signed in before."""
    text = request.COOKIES.get(cookie_name(), "")
    try:
        found = signing.loads(text, salt=SALT, max_age=COOKIE_AGE)
    except signing.BadSignature:
        return None
    return found["mark"] if isinstance(found, dict) and found.get("name") == username.lower() else None


def mark_browser(request: HttpRequest, response: Response, username: str) -> None:
    """After a sign-in: the browser is known by this name from now on."""
    mark = known_browser(request, username) or secrets.token_hex(8)
    text = signing.dumps({"name": username.lower(), "mark": mark}, salt=SALT)
    response.set_cookie(
        cookie_name(), text, max_age=COOKIE_AGE, httponly=True, samesite="Strict", secure=request.is_secure()
    )


def watched(request: HttpRequest, username: str) -> list[str]:
    """What a try counts for, as short words."""
    address = str(request.META.get("REMOTE_ADDR", ""))
    browser = known_browser(request, username)
    if browser is not None:
        return [f"browser {browser}"]
    name = hashlib.sha256(username.lower().encode()).hexdigest()[:32]
    return [f"address {address}"[:100], f"name {name}"]


def count(keys: list[str]) -> bool:
    """Counts a try; False where one of the keys has had its tries of this minute."""
    minute = timezone.now().replace(second=0, microsecond=0)
    with connection.cursor() as cursor:
        return count_tries(cursor, keys, minute) <= PER_MINUTE


def forgive(keys: list[str]) -> None:
    """A sign-in that went well is no try against these."""
    with connection.cursor() as cursor:
        forgive_tries(cursor, keys)
