"""Decoding refused messages once more, in the background, a portion between two batches."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from psycopg.types.json import Jsonb

from oculum.batches import Payloads
from oculum.history.events import build_events, newest_after
from oculum.pipeline import decode_batch

from .rows import build_rows
from .store import Refused, write_latest, write_refused, write_rows

if TYPE_CHECKING:
    from .worker import Engine

PORTION = 2000


def decode_again_step(engine: Engine) -> bool:
    """One portion of the oldest waiting job; False if there is none. Raises no alarms: the past is over."""
    c = engine.connection
    with c.transaction():
        job = c.execute("select id, type_id, after_id, total from history_decodeagain where state in ('waiting', 'running') order by id limit 1 for update").fetchone()
        if job is None:
            return False
        job_id, type_id, after, total = job
        decoder = engine.registry.decoders.get(type_id)
        base = "from refused r join fleet_device d on d.id = r.device_id where d.type_id = %s and d.part = %s"
        if not total:
            count = c.execute(f"select count(*) {base}", (type_id, engine.part)).fetchone()
            c.execute("update history_decodeagain set total = %s, state = 'running' where id = %s", (count[0] if count else 0, job_id))
        rows = c.execute(
            "select m.id, (extract(epoch from m.received_at) * 1000000)::bigint, m.device_id, m.payload from (select r.message_id, r.received_at "
            f"{base} and r.message_id > %s order by r.message_id limit %s) k join message m on m.id = k.message_id and m.received_at = k.received_at order by m.id",
            (type_id, engine.part, after, PORTION),
        ).fetchall()
        if not rows or decoder is None:
            c.execute("update history_decodeagain set state = 'done', done = greatest(done, total) where id = %s", (job_id,))
            return True
        ids, received, device = (np.array([r[k] for r in rows], np.int64) for k in range(3))
        payloads = Payloads.of([r[3] for r in rows], received)
        decoded = decode_batch(decoder.plan, payloads, 0)
        for group in decoded.groups:
            layout = engine.layouts.number(c, group.fields)
            write_rows(c, build_rows(group, decoded.reasons, layout, decoder.version_id, device, ids, received))
        good = np.flatnonzero(decoded.good)
        c.execute("delete from refused where message_id = any(%s)", (ids[good].tolist(),))
        c.execute(
            "update activity a set failed = greatest(a.failed - g.n, 0) from (select d, date_trunc('hour', t, 'UTC') as hour, count(*) as n"
            " from unnest(%s::int[], (select array_agg(to_timestamp(u / 1e6) order by o) from unnest(%s::bigint[]) with ordinality x(u, o))) g(d, t) group by 1, 2) g"
            " where a.device_id = g.d and a.hour = g.hour",
            (device[good].tolist(), received[good].tolist()),
        )
        still = np.flatnonzero(~decoded.good).tolist()
        write_refused(c, [
            Refused(int(ids[i]), int(received[i]), int(device[i]), decoder.version_id, f.code, f.message[:300], f.line, int(decoded.byte[i]))
            for i in still for f in [decoded.failures[decoded.failure[i]]]
        ])  # fmt: skip
        order = np.maximum.accumulate(received)
        events = build_events(decoded, device, order, engine.newest, ids)
        touched: set[int] = set()
        for key, (found, row) in newest_after(events).items():
            engine.newest[key] = found
            engine.latest.setdefault(key[0], {})[key[1]] = [found.value, found.at, int(ids[row]), int(received[row])]
            touched.add(key[0])
        write_latest(c, [(d, int(ids[device == d][-1]), int(received[device == d][-1]), 0, False, engine.latest[d]) for d in sorted(touched)])
        c.execute(
            "update history_decodeagain set done = done + %s, decoded = decoded + %s, after_id = %s where id = %s",
            (len(rows), len(good), int(ids[-1]), job_id),
        )
        names = [engine.registry.devices[d].name for d in sorted(touched)]
        c.execute("insert into live_change (body) values (%s)", (Jsonb({"messages": 0, "devices": names, "alarms": [], "control": ["again"]}),))
        c.execute("select pg_notify('oculum_live', '')")
    return True
