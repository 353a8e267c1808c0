"""The process of an engine: it takes what waits in the stream. The first of them also deletes what is older than its
retention, and divides the stream anew where there are more of them than before, or fewer.
"""

from __future__ import annotations

import logging
import signal
import sys
import threading
import time

import django
import psycopg
from django.conf import settings

from server.instance.processes import Lock
from server.instance.pulse import Pulse

TICK_S = 0.2
SHELVES_S = 1.0
log = logging.getLogger("oculum.engine")


def warm() -> None:
    """Loads what is compiled, which else the first large batch would wait for."""
    from oculum.alarms import compiled as of_conditions
    from oculum.decoding import compiled as of_decoders
    from oculum.routing import compiled as of_routes
    from server.store import encoding

    for loops in (of_decoders, of_conditions, of_routes, encoding):
        loops.ready()


def main() -> None:
    """Works until told to stop; after a lost database the process ends and is started anew."""
    django.setup()
    from server.engine.dividing import divide, divided
    from server.engine.worker import Engine
    from server.rules.shares import Share
    from server.rules.shelves import end_those_over
    from server.store.house import House

    name, instance = sys.argv[1] if len(sys.argv) > 1 else "engine", settings.INSTANCE
    share = Share(instance.engine_names.index(name), instance.engines)
    lock = Lock(instance.folder, name)
    lock.or_exit()
    stopping = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stopping.set())
    pulse, house = Pulse(instance.folder, name), House()
    if share.number == 0:
        divide(instance.database_url(), share.of)
    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        while not divided(connection, share.of) and not stopping.wait(TICK_S):
            pulse.beat()
    if stopping.is_set():
        return
    engine = Engine(instance.database_url(), share)
    log.info("working on share %d of %d", share.number + 1, share.of)
    (instance.folder / "run" / f"{name}.ready").touch()
    threading.Thread(target=warm, daemon=True).start()
    shelves_due = 0.0
    while not stopping.is_set():
        pulse.beat()
        if share.number == 0 and house.due:
            house.keep(engine.connection)
        if share.number == 0 and time.monotonic() >= shelves_due:
            shelves_due = time.monotonic() + SHELVES_S
            end_those_over(engine.connection)
        if engine.step() == 0:
            for _ in engine.listening.notifies(timeout=TICK_S, stop_after=1):
                pass


if __name__ == "__main__":
    main()
