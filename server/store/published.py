"""What was published, and every other event of the register, in the order of the stream."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import psycopg


def events_until(connection: psycopg.Connection[Any], number: int | None) -> Iterator[tuple[int, str, dict[str, Any]]]:
    """Events up to a number of the stream, or all: number, kind and content. What changed devices, sites, types, fences
    and constants is read by `register_at`; what was decoded again changes nothing.
    """
    yield from connection.execute(
        "select id, kind, body from control_event where id <= %s and kind not in ('registry', 'again') order by id",
        (2**62 if number is None else number,),
    ).fetchall()


@dataclass(frozen=True)
class VersionRow:
    """A version of a definition. made: by Oculum itself, with a `why` that says so."""

    definition: int
    version: int
    kind: str
    type_id: int
    key: str  # of the type
    text: str
    fields: list[dict[str, Any]]
    setpoints: list[dict[str, Any]]
    made: bool


def version_row(connection: psycopg.Connection[Any], version: int, made: str) -> VersionRow | None:
    """One version; None where there is none. made: what `why` says of one that nobody published."""
    row = connection.execute(
        "select d.id, v.id, d.kind, d.type_id, t.key, v.text, v.fields, v.setpoints, v.person_id is null and v.why = %s"
        " from definitions_version v join definitions_definition d on d.id = v.definition_id join fleet_devicetype t on"
        " t.id = d.type_id where v.id = %s",
        (made, version),
    ).fetchone()
    return VersionRow(*row) if row is not None else None


def types_by_key(connection: psycopg.Connection[Any]) -> dict[str, int]:
    return dict(connection.execute("select key, id from fleet_devicetype").fetchall())
