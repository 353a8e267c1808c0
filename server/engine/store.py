"""What the engine writes, all of it inside the transaction of its batch."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import orjson
import psycopg
from oculum.language.plan import FieldSpec
from psycopg.types.json import Jsonb, set_json_dumps, set_json_loads

from .rows import COLUMNS, HEADER, TRAILER, Rows

set_json_dumps(orjson.dumps)
set_json_loads(orjson.loads)
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def moment(us: int) -> datetime:
    """Microseconds since 1970 as a time, clamped to what PostgreSQL and Python can hold."""
    return EPOCH + timedelta(microseconds=min(max(us, -62_135_596_800_000_000), 253_402_300_799_000_000))


@dataclass(frozen=True)
class Refused:
    message_id: int
    received_us: int
    device_id: int
    version_id: int | None
    code: str
    reason: str
    line: int
    byte: int


class Layouts:
    """Numbers of layouts: the fields of a row and their order."""

    def __init__(self) -> None:
        self.known: dict[tuple[FieldSpec, ...], int] = {}

    def number(self, connection: psycopg.Connection, fields: tuple[FieldSpec, ...]) -> int:
        if fields not in self.known:
            body = [f.as_dict() for f in fields]
            digest = hashlib.sha256(orjson.dumps(body, option=orjson.OPT_NON_STR_KEYS)).digest()
            connection.execute("insert into layout (fields, digest) values (%s, %s) on conflict do nothing", (Jsonb(_plain(body)), digest))
            row = connection.execute("select id from layout where digest = %s", (digest,)).fetchone()
            assert row is not None
            self.known[fields] = int(row[0])
        return self.known[fields]


def _plain(body: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{**spec, "codes": {str(k): v for k, v in spec["codes"].items()}} for spec in body]


def write_rows(connection: psycopg.Connection, rows: Rows) -> None:
    """Copies readings; where a key is there already, the newer arrival replaces it and the older is kept on record."""
    if not rows.encoded:
        return
    unique = len(set(rows.keys)) == len(rows.keys)
    if unique:
        try:
            with connection.transaction():
                _copy(connection, "reading_row", rows.encoded)
            return
        except psycopg.errors.UniqueViolation:
            pass
    connection.execute("create temp table if not exists staged (like reading_row, turn bigserial) on commit delete rows")
    connection.execute("truncate staged")
    _copy(connection, "staged", rows.encoded)
    same = "(a.nums, a.texts, a.missing) is not distinct from (b.nums, b.texts, b.missing)"
    older = ", ".join(f"a.{c.strip()}" for c in COLUMNS.split(","))
    # Within the batch: the last of a key stays; an earlier one with other values goes on record.
    connection.execute(
        f"insert into replaced_reading ({COLUMNS}) select {older} from staged a join lateral (select * from staged x where x.device_id = a.device_id"
        f" and x.at = a.at and x.layout_id = a.layout_id and x.turn > a.turn order by x.turn limit 1) b on true where not ({same})"
    )
    connection.execute("delete from staged a using staged b where a.device_id = b.device_id and a.at = b.at and a.layout_id = b.layout_id and a.turn < b.turn")
    connection.execute(
        f"insert into replaced_reading ({COLUMNS}) select {older} from reading_row a join staged b on b.device_id = a.device_id and b.at = a.at and b.layout_id = a.layout_id where not ({same})"
    )
    updates = ", ".join(f"{c} = excluded.{c}" for c in ("version_id", "message_id", "received_at", "nums", "texts", "missing"))
    connection.execute(
        f"insert into reading_row ({COLUMNS}) select {COLUMNS} from staged on conflict (device_id, at, layout_id) do update set {updates}"
        " where (reading_row.nums, reading_row.texts, reading_row.missing) is distinct from (excluded.nums, excluded.texts, excluded.missing)"
    )


def _copy(connection: psycopg.Connection, table: str, encoded: list[bytes]) -> None:
    with connection.cursor() as cursor, cursor.copy(f"copy {table} ({COLUMNS}) from stdin (format binary)") as copy:
        copy.write(HEADER)
        for start in range(0, len(encoded), 2000):
            copy.write(b"".join(encoded[start : start + 2000]))
        copy.write(TRAILER)


def write_refused(connection: psycopg.Connection, refused: Iterable[Refused]) -> None:
    rows = list(refused)
    if not rows:
        return
    connection.execute(
        "insert into refused select * from unnest(%s::bigint[], %s::timestamptz[], %s::int[], %s::int[], %s::text[], %s::text[], %s::int[], %s::int[])"
        " on conflict (message_id) do update set version_id = excluded.version_id, code = excluded.code, reason = excluded.reason, line = excluded.line, byte = excluded.byte",
        (
            [r.message_id for r in rows], [moment(r.received_us) for r in rows], [r.device_id for r in rows], [r.version_id for r in rows],
            [r.code for r in rows], [r.reason for r in rows], [r.line for r in rows], [r.byte for r in rows],
        ),
    )  # fmt: skip


def write_activity(connection: psycopg.Connection, device: np.ndarray, received: np.ndarray, failed: np.ndarray) -> None:
    """Messages and failures by device and hour of arrival."""
    if not len(device):
        return
    hour = received // 3_600_000_000
    keys, which = np.unique(np.stack([device, hour], axis=1), axis=0, return_inverse=True)
    which = which.reshape(-1)
    counts = np.bincount(which, minlength=len(keys))
    bad = np.bincount(which, weights=failed.astype(float), minlength=len(keys)).astype(int)
    connection.execute(
        "insert into activity select * from unnest(%s::int[], %s::timestamptz[], %s::int[], %s::int[])"
        " on conflict (device_id, hour) do update set messages = activity.messages + excluded.messages, failed = activity.failed + excluded.failed",
        (keys[:, 0].tolist(), [moment(int(h) * 3_600_000_000) for h in keys[:, 1]], counts.tolist(), bad.tolist()),
    )


def write_latest(connection: psycopg.Connection, rows: list[tuple[int, int, int, int, bool, dict[str, Any]]]) -> None:
    """device, message, received_us, messages to add, whether the last failed, fields."""
    if not rows:
        return
    connection.execute(
        "insert into latest select * from unnest(%s::int[], %s::bigint[], %s::timestamptz[], %s::bigint[], %s::bool[], %s::jsonb[])"
        " on conflict (device_id) do update set message_id = excluded.message_id, received_at = greatest(latest.received_at, excluded.received_at),"
        " messages = latest.messages + excluded.messages, failed = excluded.failed, fields = excluded.fields",
        (
            [r[0] for r in rows], [r[1] for r in rows], [moment(r[2]) for r in rows], [r[3] for r in rows], [r[4] for r in rows],
            [orjson.dumps(r[5]).decode() for r in rows],
        ),
    )  # fmt: skip
