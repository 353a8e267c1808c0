"""The process that listens at the broker: arrivals to the inbox, acknowledged after their commit."""

from __future__ import annotations

import asyncio
import logging
import signal
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

import gmqtt
import psycopg
from django.conf import settings

from server.instance.processes import Lock
from server.instance.pulse import Pulse
from server.intake.accounts import INTAKE, REFUSED, TAKEN, Allowed, intake_password, reload_broker, write_accounts
from server.intake.inbox import Arrival, Inbox, Mark, headers_of, storable
from server.intake.senders import Senders
from server.store.messages import MQTT
from server.store.notices import Connection, follow

log = logging.getLogger("oculum.intake")
IN_FLIGHT = 4000
PUBACK = struct.Struct("!BBH")
LISTENING_S = 3
PATIENCE_S = 30  # without the broker; then the process ends, and is started anew
REASONS = [
    "more messages a minute than allowed",
    "more than the broker can keep for intake",
    "published to a topic that is not its own",
]


def claimed_name(topic: str) -> tuple[str, str | None] | None:
    """`up/NAME...` is NAME itself, `up/NAME/for/OTHER...` NAME speaking for OTHER; None: neither."""
    parts = topic.split("/")
    if len(parts) < 2 or parts[0] != "up":
        return None
    if len(parts) >= 4 and parts[2] == "for":
        return parts[1], storable(parts[3][:63])
    return parts[1], None


def thorough(client: gmqtt.Client) -> gmqtt.Client:
    """The client, which takes a message also where its properties cannot be read: it would never be acknowledged."""
    handler = client._package_handler
    parse = handler._parse_properties

    def parse_or_leave(packet: bytes) -> tuple[Any, Any]:
        try:
            found, left = parse(packet)
            if found is not None:
                return found, left
        except Exception:
            log.warning("the properties of a packet cannot be read; it is taken without them")
        size, rest = gmqtt.mqtt.utils.unpack_variable_byte_integer(packet)
        return {}, rest[size:]

    handler._parse_properties = parse_or_leave
    return client


def mark_of(properties: dict[str, Any]) -> Mark | None:
    """The broker's mark. It is the last of its name: what a sender gives by that name stands before it."""
    told = [value for name, value in properties.get("user_property") or () if name == "oculum-mark"]
    return Mark.of(told[-1]) if told else None


class Listener:
    def __init__(self) -> None:
        self.instance = settings.INSTANCE
        self.url = self.instance.database_url()
        self.pulse = Pulse(self.instance.folder, "intake")
        self.senders = Senders()
        self.allowed = Allowed(settings.MESSAGES_PER_MINUTE, settings.BYTES_PER_MINUTE)
        self.inbox = Inbox(
            self.url,
            self.instance.folder,
            settings.DISK_RESERVE_BYTES,
            settings.UNKNOWN_SENDERS,
            settings.UNKNOWN_MESSAGES,
            lambda what: self.pulse.trouble("inbox", what),
            listens=True,
        )
        self.registry = asyncio.Event()  # the registry has been read, and the broker's files are written
        self.written = 0  # how many changes of accounts the files know
        self.unread = False  # whether the files are others than the broker has read, for all that is known
        self.away_since: float | None = time.monotonic()
        self.told: Mark | None = None
        self.client: gmqtt.Client | None = None
        self.settled: list[int] = []  # deliveries to be acknowledged
        self.pulse.trouble("broker", "the broker has not been reached yet")

    # messages ------------------------------------------------------------------
    def on_message(self, client: Any, topic: str, payload: bytes, qos: int, properties: dict[str, Any]) -> None:
        """One delivery that wants no acknowledgement."""
        self.receive(topic, payload, 0, properties, lambda: None)

    def on_delivery(self, mid: int, payload: bytes, topic: str, properties: dict[str, Any]) -> None:
        """One delivery that is acknowledged once it is settled."""
        self.receive(topic, payload, 1, properties, lambda: self.acknowledge(mid))

    def receive(
        self, topic: str, payload: bytes, qos: int, properties: dict[str, Any], settled: Callable[[], None]
    ) -> None:
        """Puts a delivery into the inbox, at its place in the order of deliveries; where there is nothing to put, it
        is settled at once.
        """
        try:
            arrival = self.arrival(topic, payload, qos, properties)
        except Exception:
            log.exception("a message could not be taken")
            self.inbox.refuse(None, "could not be taken")
            arrival = None
        if arrival is None:
            settled()
        else:
            self.inbox.put_patiently(arrival, settled)

    def arrival(self, topic: str, payload: bytes, qos: int, properties: dict[str, Any]) -> Arrival | None:
        if topic == REFUSED:
            self.refused(bytes(payload))
            return None
        named = claimed_name(topic)
        sender = self.senders.by_name.get(named[0]) if named else None
        if properties.get("retain") or named is None or sender is None:
            return None
        source = self.senders.source(sender, named[1])
        if len(payload) > settings.MESSAGE_BYTES:
            self.inbox.refuse(source.device_id, "larger than 64 KiB")
            return None
        # Messages of QoS 0 do not come again, and may overtake others in the broker: they have no place in the order.
        mark = mark_of(properties) if qos else None
        headers = headers_of(properties.get("user_property") or ())
        return Arrival(source, MQTT, storable(topic[:200]), bytes(payload), mark, headers=headers)

    def acknowledge(self, mid: int) -> None:
        """With others that are settled at the same moment, in one piece."""
        if not self.settled:
            asyncio.get_running_loop().call_soon(self.send_acknowledgements)
        self.settled.append(mid)

    def send_acknowledgements(self) -> None:
        packets = b"".join(PUBACK.pack(0x40, 2, mid) for mid in self.settled)
        self.settled.clear()
        connection = self.client._connection if self.client is not None else None
        if connection is not None:
            connection._protocol.write_data(packets)

    def refused(self, told: bytes) -> None:
        """What the broker refused since it told last: name, for its rate, for want of space, elsewhere."""
        for line in told.decode("utf-8", "replace").splitlines():
            name, *counts = line.split(" ")
            sender = self.senders.by_name.get(name)
            for reason, count in zip(REASONS, counts, strict=False):
                if sender is not None and count.isdecimal() and int(count):
                    self.inbox.refuse(sender.device_id, reason, int(count))

    # the session ------------------------------------------------------------------
    def on_connect(self, client: Any, flags: int, code: int, properties: dict[str, Any]) -> None:
        client.subscribe([gmqtt.Subscription("up/#", 1, retain_handling_options=2), gmqtt.Subscription(REFUSED, 0)])

    def on_subscribe(self, client: Any, mid: int, qos: Any, properties: dict[str, Any]) -> None:
        self.away_since = None
        self.pulse.trouble("broker", None)
        (self.instance.folder / "run" / "intake.ready").touch()
        log.info("listening at the broker")
        self.reading = asyncio.get_running_loop().create_task(self.read_anew())

    def on_disconnect(self, client: Any, packet: bytes, exc: Exception | None = None) -> None:
        if self.away_since is None:
            self.away_since = time.monotonic()
        self.pulse.trouble("broker", "the broker does not answer: nothing is taken from it")

    def lost(self, what: str | None) -> None:
        self.pulse.trouble("registry", f"{what}: changes of the register are not heard of" if what else None)

    async def renew(self, connection: Connection, channel: str, payload: str) -> None:
        """Reads the registry and makes the broker's accounts equal to it."""
        row = await (await connection.execute("select wanted from broker_accounts")).fetchone()
        await self.senders.renew(connection)
        self.unread |= write_accounts(self.instance, self.senders.accounts, self.allowed)
        self.written = row[0] if row else 0
        self.registry.set()
        await self.read_anew()

    async def read_anew(self) -> None:
        """Lets the broker read its files, if it does not know all changes yet.

        Only while the session stands: reading them, the broker takes from a session that is away the right to what it
        subscribes to, and would drop what it acknowledges until the session is back. A broker that starts reads
        them by itself.
        """
        if self.away_since is not None:
            return
        async with await psycopg.AsyncConnection.connect(self.url, autocommit=True) as connection:
            row = await (await connection.execute("select applied from broker_accounts")).fetchone()
            wanted = self.unread or (row is not None and row[0] < self.written)
            if wanted and self.away_since is None and reload_broker(self.instance):
                self.unread = False
                await connection.execute("update broker_accounts set applied = greatest(applied, %s)", (self.written,))

    async def session(self) -> None:
        """One session with the broker after the other, by one name: the broker keeps for us what we have not taken."""
        await self.registry.wait()
        client = thorough(
            gmqtt.Client(
                INTAKE,
                clean_session=False,
                optimistic_acknowledgement=False,
                session_expiry_interval=0xFFFFFFFF,
                receive_maximum=IN_FLIGHT,
            )
        )
        client.on_message = self.on_message
        client._package_handler._handle_qos_1_publish_packet = self.on_delivery
        client.on_connect = self.on_connect
        client.on_subscribe = self.on_subscribe
        client.on_disconnect = self.on_disconnect
        client.set_auth_credentials(INTAKE, intake_password(self.instance))
        client.set_config({"reconnect_retries": -1, "reconnect_delay": 1})
        self.client = client
        while True:
            try:
                await client.connect(
                    "127.0.0.1", self.instance.broker_port, version=gmqtt.constants.MQTTv50, keepalive=30
                )
                break
            except (OSError, gmqtt.mqtt.handler.MQTTConnectError) as error:
                log.warning("the broker does not let us in: %s", error)
                self.pulse.trouble("broker", f"the broker does not let intake in ({error})")
                if isinstance(error, gmqtt.mqtt.handler.MQTTConnectError):
                    reload_broker(self.instance)  # it may know another key of intake's
                await asyncio.sleep(0.5)
        await asyncio.Event().wait()

    async def watch(self) -> None:
        """Says that the process lives; ends it when the broker has been away for long; tells the broker how far it
        is.
        """
        while True:
            self.pulse.beat()
            if not self.registry.is_set():
                self.away_since = time.monotonic()  # it is not asked before the registry is there
            elif self.away_since is not None and time.monotonic() - self.away_since > PATIENCE_S:
                raise RuntimeError(f"the broker has not been reached for {PATIENCE_S} s")
            mark = self.inbox.taken
            if self.client is not None and self.away_since is None and mark is not None and mark != self.told:
                self.client.publish(TAKEN, f"{mark.run}-{mark.bytes}", qos=0)
                self.told = mark
            await asyncio.sleep(0.25)

    async def say_listening(self) -> None:
        """Says in the database that the broker is listened to, while it is, and what it gives can be kept."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(self.url, autocommit=True) as connection:
                    while True:
                        if self.away_since is None and not self.pulse.troubles:
                            await connection.execute("select listening()")
                        await asyncio.sleep(LISTENING_S)
            except psycopg.Error:
                await asyncio.sleep(1)

    async def run(self) -> int:
        """Works until it is told to stop, or until a part of it has ended. Returns the exit code."""
        stop = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, stop.set)
        parts = [
            asyncio.create_task(part, name=name)
            for name, part in (
                ("registry", follow(self.url, ["oculum_registry"], self.renew, self.lost)),
                ("inbox", self.inbox.run()),
                ("session", self.session()),
                ("watch", self.watch()),
                ("listening", self.say_listening()),
            )
        ]
        stopping = asyncio.create_task(stop.wait())
        done, _ = await asyncio.wait([stopping, *parts], return_when=asyncio.FIRST_COMPLETED)
        failed = [task for task in done if task is not stopping]
        for task in failed:
            log.error("%s has ended", task.get_name(), exc_info=task.exception())
        if not failed and self.client is not None and self.away_since is None:
            await self.client.disconnect()
            await self.inbox.finished()  # what was taken is written; it was not acknowledged, and comes again
        for task in parts:
            task.cancel()
        return 1 if failed else 0


def main() -> None:
    import django
    import uvloop

    django.setup()
    logging.getLogger("gmqtt").setLevel(logging.CRITICAL)
    lock = Lock(settings.INSTANCE.folder, "intake")
    lock.or_exit()
    sys.exit(uvloop.run(Listener().run()))


if __name__ == "__main__":
    main()
