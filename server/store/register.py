"""Devices, sites, types, fences and constants as they are at a place in the stream."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from psycopg.types.json import Jsonb

from oculum.language.routes.check import SITE
from server.store.arrays import arrays
from server.store.notices import notice
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


def in_service(cursor: Any, only: Sequence[int] | None = None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Devices in service, rising; those of sites' own readings are none: which, their cadence in s (0: none), when they
    were registered, µs; int64 (n,) each.
    """
    device, cadence, registered = arrays(
        cursor,
        ("int", "int", "time"),
        "select d.id, coalesce(d.cadence_s, t.cadence_s, 0), d.registered_at from fleet_device d join fleet_devicetype"
        " t on t.id = d.type_id where d.phase = 'in service' and t.key <> %(site)s"
        + (" and d.id = any(%(only)s)" if only is not None else "")
        + " order by d.id",
        {"site": SITE, "only": only},
    )
    return device, cadence, registered


@dataclass(frozen=True)
class SetpointWas:
    """A value of a setpoint, of a device, of a site or of the type, and who set it. value: None where it was taken
    back.
    """

    at: datetime
    person: int | None
    name: str
    site: int | None
    device: int | None
    value: float | None


def setpoint_changes(
    cursor: Any,
    type_: int,
    most: int,
    *,
    name: str | None = None,
    device: int | None = None,
    site: int | None = None,
    of_type: bool = False,
) -> list[SetpointWas]:
    """Values that setpoints of a type have been given, the newest first. of_type: only those of the type itself."""
    cursor.execute(
        "select at, person_id, body->>'name', (body->>'site')::int, (body->>'device')::int, (body->>'value')::float8"
        " from control_event where kind = 'setpoint' and (body->>'type')::int = %(type)s and (%(name)s::text is null or"
        " body->>'name' = %(name)s) and (%(device)s::int is null or (body->>'device')::int = %(device)s) and"
        " (%(site)s::int is null or (body->>'site')::int = %(site)s) and (not %(bare)s or (body->>'site' is null and"
        " body->>'device' is null)) order by id desc limit %(most)s",
        {"type": type_, "name": name, "device": device, "site": site, "bare": of_type, "most": most},
    )
    return [SetpointWas(*row) for row in cursor.fetchall()]


def setpoint_then(cursor: Any, type_: int, name: str, message: int | None, at: datetime) -> list[SetpointWas]:
    """The values of a setpoint in force where a message stands in the stream, or at a moment where there is none: of
    the type, and of each device and site that has one.
    """
    cursor.execute(
        "select distinct on (body->>'device', body->>'site') at, person_id, body->>'name', (body->>'site')::int,"
        " (body->>'device')::int, (body->>'value')::float8 from control_event where kind = 'setpoint' and"
        " (body->>'type')::bigint = %(type)s and body->>'name' = %(name)s and case when %(message)s::bigint is null"
        " then at <= %(at)s else id < %(message)s end order by body->>'device', body->>'site', id desc",
        {"type": type_, "name": name, "message": message, "at": at},
    )
    return [SetpointWas(*row) for row in cursor.fetchall()]


def write_event(cursor: Any, kind: str, body: dict[str, Any], person: int | None) -> None:
    """Puts a change into the stream, in order with the messages: its number is given when the transaction commits.

    Time in which nobody listened is told before it, else everybody would have been silent for as long.
    """
    cursor.execute("select unheard()")
    cursor.execute("insert into control_event (kind, body, person_id) values (%s, %s, %s)", (kind, Jsonb(body), person))
    notice(cursor, "oculum_control")


def accounts_changed(cursor: Any) -> None:
    """The broker is to know other accounts than before."""
    cursor.execute("update broker_accounts set wanted = wanted + 1")


def accounts_known(cursor: Any) -> bool:
    """Whether the broker knows the accounts as they are now."""
    cursor.execute("select applied >= wanted from broker_accounts")
    row = cursor.fetchone()
    return bool(row and row[0])
