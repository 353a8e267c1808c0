"""What routes have done, by line and hour, and readings on their way to outlets."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import orjson
import psycopg

from oculum.arrays import distinct
from oculum.routing.routed import SEEN, Counted, Sent
from server.store.notices import notice
from server.store.times import iso, moment

HOUR_US = 3_600_000_000
MOST_WAITING = 200_000  # readings that wait for one outlet
TRIMMED_EVERY = 2_000


def write_counted(
    connection: psycopg.Connection[Any],
    counted: Iterable[Counted],
    received: np.ndarray,
    ids: np.ndarray,
    type_of: Any,
    has: Any,
) -> None:
    """Counts by line, type and hour of arrival. received, ids: int64 (n,) of the batch's messages; has: whether a
    device is of the share that is written.
    """
    keys: list[tuple[int, ...]] = []
    figures: list[tuple[int, int, int, int | None]] = []
    for one in counted:
        if not one.pieces:
            continue
        owners, which = np.unique(one.device, return_inverse=True)
        mine = np.array([has(d) for d in owners.tolist()], bool)[which]
        type_ = type_of(int(owners[0]))
        hour = received[one.row] // HOUR_US
        found: dict[tuple[int, int], list[int]] = {}
        for piece in one.pieces:
            own = piece.readings[mine[piece.readings]]
            cells, which = distinct(piece.base + piece.member[own], hour[own])
            last = np.full(cells.shape[1], -1)
            if piece.what != SEEN:
                np.maximum.at(last, which, one.row[own])
            for line, when, count, row in zip(*cells.tolist(), np.bincount(which).tolist(), last.tolist(), strict=True):
                figure = found.setdefault((line, when), [0, 0, 0, -1])
                figure[piece.what] += count
                figure[3] = max(figure[3], row)
        for (line, when), (seen, took, failed, example) in found.items():
            keys.append((*one.lines[line], type_, when))
            figures.append((seen, took, failed, int(ids[example]) if example >= 0 else None))
    if not keys:
        return
    columns = [*zip(*keys, strict=True)]
    numbers = [*zip(*figures, strict=True)]
    connection.execute(
        "insert into route_activity select * from unnest(%s::int[], %s::int[], %s::int[], %s::int[], %s::timestamptz[],"
        " %s::bigint[], %s::bigint[], %s::bigint[], %s::bigint[]) on conflict (definition_id, version_id, line,"
        " device_type, hour) do update set seen = route_activity.seen + excluded.seen, took = route_activity.took +"
        " excluded.took, failed = route_activity.failed + excluded.failed,"
        " message_id = coalesce(excluded.message_id, route_activity.message_id)",
        (
            *(list(column) for column in columns[:4]),
            [moment(hour * HOUR_US) for hour in columns[4]],
            *(list(column) for column in numbers),
        ),
    )


class Outbox:
    """Readings put where outlets take them from. The number of an outlet is looked up by its name once a batch."""

    def __init__(self) -> None:
        self.put: dict[int, int] = {}  # since what waits was last trimmed

    def write(self, connection: psycopg.Connection[Any], bodies: Mapping[str, list[dict[str, Any]]]) -> None:
        """bodies: readings as they go out, by outlet. What goes to an outlet that there is not any more is lost."""
        if not bodies:
            return
        known: dict[str, int] = dict(
            connection.execute("select name, id from telling_outlet where name = any(%s)", (list(bodies),)).fetchall()
        )
        for name, listed in bodies.items():
            outlet = known.get(name)
            if outlet is None:
                continue
            connection.execute(
                "insert into reading_out (outlet_id, body) select %s, b from unnest(%s::jsonb[]) with ordinality"
                " u(b, n) order by n",
                (outlet, [orjson.dumps(body).decode() for body in listed]),
            )
            self.put[outlet] = self.put.get(outlet, 0) + len(listed)
            if self.put[outlet] >= TRIMMED_EVERY:
                connection.execute("select reading_out_trim(%s, %s)", (outlet, MOST_WAITING))
                self.put[outlet] = 0
        notice(connection, "oculum_telling")


def outgoing(
    sent: Sent, device: str, title: str, site: str | None, route: str, received_us: int, message: int
) -> dict[str, Any]:
    """A reading as outlets hand it on."""
    return {
        "device": device,
        "title": title,
        "site": site,
        "at": iso(sent.at),
        "received_at": iso(received_us),
        "message": str(message),
        "route": route,
        "version": sent.version,
        "values": {name: {"value": value, "unit": unit} for name, (value, unit) in sent.values.items()},
        "marks": sent.marks,
    }


def lost(connection: Any, outlet: int, since: datetime) -> list[tuple[str, int]]:
    """Readings that an outlet has lost since a moment, by why."""
    return [
        (why, int(count))
        for why, count in connection.execute(
            "select why, sum(readings) from reading_out_lost where outlet_id = %s and hour >= date_trunc('hour',"
            " %s::timestamptz) group by 1 order by 2 desc",
            (outlet, since),
        ).fetchall()
    ]


@dataclass(frozen=True)
class Batch:
    """Readings that were sent to an outlet at once, and what it answered. first, last: their numbers, as text."""

    at: datetime
    readings: int
    first: str
    last: str
    took_ms: int
    good: bool
    answer: str


def last_batches(cursor: Any, outlet: int, most: int) -> list[Batch]:
    """What an outlet was sent last, the newest first."""
    cursor.execute(
        "select at, readings, first_id::text, last_id::text, took_ms, good, answer from reading_out_log where outlet_id"
        " = %s order by id desc limit %s",
        (outlet, most),
    )
    return [Batch(*row) for row in cursor.fetchall()]


def lose_waiting(cursor: Any, outlet: int, why: str) -> int:
    """Gives up what waits for an outlet, and counts it as lost; how many readings."""
    cursor.execute("select reading_out_lose(%s, %s, %s)", (outlet, 2**62, why))
    return int(cursor.fetchone()[0])
