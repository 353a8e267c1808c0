"""Keys for devices and programs: random, shown once, kept as hashes."""

from __future__ import annotations

import base64
import hashlib
import secrets

ITERATIONS = 101  # keys carry 160 random bits, so that stretching would add nothing


def new_key(kind: str) -> tuple[str, str, bytes]:
    """A fresh key `oc<kind>_<id>_<secret>` with 160 random bits, its id, and its SHA-256."""
    prefix = secrets.token_hex(5)
    alphabet = "abcdefghijkmnpqrstuvwxyz23456789"
    key = f"oc{kind}_{prefix}_{''.join(secrets.choice(alphabet) for _ in range(32))}"
    return key, prefix, digest(key)


def digest(key: str) -> bytes:
    return hashlib.sha256(key.encode()).digest()


def broker_hash(key: str) -> str:
    """A key in the broker's form: PBKDF2-HMAC-SHA512."""
    salt = secrets.token_bytes(12)
    hashed = hashlib.pbkdf2_hmac("sha512", key.encode(), salt, ITERATIONS)
    return f"$7${ITERATIONS}${base64.b64encode(salt).decode()}${base64.b64encode(hashed).decode()}"
