"""The web process: uvicorn with bounds on what a connection may hold up before it has said what it wants."""

from __future__ import annotations

import asyncio
import os
import resource
from typing import Any

import uvicorn
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from server.instance.instance import Instance
from server.instance.processes import Lock

HEAD_S, BODY_S = 20, 120
HEAD_BYTES = 64 * 1024
CONNECTIONS = 2000
SLOW = (
    b"HTTP/1.1 408 Request Timeout\r\ncontent-type: text/plain; charset=utf-8\r\n"
    b"content-length: 48\r\nconnection: close\r\n\r\nthe whole request did not come in time: it ended"
)
LONG = (
    b"HTTP/1.1 431 Request Header Fields Too Large\r\ncontent-type: text/plain; charset=utf-8\r\n"
    b"content-length: 51\r\nconnection: close\r\n\r\nthe head of a request has at most 64 KiB, all of it"
)


class Bounded(HttpToolsProtocol):
    """A connection whose requests come whole within a time, or end."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self.timer: asyncio.TimerHandle | None = None
        self.head = 0
        self.in_head = True
        self.begin(HEAD_S)

    def begin(self, seconds: float) -> None:
        self.end()
        self.timer = self.loop.call_later(seconds, self.too_slow)

    def end(self) -> None:
        if self.timer is not None:
            self.timer.cancel()
            self.timer = None

    def too_slow(self) -> None:
        if not self.transport.is_closing():
            if self.in_head:
                self.transport.write(SLOW)
            self.transport.close()

    def data_received(self, data: bytes) -> None:
        if self.in_head:
            self.head += len(data)
        super().data_received(data)
        if self.in_head and self.head > HEAD_BYTES and not self.transport.is_closing():
            self.transport.write(LONG)
            self.transport.close()

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self.in_head = True
        self.begin(HEAD_S)

    def on_headers_complete(self) -> None:
        self.in_head, self.head = False, 0
        self.begin(BODY_S)
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        self.end()
        super().on_message_complete()

    def handle_websocket_upgrade(self) -> None:
        self.end()
        super().handle_websocket_upgrade()

    def connection_lost(self, exc: Exception | None) -> None:
        self.end()
        super().connection_lost(exc)


def main() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    os.environ["OCULUM_DATABASE_OPTIONS"] = "-c statement_timeout=60000 -c lock_timeout=10000"
    instance = Instance.from_environment()
    lock = Lock(instance.folder, "web")
    lock.or_exit()
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = 65_536 if hard == resource.RLIM_INFINITY else hard
    resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, min(most, 65_536)), hard))
    # Addresses and schemes that a proxy tells are believed only where its address has been named.
    proxies = os.environ.get("OCULUM_PROXIES", "")
    options: dict[str, Any] = {
        "host": "127.0.0.1",
        "port": instance.web_port,
        "loop": "uvloop",
        "http": Bounded,
        "ws": "websockets-sansio",
        "ws_max_size": 4096,  # browsers say nothing on the live feed
        "ws_per_message_deflate": False,
        "access_log": False,
        "log_level": "warning",
        "server_header": False,
        "timeout_graceful_shutdown": 3,
        "limit_concurrency": CONNECTIONS,
        "proxy_headers": bool(proxies),
        "forwarded_allow_ips": proxies or None,
    }
    uvicorn.run("server.asgi:application", **options)


if __name__ == "__main__":
    main()
