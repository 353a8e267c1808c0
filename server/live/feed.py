"""The live feed: one reader of changes a process, a bounded queue a client, resuming by number."""

from __future__ import annotations

import asyncio
import logging
import re
from collections import deque
from collections.abc import Callable, Collection, Coroutine
from typing import Any

import orjson
from django.conf import settings

from server.instance.pulse import Pulse
from server.live.sockets import Caller, Client, Socket, admitted, served
from server.store.notices import Connection, follow

log = logging.getLogger("oculum.live")
REMEMBERED = 500


class Feed:
    def __init__(self, pulse: Pulse) -> None:
        self.pulse = pulse
        self.url = settings.INSTANCE.database_url()
        self.clients: set[Client] = set()
        self.frames: deque[tuple[int, bytes]] = deque(maxlen=REMEMBERED)
        self.last = 0
        self.arrived = asyncio.Event()
        self.stirs: list[Callable[[], None]] = []  # called when something was written
        self.listening: list[Collection[Client]] = [self.clients]

    def parts(self) -> dict[str, Coroutine[Any, Any, None]]:
        """What runs beside the clients for as long as the process lives."""
        channels = ["oculum_live", "oculum_arrival", "oculum_people"]
        return {"feed": follow(self.url, channels, self.heard, self.lost), "arrivals": self.arrivals()}

    def lost(self, what: str | None) -> None:
        self.pulse.trouble("feed", f"{what}: changes are not shown by themselves" if what else None)

    async def heard(self, connection: Connection, channel: str, payload: str) -> None:
        """A notice: an arrival, a change of a person's rights, or changes to be read and told."""
        if channel == "oculum_arrival":
            self.arrived.set()
        elif channel == "oculum_people":
            self.doubt(lambda client: str(client.person) == payload)
        elif channel == "":
            row = await (await connection.execute("select coalesce(max(seq), 0) from live_change")).fetchone()
            # After a crash of the database the numbers may begin anew.
            self.last = int(row[0]) if row else 0
            self.frames.clear()
            self.tell(b'{"resync":true}')
            self.doubt(lambda client: True)
            self.stir()
        else:
            self.stir()
            rows = await connection.execute(
                "select seq, body from live_change where seq > %s order by seq limit 200", (self.last,)
            )
            for seq, body in await rows.fetchall():
                self.last = seq
                frame = orjson.dumps({"seq": seq, **body})
                self.frames.append((seq, frame))
                self.tell(frame)

    def doubt(self, which: Callable[[Client], bool]) -> None:
        for client in [c for clients in self.listening for c in clients if which(c)]:
            client.recheck()

    def stir(self) -> None:
        for stirred in self.stirs:
            stirred()

    async def arrivals(self) -> None:
        """Arrivals are told at most four times a second, however many there are."""
        while True:
            await self.arrived.wait()
            self.arrived.clear()
            self.tell(b'{"arrivals":true}')
            await asyncio.sleep(0.25)

    def tell(self, frame: bytes) -> None:
        for client in self.clients:
            client.offer(frame)

    def missed(self, since: int) -> list[bytes] | None:
        """Frames after `since`, or None if they are not all remembered."""
        if since == self.last:
            return []
        if not self.frames or self.frames[0][0] > since + 1 or since > self.last:
            return None
        return [frame for seq, frame in self.frames if seq > since]

    async def connect(self, socket: Socket) -> None:
        caller = Caller(socket)
        person = await admitted(socket, caller, self.clients)
        if person is None:
            return
        await socket.accept()
        client = Client(person)
        since = socket.query_params.get("since", "")
        replay = self.missed(int(since)) if re.fullmatch("[0-9]{1,15}", since) else None
        for earlier in replay or []:
            client.offer(earlier)
        client.offer(orjson.dumps({"hello": self.last, "resync": since != "" and replay is None}))
        self.clients.add(client)
        try:
            await served(socket, client, caller)
        finally:
            self.clients.discard(client)
