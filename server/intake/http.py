"""HTTP intake: a bare ASGI app beside Django. 202 means committed."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import psycopg
from django.conf import settings
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from .inbox import HTTP, Arrival, Full, Inbox, headers_of
from .notices import notices
from .senders import Rates, Senders


def refusal(status: int, code: str, message: str) -> JSONResponse:
    return JSONResponse({"error": {"code": code, "message": message}}, status)


class HttpIntake:
    """State of the intake in one web process."""

    def __init__(self) -> None:
        url = settings.INSTANCE.database_url()
        self.url = url
        self.senders = Senders()
        self.rates = Rates(settings.MESSAGES_PER_MINUTE, settings.BYTES_PER_MINUTE)
        self.inbox = Inbox(
            url,
            settings.INSTANCE.folder,
            settings.DISK_RESERVE_BYTES,
            settings.UNKNOWN_SENDERS,
            settings.UNKNOWN_MESSAGES,
        )
        self.app = Starlette(routes=[Route("/", self.receive, methods=["POST"])])

    @contextlib.asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        tasks = [asyncio.create_task(self.inbox.run()), asyncio.create_task(self.registry())]
        try:
            yield
        finally:
            for task in tasks:
                task.cancel()

    async def registry(self) -> None:
        async for _ in notices(self.url, ["oculum_registry"]):
            async with await psycopg.AsyncConnection.connect(self.url) as connection:
                await self.senders.renew(connection)

    async def receive(self, request: Request) -> JSONResponse:
        header = request.headers.get("authorization", "")
        sender = self.senders.with_key(header.removeprefix("Bearer ").strip()) if header.startswith("Bearer ") else None
        if sender is None:
            return refusal(401, "unknown key", "send the device's key as `Authorization: Bearer ocd_...`")
        body = bytearray()
        async for chunk in request.stream():
            body += chunk
            if len(body) > settings.MESSAGE_BYTES:
                return refusal(413, "too large", f"a message has at most {settings.MESSAGE_BYTES} bytes")
        claimed = request.query_params.get("for")
        source = self.senders.source(sender, claimed[:63] if claimed else None)
        if not self.rates.allow(source.device_id or (sender.credential_id, source.unknown), len(body)):
            self.inbox.refuse(source.device_id, "more messages a minute than allowed")
            return refusal(429, "too many", f"a device sends at most {settings.MESSAGES_PER_MINUTE} messages a minute")
        try:
            kept = await self.inbox.put(
                Arrival(
                    source,
                    HTTP,
                    "",
                    bytes(body),
                    headers=headers_of((n[7:], v) for n, v in request.headers.items() if n.startswith("oculum-")),
                )
            )
        except Full as error:
            return refusal(507, "full", str(error))
        if not kept:
            return refusal(429, "quota", "the quota of unknown senders behind this key is used up")
        return JSONResponse({"accepted": 1}, 202)
