"""People, their roles, tokens for programs, and the record of what was done."""

from __future__ import annotations

from collections.abc import Mapping

from django.contrib.auth.models import AbstractUser
from django.db import models
from django.db.models.functions import Lower

ROLES = ["viewer", "operator", "engineer", "admin"]


class Person(AbstractUser):
    """Someone who signs in. A role includes those before it: viewer, operator, engineer, admin."""

    role = models.CharField(max_length=16, choices=[(r, r) for r in ROLES], default="viewer")
    zone = models.CharField(max_length=64, default="", blank=True)  # empty: that of the browser
    must_change_password = models.BooleanField(default=False)

    class Meta(AbstractUser.Meta):
        constraints = [models.UniqueConstraint(Lower("username"), name="one_person_a_name")]

    @property
    def called(self) -> str:
        """What others read of a person."""
        return self.first_name or self.username

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


def record(
    person: Person | None, what: str, about: str = "", detail: Mapping[str, object] | None = None, *, who: str = ""
) -> None:
    """Puts an act on record. detail: what belongs to it; nothing that a request names can stand for anything else."""
    Record.objects.create(
        person=person, who=who or (person.username if person else ""), what=what, about=about[:200], detail=detail or {}
    )
