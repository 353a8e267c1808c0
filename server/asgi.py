"""The web process: Django beside the two hot paths and the built front end."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import signal
import time
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.asgi import get_asgi_application

django_app = get_asgi_application()

from starlette.applications import Starlette  # noqa: E402
from starlette.middleware import Middleware  # noqa: E402
from starlette.middleware.gzip import GZipMiddleware  # noqa: E402
from starlette.middleware.trustedhost import TrustedHostMiddleware  # noqa: E402
from starlette.requests import Request  # noqa: E402
from starlette.responses import HTMLResponse, JSONResponse, PlainTextResponse, Response  # noqa: E402
from starlette.routing import Mount, Route, WebSocketRoute  # noqa: E402
from starlette.staticfiles import StaticFiles  # noqa: E402
from starlette.types import Receive, Scope  # noqa: E402

from server.instance.memory import settle  # noqa: E402
from server.instance.pulse import Pulse  # noqa: E402
from server.intake.http import HttpIntake  # noqa: E402
from server.live.feed import Feed  # noqa: E402
from server.live.readings import Readings  # noqa: E402
from server.requests.policy import strict  # noqa: E402
from server.requests.whole import Whole  # noqa: E402
from server.runner.health import Health, health  # noqa: E402

log = logging.getLogger("oculum.web")
BUILT: Path = settings.BASE_DIR / "web" / "dist"
HEALTH_S = 1.0
BODY_S = 20.0
pulse = Pulse(settings.INSTANCE.folder, "web")
intake = HttpIntake(pulse)
feed = Feed(pulse)
readings = Readings(pulse, feed)


async def page(request: Request) -> Response:
    """The front end's one page, with a nonce for the styles that the editor makes."""
    index = BUILT / "index.html"
    if not index.exists():
        return PlainTextResponse("the front end is not built: run `./oculum up`", 503)
    nonce = secrets.token_urlsafe(16)
    html = index.read_text().replace("__NONCE__", nonce)
    headers = {
        "Content-Security-Policy": strict(nonce),
        "Cache-Control": "no-store",
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "same-origin",
    }
    return HTMLResponse(html, headers=headers)


async def alive(request: Request) -> Response:
    """This process answers; what of the others works is at /healthz."""
    return PlainTextResponse("ok")


class Healthz:
    """What works, part by part, asked at most once a second whoever asks how often."""

    def __init__(self) -> None:
        self.lock = asyncio.Lock()
        self.at = -HEALTH_S
        self.found: Health | None = None

    async def answer(self, request: Request) -> Response:
        async with self.lock:
            if self.found is None or time.monotonic() - self.at > HEALTH_S:
                self.found = await asyncio.to_thread(health, settings.INSTANCE)
                self.at = time.monotonic()
            found = self.found
        body = found.as_dict()
        for part in body["parts"].values():
            part.pop("pid")
        last = body["stream"]["last_batch"]
        body["stream"]["last_batch"] = last.isoformat() if last is not None else None
        return JSONResponse(body, 200 if found.whole else 503, {"Cache-Control": "no-store"})


class Kept(StaticFiles):
    """Built files carry a hash in their names and never change."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        response = await super().get_response(path, scope)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        response.headers["X-Content-Type-Options"] = "nosniff"
        return response


async def beat() -> None:
    while True:
        pulse.beat()
        await asyncio.sleep(0.5)


@contextlib.asynccontextmanager
async def lifespan(app: Starlette) -> AsyncIterator[None]:
    """Parts that run beside the requests; when one of them ends, the process does, and is started anew."""
    settle()
    parts = {**intake.parts(), **feed.parts(), **readings.parts(), "pulse": beat()}
    tasks = [asyncio.create_task(part, name=name) for name, part in parts.items()]
    closing = False

    def ended(task: asyncio.Task[None]) -> None:
        if not closing:
            log.error("%s has ended", task.get_name(), exc_info=task.exception() if not task.cancelled() else None)
            os.kill(os.getpid(), signal.SIGTERM)

    for task in tasks:
        task.add_done_callback(ended)
    try:
        yield
    finally:
        closing = True
        for task in tasks:
            task.cancel()


async def api(scope: Scope, receive: Receive, send: Any) -> None:
    # Mounting moves the path into root_path; Django routes by the whole of it.
    await django_app({**scope, "root_path": "", "path": scope["path"]}, receive, send)


application = Starlette(
    routes=[
        Mount("/in", intake.app),
        WebSocketRoute("/live/", feed.connect),
        WebSocketRoute("/live/readings/", readings.connect),
        Route("/live/readings/", readings.lines),
        Mount("/api", Whole(api, settings.DATA_UPLOAD_MAX_MEMORY_SIZE, BODY_S)),
        Mount("/static", GZipMiddleware(StaticFiles(directory=settings.STATIC_ROOT, check_dir=False))),
        Mount("/assets", GZipMiddleware(Kept(directory=BUILT / "assets", check_dir=False))),
        Route("/alive", alive),
        Route("/healthz", Healthz().answer),
        Route("/{path:path}", page),
    ],
    middleware=[Middleware(TrustedHostMiddleware, allowed_hosts=settings.ALLOWED_HOSTS, www_redirect=False)],
    lifespan=lifespan,
)
