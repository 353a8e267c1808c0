"""What state every device is in at a moment: from its last arrival, its cadence, and whether that decoded."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection

from oculum.arrays import among
from oculum.history.stretches import (
    NAMES,
    OVERDUE,
    REPORTING,
    SILENT,
    UNDECODABLE,
    Listening,
    limits,
    over_time,
)
from server.store.arrays import NEVER
from server.store.as_of import as_of
from server.store.heard import last_heard
from server.store.stretches import downtime, read_stretches
from server.store.times import moment, us

AHEAD_US = 300_000_000
STATES = (*NAMES, "waiting")
WAITING = STATES.index("waiting")


@dataclass(frozen=True)
class DeviceState:
    state: str
    received_at: datetime | None


@dataclass(frozen=True)
class States:
    """Of devices at a moment, an entry each. device: int64 (n,), rising; state: int8 (n,), of STATES; received: int64
    (n,), µs, NEVER where nothing came; of_site: bool (n,), a site's own readings, no unit in the field.
    """

    device: np.ndarray
    state: np.ndarray
    received: np.ndarray
    of_site: np.ndarray
    place: dict[int, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.place.update({device: place for place, device in enumerate(self.device.tolist())})

    def __contains__(self, device: int) -> bool:
        return device in self.place

    def get(self, device: int) -> DeviceState | None:
        return self[device] if device in self.place else None

    def __getitem__(self, device: int) -> DeviceState:
        place = self.place[device]
        heard = int(self.received[place])
        return DeviceState(STATES[self.state[place]], moment(heard) if heard != NEVER else None)

    def by_device(self, values: np.ndarray) -> dict[int, Any]:
        """An array of this order as values by device."""
        return dict(zip(self.place, values.tolist(), strict=True))

    def counts(self) -> Counter[str]:
        """How many devices are in which state; sites are none."""
        found = np.bincount(self.state[~self.of_site], minlength=len(STATES)).tolist()
        return Counter({name: count for name, count in zip(STATES, found, strict=True) if count})


def standing(
    received: np.ndarray,
    failed: np.ndarray,
    cadence: np.ndarray,
    at: int,
    deaf: Sequence[tuple[int, int]] = (),
) -> np.ndarray:
    """int8 (n,), of STATES: reporting, overdue (past 1.5 cadences), silent (past 3), undecodable (the last message was
    refused), waiting (none yet). Time in which Oculum did not listen does not count. received: int64 (n,), µs, or
    NEVER; failed: bool (n,); cadence: int64 (n,), s, 0 where there is none.

    A message stamped more than five minutes ahead came by a wrong clock: nothing is known of its age.
    """
    heard = received != NEVER
    since = np.where(heard, received, at)
    clock = Listening(deaf)
    age = clock.of(np.full(len(since), at, np.int64)) - clock.of(since)
    overdue, silent = limits(cadence * 1_000_000)
    state = np.where((cadence > 0) & (age > overdue), OVERDUE, REPORTING)
    state = np.where(failed, UNDECODABLE, state)
    state = np.where((cadence > 0) & (age > silent), SILENT, state)
    state = np.where(since - at > AHEAD_US, OVERDUE, state)
    return np.where(heard, state, WAITING).astype(np.int8)


def device_states(at: datetime, past: bool, only: Sequence[int] | None = None) -> States:
    """Of all devices, or of some; those that are retired, or were it then, are left out."""
    then = at if past else None
    with as_of(then), connection.cursor() as cursor:
        device, cadence, of_site, received, failed = last_heard(cursor, then, only)
        if past:
            found = read_stretches(cursor, at, at + timedelta(microseconds=1), only)
            state = np.full(len(device), WAITING, np.int8)
            there, place = among(device, found.device)
            state[place] = found.state[there]
        else:
            state = standing(received, failed, cadence, us(at), downtime(cursor, at))
    return States(device, state, received, of_site)


def states_over_time(
    cursor: Any, devices: np.ndarray, first: datetime, width: timedelta, buckets: int, end: datetime
) -> np.ndarray:
    """The state of each device for most of each bucket up to `end`: int8 (devices, buckets), -1 where it was in none.

    devices: int64 (n,), rising.
    """
    over = min(first + buckets * width, end)
    found = read_stretches(cursor, first, over)
    return over_time(found, devices, us(first), round(width.total_seconds() * 1e6), buckets)
