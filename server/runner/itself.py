"""What Oculum reports of itself once a minute, where it is watched like a device."""

from __future__ import annotations

import shutil
import time

import orjson
import psycopg

from server.instance.instance import Instance
from server.rules.itself import CADENCE_S, own_device
from server.runner.health import health
from server.store.figures import blocked
from server.store.messages import ITSELF, put_in
from server.store.refused import refused_lately


class Report:
    """Due by the clock of the machine that nobody sets."""

    def __init__(self, instance: Instance) -> None:
        self.instance, self.last = instance, 0.0

    def step(self, connection: psycopg.Connection) -> bool:
        """Reports where that is due, and where there is a device for it; says whether it did."""
        if time.monotonic() - self.last < CADENCE_S:
            return False
        self.last = time.monotonic()
        device = own_device()
        if device is None:
            return False
        refused, failing = refused_lately(connection)
        found, disk = health(self.instance), shutil.disk_usage(self.instance.folder)
        blocked_outlets, unsent = blocked(connection)
        told = {
            "lag": round(found.stream.oldest_s or 0.0, 3),
            "waiting": found.stream.waiting or 0,
            "refused": round(refused, 3),
            "failing": failing,
            "disk": round(100 * disk.free / disk.total, 3),
            "away": sum(not part.works for part in found.parts.values()),
            "blocked": blocked_outlets,
            "unsent": unsent,
        }
        put_in(connection, device.pk, ITSELF, orjson.dumps(told))
        return True
