"""Arrivals to the inbox: many share one COPY and one commit, and each sender hears after it."""

from __future__ import annotations

import asyncio
import logging
import re
import shutil
import time
from collections import Counter, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from enum import Enum
from pathlib import Path

import psycopg
from psycopg.types.multirange import Multirange

from oculum.errors import OculumError
from server.intake.senders import Source
from server.store.faults import of_the_database
from server.store.messages import COPY, packed
from server.store.rows import HEADER, TRAILER

log = logging.getLogger("oculum.inbox")
MOST = 1000
MOST_RANGES = 200
SAID_S = 5  # how often it is made sure that a gap in listening is told
MOST_WAITING = 20_000
BUSY = "the database does not keep up; send it again"
FULL = "the disk is down to its reserve; nothing is taken until space is freed"
HEADERS, HEADER_CHARACTERS = 16, 400
HEADER_NAME = re.compile(r"[a-z][a-z0-9_-]{0,62}")


def storable(text: str) -> str:
    """A text as the database can keep it: without NUL, and nothing that is no character."""
    return text.replace("\0", "").encode("utf-8", "replace").decode()


def headers_of(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    """What a sender tells beside its message, names in small letters; at most 16, of at most 400 characters each."""
    found: dict[str, str] = {}
    for name, value in pairs:
        name = name.lower()
        own = name == "topic" or name.startswith("oculum-")  # what only Oculum says
        if len(found) < HEADERS and HEADER_NAME.fullmatch(name) and not own and len(value) <= HEADER_CHARACTERS:
            found[name] = storable(value)
    return found


class Outcome(Enum):
    """What became of an arrival: committed; committed before, and given again; beyond a quota; nothing to be stored."""

    TAKEN = "taken"
    REPEAT = "repeat"
    QUOTA = "quota"
    UNSTORABLE = "unstorable"


class Busy(OculumError):
    """The database does not keep up, or does not answer: the sender may try again."""


class Full(OculumError):
    """Nothing is acknowledged any more: the disk is down to its reserve."""


@dataclass(frozen=True)
class Mark:
    """The broker's mark on a message: which of its runs, the message's number in it, bytes queued until then."""

    run: str
    number: int
    bytes: int

    @classmethod
    def of(cls, text: str) -> Mark | None:
        found = re.fullmatch(r"([0-9a-f]{16})-([0-9]{1,18})-([0-9]{1,18})", text, re.ASCII)
        return cls(found[1], int(found[2]), int(found[3])) if found else None


@dataclass
class Arrival:
    source: Source
    channel: int
    topic: str
    payload: bytes
    mark: Mark | None = None
    headers: dict[str, str] | None = None


@dataclass(slots=True)
class Told:
    """Somebody who hears that an arrival is settled, without waiting for it.

    Where there is no space it keeps its place, since nobody has been told anything yet.
    """

    tell: Callable[[], None]

    def done(self) -> bool:
        return False

    def set_result(self, outcome: Outcome) -> None:
        self.tell()


class Inbox:
    """One writer with one connection, in the order in which arrivals are put. `put` returns after the commit.

    listens: whether it writes for who listens at the broker. Time in which nobody did is told to the stream before what
    arrives after it, else everybody would have been silent for as long.
    """

    def __init__(
        self,
        url: str,
        folder: Path,
        reserve: int,
        unknown_senders: int,
        unknown_messages: int,
        trouble: Callable[[str | None], None] = lambda _: None,
        listens: bool = False,
    ) -> None:
        self.url, self.folder, self.reserve = url, folder, reserve
        self.unknown_senders, self.unknown_messages = unknown_senders, unknown_messages
        self.trouble = trouble
        self.life = "select listening()" if listens else "select unheard()"
        self.said: float | None = None
        self.waiting: deque[tuple[Arrival, asyncio.Future[Outcome] | Told]] = deque()
        self.refusals: Counter[tuple[int, str]] = Counter()
        self.taken: Mark | None = None  # the last one of which everything before is taken as well
        self.days: set[date] = set()  # those for which a partition is there
        self.wake = asyncio.Event()
        self.connection: psycopg.AsyncConnection | None = None
        self.checked_disk = 0.0
        self.full = False
        self.writing = 0
        self.alone = 0  # arrivals of a batch that failed: each is tried by itself

    def disk_full(self) -> bool:
        now = time.monotonic()
        if now - self.checked_disk > 1:
            self.checked_disk = now
            self.full = shutil.disk_usage(self.folder).free < self.reserve
        return self.full

    def refuse(self, device_id: int | None, reason: str, count: int = 1) -> None:
        """Counts an arrival that was turned away, to be seen on the arrivals screen."""
        self.refusals[(device_id or 0, reason)] += count
        self.wake.set()

    def put(self, arrival: Arrival) -> asyncio.Future[Outcome]:
        """What became of it, once that is settled. Raises Full and Busy.

        Its place is the one it has when this is called, not when it is awaited.
        """
        if self.disk_full():
            raise Full(FULL)
        if len(self.waiting) >= MOST_WAITING:
            raise Busy(BUSY)
        future: asyncio.Future[Outcome] = asyncio.get_running_loop().create_future()
        self.waiting.append((arrival, future))
        self.wake.set()
        return future

    def put_patiently(self, arrival: Arrival, settled: Callable[[], None]) -> None:
        """As `put`, for one that nobody waits for: `settled` is called after the commit."""
        self.waiting.append((arrival, Told(settled)))
        self.wake.set()

    async def put_within(self, arrival: Arrival, seconds: float) -> Outcome:
        """As `put`; an arrival that nobody has begun to write by then is taken back. Raises Full and Busy."""
        future = self.put(arrival)
        await asyncio.wait([future], timeout=seconds)
        place = next((i for i, (_, f) in enumerate(self.waiting) if f is future), None)
        if not future.done() and place is not None:
            del self.waiting[place]
            raise Busy(BUSY)
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
                if self.waiting and self.disk_full():
                    self.trouble(FULL)
                    self._no_space()
                    await asyncio.sleep(0.5)
                    continue
                batch = [self.waiting.popleft() for _ in range(min(1 if self.alone else MOST, len(self.waiting)))]
                self.writing = len(batch)
                try:
                    results = await self.write([arrival for arrival, _ in batch])
                except (psycopg.Error, OSError) as error:
                    if not isinstance(error, psycopg.Error) or of_the_database(error, self.connection):
                        log.warning("the database does not answer (%s); %d wait", type(error).__name__, len(batch))
                        self.trouble("the database does not answer: nothing is taken")
                        self.waiting.extendleft(reversed(batch))
                        await self.disconnect()
                        await asyncio.sleep(pause)
                        pause = min(pause * 2, 2)
                        continue
                    if len(batch) > 1:
                        log.exception("a batch of %d could not be stored; taking it one by one", len(batch))
                        self.alone = len(batch)
                        self.waiting.extendleft(reversed(batch))
                        continue
                    log.warning("an arrival could not be stored: %s", error)
                    self.refuse(batch[0][0].source.device_id if batch else None, "could not be stored")
                    results = [Outcome.UNSTORABLE] * len(batch)
                pause = 0.1
                self.trouble(None)
                self.alone = max(self.alone - len(batch), 0)
                for (_, future), result in zip(batch, results, strict=True):
                    if not future.done():
                        future.set_result(result)
                self.writing = 0

    def _no_space(self) -> None:
        """Those who wait for an answer hear that there is no space; the others keep their places."""
        kept: deque[tuple[Arrival, asyncio.Future[Outcome] | Told]] = deque()
        for arrival, future in self.waiting:
            if isinstance(future, Told):
                kept.append((arrival, future))
            elif not future.done():
                future.set_exception(Full(FULL))
        self.waiting = kept

    async def connected(self) -> psycopg.AsyncConnection:
        if self.connection is None or self.connection.closed or self.connection.broken:
            self.connection = await psycopg.AsyncConnection.connect(self.url, application_name="oculum inbox")
        return self.connection

    async def disconnect(self) -> None:
        if self.connection is not None:
            await self.connection.close()
        self.connection = None

    async def write(self, arrivals: list[Arrival]) -> list[Outcome]:
        """Arrivals and what was turned away, in one transaction. Returns what became of each."""
        connection = await self.connected()
        now = time.monotonic()
        if arrivals and (self.said is None or now - self.said > SAID_S):
            async with connection.transaction():  # of its own: events are numbered when they are committed
                await connection.execute(self.life)
            self.said = now
        counts, self.refusals = self.refusals, Counter()
        days = set(self.days)
        try:
            async with connection.transaction(), connection.cursor() as cursor:
                results, taken = await self.drop_repeats(cursor, arrivals)
                unknown: dict[int, int] = {}
                for i, arrival in enumerate(arrivals):
                    if results[i] is Outcome.TAKEN and arrival.source.unknown is not None:
                        kept = await self.unknown(cursor, arrival, counts)
                        if kept is None:
                            results[i] = Outcome.QUOTA
                        else:
                            unknown[i] = kept
                rows = [i for i, result in enumerate(results) if result is Outcome.TAKEN]
                if rows:
                    await self.copy(cursor, [(arrivals[i], unknown.get(i)) for i in rows])
                if counts:
                    await cursor.executemany(
                        "insert into intake_refusal values (date_trunc('minute', now()), %s, %s, %s)"
                        " on conflict (minute, device_id, reason)"
                        " do update set count = intake_refusal.count + excluded.count",
                        [(device, reason, count) for (device, reason), count in counts.items()],
                    )
        except BaseException:
            self.refusals += counts
            self.days = days
            raise
        self.taken = taken or self.taken
        return results

    async def copy(self, cursor: psycopg.AsyncCursor, arrivals: list[tuple[Arrival, int | None]]) -> None:
        """Rows into the stream: the turn is taken here and held until the commit, which follows at once."""
        await self.make_days(cursor)
        await cursor.execute("select stream_turn(%s)", (len(arrivals),))
        row = await cursor.fetchone()
        assert row is not None
        stamp: datetime = row[0]
        if not {stamp.date(), (stamp + timedelta(microseconds=len(arrivals))).date()} <= self.days:
            await self.make_days(cursor, stamp)
        first = round(stamp.timestamp() * 1e6)
        rows = [
            packed(
                first + k,
                a.source.device_id,
                unknown,
                a.source.via_id,
                a.channel,
                a.topic,
                a.headers,
                a.payload,
            )
            for k, (a, unknown) in enumerate(arrivals)
        ]
        async with cursor.copy(COPY) as copy:
            await copy.write(b"".join((HEADER, *rows, TRAILER)))
        await cursor.execute("select pg_notify('oculum_arrival', '')")

    async def make_days(self, cursor: psycopg.AsyncCursor, at: datetime | None = None) -> None:
        """Partitions of the day and the next two are there before a row can need them."""
        today = (at or datetime.now(UTC)).astimezone(UTC).date()
        wanted = {today + timedelta(days=d) for d in range(3)}
        if not wanted <= self.days:
            await cursor.execute("select message_day(d) from unnest(%s::date[]) d", (sorted(wanted),))
            self.days |= wanted

    async def drop_repeats(
        self, cursor: psycopg.AsyncCursor, arrivals: list[Arrival]
    ) -> tuple[list[Outcome], Mark | None]:
        """Which arrivals are taken for the first time, by their marks; and the last mark.

        What is taken is on record with the commit, as ranges of numbers by run of the broker. A killed broker
        gives messages again that were acknowledged already, with the marks that they had.
        """
        results = [Outcome.TAKEN] * len(arrivals)
        marks = [(i, a.mark) for i, a in enumerate(arrivals) if a.mark is not None]
        if not marks:
            return results, None
        runs = sorted({mark.run for _, mark in marks})
        await cursor.execute("select run, taken from broker_taken where run = any(%s) for update", (runs,))
        before: dict[str, Multirange[int]] = {run: taken async for run, taken in cursor}
        fresh: dict[str, set[int]] = {run: set() for run in runs}
        for i, mark in marks:
            if mark.number in fresh[mark.run] or any(mark.number in r for r in before.get(mark.run, [])):
                results[i] = Outcome.REPEAT
            else:
                fresh[mark.run].add(mark.number)
        for run, numbers in fresh.items():
            if not numbers:
                continue
            await cursor.execute(
                "insert into broker_taken (run, taken) select %s, range_agg(int8range(n, n, '[]')) from"
                " unnest(%s::int8[]) n"
                " on conflict (run) do update set taken = broker_taken.taken + excluded.taken, at = clock_timestamp()"
                " returning taken",
                (run, sorted(numbers)),
            )
            row = await cursor.fetchone()
            ranges: Multirange[int] = row[0] if row else Multirange()
            if len(ranges) > MOST_RANGES:
                # Numbers that never came: so many later that they will not come any more.
                low, high = ranges[0].lower, ranges[len(ranges) - MOST_RANGES // 2].upper
                await cursor.execute(
                    "update broker_taken set taken = taken + int8multirange(int8range(%s, %s)) where run = %s",
                    (low, high, run),
                )
        return results, max((m for _, m in marks), key=lambda m: (m.run == marks[-1][1].run, m.number))

    async def unknown(
        self, cursor: psycopg.AsyncCursor, arrival: Arrival, counts: Counter[tuple[int, str]]
    ) -> int | None:
        """The id of the unknown sender if its arrival may be kept, within the quota of what it came through."""
        through, name = arrival.source.sender.credential_id, arrival.source.unknown
        await cursor.execute(
            "select count(*), coalesce(sum(messages), 0) from intake_unknownsender where through_id = %s and"
            " adopted_as_id is null",
            (through,),
        )
        row = await cursor.fetchone()
        assert row is not None
        senders, messages = int(row[0]), int(row[1])
        await cursor.execute("select id from intake_unknownsender where through_id = %s and name = %s", (through, name))
        known = await cursor.fetchone()
        if known is None and senders >= self.unknown_senders:
            counts[(arrival.source.via_id or 0, "too many unknown senders")] += 1
            return None
        full = messages >= self.unknown_messages
        await cursor.execute(
            "insert into intake_unknownsender (name, through_id, first_at, last_at, messages, turned_away) values"
            " (%s, %s, now(), now(), %s, %s)"
            " on conflict (through_id, name) do update set last_at = now(), messages = intake_unknownsender.messages"
            " + excluded.messages,"
            " turned_away = intake_unknownsender.turned_away + excluded.turned_away returning id",
            (name, through, 0 if full else 1, 1 if full else 0),
        )
        row = await cursor.fetchone()
        assert row is not None
        return None if full else int(row[0])
