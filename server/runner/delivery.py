"""The process that tells people: what is due goes out by the outlets."""

from __future__ import annotations

import logging
import signal

import django
import psycopg
from django.conf import settings

from server.instance.processes import Lock
from server.instance.pulse import Pulse

TICK_S = 1.0
log = logging.getLogger("oculum.delivery")


def main() -> None:
    """Works until told to stop; after a lost database the process ends and is started anew."""
    django.setup()
    from server.delivery.worker import Worker

    lock = Lock(settings.INSTANCE.folder, "delivery")
    lock.or_exit()
    stopping: list[int] = []
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda number, _: stopping.append(number))
    pulse, worker = Pulse(settings.INSTANCE.folder, "delivery"), Worker()
    with psycopg.connect(
        settings.INSTANCE.database_url(), autocommit=True, application_name="oculum delivery notices"
    ) as listening:
        listening.execute("listen oculum_telling")
        while not stopping:
            pulse.beat()
            if not worker.step():
                for _ in listening.notifies(timeout=TICK_S, stop_after=1):
                    pass


if __name__ == "__main__":
    main()
