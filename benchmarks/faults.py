"""Faults: parts are killed, stopped and held up, at random and two at once, while senders go on.

Every payload is one of a kind and sent once. What a sender was told to be taken must be stored once, and counted once
by
the engine. What a killed broker loses of its own (acknowledged by it, and neither saved nor taken by intake yet) is
counted apart.
"""

from __future__ import annotations

import asyncio
import contextlib
import http.client
import json
import logging
import os
import random
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import gmqtt
import numpy as np
import psycopg

from server.instance.instance import ROOT, Instance
from server.instance.processes import alive
from server.runner import stack

from .instance import say

DECODER = "decoder faulted for bytes, big endian\n  byte 0  number  u32\n  byte 4  level  u16 / 10  m\n"
DEVICES = 4
PER_SECOND = 60  # a device
SAVED_S = 8.0  # the broker saves every five seconds
WHOLE_S = 90.0


@dataclass
class Told:
    """What senders were told: numbers by the way they went, with when."""

    mqtt: dict[int, float] = field(default_factory=dict)
    connected: dict[int, float] = field(default_factory=dict)  # when the connection was begun by which it was told
    http: dict[int, float] = field(default_factory=dict)
    sent: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    def number(self) -> int:
        with self.lock:
            self.sent += 1
            return self.sent


class Senders(threading.Thread):
    """Devices that go on sending whatever happens; none sends a message twice."""

    def __init__(self, instance: Instance, keys: dict[str, str], told: Told) -> None:
        super().__init__(daemon=True)
        self.instance, self.keys, self.told = instance, keys, told
        self.ending = threading.Event()
        self.pausing = threading.Event()

    def run(self) -> None:
        asyncio.run(self.all())

    async def all(self) -> None:
        parts = [self.by_mqtt(name, key) for name, key in self.keys.items()]
        await asyncio.gather(*parts, self.by_http(*next(iter(self.keys.items()))))

    async def by_mqtt(self, name: str, key: str) -> None:
        while not self.ending.is_set():
            began = time.monotonic()
            client = gmqtt.Client(name, clean_session=True)
            client.set_auth_credentials(name, key)
            client.set_config({"reconnect_retries": 0})
            lost = asyncio.Event()
            client.on_disconnect = lambda *_, lost=lost: lost.set()
            waiting: dict[int, int] = {}
            handler = client._package_handler
            handle = handler._handle_puback_packet

            def acknowledged(
                command: int,
                packet: bytes,
                waiting: dict[int, int] = waiting,
                handle: Any = handle,
                began: float = began,
            ) -> Any:
                number = waiting.pop(struct.unpack("!H", packet[:2])[0], None)
                if number is not None and (len(packet) < 3 or packet[2] < 0x80):
                    self.told.connected[number] = began
                    self.told.mqtt[number] = time.monotonic()
                return handle(command, packet)

            handler._handle_puback_packet = acknowledged
            try:
                await asyncio.wait_for(
                    client.connect(
                        "127.0.0.1", self.instance.broker_port, version=gmqtt.constants.MQTTv50, keepalive=20
                    ),
                    5,
                )
            except (OSError, TimeoutError, gmqtt.mqtt.handler.MQTTConnectError):
                await asyncio.sleep(0.2)
                continue
            while not lost.is_set() and not self.ending.is_set():
                if self.pausing.is_set() or len(waiting) > 500:
                    await asyncio.sleep(0.02)
                    continue
                number = self.told.number()
                mid, _ = client._connection.publish(gmqtt.Message(f"up/{name}", payload(number), qos=1))
                waiting[mid] = number
                await asyncio.sleep(1 / PER_SECOND)
            with contextlib.suppress(Exception):
                await client.disconnect()

    async def by_http(self, name: str, key: str) -> None:
        def post(number: int) -> None:
            connection = http.client.HTTPConnection("127.0.0.1", self.instance.web_port, timeout=40)
            try:
                connection.request("POST", "/in/", payload(number), {"Authorization": f"Bearer {key}"})
                if connection.getresponse().status == 202:
                    self.told.http[number] = time.monotonic()
            except (OSError, http.client.HTTPException):
                time.sleep(0.05)
            finally:
                connection.close()

        while not self.ending.is_set():
            if not self.pausing.is_set():
                await asyncio.to_thread(post, self.told.number())
            await asyncio.sleep(0.03)


def payload(number: int) -> bytes:
    return struct.pack(">IH", number, number % 1000)


# what is done to the parts --------------------------------------------------------
class Faults:
    """Where there are several engines, one of them is meant each time."""

    def __init__(self, instance: Instance, random_: random.Random) -> None:
        self.instance, self.random = instance, random_
        self.broker_kills: list[float] = []

    def hit(self, name: str, how: signal.Signals) -> None:
        if name == "engine":
            name = self.random.choice(self.instance.engine_names)
        pid = alive(self.instance.folder, name)
        if pid is None:
            return
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, how)
        if name == "broker" and how == signal.SIGKILL:
            self.broker_kills.append(time.monotonic())

    def held_up(self, name: str, seconds: float, then: signal.Signals) -> None:
        """Stands still for a while, then goes on, or is killed as it stands."""
        name = self.random.choice(self.instance.engine_names) if name == "engine" else name
        self.hit(name, signal.SIGSTOP)
        time.sleep(seconds)
        if then == signal.SIGKILL:
            self.hit(name, signal.SIGKILL)
        self.hit(name, signal.SIGCONT)

    def again(self, part: str) -> None:
        """Decoding again under way, and a part killed in it."""
        from django.db import connection

        from server.records.again.models import DecodeAgain
        from server.records.fleet.models import DeviceType

        job = DecodeAgain.objects.create(
            type=DeviceType.objects.get(key="faulted"), start="2000-01-01T00:00Z", end="2100-01-01T00:00Z"
        )
        for _ in range(100):
            job.refresh_from_db()
            if job.state != "waiting":
                break
            time.sleep(0.02)
        connection.close()
        self.hit(part, signal.SIGKILL)

    def queue_given_again(self) -> None:
        """Intake is away until the broker has saved its queue, comes back, takes it, and then the broker is killed."""
        self.hit("intake", signal.SIGSTOP)
        time.sleep(7)
        self.hit("intake", signal.SIGCONT)
        time.sleep(self.random.uniform(0.3, 1.5))
        self.hit("broker", signal.SIGKILL)

    def one(self) -> str:
        """A fault, by a name."""
        kill, stop = signal.SIGKILL, signal.SIGTERM
        parts = ["engine", "again", "intake", "web", "keeper", "guard", "postgres", "broker"]
        choices: list[tuple[str, Callable[[], None]]] = [
            *((f"kill {n}", lambda n=n: self.hit(n, kill)) for n in parts),  # type: ignore[misc]
            *((f"stop {n}", lambda n=n: self.hit(n, stop)) for n in ("engine", "intake", "web", "broker")),  # type: ignore[misc]
            ("stop postgres", lambda: self.hit("postgres", signal.SIGINT)),
            *((f"kill {n} while messages are decoded again", lambda n=n: self.again(n)) for n in ("again", "engine")),  # type: ignore[misc]
            ("kill the broker while intake takes a queue that was saved", self.queue_given_again),
            *(
                (f"{n} stands still", lambda n=n: self.held_up(n, 4, signal.SIGCONT))
                for n in ("engine", "intake", "web")
            ),  # type: ignore[misc]
            *((f"{n} stands still and is killed", lambda n=n: self.held_up(n, 4, kill)) for n in ("engine", "intake")),  # type: ignore[misc]
        ]
        name, act = self.random.choice(choices)
        kind = self.random.random()
        if kind < 0.25:
            other, second = self.random.choice(choices)
            act()
            second()
            return f"{name}, {other} at once"
        if kind < 0.4:
            other, second = self.random.choice(choices)
            act()
            time.sleep(self.random.uniform(0.05, 1.5))
            second()
            return f"{name}, {other} while it is down"
        act()
        return name


def whole(instance: Instance, telling: bool = False) -> bool:
    """Whether every part says that it works, and nothing waits for long."""
    try:
        connection = http.client.HTTPConnection("127.0.0.1", instance.web_port, timeout=5)
        connection.request("GET", "/healthz")
        answer = connection.getresponse()
        body = json.loads(answer.read())
        connection.close()
    except (OSError, ValueError, http.client.HTTPException):
        return False
    if telling:
        say(json.dumps(body))
    return answer.status == 200 and (body["stream"]["oldest_s"] or 0) < 3


def wait_whole(instance: Instance, taken: Callable[[], int | None]) -> float:
    """Seconds until every part works and messages come through again, all the way to the engine."""
    began = time.monotonic()
    while not whole(instance):
        if time.monotonic() - began > WHOLE_S:
            whole(instance, True)
            raise RuntimeError(f"not whole after {WHOLE_S:.0f} s; logs are in {instance.folder / 'log'}")
        time.sleep(0.1)
    before: int | None = None
    while True:
        now = taken()
        if now is not None and before is not None and now > before:
            return time.monotonic() - began
        before = now if before is None else before
        if time.monotonic() - began > WHOLE_S:
            raise RuntimeError(f"nothing comes through after {WHOLE_S:.0f} s; logs are in {instance.folder / 'log'}")
        time.sleep(0.05)


def measure(rounds: int, seed: int = 1) -> dict[str, Any]:
    """So many rounds of faults on an instance of its own."""
    folder = Path(tempfile.mkdtemp(prefix="oculum-faults-", dir="/var/tmp"))
    folder.chmod(0o711)
    port = stack.free_ports()
    for name in ("OCULUM_DATABASE_PORT", "OCULUM_BROKER_PORT", "OCULUM_DATABASE"):
        os.environ.pop(name, None)
    os.environ.update(
        {
            "OCULUM_DATA": str(folder),
            "OCULUM_PORT": str(port),
            "OCULUM_MESSAGES_PER_MINUTE": "1000000",
            "DJANGO_SETTINGS_MODULE": "server.settings",
        }
    )
    command = [sys.executable, "-m", "server.runner"]
    place = ["--port", str(port), "--data", str(folder)]
    good = False
    try:
        say("starting an instance of its own")
        subprocess.run([*command, "up", "--empty", "--detach", *place], cwd=ROOT, check=True, stdout=sys.stderr)
        found = _measured(Instance.from_environment(), rounds, random.Random(seed))
        good = found["figures"]["lost"] == found["figures"]["doubled"] == found["figures"]["engine_differs"] == 0
        return found
    finally:
        subprocess.run([*command, "down", *place], cwd=ROOT, check=False, stdout=sys.stderr, stderr=sys.stderr)
        if good:
            shutil.rmtree(folder, ignore_errors=True)
        else:
            say(f"what is left to look at: {folder}")


def _keys() -> dict[str, str]:
    import django

    django.setup()
    from django.db import connection, transaction

    from server.records.definitions.models import Definition
    from server.records.fleet.models import Device, DeviceType
    from server.rules.publishing import publish
    from server.rules.registering import give_key, registry_changed, wait_for_broker

    with transaction.atomic():
        kind = DeviceType.objects.create(key="faulted", title="Faulted", cadence_s=60)
        devices = [Device.objects.create(name=f"faulted-{i}", title=f"Faulted {i}", type=kind) for i in range(DEVICES)]
        keys = {device.name: give_key(device) for device in devices}
        publish(Definition.objects.create(kind="decoder", name="faulted", type=kind), DECODER, None)
        registry_changed(accounts=True)
    wait_for_broker(20)
    connection.close()
    return keys


def _measured(instance: Instance, rounds: int, random_: random.Random) -> dict[str, Any]:
    told = Told()
    senders = Senders(instance, _keys(), told)
    faults = Faults(instance, random_)

    def taken() -> int | None:
        try:
            with psycopg.connect(instance.database_url(), connect_timeout=3) as connection:
                row = connection.execute("select coalesce(sum(messages), 0) from engine_cursor").fetchone()
            return int(row[0]) if row else 0
        except psycopg.Error:
            return None

    for name in ("gmqtt", "asyncio"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    senders.start()
    wait_whole(instance, taken)
    took = []
    for number in range(1, rounds + 1):
        name = faults.one()
        seconds = wait_whole(instance, taken)
        took.append(seconds)
        say(f"round {number}: {name}: whole after {seconds:.1f} s, {len(told.mqtt) + len(told.http):,} acknowledged")
        time.sleep(random_.uniform(0.2, 1.5))
    senders.pausing.set()
    time.sleep(1)
    senders.ending.set()
    senders.join(60)
    return result(instance, told, faults, took)


def result(instance: Instance, told: Told, faults: Faults, took: list[float]) -> dict[str, Any]:
    until = time.monotonic() + WHOLE_S
    before, stored = -1, 0
    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        while time.monotonic() < until:
            row = connection.execute(
                "select count(*), (select count(*) from message where id > (select min(id) from engine_cursor))"
                " from message"
            ).fetchone()
            assert row is not None
            stored, waiting = row
            if stored == before and not waiting and whole(instance):
                break
            before = stored
            time.sleep(1)
        numbers = [struct.unpack(">I", bytes(r[0])[:4])[0] for r in connection.execute("select payload from message")]
        engine = connection.execute("select sum(messages)::bigint from engine_cursor").fetchone()
        activity = connection.execute("select coalesce(sum(messages), 0)::bigint from activity").fetchone()
        read = connection.execute(
            "select count(*) from (select nums[1] from reading_row union all select nums[1] from replaced_reading) x"
        ).fetchone()
        distinct = connection.execute("select count(distinct nums[1]) from reading_row").fetchone()
    assert engine and activity and read and distinct
    times = Counter(numbers)
    acknowledged = told.mqtt | told.http
    gone = [n for n in acknowledged if n not in times]
    by_broker = [n for n in gone if n in told.mqtt and n not in told.http and _broker_lost(told, n, faults)]
    for n in set(gone) - set(by_broker):
        way, at = ("http", told.http[n]) if n in told.http else ("mqtt", told.mqtt[n])
        after = ", ".join(f"{at - kill:.2f} s" for kill in faults.broker_kills)
        say(f"lost: number {n} by {way}; after kills of the broker: {after or 'there was none'}")
    figures = {
        "rounds": len(took),
        "acknowledged": len(acknowledged),
        "stored": len(times),
        "doubled": sum(count - 1 for count in times.values()),
        "lost": len(gone) - len(by_broker),
        "broker_lost": len(by_broker),
        "broker_kills": len(faults.broker_kills),
        # What the engine counted, told by hour, and read, against what is stored.
        "engine_differs": abs(engine[0] - len(numbers)) + abs(activity[0] - len(numbers)) + len(times) - distinct[0],
        "whole_p50_s": float(np.percentile(took, 50)) if took else 0.0,
        "whole_max_s": max(took, default=0.0),
    }
    return {"figures": figures, "ratios": {}}


def _broker_lost(told: Told, number: int, faults: Faults) -> bool:
    """Whether a broker that was killed had told it, however late that was read, after it saved the last time."""
    kills = [kill for kill in faults.broker_kills if told.connected[number] <= kill]
    return bool(kills) and min(kills) - told.mqtt[number] <= SAVED_S
