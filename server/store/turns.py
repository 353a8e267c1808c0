"""Who may write what is made of messages: an engine, each for its share, or who decodes again, for all of them."""

from __future__ import annotations

from typing import Any

import psycopg

WRITING = 643


def writers_turn(connection: psycopg.Connection[Any], share: int | None = None) -> None:
    """Waits for the turn of a share, or of all, and has it until the end of the transaction."""
    if share is not None:
        connection.execute("select pg_advisory_xact_lock(%s, %s)", (WRITING, share))
        return
    for (one,) in connection.execute("select share from engine_cursor order by share").fetchall():
        writers_turn(connection, one)
