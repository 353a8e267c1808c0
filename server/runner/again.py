"""The process that decodes stored messages again. It steps back behind whatever is live. Besides it reports what Oculum
has to say of itself.
"""

from __future__ import annotations

import logging
import os
import signal

import django
from django.conf import settings

from server.instance.processes import Lock
from server.instance.pulse import Pulse

TICK_S = 0.5
NICE = 5
log = logging.getLogger("oculum.again")


def main() -> None:
    """Works until told to stop; after a lost database the process ends and is started anew."""
    django.setup()
    from server.again.worker import Again
    from server.runner.itself import Report
    from server.store.sealed import Sealer
    from server.store.stretches import make_anew
    from server.store.summed import sum_an_hour

    lock = Lock(settings.INSTANCE.folder, "again")
    lock.or_exit()
    os.nice(NICE)
    again = Again(settings.INSTANCE.database_url())
    sealer = Sealer()
    stopping: list[int] = []
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda number, _: stopping.append(number))
    pulse, report = Pulse(settings.INSTANCE.folder, "again"), Report(settings.INSTANCE)
    while not stopping:
        pulse.beat()
        report.step(again.connection)
        own = again.connection
        if not (again.step() or make_anew(own) or sum_an_hour(own) or sealer.step(own)):
            for _ in again.connection.notifies(timeout=TICK_S, stop_after=1):
                pass
    again.close()


if __name__ == "__main__":
    main()
