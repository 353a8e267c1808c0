"""Devices, sites, types, fences and constants as they are at a place in the stream."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import psycopg

from server.store.rows import json_of


@dataclass(frozen=True)
class RegisterRow:
    """One thing of the register. what: device, site, type, fence or constant; row: None where it is gone."""

    what: str
    id: int
    row: dict[str, Any] | None


def register_at(
    connection: psycopg.Connection[Any], number: int | None = None, later: bool = False
) -> list[RegisterRow]:
    """Everything as of a number of the stream, or as of its end. later: what came after it as it was first."""
    place = 2**62 if number is None else number
    return _rows(
        connection.execute(
            "select distinct on (what, id) what, id, row from register_change where number <= %s or %s order by what,"
            " id, number <= %s desc, case when number <= %s then -number else number end",
            (place, later, place, place),
        ).fetchall()
    )


def register_changes(connection: psycopg.Connection[Any], number: int) -> list[RegisterRow]:
    """What one event of the stream has changed."""
    return _rows(
        connection.execute(
            "select what, id, row from register_change where number = %s order by what, id", (number,)
        ).fetchall()
    )


@dataclass(frozen=True)
class Was:
    """What one thing of the register has been from a moment on (None: from the beginning), and who made it so."""

    at: datetime | None
    person: int | None
    row: dict[str, Any]


def history_of(cursor: Any, what: str, ident: int) -> list[Was]:
    """All that a thing of the register has been, the first first."""
    cursor.execute(
        "select e.at, e.person_id, c.row from register_change c left join control_event e on e.id = c.number where"
        " c.what = %s and c.id = %s and c.row is not null order by c.number",
        (what, ident),
    )
    return [Was(at, person, json_of(row)) for at, person, row in cursor.fetchall()]


def constants_of(connection: psycopg.Connection[Any], device: int) -> dict[str, list[tuple[int, Any]]]:
    """A device's constants as they are now: by name, each value with from when on (µs) it holds, rising."""
    found: dict[str, list[tuple[int, Any]]] = {}
    for name, value, begins in connection.execute(
        "select name, value, (extract(epoch from valid_from) * 1000000)::bigint from fleet_constant where device_id ="
        " %s order by name, valid_from",
        (device,),
    ).fetchall():
        found.setdefault(name, []).append((int(begins), value))
    return found


def _rows(found: list[tuple[Any, ...]]) -> list[RegisterRow]:
    return [RegisterRow(what, int(ident), row) for what, ident, row in found]
