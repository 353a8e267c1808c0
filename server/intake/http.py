"""HTTP intake: a bare ASGI app beside Django. 202 means committed."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any

from django.conf import settings
from starlette.applications import Starlette
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from server.instance.pulse import Pulse
from server.intake.inbox import Arrival, Busy, Full, Inbox, Outcome, headers_of
from server.intake.senders import Rates, Senders
from server.requests.problems import problem
from server.store.messages import HTTP
from server.store.notices import Connection, follow

BODY_S = 20
ANSWER_S = 25


def refusal(status: int, code: str, message: str, retry_after: int | None = None) -> JSONResponse:
    headers = {"Retry-After": str(retry_after)} if retry_after is not None else None
    return JSONResponse(problem(status, code, message), status, headers, media_type="application/problem+json")


class HttpIntake:
    """State of the intake in one web process."""

    def __init__(self, pulse: Pulse) -> None:
        self.url = settings.INSTANCE.database_url()
        self.pulse = pulse
        self.senders = Senders()
        self.rates = Rates(settings.MESSAGES_PER_MINUTE, settings.BYTES_PER_MINUTE)
        self.inbox = Inbox(
            self.url,
            settings.INSTANCE.folder,
            settings.DISK_RESERVE_BYTES,
            settings.UNKNOWN_SENDERS,
            settings.UNKNOWN_MESSAGES,
            lambda what: pulse.trouble("inbox", what),
        )
        self.app = Starlette(routes=[Route("/", self.receive, methods=["POST"])])

    def parts(self) -> dict[str, Coroutine[Any, Any, None]]:
        """What runs beside the requests for as long as the process lives."""
        return {"inbox": self.inbox.run(), "registry": follow(self.url, ["oculum_registry"], self.renew, self.lost)}

    async def renew(self, connection: Connection, channel: str, payload: str) -> None:
        await self.senders.renew(connection)

    def lost(self, what: str | None) -> None:
        self.pulse.trouble("registry", f"{what}: changes of the register are not heard of" if what else None)

    async def body(self, request: Request) -> bytes | JSONResponse:
        body = bytearray()
        try:
            async with asyncio.timeout(BODY_S):
                async for chunk in request.stream():
                    body += chunk
                    if len(body) > settings.MESSAGE_BYTES:
                        return refusal(413, "too large", f"a message has at most {settings.MESSAGE_BYTES} bytes")
        except TimeoutError:
            return refusal(408, "too slow", f"the whole message did not come within {BODY_S} s")
        return bytes(body)

    async def receive(self, request: Request) -> JSONResponse:
        if not self.senders.known:
            return refusal(503, "starting", "the register has not been read yet; send it again", 1)
        header = request.headers.get("authorization", "")
        sender = self.senders.with_key(header.removeprefix("Bearer ").strip()) if header.startswith("Bearer ") else None
        if sender is None:
            return refusal(401, "unknown key", "send the device's key as `Authorization: Bearer ocd_...`")
        claimed = request.query_params.get("for") or None
        if claimed is not None and (len(claimed) > 63 or not claimed.isprintable()):
            return refusal(400, "invalid", "`for` is the name of a device: at most 63 characters that can be printed")
        try:
            body = await self.body(request)
        except ClientDisconnect:
            return refusal(400, "incomplete", "the connection ended before the message did")
        if isinstance(body, JSONResponse):
            return body
        source = self.senders.source(sender, claimed)
        if not self.rates.allow(source.counted_as, len(body)):
            self.inbox.refuse(source.device_id, "more messages a minute than allowed")
            most = settings.MESSAGES_PER_MINUTE
            return refusal(429, "too many", f"a device sends at most {most} messages a minute", 10)
        headers = headers_of((n[7:], v) for n, v in request.headers.items() if n.startswith("oculum-"))
        try:
            outcome = await self.inbox.put_within(Arrival(source, HTTP, "", body, headers=headers), ANSWER_S)
        except Full as error:
            return refusal(507, "full", str(error))
        except Busy as error:
            return refusal(503, "busy", str(error), 5)
        if outcome is Outcome.QUOTA:
            return refusal(429, "quota", "the quota of unknown senders behind this key is used up")
        if outcome is Outcome.UNSTORABLE:
            return refusal(400, "unstorable", "the database cannot store this message")
        return JSONResponse({"accepted": 1}, 202)
