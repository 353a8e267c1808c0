"""Requests whole before anything is done with them: an ASGI layer that bounds their bodies in size and time."""

from __future__ import annotations

import asyncio
from typing import Any

from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from oculum.errors import OculumError
from server.requests.problems import CONTENT_TYPE, problem
from server.rules.refusal import Refused


class Gone(OculumError):
    """The other side has left before its request was whole."""


class Whole:
    """Hands requests on with their bodies complete.

    A longer body than `most` bytes is refused (413) as soon as it is known, one that has not come within `within`
    seconds too (408); neither has taken more memory than `most`, nor a place on the disk.
    """

    def __init__(self, app: ASGIApp, most: int, within: float) -> None:
        self.app, self.most, self.within = app, most, within

    async def body(self, scope: Scope, receive: Receive) -> bytes:
        """Raises Gone, Refused."""
        too_large = Refused("too large", f"the body of a request has at most {self.most} bytes", 413)
        told = dict(scope["headers"]).get(b"content-length", b"")
        if told.isdigit() and int(told[:20]) > self.most:
            raise too_large
        body = bytearray()
        try:
            async with asyncio.timeout(self.within):
                while True:
                    message = await receive()
                    if message["type"] == "http.disconnect":
                        raise Gone
                    body += message.get("body", b"")
                    if len(body) > self.most:
                        raise too_large
                    if not message.get("more_body", False):
                        return bytes(body)
        except TimeoutError:
            raise Refused("too slow", f"the whole request did not come within {self.within:g} s", 408) from None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        try:
            body = await self.body(scope, receive)
        except Gone:
            return
        except Refused as why:
            content: dict[str, Any] = problem(why.status_code, why.code, why.sentence)
            answer = JSONResponse(content, why.status_code, {"Connection": "close"}, CONTENT_TYPE)
            await answer(scope, receive, send)
            return
        given = False

        async def again() -> Message:
            nonlocal given
            if given:
                return await receive()
            given = True
            return {"type": "http.request", "body": body, "more_body": False}

        await self.app(scope, again, send)
