"""Readings as the engine has just written them, in the order of their messages."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta
from typing import Any

import psycopg

from server.store.rows import row_values
from server.store.series import Row
from server.store.times import US

REMEMBERED = timedelta(minutes=55)  # longer than that the rows of an arrival are not kept from being sealed


class Arriving:
    """Reads what was written of messages behind a mark. A mark says of every share of the engine how far it is."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.connection: psycopg.Connection[Any] | None = None
        self.layouts: dict[int, list[dict[str, Any]]] = {}

    def open(self) -> psycopg.Connection[Any]:
        if self.connection is None or self.connection.closed:
            self.connection = psycopg.connect(self.url, autocommit=True, application_name="oculum readings")
        return self.connection

    def close(self) -> None:
        if self.connection is not None:
            self.connection.close()
            self.connection = None

    def mark(self) -> tuple[int, ...]:
        """How far the engine is, by share."""
        return tuple(row[0] for row in self.open().execute("select id from engine_cursor order by share").fetchall())

    def remembered(self, mark: Sequence[int]) -> bool:
        """Whether all that was written behind a mark still stands as it was written."""
        row = (
            self.open()
            .execute(
                "select received_at > clock_timestamp() - %s from message where id > %s order by id limit 1",
                (REMEMBERED, min(mark, default=0)),
            )
            .fetchone()
        )
        return row is None or bool(row[0])

    def written(self, after: Sequence[int], until: Sequence[int], devices: Iterable[int]) -> list[Row]:
        """Readings of devices from messages behind one mark and up to another, of as many shares."""
        # As a constant, which PostgreSQL looks up in a table of hashes; added to nothing, so that it looks for the few
        # messages and not for the many rows of the devices.
        own = f"'{{{','.join(str(int(device)) for device in devices)}}}'::int[]"
        found = (
            self.open()
            .execute(
                f"select device_id, {US.format('at')}, {US.format('received_at')}, message_id, layout_id, nums, texts"
                f" from reading_row where message_id > %s and message_id <= %s and device_id + 0 = any({own})"
                " order by message_id, at, device_id, layout_id",
                (min(after), max(until)),
            )
            .fetchall()
        )
        shares = len(until)
        told = [row for row in found if after[row[0] % shares] < row[3] <= until[row[0] % shares]]
        strange = {row[4] for row in told} - self.layouts.keys()
        if strange:
            rows = self.open().execute("select id, fields from layout where id = any(%s)", (list(strange),))
            self.layouts.update(dict(rows.fetchall()))
        return [
            Row(device, at, received, message, layout, row_values(self.layouts[layout], nums, texts))
            for device, at, received, message, layout, nums, texts in told
        ]
