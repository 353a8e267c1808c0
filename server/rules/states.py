"""What state every device is in at a moment: from its last arrival, its cadence, and whether that decoded."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import connection

from oculum.language.routes.check import SITE
from server.store.unheard import Spans, unheard, within

OVERDUE_CADENCES = 1.5
SILENT_CADENCES = 3.0
AHEAD_S = 300

NOW_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), l.received_at, l.failed, l.message_id, t.key
from fleet_device d join fleet_devicetype t on t.id = d.type_id left join latest l on l.device_id = d.id
"""

THEN_SQL = """
select d.id, d.phase, coalesce(d.cadence_s, t.cadence_s), m.received_at,
  r.message_id is not null and r.code <> 'no decoder', m.id, t.key
from fleet_device d join fleet_devicetype t on t.id = d.type_id
left join lateral (
  select id, received_at from message
  where device_id = d.id and received_at <= %(at)s and received_at > %(at)s - interval '8 days'
  order by received_at desc limit 1
) m on true
left join refused r on r.message_id = m.id
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
    found = {}
    for device_id, phase, cadence, received, failed, message, key in rows:
        if phase != "retired":
            state = state_of(received, bool(failed), cadence, at, deaf)
            found[device_id] = DeviceState(state, received, cadence, message, key == SITE)
    return found
