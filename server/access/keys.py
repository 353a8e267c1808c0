"""Keys for devices and programs: random, shown once, kept as hashes."""

from __future__ import annotations

import hashlib
import secrets


def new_key(kind: str) -> tuple[str, str, bytes]:
    """A fresh key `oc<kind>_<id>_<secret>` with 160 random bits, its id, and its SHA-256."""
    prefix = secrets.token_hex(5)
    alphabet = "abcdefghijkmnpqrstuvwxyz23456789"
    key = f"oc{kind}_{prefix}_{''.join(secrets.choice(alphabet) for _ in range(32))}"
    return key, prefix, digest(key)


def digest(key: str) -> bytes:
    return hashlib.sha256(key.encode()).digest()
