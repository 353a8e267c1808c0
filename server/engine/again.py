"""Decoding stored messages once more, in the background, a portion between two batches."""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

import numpy as np
import psycopg
from psycopg.types.json import Jsonb

from oculum.history.events import SET_BACK_US, Newest, eras
from oculum.pipeline import Effects, process
from oculum.text import harmless
from server.store.faults import of_the_database

from .feeding import FIELDS, Arrived
from .lots import NO_DECODER, known_rows, lots_of, refuse, write_lots
from .rows import COLUMNS
from .store import Fenced, latest_entry, newest_stored, write_latest, write_refused

if TYPE_CHECKING:
    from .worker import Engine

log = logging.getLogger("oculum.engine")
PORTION = 2000
REFUSED = "from refused r join fleet_device d on d.id = r.device_id where d.type_id = %(type)s and d.part = %(part)s"
SPAN = (
    "from message m join fleet_device d on d.id = m.device_id where d.type_id = %(type)s and m.part = %(part)s"
    " and m.received_at >= %(start)s and m.received_at < %(end)s"
)
LISTED = ", ".join(f"r.{c.strip()}" for c in COLUMNS.split(","))


@dataclass(frozen=True)
class Job:
    """What is to be decoded again: the refused messages of a type, or all that arrived in [start, end)."""

    id: int
    type_id: int
    after: int
    total: int
    done: int
    start: datetime | None
    end: datetime | None
    by: str

    @property
    def whole_span(self) -> bool:
        return self.start is not None and self.end is not None

    def where(self, part: int) -> dict[str, Any]:
        return {"type": self.type_id, "part": part, "after": self.after, "start": self.start, "end": self.end}


def _next_job(c: psycopg.Connection[Any]) -> Job | None:
    row = c.execute(
        'select id, type_id, after_id, total, done, start, "end", by from history_decodeagain'
        " where state in ('waiting', 'running') order by id limit 1 for update"
    ).fetchone()
    return Job(*row) if row is not None else None


def _portion(c: psycopg.Connection[Any], job: Job, part: int, most: int) -> Arrived:
    """The next messages of a job, in their order; not beyond a place at which the clock was set back."""
    if job.whole_span:
        query = f"select {FIELDS} {SPAN} and m.id > %(after)s order by m.id limit %(most)s"
    else:
        query = (
            f"select {FIELDS} from (select r.message_id, r.received_at {REFUSED} and r.message_id > %(after)s"
            " order by r.message_id limit %(most)s) k"
            " join message m on m.id = k.message_id and m.received_at = k.received_at order by m.id"
        )
    arrived = Arrived.of(c.execute(query, job.where(part) | {"most": most}).fetchall())
    return arrived.part(0, eras(arrived.received, 0)[0][1]) if len(arrived) else arrived


def decode_again_step(engine: Engine, most: int = PORTION) -> bool:
    """One portion of the oldest waiting job; False if there is none. Raises no alarms: the past is over.

    A portion that cannot be written is halved; a single message that cannot be is set aside, and the job goes on.
    """
    try:
        with engine.connection.transaction():
            return _step(engine, most)
    except Fenced:
        raise
    except Exception as error:
        if isinstance(error, psycopg.Error) and of_the_database(error, engine.connection):
            raise
        engine.load()
        if most > 1:
            log.warning("%d messages could not be decoded again (%s); halving", most, type(error).__name__)
            return decode_again_step(engine, most // 2)
        log.exception("a message could not be decoded again and is set aside")
        with engine.connection.transaction():
            _aside(engine, f"{type(error).__name__}: {error}")
        return True


def _aside(engine: Engine, reason: str) -> None:
    """Goes on behind the next message of the job, which is refused; a job that fails without one has failed."""
    c = engine.connection
    job = _next_job(c)
    if job is None:
        return
    arrived = _portion(c, job, engine.part, 1)
    if not len(arrived):
        c.execute(
            "update history_decodeagain set state = 'failed', reason = %s where id = %s",
            (harmless(reason, 300)[:300], job.id),
        )
        return
    write_refused(c, refuse(arrived, np.zeros(1, np.int64), "unwritable", reason))
    c.execute(
        "update history_decodeagain set done = done + 1, after_id = %s where id = %s", (int(arrived.ids[0]), job.id)
    )


def _step(engine: Engine, most: int) -> bool:
    c = engine.connection
    engine.hold()
    job = _next_job(c)
    if job is None:
        return False
    by = engine.registry.runs_by(job.type_id)
    if job.by != by:
        # Other versions than those it began with: what was done so far is done once more, so that all of it is equal.
        job = replace(job, after=0, total=0, done=0)
        c.execute(
            "update history_decodeagain set after_id = 0, total = 0, done = 0, decoded = 0, by = %s where id = %s",
            (by, job.id),
        )
    if not job.total:
        count = c.execute(f"select count(*) {SPAN if job.whole_span else REFUSED}", job.where(engine.part)).fetchone()
        c.execute(
            "update history_decodeagain set total = %s, state = 'running' where id = %s",
            (count[0] if count else 0, job.id),
        )
    arrived = _portion(c, job, engine.part, most)
    if not len(arrived):
        c.execute(
            "update history_decodeagain set state = 'done', done = greatest(done, total) where id = %s", (job.id,)
        )
        return True
    ids, received, device = arrived.ids, arrived.received, arrived.device
    lots, without = lots_of(c, engine.registry, arrived, known_rows(engine.registry, arrived))
    forgotten = _forget(engine, ids, device)
    effects = process(
        [lot for _, lot in lots],
        device,
        np.maximum.accumulate(received),
        ids,
        engine.newest,
        engine.registry.type_of,
        lambda _: [],
        0,
        0,
        engine.registry.owner,
    )
    if job.whole_span:
        # What the messages gave before goes on record, so that nothing stands twice. The index knows
        # a stretch of the table only once it is summed up.
        c.execute("select brin_summarize_new_values('reading_message')")
        c.execute(
            "with gone as (delete from reading_row r using unnest(%s::bigint[]) k(id) where r.message_id = k.id"
            f" and r.message_id between %s and %s returning {LISTED})"
            f" insert into replaced_reading ({COLUMNS}) select {COLUMNS} from gone",
            (ids.tolist(), int(ids[0]), int(ids[-1])),
        )
    gone = c.execute(
        "delete from refused where message_id = any(%s) returning message_id, code", (ids.tolist(),)
    ).fetchall()
    refused, failed = write_lots(c, engine.layouts, lots, effects, arrived)
    decoded = int((~failed).sum()) - len(without)
    write_refused(c, refused + refuse(arrived, without, *NO_DECODER))
    _count(c, arrived, failed, {ident for ident, code in gone if code != NO_DECODER[0]})
    touched = _latest(engine, arrived, effects, forgotten, failed)
    c.execute(
        "update history_decodeagain set done = done + %s, decoded = decoded + %s, after_id = %s where id = %s",
        (len(arrived), decoded, int(ids[-1]), job.id),
    )
    names = [engine.registry.devices[d].name for d in sorted(touched) if d in engine.registry.devices][:500]
    c.execute(
        "insert into live_change (body) values (%s)",
        (Jsonb({"messages": 0, "devices": names, "alarms": [], "control": ["again"]}),),
    )
    c.execute("select pg_notify('oculum_live', '')")
    return True


def _count(c: psycopg.Connection[Any], arrived: Arrived, failed: np.ndarray, before: set[int]) -> None:
    """Moves the counts of refused messages by the hour. before: identities of those that were refused."""
    healed = [i for i in np.flatnonzero(~failed).tolist() if int(arrived.ids[i]) in before]
    newly = [i for i in np.flatnonzero(failed).tolist() if int(arrived.ids[i]) not in before]
    for chosen, step in ((healed, -1), (newly, 1)):
        c.execute(
            "update activity a set failed = greatest(a.failed + %s * g.n, 0) from (select d, date_trunc('hour', t,"
            " 'UTC') as hour, count(*) as n"
            " from unnest(%s::int[], (select array_agg(to_timestamp(u / 1e6) order by o) from unnest(%s::bigint[])"
            " with ordinality x(u, o))) g(d, t) group by 1, 2) g"
            " where a.device_id = g.d and a.hour = g.hour",
            (step, arrived.device[chosen].tolist(), arrived.received[chosen].tolist()),
        )


def _forget(engine: Engine, ids: np.ndarray, device: np.ndarray) -> dict[tuple[int, str], int]:
    """Newest values that these messages gave are none until they are decoded once more: their keys, with when they were
    measured.
    """
    senders, messages = set(device.tolist()), set(ids.tolist())
    concerned = senders | {d.id for d in engine.registry.devices.values() if d.gateway_id in senders}
    gone: dict[tuple[int, str], int] = {}
    for owner in concerned & engine.latest.keys():
        own = engine.latest[owner]
        for name in [n for n, (_, _, message, *_) in own.items() if message in messages]:
            gone[owner, name] = own.pop(name)[1]
            engine.newest.pop((owner, name), None)
    return gone


def _latest(
    engine: Engine, arrived: Arrived, effects: Effects, forgotten: dict[tuple[int, str], int], failed: np.ndarray
) -> set[int]:
    """The newest values after a portion; where its messages give none any more, those of what else is stored. Returns
    the devices concerned.
    """
    c, ids, received = engine.connection, arrived.ids, arrived.received
    touched = {owner for owner, _ in forgotten}
    for key, (found, row) in effects.newest.items():
        engine.newest[key] = found
        engine.latest.setdefault(key[0], {})[key[1]] = latest_entry(found, int(ids[row]), int(received[row]))
        touched.add(key[0])
    wanted: dict[int, set[str]] = {}
    for key, at in forgotten.items():
        if key not in engine.newest or engine.newest[key].at < at:
            wanted.setdefault(key[0], set()).add(key[1])
    for owner, names in wanted.items():
        for name, (value, at, message, arrival) in newest_stored(c, owner, names, engine.clock + SET_BACK_US).items():
            if (owner, name) not in engine.newest or engine.newest[owner, name].at < at:
                engine.newest[owner, name] = Newest(value, at)
                engine.latest.setdefault(owner, {})[name] = [value, at, message, arrival]
    place = {int(message): i for i, message in enumerate(ids.tolist())}
    last = {int(d): i for i, d in enumerate(arrived.device.tolist())}
    rows = c.execute(
        "select device_id, message_id, (extract(epoch from received_at) * 1000000)::bigint, failed from latest where"
        " device_id = any(%s) or message_id = any(%s)",
        (sorted(touched), ids.tolist()),
    ).fetchall()
    known = {r[0]: r[1:] for r in rows}
    touched |= {d for d, (message, *_) in known.items() if message in place}
    write_latest(
        c,
        [
            (
                d,
                int(known[d][0]),
                int(known[d][1]),
                0,
                bool(failed[place[known[d][0]]]) if known[d][0] in place else bool(known[d][2]),
                engine.latest.get(d, {}),
            )
            if d in known
            else (d, int(ids[last.get(d, -1)]), int(received[last.get(d, -1)]), 0, False, engine.latest[d])
            for d in sorted(touched)
        ],
    )
    return touched
