"""Readings as they come, with their values, of chosen devices and fields; what was missed is told by a mark."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import logging
import re
from collections.abc import AsyncIterator, Callable, Collection, Coroutine, Iterator, Sequence
from typing import Any, TypeVar

import orjson
import psycopg
from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError
from django.http import HttpRequest, QueryDict
from rest_framework.request import Request as Query
from starlette.requests import Request
from starlette.responses import Response
from starlette.websockets import WebSocketDisconnect

from server.api.history.views import Asked, asked
from server.instance.pulse import Pulse
from server.live.feed import Feed
from server.live.lines import Told
from server.live.sockets import BEHIND, LATER, RECHECK_S, REFUSED, Caller, Client, Socket, admitted, send, served
from server.rules.refusal import Refused
from server.store.arriving import Arriving
from server.store.series import Row
from server.store.times import iso

log = logging.getLogger("oculum.live")
MOST_DEVICES = 10_000
PORTION = 5_000  # messages that are read at once
IN_A_FRAME = 500
Mark = tuple[int, ...]
R = TypeVar("R")


def mark_of(text: str) -> Mark | None:
    """A mark as it was told, `120-118`: of every share of the engine how far it is."""
    if not re.fullmatch(r"[0-9]{1,18}(-[0-9]{1,18}){0,63}", text, re.ASCII):
        return None
    return tuple(int(part) for part in text.split("-"))


def spread(mark: Mark, shares: int) -> Mark:
    """A mark for so many shares: where there were others, each begins where the one behind all others was."""
    return mark if len(mark) == shares else (min(mark, default=0),) * shares


class Subscriber(Client):
    """One that is told readings."""

    def __init__(self, person: int) -> None:
        super().__init__(person)
        self.devices: dict[int, str] = {}
        self.fields: frozenset[str] = frozenset()
        self.told: Mark = ()
        self.behind = asyncio.Event()

    def choose(self, asked: Asked) -> None:
        self.devices = {ident: device.name for ident, device in asked.devices.items()}
        self.fields = frozenset(asked.fields)

    def overflow(self) -> None:
        self.behind.set()

    def beat(self) -> bytes:
        return orjson.dumps({"beat": True, "after": written(self.told)})

    async def falls_behind(self) -> int:
        await self.behind.wait()
        return BEHIND

    def frames(self, lot: Lot, mark: Mark) -> Iterator[bytes]:
        """What of some rows is told."""
        own = [orjson.Fragment(found) for row in lot.of(self.devices) if (found := lot.told(row, self))]
        for first in range(0, len(own), IN_A_FRAME):
            last = first + IN_A_FRAME >= len(own)
            # A mark stands on what is whole: taken up from here, nothing is missing.
            yield orjson.dumps(
                {"readings": own[first : first + IN_A_FRAME]} | ({"after": written(mark)} if last else {})
            )


class Lot:
    """Rows that are told together, each encoded once for all who are told the same of it."""

    def __init__(self, rows: Sequence[Row]) -> None:
        self.rows = rows
        self.places: dict[int, list[int]] = {}  # by device
        self.encoded: dict[Any, bytes] = {}
        for place, row in enumerate(rows):
            self.places.setdefault(row.device, []).append(place)

    def of(self, devices: Collection[int]) -> Iterator[Row]:
        """Those of some devices, in their order."""
        few, many = (devices, self.places) if len(devices) < len(self.places) else (self.places, devices)
        own = [self.places[device] for device in few if device in many]
        return (self.rows[place] for place in (own[0] if len(own) == 1 else sorted(itertools.chain(*own))))

    def told(self, row: Row, one: Subscriber) -> bytes:
        key = row.device, row.at, row.layout, one.fields
        if key not in self.encoded:
            self.encoded[key] = told(one.devices[row.device], row, one.fields)
        return self.encoded[key]


def told(device: str, row: Row, fields: frozenset[str]) -> bytes:
    """A row as it is told; empty where it says nothing of the fields."""
    values = {name: value for name, value in row.values.items() if name in fields}
    if not values:
        return b""
    at, received = iso(row.at), iso(row.received)
    return orjson.dumps(
        {"device": device, "at": at, "received_at": received, "message": str(row.message), "values": values}
    )


def written(mark: Mark) -> str:
    return "-".join(map(str, mark))


def chosen(query: bytes) -> Asked:
    """What the query of a socket asks for. Raises Refused, DatabaseError."""
    from django.db import close_old_connections

    http = HttpRequest()
    http.GET = QueryDict(query)  # type: ignore[assignment]
    try:
        return asked(Query(http), MOST_DEVICES, least=0)
    finally:
        close_old_connections()


class Readings:
    """One reader of readings a process, whoever subscribes to which."""

    def __init__(self, pulse: Pulse, feed: Feed) -> None:
        self.pulse = pulse
        self.arriving = Arriving(settings.INSTANCE.database_url())
        self.subscribers: set[Subscriber] = set()
        self.moved = asyncio.Event()
        self.turn, self.reading = asyncio.Lock(), asyncio.Lock()
        self.told: Mark | None = None  # up to here all subscribers were told
        feed.stirs.append(self.moved.set)
        feed.listening.append(self.subscribers)

    def parts(self) -> dict[str, Coroutine[Any, Any, None]]:
        return {"readings": self.run()}

    async def run(self) -> None:
        while True:
            await self.moved.wait()
            self.moved.clear()
            try:
                async with self.turn:
                    await self.step()
                self.pulse.trouble("readings", None)
            except psycopg.Error as error:
                log.warning("readings are not told: %s", type(error).__name__)
                self.pulse.trouble("readings", "the database does not answer: readings are not told as they come")
                self.arriving.close()
                self.moved.set()
                await asyncio.sleep(0.5)

    async def step(self) -> None:
        """Tells all subscribers what was written since they were told last."""
        if not self.subscribers:
            self.told = None
            return
        assert self.told is not None
        now = await self.read(self.arriving.mark)
        was = spread(self.told, len(now))
        devices = set().union(*(subscriber.devices for subscriber in self.subscribers))
        async for rows, mark in self.portions(was, now, devices):
            lot = Lot(rows)
            for subscriber in self.subscribers:
                for frame in subscriber.frames(lot, mark):
                    subscriber.offer(frame)
                subscriber.told = mark
            self.told = mark

    async def read(self, question: Callable[..., R], *of: Any) -> R:
        async with self.reading:
            return await asyncio.to_thread(question, *of)

    async def portions(self, was: Mark, now: Mark, devices: Collection[int]) -> AsyncIterator[tuple[list[Row], Mark]]:
        """Rows between two marks, and the mark up to which they are whole, a number of messages at a time."""
        place = min(was, default=0)
        end = max(now, default=0)
        while place < end:
            place = min(place + PORTION, end)
            mark = tuple(max(a, min(place, b)) for a, b in zip(was, now, strict=True))
            if mark != was:
                yield await self.read(self.arriving.written, was, mark, devices), mark
            was = mark

    async def lines(self, request: Request) -> Response:
        """The same as lines of JSON, by a GET request."""
        return Told(self.connect)

    async def connect(self, socket: Socket) -> None:
        caller = Caller(socket)
        person = await admitted(socket, caller, self.subscribers)
        if person is None:
            return
        await socket.accept()
        query: bytes = socket.scope["query_string"]
        subscriber = Subscriber(person)
        try:
            found = await sync_to_async(chosen, thread_sensitive=False)(query)
            subscriber.choose(found)
            await self.begin(socket, subscriber, found, socket.query_params.get("after", ""))
            await served(socket, subscriber, caller, subscriber.falls_behind(), self.choose_again(subscriber, query))
        except Refused as refused:
            await self.end(socket, REFUSED, {"error": refused.sentence, "code": refused.code})
        except (DatabaseError, psycopg.Error):
            self.arriving.close()
            await self.end(socket, LATER, {"error": "the database does not answer", "code": "unavailable"})
        except (WebSocketDisconnect, RuntimeError, TimeoutError):
            pass  # gone while it was told what it had missed
        finally:
            self.subscribers.discard(subscriber)

    async def take_on(self, subscriber: Subscriber, after: str) -> tuple[Mark, bool]:
        """Takes a subscriber on. What it has missed begins behind a mark, which is its own one (`after`) where what
        came since is still known: if not, True beside it. Raises Refused.
        """
        wanted = mark_of(after) if after else None
        if after and wanted is None:
            raise Refused("invalid", f"after: found `{after[:40]}`, expected a mark as it was told, such as 120-118")
        async with self.turn:
            if self.told is None:
                self.told = await self.read(self.arriving.mark)
            subscriber.told = self.told
            self.subscribers.add(subscriber)
            if wanted is None:
                return self.told, False
            was = spread(wanted, len(self.told))
            ahead = any(a > b for a, b in zip(was, self.told, strict=True))
            if ahead or not await self.read(self.arriving.remembered, was):
                return self.told, True
            return was, False

    async def begin(self, socket: Socket, subscriber: Subscriber, found: Asked, after: str) -> None:
        """Takes a subscriber on, and tells it what came since its mark."""
        was, resync = await self.take_on(subscriber, after)
        hello = {"devices": len(subscriber.devices), "units": found.fields, "after": written(was)}
        missed = self.portions(was, subscriber.told, subscriber.devices)
        await send(socket, orjson.dumps({"hello": hello, "resync": resync}))
        async for rows, place in missed:
            for frame in subscriber.frames(Lot(rows), place):
                await send(socket, frame)

    @staticmethod
    async def choose_again(subscriber: Subscriber, query: bytes) -> int:
        """Devices that come to match later are told as well."""
        while True:
            await asyncio.sleep(RECHECK_S)
            with contextlib.suppress(DatabaseError):
                try:
                    subscriber.choose(await sync_to_async(chosen, thread_sensitive=False)(query))
                except Refused:  # what was named is there no more
                    return REFUSED

    @staticmethod
    async def end(socket: Socket, code: int, frame: dict[str, Any]) -> None:
        with contextlib.suppress(WebSocketDisconnect, RuntimeError, TimeoutError):
            await send(socket, orjson.dumps(frame))
            await socket.close(code)
