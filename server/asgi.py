"""The web process: Django beside the two hot paths and the built front end."""

from __future__ import annotations

import contextlib
import secrets
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
from starlette.responses import HTMLResponse, PlainTextResponse, Response  # noqa: E402
from starlette.routing import Mount, Route, WebSocketRoute  # noqa: E402
from starlette.staticfiles import StaticFiles  # noqa: E402
from starlette.types import Receive, Scope  # noqa: E402

from server.access.policy import strict  # noqa: E402
from server.intake.http import HttpIntake  # noqa: E402
from server.live.feed import Feed  # noqa: E402

BUILT: Path = settings.BASE_DIR / "web" / "dist"
intake = HttpIntake()
feed = Feed()


async def page(request: Request) -> Response:
    """The front end's one page, with a nonce for the styles that the editor makes."""
    index = BUILT / "index.html"
    if not index.exists():
        return PlainTextResponse("the front end is not built: run `./oculum up`", 503)
    nonce = secrets.token_urlsafe(16)
    html = index.read_text().replace("__NONCE__", nonce)
    return HTMLResponse(
        html,
        headers={
            "Content-Security-Policy": strict(nonce),
            "Cache-Control": "no-store",
            "X-Content-Type-Options": "nosniff",
            "Referrer-Policy": "same-origin",
        },
    )


async def alive(request: Request) -> Response:
    return PlainTextResponse("ok")


class Kept(StaticFiles):
    """Built files carry a hash in their names and never change."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        response = await super().get_response(path, scope)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        response.headers["X-Content-Type-Options"] = "nosniff"
        return response


@contextlib.asynccontextmanager
async def lifespan(app: Starlette) -> AsyncIterator[None]:
    async with intake.running(), feed.running():
        yield


async def api(scope: Scope, receive: Receive, send: Any) -> None:
    # Mounting moves the path into root_path; Django routes by the whole of it.
    await django_app({**scope, "root_path": "", "path": scope["path"]}, receive, send)


application = Starlette(
    routes=[
        Mount("/in", intake.app),
        WebSocketRoute("/live/", feed.connect),
        Mount("/api", api),
        Mount("/static", GZipMiddleware(StaticFiles(directory=settings.STATIC_ROOT, check_dir=False))),
        Mount("/assets", GZipMiddleware(Kept(directory=BUILT / "assets", check_dir=False))),
        Route("/alive", alive),
        Route("/{path:path}", page),
    ],
    middleware=[Middleware(TrustedHostMiddleware, allowed_hosts=settings.ALLOWED_HOSTS, www_redirect=False)],
    lifespan=lifespan,
)
