"""Long work that tells how far it is: one JSON object a line, ended by closing the connection."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncGenerator, AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import orjson
from django.http import StreamingHttpResponse
from django.utils import timezone
from rest_framework.request import Request

from server.requests.authentication import person_of
from server.requests.bounds import OF_ALL, long_work
from server.requests.errors import of
from server.requests.problems import note
from server.rules.refusal import Refused

threads = ThreadPoolExecutor(OF_ALL, "oculum long work")


class Told(StreamingHttpResponse):
    """An answer line by line. Who leaves off reading it ends the work at once: it waits for no collector of garbage."""

    def __init__(self, lines: AsyncGenerator[bytes, None]) -> None:
        super().__init__(
            lines,
            content_type="application/x-ndjson",
            headers={"Cache-Control": "no-store", "Content-Encoding": "identity"},
        )
        self.lines = lines

    async def __aiter__(self) -> AsyncIterator[bytes]:
        async with contextlib.aclosing(self.lines):
            async for line in self.lines:
                yield line


def told(request: Request, work: Iterator[dict[str, Any]]) -> StreamingHttpResponse:
    """{"done", "total"} as the work goes, at last {"result"}, or {"error"} with a problem: also where as much work as
    may be is under way (429).
    """
    return Told(_lines(work, person_of(request).pk, request.path))


async def _lines(work: Iterator[dict[str, Any]], person: int, path: str) -> AsyncGenerator[bytes, None]:
    """Each step of the work as a line; the work ends when nobody reads on. A place is taken once somebody reads."""
    began = timezone.now()
    why = await long_work.taken(person)
    if why is not None:
        yield error_line(Refused("busy", why, 429), path)
        return
    waiting: asyncio.Future[Any] | None = None
    loop = asyncio.get_running_loop()
    try:
        while True:
            waiting = loop.run_in_executor(threads, next, work, None)
            try:
                step = await asyncio.shield(waiting)
            except Exception as error:
                yield error_line(error, path)
                return
            if step is None:
                return
            if "result" in step:
                step["result"]["seconds"] = (timezone.now() - began).total_seconds()
            yield orjson.dumps(step, default=str) + b"\n"
    finally:
        try:
            if waiting is not None and not waiting.done():
                await asyncio.wait([waiting])  # the portion at work ends before the rest is left off
            await loop.run_in_executor(threads, work.close)  # type: ignore[attr-defined]
        finally:
            long_work.free(person)


def error_line(error: Exception, path: str) -> bytes:
    body, _ = of(error)
    note(body, "POST", path, error if body["status"] == 500 else None)
    return orjson.dumps({"error": body}) + b"\n"
