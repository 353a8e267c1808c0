"""Requests that never end, or have no end: over real connections to the web process's own server."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Iterator

import pytest
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Mount, Route

from server.requests.whole import Whole
from server.runner import web
from tests.instance import until

MOST = 5000


async def length(request: Request) -> JSONResponse:
    return JSONResponse(len(await request.body()))


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    """The server with waits short enough for a test, and behind it an application that counts bytes."""
    patch = pytest.MonkeyPatch()
    patch.setattr(web, "HEAD_S", 0.5)
    patch.setattr(web, "BODY_S", 1.5)
    inner = Starlette(routes=[Route("/", length, methods=["POST"])])
    app = Starlette(routes=[Mount("/api", Whole(inner, MOST, 0.5)), Route("/raw", length, methods=["POST"])])
    config = uvicorn.Config(app, host="127.0.0.1", port=0, http=web.Bounded, log_level="error", lifespan="off")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run)
    thread.start()
    until(lambda: server.started, "the server to listen")
    yield server.servers[0].sockets[0].getsockname()[1]
    server.should_exit = True
    thread.join()
    patch.undo()


def say(port: int, *parts: bytes) -> bytes:
    """All that comes back until the server ends the connection."""
    found = b""
    with socket.create_connection(("127.0.0.1", port), timeout=20) as connection:
        try:
            for part in parts:
                connection.sendall(part)
            while more := connection.recv(65536):
                found += more
        except ConnectionError:
            pass  # ended while something was still on its way; what was answered before counts
    return found


def head(path: str, *lines: str) -> bytes:
    return "\r\n".join([f"POST {path} HTTP/1.1", "Host: here", *lines, "", ""]).encode()


def test_a_body_of_its_length_arrives_whatever_its_parts(port: int) -> None:
    body = b"x" * MOST
    lines = ("Connection: close", f"Content-Length: {MOST}")
    assert say(port, head("/api/", *lines), body[:1], body[1:7], body[7:]).endswith(b"5000")
    chunks = b"".join(b"64\r\n" + b"y" * 100 + b"\r\n" for _ in range(50)) + b"0\r\n\r\n"
    assert say(port, head("/api/", "Connection: close", "Transfer-Encoding: chunked"), chunks).endswith(b"5000")
    assert say(port, head("/api/", "Connection: close", "Content-Length: 0")).endswith(b"0")


@pytest.mark.parametrize(
    "lines,body,status",
    [
        ([f"Content-Length: {MOST + 1}"], b"", 413),
        (["Content-Length: 99999999999999999999"], b"", 400),  # the parser's own bound
        (["Content-Length: 9999999999999999"], b"x", 413),
        (["Transfer-Encoding: chunked"], b"2000\r\n" + b"x" * 8192 + b"\r\n", 413),
        (["Content-Length: 10"], b"half", 408),
        (["Transfer-Encoding: chunked"], b"4\r\nhalf\r\n", 408),
    ],
)
def test_a_body_without_end_is_refused_and_the_connection_ends(
    port: int, lines: list[str], body: bytes, status: int
) -> None:
    answer = say(port, head("/api/", *lines), body)
    assert answer.startswith(f"HTTP/1.1 {status} ".encode()), answer
    if status != 400:
        told = json.loads(answer.partition(b"\r\n\r\n")[2])
        assert told["status"] == status and told["detail"] and b"application/problem+json" in answer


def test_a_head_that_does_not_end_is_ended(port: int) -> None:
    assert say(port).startswith(b"HTTP/1.1 408 "), "nothing at all was said"
    assert say(port, b"POST /api/ HTTP/1.1\r\nHost: h").startswith(b"HTTP/1.1 408 ")
    assert say(port, b"POST /api/ HTTP/1.1\r\n", b"X: " + b"y" * 70_000).startswith(
        (b"HTTP/1.1 431 ", b"HTTP/1.1 400 ")
    )
    assert say(port, head("/raw", "Content-Length: 10"), b"half") == b"", "the last bound, for what has none of its own"


def test_what_does_not_end_holds_nobody_else_up(port: int) -> None:
    held = [socket.create_connection(("127.0.0.1", port), timeout=20) for _ in range(50)]
    for connection in held:
        connection.sendall(head("/api/", "Content-Length: 10") + b"half")
    assert say(port, head("/api/", "Connection: close", "Content-Length: 3"), b"all").endswith(b"3")
    for connection in held:
        assert connection.recv(100).startswith(b"HTTP/1.1 408 ")
        connection.close()
