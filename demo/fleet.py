"""The living fleet: simulated devices that go on sending through the real broker."""

from __future__ import annotations

import asyncio
import json
import logging
import signal
import urllib.request
from typing import Any

import gmqtt
from django.conf import settings

from server.instance.pulse import Pulse

from .payloads import payloads
from .signals import SEED, Story, headers_of, now_us, plan_of, sending_times, topic_of
from .world import DECODERS, Unit, fleet

log = logging.getLogger("oculum.fleet")
AHEAD_US = 60_000_000
BY_HTTP = {"crate_logger"}


async def beat(pulse: Pulse) -> None:
    while True:
        pulse.beat()
        await asyncio.sleep(0.5)


def post(address: str, key: str, payload: bytes) -> None:
    """A burst over HTTP; one that is not taken comes again with the next reader, as the real ones do."""
    request = urllib.request.Request(f"{address}in/", payload, {"Authorization": f"Bearer {key}"})
    try:
        with urllib.request.urlopen(request, timeout=20):
            pass
    except OSError as error:
        log.warning("a burst was not taken: %s", error)


async def connected(name: str, key: str, port: int) -> Any:
    client = gmqtt.Client(f"demo-{name}", clean_session=True)
    client.set_auth_credentials(name, key)
    client.set_config({"reconnect_retries": -1, "reconnect_delay": 2})
    while True:
        try:
            await client.connect("127.0.0.1", port, version=gmqtt.constants.MQTTv50, keepalive=60)
            return client
        except (OSError, gmqtt.mqtt.handler.MQTTConnectError):
            await asyncio.sleep(1)


async def live() -> None:
    instance = settings.INSTANCE
    beating = asyncio.create_task(beat(Pulse(instance.folder, "fleet")))
    keys = instance.private("demo-keys.json") or {}
    about = json.loads((instance.folder / "demo.json").read_text())
    story = Story(about["end_us"], SEED)
    units = fleet()
    plans = {key: plan_of(key) for key in DECODERS}
    spoken = {unit.gateway or unit.name for unit in units if unit.type not in BY_HTTP}
    clients = {name: await connected(name, key, instance.broker_port) for name, key in keys.items() if name in spoken}
    posting: set[asyncio.Task[None]] = set()
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop.set)
    log.info("%d devices go on sending", len(units))
    at = max(about["end_us"], now_us() - 120_000_000)
    while not stop.is_set():
        until = at + AHEAD_US
        due: list[tuple[int, Unit]] = [(int(t), unit) for unit in units for t in sending_times(story, unit, at, until)]
        for moment, unit in sorted(due, key=lambda item: item[0]):
            wait = (moment - now_us()) / 1e6
            if wait > 0:
                try:
                    await asyncio.wait_for(stop.wait(), wait)
                    break
                except TimeoutError:
                    pass
            (payload,) = payloads(story, unit, plans[unit.type], _one(moment))
            if unit.type in BY_HTTP:
                posting.add(
                    task := asyncio.create_task(asyncio.to_thread(post, instance.address, keys[unit.name], payload))
                )
                task.add_done_callback(posting.discard)
                continue
            client = clients[unit.gateway or unit.name]
            told = headers_of(unit)
            client.publish(topic_of(unit), payload, qos=1, **({"user_property": list(told.items())} if told else {}))
        wait = (until - now_us()) / 1e6
        if wait > 0 and not stop.is_set():
            try:
                await asyncio.wait_for(stop.wait(), wait)
            except TimeoutError:
                pass
        at = until
    beating.cancel()
    for client in clients.values():
        await client.disconnect()


def _one(moment: int) -> Any:
    import numpy as np

    return np.array([moment], np.int64)


def main() -> None:
    import django

    django.setup()
    logging.getLogger("gmqtt").setLevel(logging.ERROR)
    asyncio.run(live())


if __name__ == "__main__":
    main()
