"""Telling an error of the database from an error of what was to be written."""

from __future__ import annotations

from typing import Any

import psycopg

# Classes of SQLSTATE: connection, rollback after a deadlock, resources, intervention of an operator, system.
OF_THE_DATABASE = {"08", "40", "53", "57", "58"}


def of_the_database(error: psycopg.Error, connection: psycopg.BaseConnection[Any] | None = None) -> bool:
    """Whether an error is the database's (gone, shutting down, full, a deadlock), so that the same may work later."""
    if connection is not None and (connection.closed or connection.broken):
        return True
    if error.sqlstate is None:
        return isinstance(error, psycopg.OperationalError | psycopg.InterfaceError)
    return error.sqlstate[:2] in OF_THE_DATABASE
