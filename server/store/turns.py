"""Whose turn it is: to write what is made of messages (an engine, each for its share, or who decodes again, for all of
them), to write into the stream, to change what lies in what, to try to sign in.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
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


TREES = 643  # another space of locks than those of two numbers


def stream_turn(cursor: Any) -> None:
    """Nobody writes into the stream until the end of the transaction."""
    cursor.execute("select stream_turn(0)")


def trees_turn(cursor: Any) -> None:
    """Who changes what lies in what, or speaks through what, does so alone, until the end of the transaction."""
    cursor.execute("select pg_advisory_xact_lock(%s)", (TREES,))


def count_tries(cursor: Any, keys: Sequence[str], minute: datetime) -> int:
    """Counts a try to sign in for each of the keys within a minute; how many that of the most has had.

    For all keys in one statement: of tries at once, each has its place among the others for all of them.
    """
    cursor.execute("delete from sign_in_try where minute < %s", (minute - timedelta(minutes=5),))
    cursor.execute(
        "insert into sign_in_try select key, %s, 1 from unnest(%s::text[]) key"
        " on conflict (key, minute) do update set tries = sign_in_try.tries + 1 returning tries",
        (minute, sorted(set(keys))),
    )
    return max(row[0] for row in cursor.fetchall())


def forgive_tries(cursor: Any, keys: Sequence[str]) -> None:
    """The last try of these is none."""
    cursor.execute("update sign_in_try set tries = greatest(tries - 1, 0) where key = any(%s)", (list(keys),))
