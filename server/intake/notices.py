"""Waiting for notices of the database, for as long as a process lives."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Sequence

import psycopg

log = logging.getLogger("oculum.notices")


async def notices(url: str, channels: Sequence[str]) -> AsyncIterator[tuple[str, str]]:
    """(channel, payload) of every notice; ("", "") after each (re)connection, when some may have been missed."""
    while True:
        try:
            connection = await psycopg.AsyncConnection.connect(url, autocommit=True, application_name="oculum notices")
            async with connection:
                for channel in channels:
                    await connection.execute(f"listen {channel}")
                yield "", ""
                async for notice in connection.notifies():
                    yield notice.channel, notice.payload
        except (psycopg.OperationalError, OSError) as error:
            log.warning("notices interrupted: %s", type(error).__name__)
            await asyncio.sleep(0.5)
