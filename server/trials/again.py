"""What decoding a span again would change, held against what is stored: nothing is written."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.batches import Decoded
from oculum.history.fleet import Fleet
from oculum.pipeline import Effects, Lot, process
from server.rules.lots import NO_DECODER, known_rows, lots_of
from server.rules.registry import Decoder, Registry, spoken_of
from server.store.messages import FIELDS, Arrived
from server.store.past import stored_of
from server.trials.past import Tally, compare

CHUNK = 5_000
MOST = 200_000
OF_TYPE = "m.device_id = any(select id from fleet_device where type_id = %(type)s)"
SPAN = f"from message m where {OF_TYPE} and m.received_at >= %(start)s and m.received_at < %(end)s"
REFUSED = f"from refused r join message m on m.id = r.message_id and m.received_at = r.received_at where {OF_TYPE}"


def preview(type_id: int, start: datetime | None, end: datetime | None) -> Iterator[dict[str, Any]]:
    """{"done", "total"} as it goes, at last {"result"}: the messages of a span, or the refused ones, by the versions
    their devices run.

    At most 200,000 messages, the newest. Leaving off reading it ends the work.
    """
    registry = Registry()
    where = {"type": type_id, "start": start, "end": end, "most": MOST}
    source = SPAN if start is not None else REFUSED
    tally = Tally()
    url = settings.INSTANCE.database_url()
    with psycopg.connect(url, application_name="oculum preview") as own, psycopg.connect(url) as beside:
        beside.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        own.execute("set local statement_timeout = '120s'")
        registry.load(beside)
        row = own.execute(f"select count(*) from (select 1 {source} limit %(most)s) x", where).fetchone()
        total = int(row[0]) if row else 0
        yield {"done": 0, "total": total}
        with own.cursor("preview", binary=True) as cursor:
            cursor.execute(f"select {FIELDS} {source} order by m.received_at desc, m.id desc limit %(most)s", where)
            while rows := cursor.fetchmany(CHUNK):
                rows.sort(key=lambda r: r[0])
                arrived = Arrived.of(rows)
                ids, device = arrived.ids, arrived.device
                lots, without = lots_of(beside, registry, arrived, known_rows(registry, arrived))
                order = np.maximum.accumulate(arrived.received)
                effects = process(
                    [lot for _, lot in lots],
                    device,
                    order,
                    ids,
                    Fleet(),
                    registry.type_of,
                    None,
                    0,
                    0,
                    registry.owner,
                )
                for (_, lot), decoded in zip(lots, effects.decoded, strict=True):
                    tally.count(decoded, ids[lot.index])
                tally.done += len(without)
                for row_number in without.tolist():
                    tally.refuse(*NO_DECODER, 0, int(ids[row_number]))
                span = int(arrived.received.min()), int(arrived.received.max())
                old = stored_of(beside, ids, span, spoken_of(registry, device.tolist()))
                spoken = np.zeros(len(ids), bool)
                for group in old.groups:
                    spoken[group.rows] = True
                bad = {
                    r[0]
                    for r in beside.execute(
                        "select message_id from refused where message_id = any(%s)", (ids.tolist(),)
                    ).fetchall()
                }
                tally.good_before += sum(
                    1 for i, said in zip(ids.tolist(), spoken.tolist(), strict=True) if said or i not in bad
                )
                compare(tally.fields, joined(lots, effects, len(ids)), old, device)
                yield {"done": tally.done, "total": max(total, tally.done)}
    yield {"result": tally.result()}


def joined(lots: list[tuple[Decoder, Lot]], effects: Effects, count: int) -> Decoded:
    """What the lots of a batch gave as one, its rows those of the batch."""
    groups = [
        replace(group, rows=lot.index[group.rows])
        for (_, lot), decoded in zip(lots, effects.decoded, strict=True)
        for group in decoded.groups
    ]
    none = np.full(count, -1, np.int32)
    return Decoded(groups, [], none, none, [], np.zeros(count, np.int64))
