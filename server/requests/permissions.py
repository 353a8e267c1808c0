"""What a role may do. Reading is for viewers; each view says what writing takes."""

from __future__ import annotations

from typing import Any

from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from server.records.people.models import Person
from server.rules.refusal import Refused


class ByRole(BasePermission):
    """Views carry `reads` (default viewer) and `writes` (default engineer)."""

    message = "your role does not allow this"

    def has_permission(self, request: Request, view: Any) -> bool:
        person = request.user
        if not isinstance(person, Person):
            return False
        if person.must_change_password and request.auth is None and not getattr(view, "first_password", False):
            raise Refused("change password", "choose a password of your own first", 403)
        safe = request.method in ("GET", "HEAD", "OPTIONS")
        role = getattr(view, "reads", "viewer") if safe else getattr(view, "writes", "engineer")
        self.message = f"this takes the role {role}; yours is {person.role}"
        return person.may(role)
