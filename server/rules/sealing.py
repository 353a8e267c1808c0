"""Secrets of outlets, encrypted at rest by the instance's own key."""

from __future__ import annotations

from cryptography.fernet import Fernet, InvalidToken
from django.conf import settings

from server.rules.refusal import Refused


def _box() -> Fernet:
    return Fernet(settings.INSTANCE.secret("outlets").encode() + b"=")


def sealed(secret: str) -> bytes:
    return _box().encrypt(secret.encode())


def opened(secret: bytes | memoryview | None) -> str:
    """The secret; empty where there is none. Raises Refused where another key has sealed it."""
    if secret is None:
        return ""
    try:
        return _box().decrypt(bytes(secret)).decode()
    except InvalidToken:
        raise Refused("sealed", "the secret was encrypted by another installation: give it anew", 409) from None
