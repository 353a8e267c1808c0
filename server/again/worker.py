"""Decoding stored messages once more: a worker of its own, beside the engine, a portion at a time."""

from __future__ import annotations

import logging
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from psycopg.types.json import Jsonb

from oculum.history.events import Newest, eras
from oculum.routing.router import Router
from oculum.text import harmless
from server.rules.lots import NO_DECODER, built_rows, refusals, refuse, said
from server.rules.once_more import PORTION, among_others, back_of, look_back, once_more
from server.rules.registry import Registry, spoken_of
from server.rules.shares import WHOLE
from server.store.activity import Said, count_again, count_anew
from server.store.faults import of_the_database
from server.store.meeting import one_of_each
from server.store.messages import FIELDS, Arrived
from server.store.notices import notice, tell
from server.store.readings import Layouts, RefusedMessage, write_refused, write_rows
from server.store.rows import COLUMNS, Rows, listed
from server.store.sealed import open_ahead
from server.store.summed import HOUR_US
from server.store.times import us
from server.store.turns import writers_turn

log = logging.getLogger("oculum.again")
MOST_BYTES = 16 * 1024 * 1024
FAR = 1_000_000  # numbers that are gone through at most for one portion
REFUSED = "from refused r join fleet_device d on d.id = r.device_id where d.type_id = %(type)s"
SPAN = (
    "from message m join fleet_device d on d.id = m.device_id where d.type_id = %(type)s"
    " and m.received_at >= %(start)s and m.received_at < %(end)s"
)
JOB = 'id, type_id, after_id, total, done, start, "end", by, trying'


@dataclass(frozen=True)
class Job:
    """What is to be decoded again: the refused messages of a type, or all that arrived in [start, end).

    trying: how many messages a worker has at most in hand, for whoever comes after one that died of them.
    """

    id: int
    type_id: int
    after: int
    total: int
    done: int
    start: datetime | None
    end: datetime | None
    by: str
    trying: int | None

    @property
    def whole_span(self) -> bool:
        return self.start is not None and self.end is not None

    @property
    def place(self) -> tuple[int, int, str]:
        return self.id, self.after, self.by

    @property
    def where(self) -> dict[str, Any]:
        return {"type": self.type_id, "after": self.after, "start": self.start, "end": self.end}


@dataclass(frozen=True)
class Portion:
    """The next messages of a job, decoded; none where a long way held none.

    until: the number up to which these are all. rows: what is to be stored. failed: bool (n,), what was refused
    wholly; without: rows that have no decoder.
    """

    job: Job
    until: int
    arrived: Arrived
    rows: list[Rows]
    refused: list[RefusedMessage]
    failed: np.ndarray
    without: np.ndarray
    newest: dict[tuple[int, str], tuple[Newest, int]]
    said: Said | None = None  # what all of them say, where nothing of the span is left out


class Again:
    """Works on the jobs, one after the other. Raises no alarms: the past is over.

    A portion that cannot be decoded or written is halved; a single message that cannot be is set aside, and the job
    goes on. How large a portion is in hand stands in the database, so that this holds also where a message ends the
    process. While one portion is written, the next is decoded.
    """

    def __init__(self, url: str) -> None:
        self.connection = psycopg.connect(url, autocommit=True, application_name="oculum again")
        self.reading = psycopg.connect(url, autocommit=True, application_name="oculum again ahead")
        if not self._only_one():
            raise RuntimeError("another process decodes again already")
        self.connection.execute("listen oculum_control")
        self.registry, self.known_to = Registry(), -1
        self.layouts = Layouts()
        self.pool = ThreadPoolExecutor(1)
        self.ahead: tuple[tuple[int, int, str], Future[Portion | None]] | None = None
        self.most: int | None = None
        self.span: tuple[int, int, int] | None = None  # a job, and the first and last number of its span
        self.router: tuple[tuple[int, int], Router] | None = None  # a job, and the number behind which it stands

    def _only_one(self) -> bool:
        row = self.connection.execute("select pg_try_advisory_lock(644, 0)").fetchone()
        return bool(row and row[0])

    def close(self) -> None:
        """Leaves off between two portions."""
        self._drop()
        self.connection.execute("update history_decodeagain set trying = null where state = 'running'")
        self.pool.shutdown()
        self.reading.close()
        self.connection.execute("select pg_advisory_unlock_all()")
        self.connection.close()

    def step(self, most: int = PORTION) -> bool:
        """One portion of the oldest waiting job; False if there is none."""
        job = self._job()
        if job is None:
            self._drop()
            return False
        if self.most is None:  # whoever had this in hand before has died of it
            self.most = most if job.trying is None else job.trying // 2
        size = min(self.most, most)
        try:
            if size == 0:
                self._aside(job, "it ended the process that decoded it")
            else:
                self._portion(job, size)
            self.most = min(max(size, 1) * 2, most)
        except Exception as error:
            self._drop()
            self.registry, self.known_to, self.layouts = Registry(), -1, Layouts()
            if isinstance(error, psycopg.Error) and of_the_database(error, self.connection):
                raise
            if size > 1:
                log.warning("%d messages could not be decoded again (%s); halving", size, type(error).__name__)
                self.most = size // 2
                return True
            log.exception("a message could not be decoded again and is set aside")
            self._renew()
            self._aside(job, f"{type(error).__name__}: {error}")
        return True

    # the job -------------------------------------------------------------------
    def _job(self) -> Job | None:
        """The oldest job that is not over. The registry is as the engine has it."""
        row = self.connection.execute(
            f"select {JOB} from history_decodeagain where state in ('waiting', 'running') order by id limit 1"
        ).fetchone()
        if row is None:
            return None
        self._renew()
        job = Job(*row)
        by = self.registry.runs_by(job.type_id)
        if job.by != by:
            # Other versions than those it began with: what was done so far is done once more, so that all is equal.
            job = replace(job, after=0, total=0, done=0, by=by)
            self.connection.execute(
                "update history_decodeagain set after_id = 0, total = 0, done = 0, decoded = 0, by = %s where id = %s",
                (by, job.id),
            )
        if not job.total:
            self.connection.execute(
                "update history_decodeagain set state = 'running', total ="
                f" (select count(*) {SPAN if job.whole_span else REFUSED}) where id = %(id)s"
                " and state in ('waiting', 'running')",
                job.where | {"id": job.id},
            )
        return job

    def _renew(self) -> None:
        row = self.connection.execute(
            "select c.id, exists (select 1 from control_event e where e.id > %s and e.id <= c.id)"
            " from (select min(id) as id from engine_cursor having count(*) > 0) c",
            (self.known_to,),
        ).fetchone()
        place, changed = row if row is not None else (0, False)
        if changed or self.known_to < 0:
            self._drop()
            self.registry = Registry()
            self.registry.load(self.connection, place)
        self.known_to = place

    def _drop(self) -> None:
        """What was decoded ahead is not wanted any more."""
        ahead, self.ahead, self.router = self.ahead, None, None
        if ahead is not None and not ahead[1].cancel():
            ahead[1].exception()  # waits until it is over, whatever came of it

    # a portion ------------------------------------------------------------------
    def _portion(self, job: Job, size: int) -> None:
        if job.trying != size:
            self.connection.execute("update history_decodeagain set trying = %s where id = %s", (size, job.id))
        if self.ahead is not None and self.ahead[0] == job.place:
            portion = self.ahead[1].result()
            self.ahead = None
        else:
            self._drop()
            portion = self._read(job, size)
        if portion is None:
            self.connection.execute(
                "update history_decodeagain set state = 'done', done = greatest(done, total), trying = null"
                " where id = %s and state = 'running'",
                (job.id,),
            )
            return
        following = replace(job, after=portion.until)
        self.ahead = following.place, self.pool.submit(self._read, following, size)
        self._open(portion)
        with self.connection.transaction():
            self._write(portion)

    def _open(self, portion: Portion) -> None:
        """Opens the sealed days of what the messages gave before."""
        arrived = portion.arrived
        if len(arrived) and portion.job.whole_span:
            first, last = int(arrived.received.min()), int(arrived.received.max())
            open_ahead(self.connection, spoken_of(self.registry, arrived.device.tolist()), first, last)

    def _messages(self, c: psycopg.Connection[Any], job: Job, most: int) -> tuple[Arrived, int] | None:
        """The next messages of a job, in their order, and the number up to which these are all; None at its end. Not
        beyond a place at which the clock was set back, and not more than fit into memory.
        """
        with c.cursor(binary=True) as cursor:
            found = self._of_span(cursor, job, most) if job.whole_span else self._refused(cursor, job, most)
        if found is None:
            return None
        arrived, until = found
        if len(arrived):
            sizes = np.cumsum([len(payload) for payload in arrived.payloads])
            end = min(eras(arrived.received, 0)[0][1], max(int(np.searchsorted(sizes, MOST_BYTES, "right")), 1))
            if end == most:
                end = whole_hours(arrived.received[:end])
            if end < len(arrived):
                return arrived.part(0, end), int(arrived.ids[end - 1])
        return arrived, until

    def _refused(self, cursor: psycopg.Cursor[Any], job: Job, most: int) -> tuple[Arrived, int] | None:
        rows = cursor.execute(
            f"select {FIELDS} from (select r.message_id, r.received_at {REFUSED} and r.message_id > %(after)s"
            " and r.message_id <= %(known)s"
            " order by r.message_id limit %(most)s) k"
            " join message m on m.id = k.message_id and m.received_at = k.received_at order by m.id",
            job.where | {"most": most, "known": self.known_to},
        ).fetchall()
        return (Arrived.of(rows), int(rows[-1][0])) if rows else None

    def _of_span(self, cursor: psycopg.Cursor[Any], job: Job, most: int) -> tuple[Arrived, int] | None:
        """Stretches of numbers are gone through one after the other, each longer where the one before held little."""
        if self.span is None or self.span[0] != job.id:
            first, last = (
                cursor.execute(
                    f"select id from message where received_at >= %s and received_at < %s order by id {order} limit 1",
                    (job.start, job.end),
                ).fetchone()
                or (0,)
                for order in ("asc", "desc")
            )
            self.span = job.id, int(first[0]), int(last[0])
        place, end = max(job.after, self.span[1] - 1), min(self.span[2], self.known_to)
        if place >= end:
            return None
        owners = [d.id for d in self.registry.devices.values() if d.type_id == job.type_id]
        rows: list[tuple[Any, ...]] = []
        begun, width = place, 4 * most
        while len(rows) < most and place < end and place - begun < FAR:
            upto, wanted = min(place + width, end), most - len(rows)
            some = cursor.execute(
                f"select {FIELDS} from message m where m.id > %s and m.id <= %s"
                " and m.device_id = any(%s) and m.received_at >= %s and m.received_at < %s order by m.id limit %s",
                (place, upto, owners, job.start, job.end, wanted),
            ).fetchall()
            rows += some
            place = int(some[-1][0]) if len(some) == wanted else upto
            width *= 2
        return Arrived.of(rows), place

    def _read(self, job: Job, size: int) -> Portion | None:
        """The next messages of a job, decoded; None at its end."""
        c = self.reading
        found = self._messages(c, job, size)
        if found is None:
            return None
        arrived, until = found
        if not job.whole_span and len(arrived) and (back := back_of(self.registry, job.type_id)):
            return self._among_others(job, c, arrived, until, back)
        router = self._router(job, c)
        gone = once_more(c, self.registry, arrived, router)
        self.router = (job.id, until), router
        rows = built_rows(c, self.layouts, gone.lots, gone.effects, arrived)
        refused, failed = refusals(gone.lots, gone.effects, arrived)
        told = said(gone.lots, gone.effects, arrived, self.registry, WHOLE) if job.whole_span else None
        return Portion(job, until, arrived, rows, refused, failed, gone.without, gone.effects.newest, told)

    def _among_others(self, job: Job, c: psycopg.Connection[Any], arrived: Arrived, until: int, back: int) -> Portion:
        """Refused messages, with routes looking back on the others as in life."""
        built: list[Rows] = []
        refused: list[RefusedMessage] = []
        failed, without = np.zeros(len(arrived), bool), np.zeros(len(arrived), bool)
        newest: dict[tuple[int, str], tuple[Newest, int]] = {}
        for place, gone in among_others(c, self.registry, arrived, self._router(job, c), back):
            part = arrived.chosen(place)
            built += built_rows(c, self.layouts, gone.lots, gone.effects, part)
            told, wholly = refusals(gone.lots, gone.effects, part)
            refused += told
            failed[place], without[place[gone.without]] = wholly, True
            for key, found in gone.effects.newest.items():
                if key not in newest or newest[key][0].at <= found[0].at:
                    newest[key] = found
        return Portion(job, until, arrived, built, refused, failed, np.flatnonzero(without), newest)

    def _makes_sites(self, job: Job) -> bool:
        """Whether all that the readings of sites are made of comes by, so that they can be made again."""
        concerned = [r for r in self.registry.in_order() if r.plan.gathered and job.type_id in r.types]
        return job.whole_span and all(len(r.types) == 1 for r in concerned)

    def _router(self, job: Job, c: psycopg.Connection[Any]) -> Router:
        """The routes in force as they stand at the place of a job: what they look back on has been seen before it."""
        if self.router is not None and self.router[0] == (job.id, job.after):
            return self.router[1]
        registry = self.registry
        router = registry.router()
        whole = self._makes_sites(job)
        router.gathers = lambda route: whole
        if job.whole_span and job.start is not None:
            which = "(m.received_at < %s or m.id <= %s)"
            look_back(c, registry, router, job.type_id, us(job.start), which, job.start, job.after)
        return router

    def _held(self, job: Job) -> bool:
        """Whether a job still stands where it stood; it does until the end of the transaction."""
        row = self.connection.execute(
            "select after_id = %s and by = %s and state in ('waiting', 'running') from history_decodeagain"
            " where id = %s for update",
            (job.after, job.by, job.id),
        ).fetchone()
        return row is not None and bool(row[0])

    def _write(self, portion: Portion) -> None:
        """What a portion gives takes the place of what its messages gave before."""
        c, job, arrived, failed = self.connection, portion.job, portion.arrived, portion.failed
        writers_turn(c)
        if not self._held(job):
            return
        ids = arrived.ids
        if not len(ids):
            c.execute("update history_decodeagain set after_id = %s where id = %s", (portion.until, job.id))
            return
        if job.whole_span:
            # What the messages gave before goes on record, so that nothing stands twice. The index knows
            # a stretch of the table only once it is summed up.
            c.execute("select brin_summarize_new_values('reading_message')")
            kept = [] if self._makes_sites(job) else list(self.registry.world.own_devices().values())
            c.execute(
                "with gone as (delete from reading_row r using unnest(%s::bigint[]) k(id) where r.message_id = k.id"
                f" and r.message_id between %s and %s and r.device_id <> all(%s::int[]) returning {listed('r')})"
                f" insert into replaced_reading ({COLUMNS}) select {COLUMNS} from gone",
                (ids.tolist(), int(ids[0]), int(ids[-1]), kept),
            )
        within = int(ids[0]), int(ids[-1])
        gone = []
        if c.execute("select 1 from refused where message_id between %s and %s limit 1", within).fetchone():
            gone = c.execute(
                "delete from refused where message_id = any(%s) returning message_id, code", (ids.tolist(),)
            ).fetchall()
        for rows in portion.rows:
            write_rows(c, rows)
        one_of_each(c, self.layouts, portion.rows)
        decoded = int((~failed).sum()) - len(portion.without)
        write_refused(c, portion.refused + refuse(arrived, portion.without, *NO_DECODER))
        before = {ident for ident, code in gone if code != NO_DECODER[0]}
        _count(c, arrived, failed, before)
        if portion.said is not None:
            count_again(c, arrived.device, arrived.received, portion.said)
        else:
            count_anew(c, arrived.device.tolist(), arrived.received.tolist())
        was = np.isin(arrived.ids, np.array(sorted(before), np.int64))
        self._tell(portion, was != failed)
        c.execute(
            "update history_decodeagain set done = done + %s, decoded = decoded + %s, after_id = %s where id = %s",
            (len(arrived), decoded, portion.until, job.id),
        )

    def _tell(self, portion: Portion, otherwise: np.ndarray) -> None:
        """What the engine has to look up anew goes into the stream: newest values that the messages gave or give, and
        since when messages of a device came out otherwise than before.
        """
        c, registry, arrived, failed = self.connection, self.registry, portion.arrived, portion.failed
        place = {int(message): i for i, message in enumerate(arrived.ids.tolist())}
        senders = set(arrived.device.tolist())
        concerned = senders | {d.id for d in registry.devices.values() if d.gateway_id in senders}
        names: dict[int, set[str]] = {}
        last: list[tuple[int, int, bool]] = []
        stored: dict[int, dict[str, Any]] = {}
        for device, message, fields in c.execute(
            "select device_id, message_id, fields from latest where device_id = any(%s)", (sorted(concerned),)
        ).fetchall():
            stored[device] = fields
            forgotten = {name for name, (_, _, given, *_) in fields.items() if given in place}
            if forgotten:
                names[device] = forgotten
            if message in place:
                last.append((device, message, bool(failed[place[message]])))
        for (device, name), (found, _) in portion.newest.items():
            entry = stored.get(device, {}).get(name)
            if entry is None or found.at >= entry[1]:
                names.setdefault(device, set()).add(name)
        outcomes: dict[str, int] = {}
        for row in np.flatnonzero(otherwise).tolist():
            key, at = str(int(arrived.device[row])), int(arrived.received[row])
            outcomes[key] = min(outcomes.get(key, at), at)
        if names or last or outcomes:
            body = {
                "newest": {str(d): sorted(some) for d, some in names.items()},
                "last": last,
                "outcomes": outcomes,
            }
            c.execute("insert into control_event (kind, body) values ('again', %s)", (Jsonb(body),))
            notice(c, "oculum_control")
        told = [registry.devices[d].name for d in sorted(names) if d in registry.devices][:500]
        tell(c, {"messages": 0, "devices": told, "alarms": [], "control": ["again"]})

    def _aside(self, job: Job, reason: str) -> None:
        """Goes on behind the next message of the job, which is refused; a job that fails without one has failed."""
        c = self.connection
        with c.transaction():
            writers_turn(c)
            if not self._held(job):
                return
            found = self._messages(c, job, 1)
            if found is None:
                c.execute(
                    "update history_decodeagain set state = 'failed', reason = %s, trying = null where id = %s",
                    (harmless(reason, 300)[:300], job.id),
                )
                return
            arrived, until = found
            write_refused(c, refuse(arrived, np.arange(len(arrived)), "unwritable", reason))
            c.execute(
                "update history_decodeagain set done = done + %s, after_id = %s, trying = 1 where id = %s",
                (len(arrived), until, job.id),
            )


def whole_hours(received: np.ndarray) -> int:
    """How many of some arrivals, µs, lie before the hour in which the last one does, so that the next portion begins
    with an hour; all, where that would be less than half of them.
    """
    end = int(np.searchsorted(received // HOUR_US, received[-1] // HOUR_US))
    return end if end * 2 > len(received) else len(received)


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
