"""Ingest through the real broker with QoS 1: what is sent, what is committed, how long it takes; at full speed, and at
half of that.

The ceilings of the same run: how fast a bare client receives from this broker, and how fast a bare
COPY writes to this database.
"""

from __future__ import annotations

import asyncio
import logging
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import gmqtt
import numpy as np
import psycopg

from .instance import own_database, say

SENDERS = 4
WINDOW = 2000
PAYLOAD = bytes.fromhex("10047187fc34a024ba164cabc0e698e0580000")


async def client(name: str, user: str, key: str, port: int, **options: Any) -> gmqtt.Client:
    made = gmqtt.Client(name, clean_session=True, **options)
    made.set_auth_credentials(user, key)
    await made.connect("127.0.0.1", port, version=gmqtt.constants.MQTTv50, keepalive=60)
    return made


async def send(
    keys: dict[str, str], port: int, seconds: float, stamp: bool, rate: float | None = None, high: int = 0
) -> int:
    """Publishes as fast as acknowledgements come, at most WINDOW open a sender, or `rate` messages a second. Every
    `high`th has a first byte of 1. Returns how many were acknowledged.
    """
    sent = 0
    begun = time.monotonic()
    until = begun + seconds

    async def one(name: str, key: str) -> None:
        nonlocal sent
        mine = await client(f"bench-{name}", name, key, port)
        open_ = 0
        room = asyncio.Event()

        def acknowledged(*_: Any) -> None:
            nonlocal open_, sent
            open_ -= 1
            sent += 1
            room.set()

        handler = mine._package_handler
        handle = handler._handle_puback_packet

        def on_puback(*args: Any) -> Any:
            acknowledged()
            return handle(*args)

        handler._handle_puback_packet = on_puback
        number = 0
        while time.monotonic() < until:
            while open_ >= WINDOW:
                room.clear()
                await room.wait()
            while rate is not None and number >= (time.monotonic() - begun) * rate / len(keys):
                await asyncio.sleep(0.002)
            number += 1
            body = b"\x01" + PAYLOAD[1:] if high and number % high == 0 else PAYLOAD
            mark = time.time_ns().to_bytes(8, "big") + number.to_bytes(4, "big") if stamp else b""
            mine.publish(f"up/{name}", mark + body, qos=1)
            open_ += 1
            if number % 50 == 0:
                await asyncio.sleep(0)
        while open_:
            room.clear()
            await asyncio.wait_for(room.wait(), 30)
        await mine.disconnect()

    await asyncio.gather(*(one(name, key) for name, key in keys.items()))
    return sent


async def receive_only(keys: dict[str, str], port: int, seconds: float, instance: Any) -> float:
    """Messages a second that a bare client receives and acknowledges, while the same senders send."""
    from server.intake.accounts import INTAKE, intake_password

    count, first, last = 0, 0.0, 0.0

    def on_message(*_: Any) -> int:
        nonlocal count, first, last
        last = time.perf_counter()
        first = first or last
        count += 1
        return 0

    mine = gmqtt.Client("bench-receiver", clean_session=True, optimistic_acknowledgement=True, receive_maximum=4000)
    mine.set_auth_credentials(INTAKE, intake_password(instance))
    mine.on_message = on_message
    ready = asyncio.Event()
    mine.on_subscribe = lambda *_: ready.set()
    await mine.connect("127.0.0.1", port, version=gmqtt.constants.MQTTv50, keepalive=60)
    mine.subscribe("up/#", qos=1)
    await ready.wait()
    await send(keys, port, seconds, False)
    before = -1
    while before != count:
        before = count
        await asyncio.sleep(0.2)
    await mine.disconnect()
    return count / max(last - first, 1e-6)


def copy_only(url: str, seconds: float) -> float:
    """Messages a second that one COPY a thousand messages, each committed, writes into a table like the inbox."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("create table bench_copy (like message including defaults including indexes)")
        row = ("2000-01-01T00:00:00Z", 1, None, None, 1, "up/bench", bytes(31))
        count, began = 0, time.perf_counter()
        while time.perf_counter() - began < seconds:
            with (
                connection.transaction(),
                connection.cursor() as cursor,
                cursor.copy(
                    "copy bench_copy (received_at, device_id, unknown_id, via_id, channel, topic, payload) from stdin"
                ) as copy,
            ):
                for _ in range(1000):
                    copy.write_row(row)
            count += 1000
        found = count / (time.perf_counter() - began)
        connection.execute("drop table bench_copy")
    return found


@contextmanager
def intake_running(ceilings: float = 0) -> Iterator[tuple[Any, dict[str, str], list[float]]]:
    """A database, a broker and intake; devices with their keys; the ceilings, where seconds are given for them."""
    say("starting a database and a broker of its own")
    with own_database() as instance:
        from django.conf import settings
        from django.db import connection, transaction

        from server.intake.accounts import Account, Allowed, reload_broker, write_accounts
        from server.intake.senders import QUERY
        from server.records.fleet.models import Device, DeviceType
        from server.rules.registering import give_key, registry_changed
        from server.runner import stack

        logging.getLogger("gmqtt").setLevel(logging.ERROR)
        settings.BYTES_PER_MINUTE = 10**12
        with transaction.atomic():
            kind = DeviceType.objects.create(key="bench", title="Bench")
            keys = {}
            for i in range(SENDERS):
                device = Device.objects.create(name=f"bench-{i}", title=f"Bench {i}", type=kind)
                keys[device.name] = give_key(device)
            registry_changed(accounts=True)
        with connection.cursor() as cursor:
            cursor.execute("select message_day((now() at time zone 'UTC')::date + d) from generate_series(-1, 1) d")
            cursor.execute(QUERY)
            accounts = [Account(name, hashed) for _, name, _, _, _, hashed, _ in cursor.fetchall()]
        connection.close()
        stack.start_broker(instance)
        write_accounts(instance, accounts, Allowed(10**9, 10**12))
        reload_broker(instance)
        found: list[float] = []
        if ceilings:
            say("measuring the ceilings: receiving only, copying only")
            found.append(asyncio.run(receive_only(keys, instance.broker_port, ceilings * 0.6, instance)))
            found.append(copy_only(instance.database_url(), ceilings * 0.4))
        with process(instance, "server.intake.mqtt", "intake"):
            time.sleep(0.5)  # its subscription
            yield instance, keys, found


@contextmanager
def process(instance: Any, module: str, name: str) -> Iterator[None]:
    """One of Oculum's processes, ready."""
    log = instance.folder / "log" / f"{name}.log"
    with log.open("wb") as out:
        child = subprocess.Popen([sys.executable, "-m", module], env=instance.environment(), stdout=out, stderr=out)
    try:
        until = time.monotonic() + 60
        while not (instance.folder / "run" / f"{name}.ready").exists():
            if child.poll() is not None or time.monotonic() > until:
                raise RuntimeError(log.read_text())
            time.sleep(0.05)
        yield
    finally:
        child.terminate()
        child.wait()


def measure(seconds: float) -> dict[str, Any]:
    with intake_running(seconds * 0.4) as (instance, keys, (receiving, copying)):
        say("measuring ingest: broker, intake, inbox")
        url = instance.database_url()
        sent = asyncio.run(send(keys, instance.broker_port, seconds * 0.4, True))
        found, last = result(url, sent, 0)
        say("the same at half the rate")
        sent = asyncio.run(send(keys, instance.broker_port, seconds * 0.2, True, found["messages_per_s"] / 2))
        half, _ = result(url, sent, last)
        figures = found | {
            "delay_p99_ms_at_half": half["delay_p99_ms"],
            "messages_per_s_at_half": half["messages_per_s"],
            "receive_only_per_s": receiving,
            "copy_only_per_s": copying,
        }
        for lost in ("lost", "doubled"):
            figures[lost] += half[lost]
        return {
            "figures": figures,
            "ratios": {"to_lower_ceiling": found["messages_per_s"] / min(receiving, copying)},
        }


def raised(seconds: float) -> tuple[float, float]:
    """Intake's full rate; and at half of it, with the engine at work: from sending a payload to the row of the alarm
    that it raises, the 99th percentile, ms.
    """
    with intake_running() as (instance, keys, _):
        from server.records.definitions.models import Definition
        from server.records.fleet.models import DeviceType
        from server.rules.publishing import publish

        url = instance.database_url()
        sent = asyncio.run(send(keys, instance.broker_port, seconds * 0.3, True))
        rate = result(url, sent, 0)[0]["messages_per_s"]
        kind = DeviceType.objects.get(key="bench")
        decoder = Definition.objects.create(kind="decoder", name="bench", type=kind)
        publish(
            decoder, "decoder bench for bytes, big endian\n  byte 12  high  u8\n  byte 13  level  u16 / 10  m\n", None
        )
        condition = Definition.objects.create(kind="condition", name="high", type=kind)
        publish(condition, 'condition "high" priority high\n  on bench\n  raise when high = 1\n', None)
        with process(instance, "server.runner.engine", "engine"), psycopg.connect(url, autocommit=True) as watching:
            while watching.execute("select messages from engine_cursor").fetchone() != (sent,):
                time.sleep(0.1)
            over, seen = threading.Event(), {}

            def watch() -> None:
                place = 0
                while not over.is_set():
                    for ident, message in watching.execute(
                        "select id, message_id from alarms_journalentry where id > %s and what = 'raised' order by id",
                        (place,),
                    ).fetchall():
                        place, seen[message] = ident, time.time_ns()
                    time.sleep(0.002)

            watcher = threading.Thread(target=watch)
            watcher.start()
            asyncio.run(send(keys, instance.broker_port, seconds * 0.7, True, rate / 2, 200))
            time.sleep(2)
            over.set()
            watcher.join()
            born: dict[int, bytes] = dict(
                watching.execute("select id, payload from message where id = any(%s)", (list(seen),)).fetchall()
            )
        delays = [(at - int.from_bytes(bytes(born[message])[:8], "big")) / 1e6 for message, at in seen.items()]
        return rate, float(np.percentile(delays, 99))


def result(url: str, sent: int, after: int) -> tuple[dict[str, Any], int]:
    """What became of messages numbered behind `after`, and the last number."""
    with psycopg.connect(url, autocommit=True) as connection:
        committed, before = -1, -2
        until = time.monotonic() + 60
        while committed != before or (committed < sent and time.monotonic() < until):
            before = committed
            time.sleep(0.3)
            row = connection.execute("select count(*) from message where id > %s", (after,)).fetchone()
            committed = int(row[0]) if row else 0
        rows = connection.execute(
            "select payload, (extract(epoch from received_at) * 1000000000)::bigint, id from message where id > %s",
            (after,),
        ).fetchall()
    marks = [bytes(p)[:12] for p, _, _ in rows]
    doubled = len(marks) - len(set(marks))
    born = np.array([int.from_bytes(m[:8], "big") for m in marks], np.int64)
    arrived = np.array([r[1] for r in rows], np.int64)
    delays = (arrived - born) / 1e6
    took = (arrived.max() - born.min()) / 1e9
    return {
        "sent": sent,
        "committed": committed,
        "lost": max(sent - len(set(marks)), 0),
        "doubled": doubled,
        "messages_per_s": len(set(marks)) / took,
        "delay_p50_ms": float(np.percentile(delays, 50)),
        "delay_p99_ms": float(np.percentile(delays, 99)),
    }, max(r[2] for r in rows)
