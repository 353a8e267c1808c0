"""Readings as they come: each once, with values, of chosen devices and fields, and taken up again by a mark."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Awaitable, Callable
from typing import Any

import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, InvalidStatus

from server.instance.pulse import Pulse
from server.live.feed import Feed
from server.live.readings import Lot, Readings, Subscriber, mark_of, spread, written
from server.live.sockets import QUEUE
from tests.often import examples
from tests.server.test_api import send, signed_in
from tests.server.test_intake import web  # noqa: F401 - a fixture
from tests.server.world import START, World, payload, work_off

Listen = Callable[..., Awaitable[Any]]


def seconds() -> float:
    """Now, as the world counts."""
    return time.time() - START.timestamp()


def header_of(world: World) -> dict[str, str]:
    made = send(signed_in(world, "viewer"), "POST", "tokens", {"name": "script", "role": "viewer"})
    return {"Authorization": "Bearer " + made.json()["key"]}


async def until_readings(socket: ClientConnection, count: int) -> tuple[list[dict[str, Any]], str]:
    found: list[dict[str, Any]] = []
    mark = ""
    while len(found) < count or not mark:
        frame = json.loads(await asyncio.wait_for(socket.recv(), 20))
        found += frame.get("readings", [])
        mark = frame.get("after", mark)
    return found, mark


def test_a_program_is_told_readings_and_takes_up_where_it_left_off(
    web: Any,  # noqa: F811
    world: World,
    engine: Any,
    instance: Any,
) -> None:
    header = header_of(world)
    address = f"ws://127.0.0.1:{instance.web_port}/live/readings/?device=pod-0&device=pod-1&field=level"
    world.decoder()
    work_off(engine)

    async def listen() -> None:
        async with connect(address, additional_headers=header) as socket:
            hello = json.loads(await socket.recv())
            assert hello["hello"]["devices"] == 2 and hello["hello"]["units"] == {"level": "m"} and not hello["resync"]
            now = seconds()
            world.arrive((0, now, payload(3)), (2, now, payload(9)), (1, now, payload(4, 20)), (0, now + 1, b"\1"))
            await asyncio.to_thread(work_off, engine)
            found, mark = await until_readings(socket, 2)
        assert [(r["device"], r["values"]) for r in found] == [("pod-0", {"level": 3}), ("pod-1", {"level": 4})]
        assert all(set(r) == {"device", "at", "received_at", "message", "values"} for r in found)
        world.arrive((1, now + 2, payload(5)), (0, now + 3, payload(6)))
        await asyncio.to_thread(work_off, engine)
        async with connect(f"{address}&after={mark}", additional_headers=header) as socket:
            hello = json.loads(await socket.recv())
            assert hello["hello"]["after"] == mark and not hello["resync"]
            found, later = await until_readings(socket, 2)
            assert [(r["device"], r["values"]["level"]) for r in found] == [("pod-1", 5), ("pod-0", 6)]
            world.arrive((1, now + 4, payload(7)))
            await asyncio.to_thread(work_off, engine)
            found, _ = await until_readings(socket, 1)
            assert [r["values"]["level"] for r in found] == [7]
        async with connect(f"{address}&after={later}", additional_headers=header) as socket:
            await socket.recv()
            assert [r["values"]["level"] for r in (await until_readings(socket, 1))[0]] == [7]

    asyncio.run(listen())


def test_a_mark_that_is_too_old_or_never_was_is_said_to_be(
    web: Any,  # noqa: F811
    world: World,
    engine: Any,
    instance: Any,
) -> None:
    header = header_of(world)
    address = f"ws://127.0.0.1:{instance.web_port}/live/readings/?device=pod-0"
    world.decoder()
    world.arrive((0, 0, payload(3)))  # days ago
    work_off(engine)

    async def hello(mark: str) -> dict[str, Any]:
        async with connect(f"{address}&after={mark}", additional_headers=header) as socket:
            found: dict[str, Any] = json.loads(await socket.recv())
            return found

    now = str(world.ask("select min(id) from engine_cursor")[0][0])
    for mark in (str(int(now) - 1), "999999999999"):
        found = asyncio.run(hello(mark))
        assert found["resync"] and found["hello"]["after"] == now
    assert not asyncio.run(hello(now))["resync"]


def test_what_cannot_be_told_is_said_in_words(web: Any, world: World, instance: Any) -> None:  # noqa: F811
    header = header_of(world)
    world.decoder()

    async def listen(query: str) -> tuple[str, int | None]:
        address = f"ws://127.0.0.1:{instance.web_port}/live/readings/?{query}"
        async with connect(address, additional_headers=header) as socket:
            told = json.loads(await socket.recv())
            with pytest.raises(ConnectionClosed) as ended:
                await asyncio.wait_for(socket.recv(), 10)
            return told["error"], ended.value.rcvd.code if ended.value.rcvd else None

    for query, said in {
        "device=nobody": "there is no `nobody` among those asked for",
        "device=pod-0&field=colour": "`colour` is not a field of these devices",
        "device=pod-0&after=x": "after: found `x`, expected a mark",
        "type=pod&" + "&".join(f"field=f{n}" for n in range(17)): "field: found 17, expected 0 to 16 names",
    }.items():
        sentence, code = asyncio.run(listen(query))
        assert said in sentence and code == 4400, query


def test_strangers_and_withdrawn_tokens_hear_nothing(web: Any, world: World, instance: Any) -> None:  # noqa: F811
    header = header_of(world)
    client = signed_in(world, "admin")
    address = f"ws://127.0.0.1:{instance.web_port}/live/readings/"

    async def listen() -> int | None:
        for wrong in ({}, {"Authorization": "Bearer oct_nothing_nothing"}, {"Authorization": "Basic eDp5"}):
            with pytest.raises(InvalidStatus):
                await connect(address, additional_headers=wrong)
        async with connect(address, additional_headers=header) as socket:
            assert "hello" in json.loads(await socket.recv())
            person = world.ask("select id from access_person where username = 'viewer'")[0][0]
            await asyncio.to_thread(send, client, "PATCH", f"people/{person}", {"is_active": False})
            with pytest.raises(ConnectionClosed) as ended:
                while True:
                    await asyncio.wait_for(socket.recv(), 10)
            return ended.value.rcvd.code if ended.value.rcvd else None

    assert asyncio.run(listen()) == 4401


def test_the_same_is_told_as_lines(web: Any, world: World, engine: Any, instance: Any) -> None:  # noqa: F811
    header = header_of(world)
    world.decoder()
    work_off(engine)
    path = "/live/readings/?device=pod-0&field=level"
    assert web.get(path).status_code == 401 and web.post(path).status_code == 405
    assert web.get(path, headers={"Authorization": "Bearer oct_no_thing"}).json()["code"] == "not signed in"
    assert web.head(path, headers=header).status_code == 200
    with web.stream("GET", path, headers=header) as answer:
        lines = answer.iter_lines()
        assert json.loads(next(lines))["hello"]["devices"] == 1
        now = seconds()
        world.arrive((0, now, payload(3)), (0, now + 1, payload(4)))
        work_off(engine)
        found = [reading["values"]["level"] for reading in json.loads(next(lines))["readings"]]
        assert found == [3, 4]
    assert "there is no `x`" in web.get("/live/readings/?device=x", headers=header).json()["error"]


def test_somebody_leaves_while_another_comes(web: Any, world: World, instance: Any) -> None:  # noqa: F811
    header = header_of(world)
    address = f"ws://127.0.0.1:{instance.web_port}/live/readings/?device=pod-0"

    async def come_and_go() -> None:
        async with connect(address, additional_headers=header) as socket:
            assert "hello" in json.loads(await socket.recv())

    async def many() -> None:
        for _ in range(4):
            await asyncio.gather(*(come_and_go() for _ in range(8)))

    asyncio.run(many())


# who is told what -------------------------------------------------------------------
def test_marks_are_read_as_they_were_told() -> None:
    assert mark_of(written((3, 0, 12))) == (3, 0, 12)
    for wrong in ("", "-", "3-", "3--4", "a", "٣", "1" * 19, "-3"):
        assert mark_of(wrong) is None
    assert spread((3, 9), 2) == (3, 9) and spread((3, 9), 1) == (3,) and spread((5,), 3) == (5, 5, 5)


def test_who_falls_behind_is_let_go_and_keeps_its_mark() -> None:
    one = Subscriber(1)
    for _ in range(QUEUE + 1):
        assert not one.behind.is_set()
        one.offer(b"{}")
    assert one.behind.is_set() and one.queue.qsize() == QUEUE  # what it was told stays in order


ACTS = st.tuples(st.sampled_from(["writes", "told", "goes", "comes"]), st.integers(0, 2), st.integers(0, 6))


@given(
    shares=st.integers(1, 3),
    senders=st.lists(st.integers(0, 2), min_size=1, max_size=30),
    acts=st.lists(ACTS, max_size=40),
)
@settings(max_examples=examples(25), suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_each_reading_is_told_once_whatever_the_shares(
    world: World, instance: Any, shares: int, senders: list[int], acts: list[tuple[str, int, int]]
) -> None:
    """Messages are written by shares of the engine that are not equally far; somebody goes and comes back."""
    world.forget()
    pulse = Pulse(instance.folder, "test")
    readings = Readings(pulse, Feed(pulse))
    readings.told = (0,) * shares
    mark = written(readings.told)
    devices = {pod.pk: pod.name for pod in world.pods}
    heard: list[int] = []
    subscriber: Subscriber | None = None
    waiting: dict[int, list[tuple[int, int]]] = {share: [] for share in range(shares)}
    for message, sender in enumerate(senders, 1):
        waiting[world.pods[sender].pk % shares].append((message, world.pods[sender].pk))

    def listens(one: Subscriber) -> str:
        while not one.queue.empty():
            frame = json.loads(one.queue.get_nowait())
            heard.extend(int(reading["message"]) for reading in frame["readings"])
        return written(one.told)

    def writes(own: psycopg.Connection[Any], layout: int, share: int, count: int) -> None:
        done, waiting[share] = waiting[share][:count], waiting[share][count:]
        for message, device in done:
            own.execute(
                "insert into reading_row (device_id, at, layout_id, version_id, message_id, received_at, nums) values"
                " (%s, to_timestamp(%s), %s, 1, %s, now(), '{1}')",
                (device, message, layout, message),
            )
        # An engine goes through the whole stream: past what belongs to others as well.
        place = waiting[share][0][0] - 1 if waiting[share] else len(senders)
        own.execute("update engine_cursor set id = %s where share = %s", (place, share))

    async def comes(back: str) -> Subscriber:
        one = Subscriber(1)
        one.devices, one.fields = devices, frozenset({"level"})
        was, resync = await readings.take_on(one, back)
        assert not resync
        async for rows, place in readings.portions(was, one.told, devices):
            for frame in one.frames(Lot(rows), place):
                one.offer(frame)
        return one

    async def play(own: psycopg.Connection[Any], layout: int) -> None:
        nonlocal mark, subscriber
        for act, share, count in [*acts, *(("writes", share, 99) for share in range(3)), ("comes", 0, 0)]:
            if act == "writes":
                writes(own, layout, share % shares, count)
            elif act == "told" and subscriber is not None:
                await readings.step()
                mark = listens(subscriber)
            elif act == "goes" and subscriber is not None:
                readings.subscribers.discard(subscriber)
                subscriber = None
                await readings.step()
            elif act == "comes" and subscriber is None:
                subscriber = await comes(mark)
                mark = listens(subscriber)
        assert subscriber is not None
        await readings.step()
        listens(subscriber)

    with psycopg.connect(world.url, autocommit=True) as own:
        found = own.execute(
            "insert into layout (fields, digest) values"
            """ ('[{"name": "level", "kind": "number", "codes": {}}]', 'x')"""
            " on conflict (digest) do update set fields = excluded.fields returning id"
        ).fetchone()
        assert found is not None
        for share in range(shares):
            own.execute("insert into engine_cursor (share, shares, id) values (%s, %s, 0)", (share, shares))
        try:
            asyncio.run(play(own, found[0]))
        finally:
            readings.arriving.close()
    assert sorted(heard) == list(range(1, len(senders) + 1))
