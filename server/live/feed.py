"""The live feed: one reader of changes a process, a bounded queue a client, resuming by number."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import re
from collections import deque
from collections.abc import Coroutine
from typing import Any
from urllib.parse import urlsplit

import orjson
from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError
from starlette.websockets import WebSocket, WebSocketDisconnect

from server.instance.pulse import Pulse
from server.store.notices import Connection, follow

log = logging.getLogger("oculum.live")
REMEMBERED = 500
QUEUE = 64
RECHECK_S = 60
SLOW_S = 30
MOST_OF_ONE = 40
GONE = 1001


def _person_of(session_key: str | None) -> int | None:
    """The active person behind a session, or None."""
    from django.contrib.auth import HASH_SESSION_KEY, SESSION_KEY
    from django.contrib.sessions.backends.db import SessionStore
    from django.db import close_old_connections
    from django.utils.crypto import constant_time_compare

    from server.records.people.models import Person

    if not session_key:
        return None
    try:
        session = SessionStore(session_key)
        person = Person.objects.filter(pk=session.get(SESSION_KEY) or 0, is_active=True).first()
        if person is None or not constant_time_compare(
            session.get(HASH_SESSION_KEY, ""), person.get_session_auth_hash()
        ):
            return None
        return int(person.pk)
    finally:
        close_old_connections()


class Client:
    """One WebSocket. When its queue is full it has fallen behind, and is told to start afresh."""

    def __init__(self, person: int) -> None:
        self.person = person
        self.queue: asyncio.Queue[bytes] = asyncio.Queue(QUEUE)
        self.doubted = asyncio.Event()  # its person may not be signed in any more

    def recheck(self) -> None:
        self.doubted.set()

    def offer(self, frame: bytes) -> None:
        try:
            self.queue.put_nowait(frame)
        except asyncio.QueueFull:
            while not self.queue.empty():
                self.queue.get_nowait()
            self.queue.put_nowait(b'{"resync":true}')


class Feed:
    def __init__(self, pulse: Pulse) -> None:
        self.pulse = pulse
        self.url = settings.INSTANCE.database_url()
        self.clients: set[Client] = set()
        self.frames: deque[tuple[int, bytes]] = deque(maxlen=REMEMBERED)
        self.last = 0
        self.arrived = asyncio.Event()

    def parts(self) -> dict[str, Coroutine[Any, Any, None]]:
        """What runs beside the clients for as long as the process lives."""
        channels = ["oculum_live", "oculum_arrival", "oculum_people"]
        return {"feed": follow(self.url, channels, self.heard, self.lost), "arrivals": self.arrivals()}

    def lost(self, what: str | None) -> None:
        self.pulse.trouble("feed", f"{what}: changes are not shown by themselves" if what else None)

    async def heard(self, connection: Connection, channel: str, payload: str) -> None:
        """A notice: an arrival, a change of a person's rights, or changes to be read and told."""
        if channel == "oculum_arrival":
            self.arrived.set()
        elif channel == "oculum_people":
            for client in [c for c in self.clients if str(c.person) == payload]:
                client.recheck()
        elif channel == "":
            row = await (await connection.execute("select coalesce(max(seq), 0) from live_change")).fetchone()
            # After a crash of the database the numbers may begin anew.
            self.last = int(row[0]) if row else 0
            self.frames.clear()
            self.tell(b'{"resync":true}')
            for client in list(self.clients):
                client.recheck()
        else:
            rows = await connection.execute(
                "select seq, body from live_change where seq > %s order by seq limit 200", (self.last,)
            )
            for seq, body in await rows.fetchall():
                self.last = seq
                frame = orjson.dumps({"seq": seq, **body})
                self.frames.append((seq, frame))
                self.tell(frame)

    async def arrivals(self) -> None:
        """Arrivals are told at most four times a second, however many there are."""
        while True:
            await self.arrived.wait()
            self.arrived.clear()
            self.tell(b'{"arrivals":true}')
            await asyncio.sleep(0.25)

    def tell(self, frame: bytes) -> None:
        for client in self.clients:
            client.offer(frame)

    def missed(self, since: int) -> list[bytes] | None:
        """Frames after `since`, or None if they are not all remembered."""
        if since == self.last:
            return []
        if not self.frames or self.frames[0][0] > since + 1 or since > self.last:
            return None
        return [frame for seq, frame in self.frames if seq > since]

    async def connect(self, socket: WebSocket) -> None:
        origin = urlsplit(socket.headers.get("origin", ""))
        if (
            origin.netloc != socket.headers.get("host")
            or socket.headers.get("host", "").rsplit(":", 1)[0] not in settings.ALLOWED_HOSTS
        ):
            await socket.close(4403)
            return
        session = socket.cookies.get(settings.SESSION_COOKIE_NAME)
        try:
            person = await sync_to_async(_person_of, thread_sensitive=False)(session)
        except DatabaseError:
            await socket.close(1013)
            return
        if person is None:
            await socket.close(4401)
            return
        if sum(client.person == person for client in self.clients) >= MOST_OF_ONE:
            await socket.close(4429)
            return
        await socket.accept()
        client = Client(person)
        since = socket.query_params.get("since", "")
        replay = self.missed(int(since)) if re.fullmatch("[0-9]{1,15}", since) else None
        for earlier in replay or []:
            client.offer(earlier)
        client.offer(orjson.dumps({"hello": self.last, "resync": since != "" and replay is None}))
        self.clients.add(client)
        parts = [self.send(socket, client), self.read(socket), self.watch(client, session)]
        tasks = [asyncio.ensure_future(part) for part in parts]
        try:
            done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
            code = next((task.result() for task in done if task.exception() is None), GONE)
        finally:
            self.clients.discard(client)
            for task in tasks:
                task.cancel()
        with contextlib.suppress(WebSocketDisconnect, RuntimeError, TimeoutError):
            async with asyncio.timeout(2):
                await socket.close(code)

    @staticmethod
    async def send(socket: WebSocket, client: Client) -> int:
        """Frames to the client, a beat where there are none. Ends where it does not take them."""
        while True:
            try:
                frame = await asyncio.wait_for(client.queue.get(), 20)
            except TimeoutError:
                frame = b'{"beat":true}'
            async with asyncio.timeout(SLOW_S):
                await socket.send_text(frame.decode())

    @staticmethod
    async def read(socket: WebSocket) -> int:
        """Clients say nothing; reading notices when they are gone."""
        with contextlib.suppress(WebSocketDisconnect, RuntimeError, KeyError):
            await socket.receive_text()
        return 4400

    @staticmethod
    async def watch(client: Client, session: str | None) -> int:
        """Ends when the session has: after a sign-out, a change of the person, and in any case looked at each
        minute.
        """
        while True:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(client.doubted.wait(), RECHECK_S)
            client.doubted.clear()
            try:
                if await sync_to_async(_person_of, thread_sensitive=False)(session) is None:
                    return 4401
            except DatabaseError:
                await asyncio.sleep(1)
                client.doubted.set()
