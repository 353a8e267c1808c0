"""What the engine writes, all of it inside the transaction of its batch."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
import psycopg
from psycopg.types.json import Jsonb, set_json_dumps, set_json_loads

from oculum.arrays import Bytes
from oculum.batches import Decoded
from oculum.errors import OculumError
from oculum.history.events import Newest
from oculum.language.fields import FieldSpec
from oculum.text import harmless
from server.store.rows import COLUMNS, HEADER, TRAILER, Rows, json_of, listed, row_values
from server.store.sealed import Known, open_for, with_sealed
from server.store.times import moment

set_json_dumps(orjson.dumps)
set_json_loads(orjson.loads)


class Fenced(OculumError):
    """Another engine has taken this part over; nothing of this one's work is kept."""


@dataclass(frozen=True)
class RefusedMessage:
    message_id: int
    received_us: int
    device_id: int
    version_id: int | None
    code: str
    reason: str
    line: int
    byte: int
    part: bool = False  # what else the message tells was good


class Layouts:
    """Numbers of layouts: the fields of a row and their order."""

    def __init__(self) -> None:
        self.known: dict[tuple[FieldSpec, ...], int] = {}
        self._names: dict[int, frozenset[str]] = {}

    def number(self, connection: psycopg.Connection, fields: tuple[FieldSpec, ...]) -> int:
        if fields not in self.known:
            body = [f.as_dict() for f in fields]
            digest = hashlib.sha256(orjson.dumps(body, option=orjson.OPT_NON_STR_KEYS)).digest()
            connection.execute(
                "insert into layout (fields, digest) values (%s, %s) on conflict do nothing",
                (Jsonb(_plain(body)), digest),
            )
            row = connection.execute("select id from layout where digest = %s", (digest,)).fetchone()
            assert row is not None
            self.known[fields] = int(row[0])
        return self.known[fields]

    def near(self, connection: psycopg.Connection, written: Sequence[Rows]) -> list[set[int]]:
        """Of each, the other layouts that have one of the fields of which its rows say something."""
        for number, fields in connection.execute(
            "select id, fields from layout where id > %s", (max(self._names, default=0),)
        ).fetchall():
            self._names[int(number)] = frozenset(spec["name"] for spec in json_of(fields))
        return [
            {other for other, names in self._names.items() if other != rows.layout and names & rows.names}
            for rows in written
        ]


def _plain(body: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{**spec, "codes": {str(k): v for k, v in spec["codes"].items()}} for spec in body]


def write_rows(connection: psycopg.Connection, rows: Rows) -> None:
    """Copies readings; where a key is there already, the newer arrival replaces it and the older is kept on record."""
    if not len(rows.device):
        return
    open_for(connection, rows.device, rows.at)
    if ((rows.device[1:] != rows.device[:-1]) | (rows.at[1:] != rows.at[:-1])).all():
        try:
            with connection.transaction():
                _copy(connection, "reading_row", rows.body)
            return
        except psycopg.errors.UniqueViolation:
            pass
    connection.execute(
        "create temp table if not exists staged (like reading_row, turn bigserial) on commit delete rows"
    )
    connection.execute("truncate staged")
    _copy(connection, "staged", rows.body)
    # A key's history in order of arrival: what is stored, and what came. What equals its predecessor does
    # nothing. Of each field the newest arrival that speaks of it stays; a row of which something is
    # replaced goes on record. (Decoding again brings old arrivals.)
    connection.execute(
        f"with chain as (select {listed('r')}, 0::bigint as turn from reading_row r join (select distinct {KEY} from"
        f" staged) k using ({KEY})"
        f" union all select {COLUMNS}, turn from staged),"
        " marked as (select *, lag(turn) over w is not null and lag(nums) over w is not distinct from nums and"
        " lag(texts) over w is not distinct from texts"
        f" and lag(missing) over w is not distinct from missing as again from chain window w as (partition by {KEY}"
        f" order by message_id, turn)),"
        f" kept as materialized (select *, row_number() over v as age, count(*) over (partition by {KEY}) as several"
        f" from marked where not again"
        f" window v as (partition by {KEY} order by message_id desc, turn desc)),"
        f" nums as (select {KEY}, array_agg(v order by i) as nums from ({_newest('nums')}) x group by {KEY}),"
        f" texts as (select {KEY}, array_agg(v order by i) as texts from ({_newest('texts')}) x group by {KEY}),"
        f" missing as (select {KEY}, jsonb_object_agg(m.key, m.value order by age desc) as missing from kept cross"
        f" join lateral jsonb_each(missing) m where several > 1 group by {KEY}),"
        f" older as (insert into replaced_reading ({COLUMNS}) select {COLUMNS} from kept o where age > 1 and exists"
        f" (select 1 from kept n"
        f" where (n.device_id, n.at, n.layout_id) = (o.device_id, o.at, o.layout_id) and n.age < o.age and"
        f" ({_overlap('nums')} or {_overlap('texts')})))"
        f" insert into reading_row ({COLUMNS}) select k.device_id, k.at, k.layout_id, k.version_id, k.message_id,"
        f" k.received_at,"
        " coalesce(n.nums, k.nums), coalesce(t.texts, k.texts), coalesce(m.missing, k.missing)"
        f" from kept k left join nums n using ({KEY}) left join texts t using ({KEY}) left join missing m using ({KEY})"
        " where age = 1 and (turn > 0 or several > 1) on conflict (device_id, at, layout_id) do update set "
        + ", ".join(
            f"{c} = excluded.{c}" for c in ("version_id", "message_id", "received_at", "nums", "texts", "missing")
        )
    )


PIECE = 1 << 18  # bytes that are handed over at once
KEY = "device_id, at, layout_id"


def _newest(slots: str) -> str:
    """Of each place in an array the value of the newest row that has one."""
    return (
        f"select {KEY}, i, (array_agg(v order by age) filter (where v is not null))[1] as v from kept cross join"
        f" lateral unnest({slots}) with ordinality u(v, i) where several > 1 group by {KEY}, i"
    )


def _overlap(slots: str) -> str:
    return f"exists (select 1 from unnest(n.{slots}, o.{slots}) x(a, b) where a is not null and b is not null)"


def _copy(connection: psycopg.Connection, table: str, body: Bytes) -> None:
    with connection.cursor() as cursor, cursor.copy(f"copy {table} ({COLUMNS}) from stdin (format binary)") as copy:
        copy.write(HEADER)
        for start in range(0, len(body), PIECE):
            copy.write(body[start : start + PIECE].data)
        copy.write(TRAILER)


def write_refused(connection: psycopg.Connection, refused: Iterable[RefusedMessage]) -> None:
    rows = list(refused)
    if not rows:
        return
    connection.execute(
        "insert into refused (message_id, received_at, device_id, version_id, code, reason, line, byte, part)"
        " select * from unnest(%s::bigint[], %s::timestamptz[], %s::int[], %s::int[], %s::text[], %s::text[],"
        " %s::int[], %s::int[], %s::bool[])"
        " on conflict (message_id) do update set version_id = excluded.version_id, code = excluded.code, reason ="
        " excluded.reason, line = excluded.line, byte = excluded.byte, part = excluded.part",
        (
            [r.message_id for r in rows],
            [moment(r.received_us) for r in rows],
            [r.device_id for r in rows],
            [r.version_id for r in rows],
            [r.code for r in rows],
            [r.reason for r in rows],
            [r.line for r in rows],
            [r.byte for r in rows],
            [r.part for r in rows],
        ),
    )


def partly(
    decoded: Decoded, ids: np.ndarray, received: np.ndarray, device: np.ndarray, version: int
) -> list[RefusedMessage]:
    """Good messages of which a part was refused: on record with the first of them.

    ids, received, device: int64 (n,).
    """
    found: dict[int, RefusedMessage] = {}
    for part in decoded.parts:
        if decoded.failure[part.row] < 0 and part.row not in found:
            reason = (
                f"{part.name}{f' of {part.device}' if part.device and part.name != 'device' else ''}:"
                f" {part.failure.message}"
            )
            found[part.row] = RefusedMessage(
                int(ids[part.row]),
                int(received[part.row]),
                int(device[part.row]),
                version,
                part.failure.code,
                harmless(reason, 300)[:300],
                part.failure.line,
                -1,
                part=True,
            )
    return list(found.values())


WHOLE = "whole"


def latest_entry(found: Newest, message: int, received_us: int) -> list[Any]:
    """A newest value as `latest` keeps it: a whole number of more than 53 bits as digits, and said to be one."""
    if isinstance(found.value, int) and abs(found.value) > 2**53:
        return [str(found.value), found.at, message, received_us, WHOLE]
    return [found.value, found.at, message, received_us]


def newest_of(entry: list[Any]) -> Newest:
    """What `latest_entry` has kept."""
    return Newest(int(entry[0]) if entry[4:] == [WHOLE] else entry[0], entry[1])


def write_latest(
    connection: psycopg.Connection, rows: list[tuple[int, int, int, int, bool | None, dict[str, Any]]]
) -> None:
    """device, message, received_us, messages to add, whether its own last failed (None: as before), fields."""
    if not rows:
        return
    connection.execute(
        "insert into latest select d, message, received, n,"
        " coalesce(f, (select l.failed from latest l where l.device_id = d), false), fields from"
        " unnest(%s::int[], %s::bigint[], %s::timestamptz[], %s::bigint[], %s::bool[], %s::json[])"
        " u(d, message, received, n, f, fields)"
        " on conflict (device_id) do update set message_id = excluded.message_id, received_at = excluded.received_at,"
        " messages = latest.messages + excluded.messages, failed = excluded.failed, fields = excluded.fields",
        (
            [r[0] for r in rows],
            [r[1] for r in rows],
            [moment(r[2]) for r in rows],
            [r[3] for r in rows],
            [r[4] for r in rows],
            [orjson.dumps(r[5]).decode() for r in rows],
        ),
    )


LOOKED_BACK = (20, 500)  # rows of a device that are searched for the newest value of a field: first a few


def newest_stored(
    connection: psycopg.Connection, device: int, names: set[str], until_us: int, last: int
) -> dict[str, Known]:
    """The newest values of a device's fields measured until a moment, of messages up to a number: value, measured (µs),
    message, received (µs).
    """
    found: dict[str, Known] = {}
    for most in LOOKED_BACK:
        found = _newest_of(connection, device, names, until_us, last, most)
        if found.keys() == names:
            break
    with connection.cursor() as cursor:
        return with_sealed(cursor, device, names, found, until_us, lambda block: block.message <= last, whole=True)


def _newest_of(
    connection: psycopg.Connection, device: int, names: set[str], until_us: int, last: int, most: int
) -> dict[str, Known]:
    found: dict[str, Known] = {}
    rows = connection.execute(
        "select l.fields, r.nums, r.texts, (extract(epoch from r.at) * 1000000)::bigint, r.message_id,"
        " (extract(epoch from r.received_at) * 1000000)::bigint from"
        " (select * from reading_row where device_id = %s and at <= %s and message_id <= %s order by at desc"
        " limit %s) r"
        " join layout l on l.id = r.layout_id order by r.at desc",
        (device, moment(until_us), last, most),
    ).fetchall()
    for fields, nums, texts, at, message, received in rows:
        for name, value in row_values(fields, nums, texts).items():
            if name in names and name not in found:
                if any(spec["name"] == name and spec.get("wide") for spec in fields):
                    value = int(value)
                found[name] = (value, int(at), int(message), int(received))
    return found
