"""Stored stretches of time in which devices were in one state: written when they are over, read with what goes on."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
import psycopg

from oculum.history.stretches import Presence, Stands, Stretches, going_on
from server.store.activity import count_anew
from server.store.arrays import arrays
from server.store.sealed import arrived
from server.store.times import US, moment, us
from server.store.turns import writers_turn
from server.store.unheard import unheard

AT_ONCE = 20  # devices whose stretches are made anew in one transaction


def stands_of(connection: psycopg.Connection[Any]) -> dict[int, Stands]:
    """How all devices stand."""
    return {
        device: Stands(state, since, max(last, since))
        for device, state, since, last in connection.execute(
            f"select s.device_id, s.state, {US.format('s.since')}, {US.format('l.received_at')} from device_stands s"
            " join latest l using (device_id)"
        ).fetchall()
    }


def write_stretches(
    connection: psycopg.Connection[Any], over: Stretches, changed: Iterable[int], presence: Presence
) -> None:
    """What is over, and how devices stand since."""
    if len(over):
        connection.execute(
            "insert into device_stretch select * from unnest(%s::int[], %s::timestamptz[], %s::timestamptz[],"
            " %s::smallint[]) on conflict do nothing",
            (
                over.device.tolist(),
                [moment(t) for t in over.since.tolist()],
                [moment(t) for t in over.until.tolist()],
                over.state.tolist(),
            ),
        )
    rows = [(d, presence.stands[d]) for d in sorted(changed)]
    if rows:
        connection.execute(
            "insert into device_stands select * from unnest(%s::int[], %s::timestamptz[], %s::smallint[])"
            " on conflict (device_id) do update set since = excluded.since, state = excluded.state",
            ([d for d, _ in rows], [moment(s.since) for _, s in rows], [s.state for _, s in rows]),
        )


def unmade(connection: Any, devices: Sequence[int], since: Sequence[datetime]) -> None:
    """Stretches of devices from moments on are to be made anew: their messages were read anew."""
    connection.execute(
        "insert into device_unmade select d, min(t) from unnest(%s::int[], %s::timestamptz[]) u(d, t) group by d"
        " on conflict (device_id) do update set since = least(device_unmade.since, excluded.since)",
        (list(devices), list(since)),
    )


def begin(connection: Any, device: int) -> None:
    """Of a device that has messages from before it was one: all its stretches are to be made."""
    connection.execute(
        "insert into device_stands select device_id, received_at, 0 from latest where device_id = %s on conflict do"
        " nothing",
        (device,),
    )
    connection.execute(
        "insert into device_unmade values (%s, '-infinity') on conflict (device_id) do update set since = '-infinity'",
        (device,),
    )


def make_anew(connection: psycopg.Connection[Any], most: int = AT_ONCE) -> bool:
    """Makes stretches that are over anew from the stored messages; False if none wait for it."""
    if connection.execute("select 1 from device_unmade limit 1").fetchone() is None:
        return False
    with connection.transaction():
        writers_turn(connection)
        rows = connection.execute(
            "delete from device_unmade where device_id in (select device_id from device_unmade order by device_id"
            " limit %s) returning device_id, since = '-infinity', greatest(since, 'epoch')",
            (most,),
        ).fetchall()
        with connection.cursor() as cursor:
            deaf = downtime(cursor, datetime.now(UTC))
        for device, wholly, since in rows:
            _anew(connection, device, None if wholly else since, deaf)
            if wholly:
                hours = connection.execute("select hour from activity where device_id = %s", (device,)).fetchall()
                count_anew(connection, [device] * len(hours), [us(hour) for (hour,) in hours])
    return True


def _anew(c: psycopg.Connection[Any], device: int, since: datetime | None, deaf: Sequence[tuple[int, int]]) -> None:
    """Those of a device from a moment on, up to the stretch that goes on."""
    row = c.execute(
        "select s.since, coalesce(d.cadence_s, t.cadence_s, 0), d.gateway_id is not null from device_stands s join"
        " fleet_device d on d.id = s.device_id join fleet_devicetype t on t.id = d.type_id where s.device_id = %s",
        (device,),
    ).fetchone()
    if row is None:
        return
    until, cadence, behind = row
    if since is not None:  # from where the stretch began that it lies in
        begun = c.execute(
            "select coalesce((select since from device_stretch where device_id = %(device)s and state in (0, 3) and"
            " since <= %(since)s order by since desc limit 1), 'epoch')",
            {"device": device, "since": since},
        ).fetchone()
        since = begun[0] if begun is not None else None
    first = since or datetime(1970, 1, 1, tzinfo=UTC)
    # Where its gateway speaks for it, it is heard by readings of others' messages.
    others = (
        " union select r.message_id, r.received_at, -1 from reading_row r where r.device_id = %(device)s and"
        " r.received_at >= %(first)s and r.received_at <= %(until)s and not exists (select 1 from message o where"
        " o.id = r.message_id and o.received_at = r.received_at and o.device_id = r.device_id)"
        if behind
        else ""
    )
    sealed = []
    if behind:
        with c.cursor() as cursor:
            parts = arrived(cursor, [device], None, us(first), us(until) + 1)
        own = {
            ident
            for (ident,) in c.execute(
                "select id from message where device_id = %s and received_at >= %s and received_at <= %s",
                (device, first, until),
            )
        }
        told = {pair for p in parts for pair in zip(p.block.message.tolist(), p.block.received.tolist(), strict=True)}
        sealed = [(message, at, -1) for message, at in told if message not in own]
    arrivals = c.execute(
        f"select x.id, {US.format('received_at')}, outcome from (select m.id, m.received_at, case when"
        " r.message_id is null or r.part or r.code = 'no decoder' then 0 else 1 end as outcome from message m left join"
        " refused r on r.message_id = m.id where m.device_id = %(device)s and m.received_at >= %(first)s and"
        f" m.received_at <= %(until)s{others}) x order by id",
        {"device": device, "first": first, "until": until},
    ).fetchall()
    if sealed:
        arrivals = sorted({*arrivals, *sealed})
    if not arrivals:
        return
    _, at, outcome = np.array(arrivals, np.int64).T
    presence, end = Presence(), us(until)
    over, _ = presence.take(np.full(len(at), device, np.int64), at, outcome, lambda _: cadence * 1_000_000, deaf)
    stands = presence.stands[device]
    state, begun, last, pace = np.array([stands.state, stands.since, stands.last, cadence * 1_000_000])[:, None]
    rest = going_on(np.array([device]), state, begun, last, pace, end, deaf)
    made = Stretches.of([(s.device, s.since, s.until, s.state) for s in (over, rest)]).within(int(at[0]), end)
    c.execute(
        "delete from device_stretch where device_id = %s and since >= %s and since < %s",
        (device, moment(int(at[0])), until),
    )
    write_stretches(c, made, (), presence)


def downtime(cursor: Any, end: datetime) -> list[tuple[int, int]]:
    """Spans in which nobody listened, up to a moment, µs."""
    return [(us(a), us(b)) for a, b in unheard(cursor, datetime.min.replace(tzinfo=UTC), end)]


def lasting(cursor: Any, only: Sequence[int] | None = None) -> list[np.ndarray]:
    """How devices, all or some, stand now: device, state, since when, its last message (µs), cadence in s; int64 (n,)
    each.
    """
    return arrays(
        cursor,
        ("int", "int", "time", "time", "int"),
        "select s.device_id, s.state, s.since, greatest(l.received_at, s.since), coalesce(d.cadence_s, t.cadence_s, 0)"
        " from device_stands s join latest l using (device_id) join fleet_device d on d.id = s.device_id join"
        " fleet_devicetype t on t.id = d.type_id" + (" where s.device_id = any(%(only)s)" if only is not None else ""),
        {"only": only},
    )


def read_stretches(
    cursor: Any,
    start: datetime,
    end: datetime,
    only: Sequence[int] | None = None,
    now: Sequence[np.ndarray] | None = None,
) -> Stretches:
    """What devices were in during [start, end), what goes on with it; only: some devices; now: what `lasting` tells of
    them, where that is known.
    """
    asked = {"start": start, "end": end, "only": only}
    owner, begun, ended, kind = arrays(
        cursor,
        ("int", "time", "time", "int"),
        "select device_id, since, until, state from device_stretch where until > %(start)s and since < %(end)s"
        + (" and device_id = any(%(only)s)" if only is not None else ""),
        asked,
    )
    now = now if now is not None else lasting(cursor, only)
    begun_before = now[2] < us(end)
    device, state, since, last, cadence = (column[begun_before] for column in now)
    rest = going_on(device, state, since, last, cadence * 1_000_000, us(end), downtime(cursor, end))
    parts = [(owner, begun, ended, kind), (rest.device, rest.since, rest.until, rest.state)]
    return Stretches.of(parts).within(us(start), us(end))
