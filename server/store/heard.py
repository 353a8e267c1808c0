"""When devices were heard: as they are now, at a past moment, for the first time."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from oculum.language.routes.check import SITE
from server.store.arrays import arrays
from server.store.summed import messages_by_hour

LOOKED_BACK = timedelta(days=8)
WHO = "select d.id, coalesce(d.cadence_s, t.cadence_s, 0), t.key = %(site)s"
OF = "from fleet_device d join fleet_devicetype t on t.id = d.type_id"
NOW = f"""
{WHO}, coalesce(l.received_at, '-infinity'), coalesce(l.failed, false) {OF}
left join latest l on l.device_id = d.id
"""
# Most devices were heard shortly before: these are read at once, and only the others are looked for one by one.
THEN = f"""
with near as materialized (
  select device_id, max(received_at) as received_at from message
  where received_at <= %(at)s and received_at > %(near)s group by 1
), far as (
  select o.id as device_id, m.received_at from public.fleet_device o cross join lateral (
    select received_at from message where device_id = o.id and received_at <= %(near)s and received_at > %(since)s
    order by received_at desc limit 1
  ) m where not exists (select 1 from near where near.device_id = o.id)
  and (%(only)s::int[] is null or o.id = any(%(only)s))
)
{WHO}, coalesce(n.received_at, f.received_at, '-infinity'), false {OF}
left join near n on n.device_id = d.id left join far f on f.device_id = d.id
"""
MESSAGES_NEAR = 40_000
LONGEST_NEAR = timedelta(hours=1)
CHOSEN = " where d.phase <> 'retired' and (%(only)s::int[] is null or d.id = any(%(only)s)) order by d.id"


def last_heard(cursor: Any, at: datetime | None, only: Sequence[int] | None = None) -> list[np.ndarray]:
    """Of all devices that are not retired, or of some of them, rising: device and cadence in seconds, int64 (n,);
    whether it stands for a site's own readings, bool (n,); its last message, int64 (n,), in µs or NEVER; whether that
    failed, bool (n,). at: as it was at that moment, within eight days; which messages failed is not known of the past.
    """
    near = None
    if at is not None:
        near = at - _near(cursor, at) if only is None else at
    return arrays(
        cursor,
        ("int", "int", "flag", "time", "flag"),
        (NOW if at is None else THEN) + CHOSEN,
        {
            "at": at,
            "since": at - LOOKED_BACK if at is not None else None,
            "near": near,
            "site": SITE,
            "only": only,
        },
    )


def _near(cursor: Any, at: datetime) -> timedelta:
    """How long before a moment about MESSAGES_NEAR messages came, an hour at most."""
    hour = at.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    rates = messages_by_hour(cursor, hour - timedelta(hours=1), hour)
    return min(LONGEST_NEAR, timedelta(hours=MESSAGES_NEAR / max(sum(rates.values()), 1)))


def heard_first(cursor: Any, start: datetime, end: datetime) -> list[int]:
    """Devices whose first message arrived in (start, end]."""
    cursor.execute(
        "select device_id from (select device_id, min(since) as since from (select device_id, since from device_stretch"
        " union all select device_id, since from device_stands) s group by 1) x where since > %s and since <= %s and"
        " device_id in (select device_id from activity)",
        (start, end),
    )
    return [row[0] for row in cursor.fetchall()]


def reporting(cursor: Any) -> list[tuple[int, int, int]]:
    """Devices in service whose last message was decoded and is not older than three of their cadences: device, type,
    and site, 0 where there is none.
    """
    cursor.execute(
        "select d.id, d.type_id, coalesce(d.site_id, 0) from fleet_device d join fleet_devicetype t on t.id = d.type_id"
        " join latest l on l.device_id = d.id where d.phase = 'in service' and not l.failed and l.received_at > now() -"
        " 3 * interval '1 second' * greatest(coalesce(d.cadence_s, t.cadence_s, 86400), 600)"
    )
    return list(cursor.fetchall())


def heard_before_known(cursor: Any, start: datetime) -> tuple[np.ndarray, np.ndarray]:
    """Of devices registered since a moment that were heard before they were: device, and stretches' beginnings (µs),
    int64 (n,) each.
    """
    owner, since = arrays(
        cursor,
        ("int", "time"),
        "select s.device_id, s.since from (select device_id, since from device_stretch union all select device_id,"
        " since from device_stands) s join fleet_device d on d.id = s.device_id where d.registered_at > %(start)s"
        " and s.since < d.registered_at",
        {"start": start},
    )
    return owner, since
