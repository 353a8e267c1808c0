"""Notices of the database: telling of a change, and following what is told for as long as a process lives."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable, Sequence
from typing import Any, Protocol

import psycopg
from psycopg.types.json import Jsonb

log = logging.getLogger("oculum.notices")
TELLING = 644
Connection = psycopg.AsyncConnection[Any]
React = Callable[[Connection, str, str], Awaitable[None]]


class Executes(Protocol):
    """A connection, or a cursor."""

    def execute(self, query: str, params: Any = ...) -> Any: ...


def tell(connection: Executes, body: dict[str, Any]) -> None:
    """A change for the live feed, told with the commit: messages, devices, alarms, control. The last thing that a
    transaction does: others wait for it, so that changes come to be seen in the order of their numbers.
    """
    connection.execute(
        "with turn as materialized (select pg_advisory_xact_lock(%s)) insert into live_change (body) select %s from"
        " turn",
        (TELLING, Jsonb(body)),
    )
    notice(connection, "oculum_live")


def notice(connection: Executes, channel: str, payload: str = "") -> None:
    """A word on a channel, told with the commit."""
    connection.execute("select pg_notify(%s, %s)", (channel, payload))


async def follow(
    url: str, channels: Sequence[str], react: React, lost: Callable[[str | None], None] = lambda _: None
) -> None:
    """Calls react(connection, channel, payload) for every notice, one after the other; never returns.

    After each (re)connection it is called with "" and "", since some may have been missed: read everything anew
    then. The connection is for its questions, in autocommit. `lost` is told when the database is lost, with a
    sentence, and with None when it is there again. What `react` raises besides errors of the connection goes on up.
    """
    while True:
        try:
            async with await _connected(url, "notices") as listening, await _connected(url, "questions") as asking:
                for channel in channels:
                    await listening.execute(f"listen {channel}")
                await react(asking, "", "")
                lost(None)
                async for notice in listening.notifies():
                    await react(asking, notice.channel, notice.payload)
        except (psycopg.OperationalError, psycopg.InterfaceError, OSError) as error:
            log.warning("notices interrupted: %s", type(error).__name__)
            lost("the database does not answer")
        await asyncio.sleep(0.3)


async def _connected(url: str, what: str) -> Connection:
    return await psycopg.AsyncConnection.connect(url, autocommit=True, application_name=f"oculum {what}")
