"""The live feed: bounded queues, resuming by number, nobody without a session."""

from __future__ import annotations

import asyncio
import json
from typing import Any

import pytest
from django.conf import settings
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed, InvalidStatus

from server.instance.pulse import Pulse
from server.live.feed import REMEMBERED, Feed
from server.live.sockets import QUEUE, Client
from tests.server.test_api import send, signed_in
from tests.server.test_intake import web  # noqa: F401 - a fixture
from tests.server.world import World, payload, work_off


def feed_with(count: int) -> Feed:
    feed = Feed(Pulse(settings.INSTANCE.folder, "test"))
    for seq in range(1, count + 1):
        feed.frames.append((seq, b"%d" % seq))
        feed.last = seq
    return feed


def test_who_falls_behind_starts_afresh(instance: Any) -> None:
    client = Client(1)
    for i in range(QUEUE + 5):
        client.offer(b"%d" % i)
    assert client.queue.get_nowait() == b'{"resync":true}'
    assert client.queue.qsize() <= QUEUE


def test_resuming_gives_what_was_missed_or_says_it_cannot(instance: Any) -> None:
    feed = feed_with(REMEMBERED + 100)
    assert feed.missed(feed.last) == []
    assert feed.missed(feed.last - 2) == [b"%d" % (feed.last - 1), b"%d" % feed.last]
    assert feed.missed(50) is None and feed.missed(feed.last + 1) is None


def test_a_change_reaches_the_browser_and_strangers_hear_nothing(
    web: Any,  # noqa: F811
    world: World,
    engine: Any,
    instance: Any,
) -> None:
    client = signed_in(world, "viewer")
    cookie = f"{settings.SESSION_COOKIE_NAME}={client.cookies[settings.SESSION_COOKIE_NAME].value}"
    address, origin = f"ws://127.0.0.1:{instance.web_port}/live/", f"http://127.0.0.1:{instance.web_port}"
    world.decoder()

    async def listen() -> dict[str, Any]:
        for headers, own_origin in (({}, origin), ({"Cookie": cookie}, "http://elsewhere.example")):
            with pytest.raises(InvalidStatus):
                await connect(address, additional_headers=headers, origin=own_origin)  # type: ignore[arg-type]
        async with connect(address, additional_headers={"Cookie": cookie}, origin=origin) as socket:  # type: ignore[arg-type]
            assert "hello" in json.loads(await socket.recv())
            world.arrive((0, 0, payload(3)))
            await asyncio.to_thread(work_off, engine)
            while True:
                frame: dict[str, Any] = json.loads(await asyncio.wait_for(socket.recv(), 10))
                if frame.get("messages"):
                    return frame

    frame = asyncio.run(listen())
    # The fixture sent for another device; its frame may carry both.
    assert "pod-0" in frame["devices"] and frame["messages"] >= 1 and frame["seq"] > 0


@pytest.mark.parametrize("how", ["signed out", "password", "set inactive"])
def test_who_is_signed_out_hears_nothing_more(
    web: Any,  # noqa: F811
    world: World,
    instance: Any,
    how: str,
) -> None:
    client, admin = signed_in(world, "viewer"), signed_in(world, "admin")
    cookie = f"{settings.SESSION_COOKIE_NAME}={client.cookies[settings.SESSION_COOKIE_NAME].value}"
    person = world.ask("select id from access_person where username = 'viewer'")[0][0]

    def leave() -> None:
        match how:
            case "signed out":
                assert send(client, "POST", "sign-out").status_code == 204
            case "password":
                own = {"old": "a long password of words", "new": "another one of long words"}
                assert send(client, "POST", "me/password", own).status_code == 200
            case _:
                assert send(admin, "PATCH", f"people/{person}", {"is_active": False}).status_code == 200

    async def listen() -> int | None:
        address, origin = f"ws://127.0.0.1:{instance.web_port}/live/", f"http://127.0.0.1:{instance.web_port}"
        async with connect(address, additional_headers={"Cookie": cookie}, origin=origin) as socket:  # type: ignore[arg-type]
            assert "hello" in json.loads(await socket.recv())
            await asyncio.to_thread(leave)
            with pytest.raises(ConnectionClosed) as ended:
                while True:
                    await asyncio.wait_for(socket.recv(), 10)
            return ended.value.rcvd.code if ended.value.rcvd else None

    assert asyncio.run(listen()) == 4401
