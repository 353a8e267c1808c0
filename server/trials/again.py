"""What decoding a span again would change, held against what is stored: nothing is written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.batches import Decoded, Group
from oculum.pipeline import Effects, Lot, process
from server.engine.feeding import told
from server.engine.lots import NO_DECODER, Arrived, known_rows, lots_of
from server.engine.registry import Decoder, Registry

from .past import Compared, compare
from .stored import stored_of

CHUNK = 5_000
MOST = 200_000
FIELDS = "m.id, (extract(epoch from m.received_at) * 1000000)::bigint, m.device_id, m.payload, m.topic, m.headers"
OF_TYPE = "m.device_id = any(select id from fleet_device where type_id = %(type)s)"
SPAN = f"from message m where {OF_TYPE} and m.received_at >= %(start)s and m.received_at < %(end)s"
REFUSED = f"from refused r join message m on m.id = r.message_id and m.received_at = r.received_at where {OF_TYPE}"


def preview(type_id: int, start: datetime | None, end: datetime | None) -> Iterator[dict[str, Any]]:
    """{"done", "total"} as it goes, at last {"result"}: the messages of a span, or the refused ones, by the versions their devices run.

    At most 200,000 messages, the newest. Leaving off reading it ends the work.
    """
    registry = Registry()
    where = {"type": type_id, "start": start, "end": end, "most": MOST}
    source = SPAN if start is not None else REFUSED
    fields: dict[str, Compared] = {}
    reasons: Counter[tuple[str, str, int]] = Counter()
    examples: dict[tuple[str, str, int], str] = {}
    done = good = good_before = parts = 0
    url = settings.INSTANCE.database_url()
    with psycopg.connect(url, application_name="oculum preview") as own, psycopg.connect(url) as beside:
        own.execute("set local statement_timeout = '120s'")
        registry.load_devices(beside)
        for kind, body in beside.execute("select kind, body from control_event where kind <> 'registry' order by txid, id").fetchall():
            registry.apply(beside, kind, body)
        row = own.execute(f"select count(*) from (select 1 {source} limit %(most)s) x", where).fetchone()
        total = int(row[0]) if row else 0
        yield {"done": 0, "total": total}
        with own.cursor("preview", binary=True) as cursor:
            cursor.execute(f"select {FIELDS} {source} order by m.received_at desc, m.id desc limit %(most)s", where)
            while rows := cursor.fetchmany(CHUNK):
                rows.sort(key=lambda r: r[0])
                ids, received, device = (np.array([r[k] for r in rows], np.int64) for k in range(3))
                arrived = Arrived(ids, received, device, [bytes(r[3]) for r in rows], [], [told(r[4], r[5]) for r in rows])
                lots, without = lots_of(beside, registry, arrived, known_rows(registry, arrived))
                order = np.maximum.accumulate(received)
                effects = process([lot for _, lot in lots], device, order, ids, {}, registry.type_of, lambda _: [], 0, 0, registry.owner)
                now, failed = joined(lots, effects, len(ids))
                failed[without] = True
                reasons[*NO_DECODER, 0] += len(without)
                for (_, lot), decoded in zip(lots, effects.decoded, strict=True):
                    for i in np.flatnonzero(~decoded.good).tolist():
                        failure = decoded.failures[decoded.failure[i]]
                        reasons[failure.code, failure.message, failure.line] += 1
                        examples[failure.code, failure.message, failure.line] = str(ids[lot.index[i]])
                    parts += len({p.row for p in decoded.parts})
                old = stored_of(beside, ids)
                spoken = np.zeros(len(ids), bool)
                for group in old.groups:
                    spoken[group.rows] = True
                bad = {r[0] for r in beside.execute("select message_id from refused where message_id = any(%s)", (ids.tolist(),)).fetchall()}
                good_before += sum(1 for i, said in zip(ids.tolist(), spoken.tolist(), strict=True) if said or i not in bad)
                compare(fields, now, old, device)
                done += len(ids)
                good += int((~failed).sum())
                yield {"done": done, "total": max(total, done)}
    rows_out = [found.as_dict(name, True) for name, found in fields.items()]
    yield {
        "result": {
            "messages": done, "decoded": good, "failed": done - good, "partly": parts, "decoded_before": good_before,
            "reasons": [{"code": c, "message": m, "line": line, "count": n, "example": examples.get((c, m, line), "")} for (c, m, line), n in reasons.most_common(20) if n],
            "fields": sorted(rows_out, key=lambda r: (-(r["differ"] or 0), r["field"])),
        }
    }  # fmt: skip


def joined(lots: list[tuple[Decoder, Lot]], effects: Effects, count: int) -> tuple[Decoded, np.ndarray]:
    """The lots of a batch as one, its rows those of the batch; and which of them failed, bool (n,)."""
    groups: list[Group] = []
    failed = np.zeros(count, bool)
    for (_, lot), decoded in zip(lots, effects.decoded, strict=True):
        failed[lot.index[np.flatnonzero(~decoded.good)]] = True
        groups += [replace(group, rows=lot.index[group.rows]) for group in decoded.groups]
    none = np.full(count, -1, np.int32)
    return Decoded(groups, [], none, none, [], np.zeros(count, np.int64)), failed
