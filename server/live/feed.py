"""The live feed: one reader of changes a process, a bounded queue a client, resuming by number."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
from collections import deque
from collections.abc import AsyncIterator
from typing import Any
from urllib.parse import urlsplit

import orjson
import psycopg
from asgiref.sync import sync_to_async
from django.conf import settings
from starlette.websockets import WebSocket, WebSocketDisconnect

from server.intake.notices import notices

log = logging.getLogger("oculum.live")
REMEMBERED = 500
QUEUE = 64
RECHECK_S = 60


def _person_of(session_key: str | None) -> int | None:
    """The active person behind a session, or None."""
    from django.contrib.auth import HASH_SESSION_KEY, SESSION_KEY
    from django.contrib.sessions.backends.db import SessionStore
    from django.db import close_old_connections
    from django.utils.crypto import constant_time_compare

    from server.access.models import Person

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
        self.queue: asyncio.Queue[bytes | None] = asyncio.Queue(QUEUE)
        self.behind = False

    def offer(self, frame: bytes) -> None:
        if self.behind:
            return
        try:
            self.queue.put_nowait(frame)
        except asyncio.QueueFull:
            self.behind = True
            while not self.queue.empty():
                self.queue.get_nowait()
            self.queue.put_nowait(b'{"resync":true}')
            self.behind = False


class Feed:
    def __init__(self) -> None:
        self.url = settings.INSTANCE.database_url()
        self.clients: set[Client] = set()
        self.frames: deque[tuple[int, bytes]] = deque(maxlen=REMEMBERED)
        self.last = 0
        self.arrived = asyncio.Event()

    @contextlib.asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        tasks = [asyncio.create_task(self.listen()), asyncio.create_task(self.arrivals())]
        try:
            yield
        finally:
            for task in tasks:
                task.cancel()

    async def listen(self) -> None:
        connection: psycopg.AsyncConnection | None = None
        async for channel, payload in notices(self.url, ["oculum_live", "oculum_arrival", "oculum_people"]):
            try:
                if channel == "oculum_arrival":
                    self.arrived.set()
                    continue
                if channel == "oculum_people":
                    for client in [c for c in self.clients if str(c.person) == payload]:
                        client.offer(b'{"recheck":true}')
                    continue
                if connection is None or connection.closed:
                    connection = await psycopg.AsyncConnection.connect(
                        self.url, autocommit=True, application_name="oculum live"
                    )
                if channel == "":
                    row = await (await connection.execute("select coalesce(max(seq), 0) from live_change")).fetchone()
                    # After a crash of the database the numbers may begin anew.
                    self.last = int(row[0]) if row else 0
                    self.frames.clear()
                    self.tell(b'{"resync":true}')
                    continue
                rows = await (
                    await connection.execute(
                        "select seq, body from live_change where seq > %s order by seq limit 200", (self.last,)
                    )
                ).fetchall()
                for seq, body in rows:
                    self.last = seq
                    frame = orjson.dumps({"seq": seq, **body})
                    self.frames.append((seq, frame))
                    self.tell(frame)
            except psycopg.Error as error:
                log.warning("the live feed lost the database: %s", type(error).__name__)
                connection = None

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
        person = await sync_to_async(_person_of, thread_sensitive=False)(session)
        if person is None:
            await socket.close(4401)
            return
        await socket.accept()
        client = Client(person)
        since = socket.query_params.get("since", "")
        replay = self.missed(int(since)) if since.isdigit() else None
        for earlier in replay or []:
            client.offer(earlier)
        client.offer(orjson.dumps({"hello": self.last, "resync": since != "" and replay is None}))
        self.clients.add(client)
        reader = asyncio.create_task(self.read(socket, client))
        try:
            checked = time.monotonic()
            while True:
                try:
                    frame: Any = await asyncio.wait_for(client.queue.get(), 20)
                except TimeoutError:
                    frame = b'{"beat":true}'
                if frame is None:
                    break
                if frame == b'{"recheck":true}' or time.monotonic() - checked > RECHECK_S:
                    checked = time.monotonic()
                    if await sync_to_async(_person_of, thread_sensitive=False)(session) is None:
                        await socket.close(4401)
                        break
                    if frame == b'{"recheck":true}':
                        continue
                await socket.send_text(frame.decode())
        except (WebSocketDisconnect, RuntimeError):
            pass
        finally:
            self.clients.discard(client)
            reader.cancel()

    @staticmethod
    async def read(socket: WebSocket, client: Client) -> None:
        """Clients say nothing; reading notices when they are gone."""
        try:
            while True:
                await socket.receive_text()
        except (WebSocketDisconnect, RuntimeError, KeyError):
            with contextlib.suppress(asyncio.QueueFull):
                client.queue.put_nowait(None)
