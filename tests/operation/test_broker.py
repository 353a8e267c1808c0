"""The broker's side of the promise: nobody is somebody else there, nothing that was acknowledged is lost or doubled."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import subprocess
import time
from typing import Any

import gmqtt
import pytest

from server.instance.processes import alive
from server.records.fleet.models import Device, DeviceType
from server.rules.registering import give_key, registry_changed, wait_for_broker
from tests.instance import start, until

from .conftest import Running


def device(name: str, **options: Any) -> str:
    """A registered device's key; the broker knows it."""
    from django.db import transaction

    with transaction.atomic():
        kind, _ = DeviceType.objects.get_or_create(key="pod", defaults={"title": "Pod", "cadence_s": 60})
        made = Device.objects.create(name=name, title=name, type=kind, **options)
        key = give_key(made)
        registry_changed(accounts=True)
    wait_for_broker(15)
    return key


class Sender:
    """A device at the broker that counts what is acknowledged to it, and sends nothing twice."""

    def __init__(self, running: Running, name: str, key: str, client_id: str | None = None) -> None:
        self.running, self.name, self.key = running, name, key
        self.client_id = client_id or name
        self.acknowledged: set[bytes] = set()
        self.closed = asyncio.Event()

    async def __aenter__(self) -> Sender:
        self.client = gmqtt.Client(self.client_id, clean_session=True)
        self.client.set_auth_credentials(self.name, self.key)
        self.client.set_config({"reconnect_retries": 0})
        self.client.on_disconnect = lambda *_: self.closed.set()
        self.waiting: dict[int, bytes] = {}
        handler = self.client._package_handler
        handle = handler._handle_puback_packet

        def on_puback(command: int, packet: bytes) -> Any:
            body = self.waiting.pop(int.from_bytes(packet[:2], "big"), None)
            if body is not None:
                self.acknowledged.add(body)
            return handle(command, packet)

        handler._handle_puback_packet = on_puback
        port = self.running.instance.broker_port
        await self.client.connect("127.0.0.1", port, version=gmqtt.constants.MQTTv50)
        return self

    async def __aexit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):
            await self.client.disconnect()

    def send(self, body: bytes) -> None:
        mid, _ = self.client._connection.publish(gmqtt.Message(f"up/{self.name}", body, qos=1))
        self.waiting[mid] = body

    async def all_acknowledged(self, seconds: float = 20) -> None:
        async with asyncio.timeout(seconds):
            while self.waiting:
                await asyncio.sleep(0.01)


def bodies(running: Running, name: str) -> list[bytes]:
    query = "select payload from message m join fleet_device d on d.id = m.device_id where d.name = %s order by m.id"
    return [bytes(row[0]) for row in running.ask(query, name)]


def test_a_device_is_its_account_whatever_client_id_it_gives(running: Running) -> None:
    """It connects again and again by intake's name, while another one sends: nothing of that is lost."""
    thief, victim = device("thief"), device("victim")

    async def go() -> set[bytes]:
        async with Sender(running, "victim", victim) as sender:
            for n in range(100):
                if n % 10 == 0:
                    async with Sender(running, "thief", thief, "oculum-intake"):
                        pass
                sender.send(b"%d" % n)
                await asyncio.sleep(0)
            await sender.all_acknowledged()
            return sender.acknowledged

    sent = asyncio.run(go())
    assert len(sent) == 100
    until(lambda: set(bodies(running, "victim")) == sent, "all that was acknowledged")


def test_a_device_by_the_name_of_an_account_of_oculums_own_changes_nothing(running: Running) -> None:
    """As an older version let it be registered: intake goes on, also started anew, and the key opens nothing."""
    key = device("oculum-intake")
    honest = device("honest")
    pid = running.hit("intake", signal.SIGKILL)
    running.back("intake", pid)
    command = ["mosquitto_sub", "-h", "127.0.0.1", "-p", str(running.instance.broker_port), "-u", "oculum-intake"]
    heard = subprocess.run(
        [*command, "-P", key, "-V", "5", "-t", "up/#", "-E"], capture_output=True, text=True, timeout=20, check=False
    )
    assert heard.returncode != 0 and "Subscribed" not in heard.stdout

    async def go() -> None:
        async with Sender(running, "honest", honest) as sender:
            sender.send(b"here")
            await sender.all_acknowledged()

    asyncio.run(go())
    until(lambda: bodies(running, "honest") == [b"here"], "the message")


def test_secrets_that_are_others_heal_by_themselves(running: Running) -> None:
    """Intake's key is another one than the broker knows, as after secrets were restored late."""
    from server.rules.keys import broker_hash

    key = device("patient")
    running.instance.keep_private("broker.json", {"key": "restored", "hash": broker_hash("restored")})
    pid = running.hit("intake", signal.SIGKILL)
    running.back("intake", pid)

    async def go() -> None:
        async with Sender(running, "patient", key) as sender:
            sender.send(b"healed")
            await sender.all_acknowledged()

    asyncio.run(go())
    until(lambda: bodies(running, "patient") == [b"healed"], "the message")


def test_a_device_that_sends_too_much_is_refused_before_the_acknowledgement(running: Running) -> None:
    """Whatever is acknowledged is stored; the rest is not acknowledged, and counted as turned away."""
    key = device("flood")

    async def go() -> set[bytes]:
        async with Sender(running, "flood", key) as sender:
            for n in range(600):
                sender.send(b"%d" % n)
                if n % 20 == 0:
                    await asyncio.sleep(0.002)
            await asyncio.wait_for(sender.closed.wait(), 10)
            return sender.acknowledged

    acknowledged = asyncio.run(go())
    assert 150 <= len(acknowledged) <= 260, len(acknowledged)
    until(lambda: set(bodies(running, "flood")) >= acknowledged, "all that was acknowledged")
    counted = "select coalesce(sum(count), 0) from intake_refusal where reason like %s"
    until(lambda: running.ask(counted, "more messages a minute%")[0][0] >= 1, "the count")


def test_nothing_that_was_acknowledged_is_dropped_for_a_rate_after_a_standstill(running: Running) -> None:
    """Two minutes' worth of messages wait at the broker while intake stands still, and come all at once."""
    key = device("steady")
    pid = running.hit("intake", signal.SIGSTOP)

    async def go() -> set[bytes]:
        async with Sender(running, "steady", key) as sender:
            for n in range(190):
                sender.send(b"%d" % n)
            await sender.all_acknowledged()
            return sender.acknowledged

    sent = asyncio.run(go())
    assert len(sent) == 190 and not bodies(running, "steady")
    os.kill(pid, signal.SIGCONT)
    until(lambda: len(bodies(running, "steady")) == 190, "all of them")
    assert bodies(running, "steady") == sorted(sent, key=int), "in their order"


def test_what_is_acknowledged_while_broker_and_intake_come_back_is_not_dropped(running: Running) -> None:
    """Intake's session stands in the broker again before intake does, and a device sends without a pause."""
    key = device("restless")
    own = Device.objects.get(name="restless")
    behind = [Device(name=f"behind-{n}", title="Behind", type=own.type, gateway=own) for n in range(400)]
    Device.objects.bulk_create(behind)  # it may send as much as all of them
    registry_changed(accounts=True)
    assert wait_for_broker(15)
    acknowledged: set[bytes] = set()
    numbers = iter(range(1_000_000))

    async def send(until_back: asyncio.Task[None]) -> None:
        sender = Sender(running, "restless", key)
        try:
            async with sender:
                while not until_back.done() and not sender.closed.is_set():
                    for _ in range(3):
                        sender.send(b"%d" % next(numbers))
                    await asyncio.sleep(0.005)
                if not sender.closed.is_set():
                    await sender.all_acknowledged(60)
        except (OSError, gmqtt.mqtt.handler.MQTTConnectError):
            await asyncio.sleep(0.02)  # the broker does not listen yet
        acknowledged.update(sender.acknowledged)

    async def go() -> None:
        for _ in range(4):
            broker, intake = running.hit("broker", signal.SIGTERM), running.hit("intake", signal.SIGKILL)

            def back(broker: int = broker, intake: int = intake) -> None:
                running.back("broker", broker)
                running.back("intake", intake)

            coming = asyncio.create_task(asyncio.to_thread(back))
            while not coming.done():
                if alive(running.folder, "broker") in (None, broker):
                    await asyncio.sleep(0.01)
                else:
                    await send(coming)
            await coming

    asyncio.run(go())
    assert len(acknowledged) > 500
    until(lambda: acknowledged <= set(bodies(running, "restless")), "all that was acknowledged", 60)


def test_a_queue_that_a_killed_broker_gives_again_is_taken_once(running: Running) -> None:
    """Queued while intake was away, saved, taken and acknowledged; then the broker is killed and gives them again."""
    key = device("twice")
    saved = running.folder / "mosquitto" / "mosquitto.db"
    pid = running.hit("intake", signal.SIGSTOP)

    async def go() -> set[bytes]:
        async with Sender(running, "twice", key) as sender:
            for n in range(150):
                sender.send(b"%d" % n)
            await sender.all_acknowledged()
            return sender.acknowledged

    sent = asyncio.run(go())
    now = time.time()
    until(lambda: saved.exists() and saved.stat().st_mtime > now, "the broker to save its queue")
    os.kill(pid, signal.SIGCONT)
    until(lambda: len(bodies(running, "twice")) == 150, "the queue to be taken")
    running.back("broker", running.hit("broker", signal.SIGKILL))
    after = device("after-twice")

    async def last() -> None:
        async with Sender(running, "after-twice", after) as sender:
            sender.send(b"last")
            await sender.all_acknowledged()

    asyncio.run(last())
    until(lambda: bodies(running, "after-twice") == [b"last"], "the queue to run empty")
    assert sorted(bodies(running, "twice")) == sorted(sent)


def test_after_a_restart_of_the_database_intake_hears_of_changes_of_the_register(running: Running) -> None:
    key = device("leaving")
    for how in (signal.SIGINT, signal.SIGKILL):
        pid = running.hit("postgres", how)
        running.back("postgres", pid)
        from django.db import connections

        connections.close_all()
        name = f"joining-{how.name.lower()}"
        fresh = device(name)
        assert wait_for_broker(10)

        async def go(name: str = name, fresh: str = fresh) -> None:
            async with Sender(running, name, fresh) as sender:
                sender.send(b"new")
                await sender.all_acknowledged()

        asyncio.run(go())
        until(lambda name=name: bodies(running, name) == [b"new"], "the new device")  # type: ignore[misc]
    from django.db import transaction

    with transaction.atomic():
        Device.objects.filter(name="leaving").update(phase="retired")
        registry_changed(accounts=True)
    assert wait_for_broker(10)

    async def refused() -> None:
        async with Sender(running, "leaving", key) as sender:
            sender.send(b"retired")
            await sender.all_acknowledged(3)

    with pytest.raises((gmqtt.mqtt.handler.MQTTConnectError, TimeoutError, OSError)):
        asyncio.run(refused())
    assert not bodies(running, "leaving")


def test_intake_that_starts_while_the_database_is_down_takes_nothing_and_says_so(running: Running) -> None:
    """What is published meanwhile stays the broker's, and comes when the database is there."""
    from server.instance.processes import end
    from server.instance.pulse import life
    from server.runner.keeper import stopping
    from server.runner.stack import launch_postgres

    key = device("early")
    stopping(running.instance).touch()  # nobody starts anything again
    for name in ("guard", "keeper"):
        running.hit(name, signal.SIGKILL)
    end(running.folder, "intake")
    end(running.folder, "postgres", signal.SIGINT, 30)
    child = start(running.instance, "server.intake.mqtt")
    try:
        until(
            lambda: (
                (said := life(running.folder, "intake"))
                and said.pid == child.pid
                and "the database does not answer" in said.words
            ),
            "intake to say what is wrong",
        )

        async def go() -> None:
            async with Sender(running, "early", key) as sender:
                sender.send(b"early")
                await sender.all_acknowledged()

        asyncio.run(go())
        assert child.poll() is None
        launch_postgres(running.instance)
        until(lambda: _quietly(lambda: bodies(running, "early")) == [b"early"], "the message")
        until(lambda: (now := life(running.folder, "intake")) and not now.troubles, "the trouble to be over")
    finally:
        child.terminate()
        child.wait()
        running.up()


def _quietly(work: Any) -> Any:
    import psycopg

    try:
        return work()
    except psycopg.Error:
        return None
