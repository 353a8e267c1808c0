"""What the WebSockets share: who is behind one, a bounded queue, an end when the caller may no longer listen."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Collection, Coroutine
from typing import Any, Protocol
from urllib.parse import urlsplit

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError
from starlette.datastructures import Headers, QueryParams
from starlette.types import Scope
from starlette.websockets import WebSocketDisconnect

QUEUE = 64
RECHECK_S = 60
SLOW_S = 30
BEAT_S = 20
MOST_OF_ONE = 40
GONE, REFUSED, UNKNOWN, FORBIDDEN, BEHIND, TOO_MANY, LATER = 1001, 4400, 4401, 4403, 4408, 4429, 1013


class Socket(Protocol):
    """What a feed is told to: a WebSocket, or the lines of an answer."""

    scope: Scope

    @property
    def headers(self) -> Headers: ...
    @property
    def cookies(self) -> dict[str, str]: ...
    @property
    def query_params(self) -> QueryParams: ...
    async def accept(self) -> None: ...
    async def send_text(self, data: str) -> None: ...
    async def receive_text(self) -> str: ...
    async def close(self, code: int) -> None: ...


def _person_of(session_key: str) -> int | None:
    """The active person behind a session, or None."""
    from django.contrib.auth import HASH_SESSION_KEY, SESSION_KEY
    from django.contrib.sessions.backends.db import SessionStore
    from django.utils.crypto import constant_time_compare

    from server.records.people.models import Person

    session = SessionStore(session_key)
    person = Person.objects.filter(pk=session.get(SESSION_KEY) or 0, is_active=True).first()
    if person is None or not constant_time_compare(session.get(HASH_SESSION_KEY, ""), person.get_session_auth_hash()):
        return None
    return int(person.pk)


class Caller:
    """Who opened a socket: a person by a session, from our own pages alone, or a program by a token."""

    def __init__(self, socket: Socket) -> None:
        self.header = socket.headers.get("authorization", "")
        self.session = socket.cookies.get(settings.SESSION_COOKIE_NAME, "")
        host = socket.headers.get("host", "")
        own = urlsplit(socket.headers.get("origin", "")).netloc == host
        self.may = bool(self.header) or own and host.rsplit(":", 1)[0] in settings.ALLOWED_HOSTS

    async def person(self) -> int | None:
        """The number of the active person, or None. Raises DatabaseError."""
        return await sync_to_async(self._person, thread_sensitive=False)()

    def _person(self) -> int | None:
        from django.db import close_old_connections

        from server.requests.authentication import token_of

        try:
            if self.header:
                token = token_of(self.header)
                return int(token.person_id) if token is not None else None
            return _person_of(self.session) if self.session else None
        finally:
            close_old_connections()


class Client:
    """One WebSocket. When its queue is full it has fallen behind: `overflow` says what becomes of it."""

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
            self.overflow()

    def overflow(self) -> None:
        while not self.queue.empty():
            self.queue.get_nowait()
        self.queue.put_nowait(b'{"resync":true}')

    def beat(self) -> bytes:
        return b'{"beat":true}'


async def admitted(socket: Socket, caller: Caller, clients: Collection[Client]) -> int | None:
    """The person behind a socket that may listen; else it is closed. clients: those that listen already."""
    if not caller.may:
        await socket.close(FORBIDDEN)
        return None
    try:
        person = await caller.person()
    except DatabaseError:
        await socket.close(LATER)
        return None
    if person is None:
        await socket.close(UNKNOWN)
        return None
    if sum(client.person == person for client in clients) >= MOST_OF_ONE:
        await socket.close(TOO_MANY)
        return None
    return person


async def served(socket: Socket, client: Client, caller: Caller, *more: Coroutine[Any, Any, int]) -> None:
    """Sends what the client is offered until it is gone, may no longer listen, or one of `more` ends with a code."""
    parts = [_send(socket, client), _read(socket), _watch(client, caller), *more]
    tasks = [asyncio.ensure_future(part) for part in parts]
    code = GONE
    try:
        done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        code = next((task.result() for task in done if task.exception() is None), GONE)
    finally:
        for task in tasks:
            task.cancel()
    with contextlib.suppress(WebSocketDisconnect, RuntimeError, TimeoutError):
        async with asyncio.timeout(2):
            await socket.close(code)


async def send(socket: Socket, frame: bytes) -> None:
    """Raises TimeoutError where it is not taken."""
    async with asyncio.timeout(SLOW_S):
        await socket.send_text(frame.decode())


async def _send(socket: Socket, client: Client) -> int:
    """Frames to the client, a beat where there are none. Ends where it does not take them."""
    while True:
        try:
            frame = await asyncio.wait_for(client.queue.get(), BEAT_S)
        except TimeoutError:
            frame = client.beat()
        await send(socket, frame)


async def _read(socket: Socket) -> int:
    """Clients say nothing; reading notices when they are gone."""
    with contextlib.suppress(WebSocketDisconnect, RuntimeError, KeyError):
        await socket.receive_text()
    return REFUSED


async def _watch(client: Client, caller: Caller) -> int:
    """Ends when the session or the token has: after a sign-out, a change of the person, and in any case looked at each
    minute.
    """
    while True:
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(client.doubted.wait(), RECHECK_S)
        client.doubted.clear()
        try:
            if await caller.person() is None:
                return UNKNOWN
        except DatabaseError:
            await asyncio.sleep(1)
            client.doubted.set()
