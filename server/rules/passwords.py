"""First passwords, and new ones where one is forgotten."""

from __future__ import annotations

import secrets

from server.records.people.models import Person, Token


def first_password(person: Person) -> str:
    """A random password, to be changed at the first sign-in; the person's sessions and tokens end. Saves the person."""
    password = "-".join(secrets.token_hex(2) for _ in range(4))
    set_password(person, password, must_change=True)
    return password


def set_password(person: Person, password: str, must_change: bool = False) -> None:
    """Saves the person with a new password. Tokens made under the old one end with it, as sessions do."""
    person.set_password(password)
    person.must_change_password = must_change
    person.save()
    Token.objects.filter(person=person).delete()
