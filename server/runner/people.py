"""People from the command line: the way back in where nobody can sign in any more."""

from __future__ import annotations

from typing import Annotated

import typer
from django.db import DatabaseError, transaction

from server.api.people.views import USERNAME, tell_people
from server.records.people.models import ROLES, Person, record
from server.rules.passwords import first_password
from server.runner.lifecycle import fail

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="People: a list, a new one, a forgotten password, another role."
)
Name = Annotated[str, typer.Argument(help="the name to sign in by")]
Role = Annotated[str, typer.Option(help=f"one of {', '.join(ROLES)}")]
WHO = "the command line"


def found(name: str) -> Person:
    try:
        person = Person.objects.filter(username__iexact=name).first()
    except DatabaseError as error:
        fail(f"the database does not answer ({str(error).strip().splitlines()[0]}): run `./oculum up` first")
    if person is None:
        fail(f"there is nobody by the name `{name}`: `./oculum person list` names all")
    return person


def sound_role(role: str) -> str:
    if role not in ROLES:
        fail(f"`{role}` is no role: choose from {', '.join(ROLES)}")
    return role


def tell_password(person: Person, password: str) -> None:
    typer.echo(f"sign in as {person.username} with {password}")
    typer.echo("It is shown this once, and asks to be changed at the first sign-in.")


@app.command("list")
def list_() -> None:
    """Everybody, with role and whether they can sign in."""
    try:
        for person in Person.objects.order_by("username"):
            word = "" if person.is_active else "  cannot sign in"
            typer.echo(f"{person.username:20} {person.role:10} {person.first_name}{word}")
    except DatabaseError as error:
        fail(f"the database does not answer ({str(error).strip().splitlines()[0]}): run `./oculum up` first")


@app.command()
def add(
    name: Name, role: Role = "viewer", title: Annotated[str, typer.Option(help="the name people see")] = ""
) -> None:
    """Adds somebody, with a first password."""
    import re

    if re.fullmatch(USERNAME, name) is None:
        fail(f"`{name}`: a name to sign in has letters a-z, digits, dots, hyphens, underscores")
    if Person.objects.filter(username__iexact=name).exists():
        fail(f"there is a person named `{name}` already, whatever its letters' case")
    person = Person(username=name, first_name=title or name, role=sound_role(role))
    with transaction.atomic():
        password = first_password(person)
        record(None, "added person", name, {"role": role}, who=WHO)
    tell_password(person, password)


@app.command()
def password(name: Name) -> None:
    """A new password for somebody; sessions and tokens that they have end."""
    person = found(name)
    with transaction.atomic():
        fresh = first_password(person)
        record(None, "changed person", person.username, {"password": True}, who=WHO)
    tell_people(person.pk)
    tell_password(person, fresh)


@app.command()
def role(name: Name, role: Annotated[str, typer.Argument(help=f"one of {', '.join(ROLES)}")]) -> None:
    """Another role for somebody, who can sign in with it from now on."""
    person = found(name)
    person.role, person.is_active = sound_role(role), True
    with transaction.atomic():
        person.save(update_fields=["role", "is_active"])
        record(None, "changed person", person.username, {"role": role, "active": True}, who=WHO)
    tell_people(person.pk)
    typer.echo(f"{person.username} is {role} now.")
