"""A socket's frames over plain HTTP, one a line, for callers without WebSockets."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.types import Receive, Scope, Send
from starlette.websockets import WebSocketDisconnect

from server.live.sockets import FORBIDDEN, LATER, TOO_MANY, UNKNOWN, Socket
from server.requests.problems import CONTENT_TYPE, problem

KIND = "application/x-ndjson"
ENDS = {
    UNKNOWN: (401, "not signed in", "a token is expected: `Authorization: Bearer oct_...`"),
    FORBIDDEN: (401, "not signed in", "a token is expected: `Authorization: Bearer oct_...`"),
    TOO_MANY: (429, "too many", "there are too many feeds of this person at once"),
    LATER: (503, "unavailable", "the database does not answer"),
}


class Lines:
    """What listens to a feed by a GET request."""

    def __init__(self, scope: Scope, receive: Receive, send: Send) -> None:
        request = Request(scope)
        self.headers, self.cookies, self.query_params = request.headers, request.cookies, request.query_params
        self.scope, self._receive, self._send = scope, receive, send
        self.begun = False

    async def accept(self) -> None:
        self.begun = True
        headers = [(b"content-type", KIND.encode()), (b"cache-control", b"no-store")]
        await self._send({"type": "http.response.start", "status": 200, "headers": headers})

    async def send_text(self, data: str) -> None:
        body = data.encode() + b"\n"
        await self._send({"type": "http.response.body", "body": body, "more_body": True})

    async def receive_text(self) -> str:
        """Waits until the caller is gone. Raises WebSocketDisconnect."""
        while (await self._receive())["type"] != "http.disconnect":
            pass
        raise WebSocketDisconnect(1000)

    async def close(self, code: int) -> None:
        if self.begun:
            await self._send({"type": "http.response.body", "body": b""})
            return
        status, kind, sentence = ENDS.get(code, ENDS[LATER])
        answer = JSONResponse(problem(status, kind, sentence), status, media_type=CONTENT_TYPE)
        await answer(self.scope, self._receive, self._send)


class Told(Response):
    """An answer that goes on for as long as its caller listens."""

    def __init__(self, feed: Callable[[Socket], Awaitable[None]]) -> None:
        super().__init__(media_type=KIND)
        self.feed = feed

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["method"] == "HEAD":
            await super().__call__(scope, receive, send)
        else:
            await self.feed(Lines(scope, receive, send))
