"""What state every device is in at a moment: from its last arrival, its cadence, and whether that decoded."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection

from oculum.history.stretches import NAMES, OVERDUE_CADENCES, SILENT_CADENCES, mostly, shares
from oculum.language.routes.check import SITE
from server.store.stretches import read_stretches
from server.store.times import us
from server.store.unheard import Spans, unheard, within

AHEAD_S = 300

NOW_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), l.received_at, l.failed, l.message_id, t.key
from fleet_device d join fleet_devicetype t on t.id = d.type_id left join latest l on l.device_id = d.id
"""

THEN_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), m.received_at, false, m.id, t.key
from fleet_device d join fleet_devicetype t on t.id = d.type_id
left join lateral (
  select id, received_at from message
  where device_id = d.id and received_at <= %(at)s and received_at > %(at)s - interval '8 days'
  order by received_at desc limit 1
) m on true
"""


@dataclass(frozen=True)
class DeviceState:
    state: str
    received_at: datetime | None
    cadence_s: int | None
    message_id: int | None
    of_site: bool = False  # a site's own readings, no unit in the field


def state_of(received: datetime | None, failed: bool, cadence_s: int | None, at: datetime, deaf: Spans = ()) -> str:
    """reporting, overdue (past 1.5 cadences), silent (past 3), undecodable (the last message was refused), waiting
    (none yet). Time in which Oculum did not listen does not count.

    A message stamped more than five minutes ahead came by a wrong clock: nothing is known of its age.
    """
    if received is None:
        return "waiting"
    age = (at - received).total_seconds()
    if age < -AHEAD_S:
        return "overdue"
    age -= within(deaf, received, at)
    if cadence_s and age > SILENT_CADENCES * cadence_s:
        return "silent"
    if failed:
        return "undecodable"
    if cadence_s and age > OVERDUE_CADENCES * cadence_s:
        return "overdue"
    return "reporting"


def device_states(at: datetime, past: bool) -> dict[int, DeviceState]:
    """States by device id, retired ones left out."""
    with connection.cursor() as cursor:
        cursor.execute(THEN_SQL if past else NOW_SQL, {"at": at} if past else None)
        rows = cursor.fetchall()
        deaf = unheard(cursor, at - timedelta(days=8), at)
        then: dict[int, str] = {}
        if past:
            stretches = read_stretches(cursor, at, at + timedelta(microseconds=1))
            then = {d: NAMES[s] for d, s in zip(stretches.device.tolist(), stretches.state.tolist(), strict=True)}
    found = {}
    for device_id, phase, cadence, received, failed, message, key in rows:
        if phase != "retired":
            state = then.get(device_id, "waiting") if past else state_of(received, bool(failed), cadence, at, deaf)
            found[device_id] = DeviceState(state, received, cadence, message, key == SITE)
    return found


def states_over_time(
    cursor: Any, devices: np.ndarray, first: datetime, width: timedelta, buckets: int, end: datetime
) -> np.ndarray:
    """The state of each device for most of each bucket up to `end`: int8 (devices, buckets), -1 where it was in none.

    devices: int64 (n,), rising.
    """
    over = min(first + buckets * width, end)
    spent = shares(read_stretches(cursor, first, over), devices, us(first), round(width.total_seconds() * 1e6), buckets)
    return mostly(spent)
