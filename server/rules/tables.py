"""Reference tables kept: a file's rows put into a table, and the change into the stream."""

from __future__ import annotations

from typing import Any

from oculum.routing import reference
from oculum.routing.reference import Read
from server.records.definitions.models import ReferenceTable
from server.rules.refusal import Refused
from server.rules.registering import control
from server.rules.routes import looking_up


def read(text: str) -> Read:
    """The rows of a file, those that are sound. Raises Refused where its head cannot be read."""
    try:
        return reference.read(text)
    except reference.TableError as error:
        raise Refused("invalid", str(error)) from None


def written(table: ReferenceTable) -> str:
    """A table as a file that gives the same table again."""
    return reference.written(table.columns, table.rows)


def keep(table: ReferenceTable, found: Read, person: Any) -> None:
    """Puts rows into a table, and the change into the stream."""
    if (
        table.pk
        and {c["name"]: (c["kind"], c["unit"]) for c in table.columns}.items()
        - {c["name"]: (c["kind"], c["unit"]) for c in found.columns}.items()
    ):
        users = looking_up(table.name)
        if users:
            raise Refused("in use", f"columns would go or change, and “{users[0]}” looks this table up", 409)
    table.columns, table.rows, table.person = found.columns, found.rows, person
    control("table", {"name": table.name, "columns": found.columns, "rows": found.rows}, person)
