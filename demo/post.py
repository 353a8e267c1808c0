"""A stand-in for the world outside: takes mail (SMTP) and events (HTTP), and shows what came on a page.

Told to fail, to be slow or to work again on `/mode/fail`, `/mode/slow` and `/mode/well`; nothing is sent anywhere.
"""

from __future__ import annotations

import asyncio
import contextlib
import html
import json
import logging
import signal
from collections import deque
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email import message_from_bytes, policy
from typing import Any

MOST = 200
BYTES = 1 << 20
SLOW_S = 8.0
AWAY_MINUTES = 8  # of each hour in which the buyers do not answer
log = logging.getLogger("oculum.post")


@dataclass
class Post:
    """What came, the newest first. mode: well, fail or slow."""

    mode: str = "well"
    came: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=MOST))

    def put(self, kind: str, to: str, subject: str, text: str, number: str) -> None:
        at = f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S}"
        self.came.appendleft({"at": at, "kind": kind, "to": to, "subject": subject, "text": text, "number": number})

    async def fails(self) -> bool:
        if self.mode == "slow":
            await asyncio.sleep(SLOW_S)
        return self.mode == "fail"

    # SMTP (RFC 5321), as far as a sender needs it --------------------------------
    async def mail(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        def say(line: str) -> None:
            writer.write(f"{line}\r\n".encode())

        to: list[str] = []
        say("220 post.sandrel.invalid")
        try:
            while line := (await reader.readline()).decode(errors="replace").strip():
                word = line.split(" ")[0].upper()
                if word in ("EHLO", "HELO"):
                    say("250 post.sandrel.invalid")
                elif word == "RCPT":
                    to.append(line.partition(":")[2].strip(" <>"))
                    say("250 fine")
                elif word == "DATA":
                    say("354 go on")
                    content = await self._data(reader)
                    if await self.fails():
                        say("451 told to fail")
                    else:
                        letter = message_from_bytes(content, policy=policy.default)
                        body = letter.get_body(("plain",))
                        self.put(
                            "mail",
                            ", ".join(to),
                            str(letter["Subject"]),
                            body.get_content() if body is not None else "",
                            str(letter["Oculum-Delivery"]),
                        )
                        say("250 taken")
                    to = []
                elif word == "QUIT":
                    say("221 well")
                    break
                else:
                    say("250 fine" if word in ("MAIL", "RSET", "NOOP") else "502 not known here")
                await writer.drain()
        except (ConnectionError, asyncio.IncompleteReadError, ValueError):
            pass
        finally:
            writer.close()

    async def _data(self, reader: asyncio.StreamReader) -> bytes:
        lines: list[bytes] = []
        size = 0
        while (line := await reader.readline()) not in (b".\r\n", b""):
            size += len(line)
            if size > BYTES:
                raise ValueError("too long")
            lines.append(line[1:] if line.startswith(b"..") else line)
        return b"".join(lines)

    # HTTP/1.1, one request a connection -------------------------------------------
    async def web(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            head = (await reader.readuntil(b"\r\n\r\n")).decode(errors="replace").split("\r\n")
            method, path, *_ = [*head[0].split(" "), "", ""]
            headers = {name.strip().lower(): value.strip() for name, _, value in (h.partition(":") for h in head[1:])}
            size = min(int(headers.get("content-length", "0") or 0), BYTES)
            body = (await reader.readexactly(size)).decode(errors="replace") if size else ""
            status, kind, answer = await self.answer(method, path, headers, body)
            content = answer.encode()
            writer.write(
                f"HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {len(content)}\r\n"
                "Connection: close\r\nContent-Security-Policy: default-src 'none'; style-src 'unsafe-inline'\r\n"
                "\r\n".encode()
                + content
            )
            await writer.drain()
        except (ConnectionError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, ValueError):
            pass
        finally:
            writer.close()

    async def answer(self, method: str, path: str, headers: dict[str, str], body: str) -> tuple[str, str, str]:
        if method == "POST":
            if await self.fails() or (path.startswith("/buyers") and datetime.now(UTC).minute < AWAY_MINUTES):
                return "503 Service Unavailable", "text/plain", "away for a moment"
            self.put("webhook", path, f"{body.count('specversion')} events", body, headers.get("oculum-delivery", ""))
            return "200 OK", "text/plain", "taken"
        if path.startswith("/mode/") and path[6:] in ("well", "fail", "slow"):
            self.mode = path[6:]
        if path == "/came":
            return "200 OK", "application/json", json.dumps({"mode": self.mode, "came": list(self.came)})
        return "200 OK", "text/html; charset=utf-8", self.page()

    def page(self) -> str:
        rows = "".join(
            f"<article><p>{m['at']} UTC · {m['kind']} to {html.escape(m['to'])} · number {html.escape(m['number'])}</p>"
            f"<h2>{html.escape(m['subject'])}</h2><pre>{html.escape(m['text'])}</pre></article>"
            for m in self.came
        )
        modes = " ".join(f'<a href="/mode/{m}">{m}</a>' for m in ("well", "fail", "slow"))
        return (
            "<!doctype html><html lang='en'><meta charset='utf-8'><title>What was sent</title><style>body{font:15px/1.4"
            " sans-serif;max-width:760px;margin:24px auto;background:#f6f3ec;color:#17252a}article{border-top:1px solid"
            " #ddd7ca}h2{font-size:16px;margin:0}p{margin:8px 0 0;color:#56656a}pre{white-space:pre-wrap}</style>"
            f"<h1>What was sent</h1><p>This stand-in works {self.mode}; make it {modes}. It takes mail and events, and"
            f" sends nothing on.</p>{rows or '<p>Nothing yet.</p>'}</html>"
        )


async def serve(post: Post, mail_port: int, web_port: int) -> tuple[asyncio.Server, asyncio.Server]:
    """Both servers, on loopback."""
    return (
        await asyncio.start_server(post.mail, "127.0.0.1", mail_port),
        await asyncio.start_server(post.web, "127.0.0.1", web_port),
    )


async def run() -> None:
    from django.conf import settings

    from server.instance.pulse import Pulse

    instance = settings.INSTANCE
    pulse, stop = Pulse(instance.folder, "post"), asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    await serve(Post(), instance.web_port + 3, instance.web_port + 4)
    while not stop.is_set():
        pulse.beat()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), 1)


if __name__ == "__main__":
    import django

    django.setup()
    asyncio.run(run())
