"""Arrivals to the inbox: many share one COPY and one commit, and each sender hears after it."""

from __future__ import annotations

import asyncio
import hashlib
import logging
import re
import shutil
import time
from collections import Counter, deque
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

import psycopg
from psycopg.types.json import Jsonb

from .senders import Source

log = logging.getLogger("oculum.inbox")
MQTT, HTTP, LOADED = 1, 2, 3
MOST = 1000
COPY = "copy message (part, received_at, device_id, unknown_id, via_id, channel, topic, headers, payload) from stdin (format binary)"
TYPES = ["int2", "timestamptz", "int4", "int4", "int4", "int2", "text", "jsonb", "bytea"]


HEADERS, HEADER_CHARACTERS = 16, 400
HEADER = re.compile(r"[a-z][a-z0-9_-]{0,62}")


def headers_of(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    """What a sender tells beside its message, names in small letters; at most 16, of at most 400 characters each."""
    found: dict[str, str] = {}
    for name, value in pairs:
        name = name.lower()
        if len(found) < HEADERS and HEADER.fullmatch(name) and name != "topic" and len(value) <= HEADER_CHARACTERS:
            found[name] = value.replace("\0", "")
    return found


class Full(Exception):
    """Nothing is acknowledged any more: the disk is down to its reserve."""


@dataclass
class Arrival:
    source: Source
    channel: int
    topic: str
    payload: bytes
    packet: tuple[str, int, bool] | None = None  # session, packet number, marked as repeat
    seq: int = 0
    headers: dict[str, str] | None = None

    def digest(self) -> bytes:
        return hashlib.sha256(self.topic.encode() + b"\0" + self.payload).digest()[:16]


class Inbox:
    """One writer with one connection. `put` returns when the arrival is committed."""

    def __init__(self, url: str, folder: Path, reserve: int, unknown_senders: int, unknown_messages: int) -> None:
        self.url, self.folder, self.reserve = url, folder, reserve
        self.unknown_senders, self.unknown_messages = unknown_senders, unknown_messages
        self.waiting: list[tuple[Arrival, asyncio.Future[bool]]] = []
        self.acknowledged: deque[tuple[float, str, int, int]] = deque()  # when, session, packet, seq
        self.seq = time.time_ns()
        self.refusals: Counter[tuple[int, str]] = Counter()
        self.wake = asyncio.Event()
        self.connection: psycopg.AsyncConnection | None = None
        self.checked_disk = 0.0
        self.full = False
        self.writing = False
        self.alone: set[int] = set()  # arrivals of a batch that failed: each is tried by itself

    def disk_full(self) -> bool:
        now = time.monotonic()
        if now - self.checked_disk > 1:
            self.checked_disk = now
            self.full = shutil.disk_usage(self.folder).free < self.reserve
        return self.full

    def refuse(self, device_id: int | None, reason: str) -> None:
        """Counts an arrival that was turned away, to be seen on the arrivals screen."""
        self.refusals[(device_id or 0, reason)] += 1
        self.wake.set()

    async def put(self, arrival: Arrival) -> bool:
        """True once committed, False if it was turned away (a repeat, or beyond a quota). Raises Full."""
        if self.disk_full():
            raise Full("the disk is down to its reserve; nothing is taken until space is freed")
        future: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self.waiting.append((arrival, future))
        self.wake.set()
        return await future

    async def finished(self, seconds: float = 3) -> None:
        """Waits until nothing waits any more, for a while."""
        until = time.monotonic() + seconds
        while (self.waiting or self.writing) and time.monotonic() < until:
            await asyncio.sleep(0.01)

    async def run(self) -> None:
        """Writes until cancelled; a lost database is tried again, and nobody is acknowledged meanwhile."""
        pause = 0.1
        while True:
            await self.wake.wait()
            self.wake.clear()
            while self.waiting or self.refusals:
                size = 1 if self.waiting and id(self.waiting[0][0]) in self.alone else MOST
                batch, self.waiting = self.waiting[:size], self.waiting[size:]
                self.writing = bool(batch)
                try:
                    results = await self.write([arrival for arrival, _ in batch])
                except (psycopg.OperationalError, OSError) as error:
                    log.warning("the database does not answer (%s); %d arrivals wait", type(error).__name__, len(batch))
                    self.waiting = batch + self.waiting
                    self.connection = None
                    await asyncio.sleep(pause)
                    pause = min(pause * 2, 5)
                    continue
                except psycopg.Error as error:
                    if len(batch) == 1:
                        log.warning("an arrival could not be stored: %s", error)
                        self.alone.discard(id(batch[0][0]))
                        self.refuse(batch[0][0].source.device_id, "could not be stored")
                        if not batch[0][1].done():
                            batch[0][1].set_result(False)
                        continue
                    log.exception("a batch of %d could not be stored; taking it one by one", len(batch))
                    self.alone = {id(arrival) for arrival, _ in batch}
                    self.waiting = batch + self.waiting
                    continue
                pause = 0.1
                if self.alone:
                    self.alone -= {id(arrival) for arrival, _ in batch}
                for (arrival, future), result in zip(batch, results, strict=True):
                    if not future.done():
                        future.set_result(result)
                    if arrival.packet is not None:
                        self.acknowledged.append((time.monotonic(), arrival.packet[0], arrival.packet[1], arrival.seq))
                self.writing = False

    async def connected(self) -> psycopg.AsyncConnection:
        if self.connection is None or self.connection.closed:
            self.connection = await psycopg.AsyncConnection.connect(self.url, application_name="oculum inbox")
        return self.connection

    async def write(self, arrivals: list[Arrival]) -> list[bool]:
        connection = await self.connected()
        try:
            async with connection.cursor() as cursor:
                results = [True] * len(arrivals)
                await self.drop_repeats(cursor, arrivals, results)
                unknown: dict[int, int] = {}
                for i, arrival in enumerate(arrivals):
                    if results[i] and arrival.source.unknown is not None:
                        kept = await self.unknown(cursor, arrival)
                        if kept is None:
                            results[i] = False
                        else:
                            unknown[i] = kept
                taken = [i for i, result in enumerate(results) if result]
                if taken:
                    # The stamp is drawn after the transaction has its number: see the engine's horizon.
                    await cursor.execute("select pg_current_xact_id(), clock_timestamp()")
                    row = await cursor.fetchone()
                    assert row is not None
                    stamp: datetime = row[1]
                    async with cursor.copy(COPY) as copy:
                        copy.set_types(TYPES)
                        for k, i in enumerate(taken):
                            a = arrivals[i]
                            s = a.source
                            await copy.write_row(
                                (
                                    s.part,
                                    stamp + timedelta(microseconds=k),
                                    s.device_id,
                                    unknown.get(i),
                                    s.via_id,
                                    a.channel,
                                    a.topic,
                                    Jsonb(a.headers) if a.headers else None,
                                    a.payload,
                                )
                            )
                    opened = {
                        (a.packet[0], a.packet[1]): a for a in (arrivals[i] for i in taken) if a.packet is not None
                    }
                    if opened:
                        for a in opened.values():
                            self.seq += 1
                            a.seq = self.seq
                        await cursor.execute(
                            "insert into mqtt_open select * from unnest(%s::text[], %s::int[], %s::bytea[], %s::bigint[])"
                            " on conflict (session, packet) do update set digest = excluded.digest, seq = excluded.seq",
                            (
                                [k[0] for k in opened],
                                [k[1] for k in opened],
                                [a.digest() for a in opened.values()],
                                [a.seq for a in opened.values()],
                            ),
                        )
                    await cursor.execute("select pg_notify('oculum_arrival', '')")
                if self.refusals:
                    counts, self.refusals = self.refusals, Counter()
                    await cursor.executemany(
                        "insert into intake_refusal values (date_trunc('minute', now()), %s, %s, %s) on conflict (minute, device_id, reason) do update set count = intake_refusal.count + excluded.count",
                        [(device, reason, count) for (device, reason), count in counts.items()],
                    )
            await connection.commit()
            return results
        except BaseException:
            if not connection.closed:
                await connection.rollback()
            raise

    def connection_lost(self) -> None:
        """The broker may not have heard the last acknowledgements: their packets stay remembered."""
        self.acknowledged.clear()

    async def drop_repeats(self, cursor: psycopg.AsyncCursor, arrivals: list[Arrival], results: list[bool]) -> None:
        """Sets the result of redelivered packets to False.

        A packet is remembered with its commit, and forgotten a minute after its acknowledgement went
        out if the connection has lasted: by then the broker has it, and may use the number again.
        """
        ripe = []
        while self.acknowledged and self.acknowledged[0][0] < time.monotonic() - 60:
            ripe.append(self.acknowledged.popleft()[1:])
        if ripe:
            await cursor.execute(
                "delete from mqtt_open o using unnest(%s::text[], %s::int[], %s::bigint[]) g(s, p, q) where o.session = g.s and o.packet = g.p and o.seq = g.q",
                ([g[0] for g in ripe], [g[1] for g in ripe], [g[2] for g in ripe]),
            )
        within: dict[tuple[str, int], bytes] = {}
        for i, arrival in enumerate(arrivals):
            if arrival.packet is None:
                continue
            session, packet, repeat = arrival.packet
            if repeat:
                earlier = within.get((session, packet))
                if earlier is None:
                    await cursor.execute(
                        "select digest from mqtt_open where session = %s and packet = %s", (session, packet)
                    )
                    found = await cursor.fetchone()
                    earlier = bytes(found[0]) if found is not None else None
                if earlier == arrival.digest():
                    results[i] = False
            within[session, packet] = arrival.digest()

    async def unknown(self, cursor: psycopg.AsyncCursor, arrival: Arrival) -> int | None:
        """The id of the unknown sender if its arrival may be kept, within the quota of what it came through."""
        through, name = arrival.source.sender.credential_id, arrival.source.unknown
        await cursor.execute(
            "select count(*), coalesce(sum(messages), 0) from intake_unknownsender where through_id = %s and adopted_as_id is null",
            (through,),
        )
        row = await cursor.fetchone()
        assert row is not None
        senders, messages = int(row[0]), int(row[1])
        await cursor.execute("select id from intake_unknownsender where through_id = %s and name = %s", (through, name))
        known = await cursor.fetchone()
        if known is None and senders >= self.unknown_senders:
            self.refuse(arrival.source.via_id, "too many unknown senders")
            return None
        full = messages >= self.unknown_messages
        await cursor.execute(
            "insert into intake_unknownsender (name, through_id, first_at, last_at, messages, turned_away) values (%s, %s, now(), now(), %s, %s)"
            " on conflict (through_id, name) do update set last_at = now(), messages = intake_unknownsender.messages + excluded.messages,"
            " turned_away = intake_unknownsender.turned_away + excluded.turned_away returning id",
            (name, through, 0 if full else 1, 1 if full else 0),
        )
        row = await cursor.fetchone()
        assert row is not None
        return None if full else int(row[0])
