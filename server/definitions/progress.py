"""Long work that tells how far it is: one JSON object a line, ended by closing the connection."""

from __future__ import annotations

import asyncio
import weakref
from collections.abc import AsyncIterator, Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import orjson
from django.http import StreamingHttpResponse
from django.utils import timezone
from rest_framework.request import Request

from server.access.authentication import person_of
from server.access.bounds import OF_ALL, long_work
from server.access.errors import Refused, of
from server.access.problems import note

threads = ThreadPoolExecutor(OF_ALL, "oculum long work")


def told(request: Request, work: Iterator[dict[str, Any]]) -> StreamingHttpResponse:
    """{"done", "total"} as the work goes, at last {"result"}, or {"error"} with a problem. Raises Refused (429)."""
    person = person_of(request).pk
    why = long_work.take(person)
    if why is not None:
        raise Refused("busy", why, 429)
    slot = _Slot()
    free = weakref.finalize(slot, long_work.free, person)
    return StreamingHttpResponse(
        _lines(work, slot, free, request.path),
        content_type="application/x-ndjson",
        headers={"Cache-Control": "no-store", "Content-Encoding": "identity"},
    )


class _Slot:
    """Held as long as the answer is: an answer that nobody begins to read frees it as well."""


async def _lines(
    work: Iterator[dict[str, Any]], slot: _Slot, free: Callable[[], object], path: str
) -> AsyncIterator[bytes]:
    """Each step of the work as a line; the work ends when nobody reads on."""
    began = timezone.now()
    waiting: asyncio.Future[Any] | None = None
    loop = asyncio.get_running_loop()
    try:
        while True:
            waiting = loop.run_in_executor(threads, next, work, None)
            try:
                step = await asyncio.shield(waiting)
            except Exception as error:
                body, _ = of(error)
                note(body, "POST", path, error if body["status"] == 500 else None)
                yield orjson.dumps({"error": body}) + b"\n"
                return
            if step is None:
                return
            if "result" in step:
                step["result"]["seconds"] = (timezone.now() - began).total_seconds()
            yield orjson.dumps(step, default=str) + b"\n"
    finally:
        if waiting is not None and not waiting.done():
            await asyncio.wait([waiting])  # the portion at work ends before the rest is left off
        await loop.run_in_executor(threads, work.close)  # type: ignore[attr-defined]
        free()
