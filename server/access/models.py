"""People, their roles, tokens for programs, and the record of what was done."""

from __future__ import annotations

import hashlib
import secrets

from django.contrib.auth.models import AbstractUser
from django.db import models

ROLES = ["viewer", "operator", "engineer", "admin"]


class Person(AbstractUser):
    """Someone who signs in. A role includes those before it: viewer, operator, engineer, admin."""

    role = models.CharField(max_length=16, choices=[(r, r) for r in ROLES], default="viewer")
    zone = models.CharField(max_length=64, default="UTC")

    def may(self, role: str) -> bool:
        return self.is_active and ROLES.index(self.role) >= ROLES.index(role)


class Token(models.Model):
    """A program's key: shown once, kept as a hash."""

    name = models.CharField(max_length=80)
    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="tokens")
    role = models.CharField(max_length=16, choices=[(r, r) for r in ROLES])
    prefix = models.CharField(max_length=12, unique=True)
    digest = models.BinaryField(max_length=32)
    made_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)


class Record(models.Model):
    """One thing somebody did: sign-in, publish, change. Never changed, never deleted by the application."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    who = models.CharField(max_length=150)
    what = models.CharField(max_length=64)
    about = models.CharField(max_length=200, blank=True)
    detail = models.JSONField(default=dict)


def new_key(kind: str) -> tuple[str, str, bytes]:
    """A fresh key `oc<kind>_<id>_<secret>` with 160 random bits, its id, and its SHA-256."""
    prefix = secrets.token_hex(5)
    alphabet = "abcdefghijkmnpqrstuvwxyz23456789"
    key = f"oc{kind}_{prefix}_{''.join(secrets.choice(alphabet) for _ in range(32))}"
    return key, prefix, digest(key)


def digest(key: str) -> bytes:
    return hashlib.sha256(key.encode()).digest()


def record(person: Person | None, what: str, about: str = "", who: str = "", **detail: object) -> None:
    """Puts an act on record."""
    Record.objects.create(person=person, who=who or (person.username if person else ""), what=what, about=about[:200], detail=detail)
