"""The process that listens at the broker: arrivals to the inbox, acknowledged after their commit."""

from __future__ import annotations

import asyncio
import logging
import signal
from typing import Any

import gmqtt
import psycopg
from django.conf import settings

from .accounts import INTAKE, intake_password, reload_broker, write_accounts
from .inbox import MQTT, Arrival, Full, Inbox, headers_of
from .notices import notices
from .senders import Rates, Senders

log = logging.getLogger("oculum.intake")
SESSION = "oculum-intake"
IN_FLIGHT = 4000


def claimed_name(topic: str) -> tuple[str, str | None] | None:
    """`up/NAME...` is NAME itself, `up/NAME/for/OTHER...` NAME speaking for OTHER; None: neither."""
    parts = topic.split("/")
    if len(parts) < 2 or parts[0] != "up":
        return None
    if len(parts) >= 4 and parts[2] == "for":
        return parts[1], parts[3][:63]
    return parts[1], None


def numbered(client: gmqtt.Client) -> gmqtt.Client:
    """The client, its messages with their packet numbers: redeliveries are told by them."""
    handler = client._package_handler
    handle = handler._handle_qos_1_publish_packet

    def with_number(mid: int, packet: bytes, print_topic: str, properties: dict[str, Any]) -> None:
        properties["message_id"] = mid
        handle(mid, packet, print_topic, properties)

    handler._handle_qos_1_publish_packet = with_number
    return client


class Listener:
    def __init__(self) -> None:
        self.instance = settings.INSTANCE
        self.url = self.instance.database_url()
        self.senders = Senders()
        self.rates = Rates(settings.MESSAGES_PER_MINUTE, settings.BYTES_PER_MINUTE)
        self.inbox = Inbox(
            self.url,
            self.instance.folder,
            settings.DISK_RESERVE_BYTES,
            settings.UNKNOWN_SENDERS,
            settings.UNKNOWN_MESSAGES,
        )
        self.ready = asyncio.Event()
        self.connected = asyncio.Event()

    async def on_message(self, client: Any, topic: str, payload: bytes, qos: int, properties: dict[str, Any]) -> int:
        named = claimed_name(topic)
        sender = self.senders.by_name.get(named[0]) if named else None
        if properties.get("retain") or named is None or sender is None:
            return 0
        source = self.senders.source(sender, named[1])
        who = source.device_id or (sender.credential_id, source.unknown)
        if len(payload) > settings.MESSAGE_BYTES:
            self.inbox.refuse(source.device_id, "larger than 64 KiB")
            return 0
        if not self.rates.allow(who, len(payload)):
            self.inbox.refuse(source.device_id, "more messages a minute than allowed")
            return 0
        packet = (SESSION, int(properties.get("message_id") or 0), bool(properties.get("dup"))) if qos else None
        arrival = Arrival(
            source, MQTT, topic[:200], bytes(payload), packet, headers=headers_of(properties.get("user_property") or ())
        )
        while True:
            try:
                await self.inbox.put(arrival)
                return 0
            except Full:
                await asyncio.sleep(1)  # not acknowledged: the broker keeps it

    def on_connect(self, client: Any, flags: int, code: int, properties: dict[str, Any]) -> None:
        client.subscribe("up/#", qos=1, retain_handling_options=2)
        self.connected.set()

    def on_disconnect(self, client: Any, packet: bytes, exc: Exception | None = None) -> None:
        self.connected.clear()
        self.inbox.connection_lost()

    async def accounts(self) -> None:
        """Keeps the registry in memory and the broker's accounts equal to the database.

        The broker is told to read its accounts anew only while we are connected, and only when they
        differ: it looks over all sessions then, and ours holds what has not been acknowledged.
        """
        connection = await psycopg.AsyncConnection.connect(self.url, application_name="oculum accounts")
        async for _ in notices(self.url, ["oculum_registry"]):
            if connection.closed or connection.broken:
                connection = await psycopg.AsyncConnection.connect(self.url, application_name="oculum accounts")
            row = await (await connection.execute("select wanted from broker_accounts")).fetchone()
            await self.senders.renew(connection)
            self.ready.set()
            await self.connected.wait()
            if not write_accounts(self.instance, self.senders.hashes) or reload_broker(self.instance):
                await connection.execute(
                    "update broker_accounts set applied = greatest(applied, %s)", (row[0] if row else 0,)
                )
                await connection.commit()

    async def run(self) -> None:
        tasks = [asyncio.create_task(self.accounts()), asyncio.create_task(self.inbox.run())]
        await self.ready.wait()
        client = numbered(
            gmqtt.Client(
                SESSION,
                clean_session=False,
                optimistic_acknowledgement=False,
                session_expiry_interval=0xFFFFFFFF,
                receive_maximum=IN_FLIGHT,
            )
        )
        client.on_message = self.on_message
        client.on_connect = self.on_connect
        client.on_disconnect = self.on_disconnect
        client.set_auth_credentials(INTAKE, intake_password(self.instance))
        client.set_config({"reconnect_retries": -1, "reconnect_delay": 1})
        stop = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, stop.set)
        while not stop.is_set():
            try:
                await client.connect(
                    "127.0.0.1", self.instance.broker_port, version=gmqtt.constants.MQTTv50, keepalive=30
                )
                break
            except (OSError, gmqtt.mqtt.handler.MQTTConnectError) as error:
                log.warning("the broker does not answer: %s", error)
                await asyncio.sleep(0.5)
        (self.instance.folder / "run" / "intake.ready").touch()
        log.info("listening at the broker")
        await stop.wait()
        await client.disconnect()
        await self.inbox.finished()  # what was taken is written; it was not acknowledged, and comes again
        for task in tasks:
            task.cancel()


def main() -> None:
    import django
    import uvloop

    django.setup()
    logging.getLogger("gmqtt").setLevel(logging.ERROR)
    uvloop.run(Listener().run())


if __name__ == "__main__":
    main()
