"""The engine: inbox to readings, alarms and notices, one transaction a batch with its place in the stream.

Several engines may divide what is written; each goes through the whole stream, and knows the whole fleet.
Everything it holds in memory is read back from the database at start; when a batch cannot be
written, memory is thrown away and read back the same way.
"""

from __future__ import annotations

import contextlib
import logging
import secrets
import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.alarms.memory import recalled, remembered
from oculum.alarms.room import Room
from oculum.alarms.watched import Transition
from oculum.arrays import distinct
from oculum.errors import EvaluationFailed
from oculum.history.events import Newest, eras
from oculum.history.fleet import Fleet
from oculum.history.following import SET_BACK_US
from oculum.history.stretches import BY_OTHERS, FAILED, OK, UNDECODABLE, Presence, Stretches
from oculum.pipeline import process
from oculum.routing.memory import recalled as routes_recalled
from oculum.routing.memory import remembered as routes_remembered
from oculum.routing.routed import Sent
from oculum.routing.router import RouteFailed
from server.engine import alarms
from server.engine.unaided import make, unaided
from server.rules.lots import NO_DECODER, built_rows, known_rows, lots_of, refusals, refuse, said
from server.rules.registry import Registry
from server.rules.shares import WHOLE, Share
from server.store.activity import write_activity
from server.store.faults import of_the_database
from server.store.meeting import one_of_each
from server.store.messages import FIELDS, Arrived
from server.store.notices import tell
from server.store.readings import (
    Fenced,
    Layouts,
    latest_entry,
    newest_of,
    newest_stored,
    write_latest,
    write_refused,
    write_rows,
)
from server.store.routing import Outbox, outgoing, write_counted
from server.store.stretches import stands_of, unmade, write_stretches
from server.store.times import moment
from server.store.turns import writers_turn

log = logging.getLogger("oculum.engine")
MOST = 20_000
MOST_BYTES = 16 * 1024 * 1024
KEEP_MESSAGES, KEEP_S = 20_000, 20.0  # after which what conditions remember is kept anew


# Number, kind, body, moment in µs: a change that counts from its place in the stream.
Event = tuple[int, str, dict[str, Any], int]


@dataclass
class Told:
    """What a batch tells the live feed: small, and bounded."""

    messages: int = 0
    devices: set[int] = field(default_factory=set)
    alarms: list[int] = field(default_factory=list)
    control: list[str] = field(default_factory=list)


class Engine:
    def __init__(self, url: str, share: Share = WHOLE) -> None:
        self.url, self.share = url, share
        self.connection = psycopg.connect(url, autocommit=True, application_name=f"oculum engine {share.number}")
        self.holder = secrets.token_hex(8)
        self.listening = psycopg.connect(url, autocommit=True, application_name="oculum engine notices")
        for channel in ("oculum_arrival", "oculum_control"):
            self.listening.execute(f"listen {channel}")
        if not self._only_one():
            raise RuntimeError(f"another engine works on share {share.number} already")
        self.packs: dict[int, list[bytes]] = {}  # SenML packs by type, that wait for a decoder to be made
        self.broken: set[int] = set()  # versions of conditions and routes whose evaluation failed
        self.outbox = Outbox()
        self.failed_makes: Counter[int] = Counter()  # by type
        self.playing = False  # the stream is gone through once more, and nothing of it is written
        self.kept_at, self.kept_when = 0, time.monotonic()
        self.take_over()

    def _only_one(self) -> bool:
        row = self.connection.execute("select pg_try_advisory_lock(640, %s)", (self.share.number,)).fetchone()
        return bool(row and row[0])

    def take_over(self) -> None:
        """This engine works on its share from here on; whichever did before can write no more."""
        c, share = self.connection, self.share
        if share == WHOLE:
            c.execute(
                "insert into engine_cursor (share, shares, id) select 0, 1, 0"
                " where not exists (select 1 from engine_cursor) on conflict do nothing"
            )
        held = c.execute(
            "update engine_cursor set holder = %s where share = %s and shares = %s",
            (self.holder, share.number, share.of),
        )
        if not held.rowcount:
            raise RuntimeError(f"the stream is not divided among {share.of} engines")
        self.load()

    # memory ------------------------------------------------------------------
    def load(self) -> None:
        """All state from the database, as of the cursor."""
        c = self.connection
        row = c.execute(
            "select id, (extract(epoch from clock) * 1000000)::bigint from engine_cursor"
            " where share = %s and holder = %s",
            (self.share.number, self.holder),
        ).fetchone()
        if row is None:
            raise Fenced(f"another engine has taken share {self.share.number} over")
        self.cursor: int = row[0]
        self.clock: int = row[1] or 0
        self.layouts = Layouts()
        self.registry = Registry()
        self.registry.load(c, self.cursor)
        self.presence = Presence(stands_of(c))
        self.latest: dict[int, dict[str, Any]] = {}
        self.newest = Fleet()
        for device_id, fields in c.execute("select device_id, fields from latest").fetchall():
            self.latest[device_id] = fields
            for name, entry in fields.items():
                self.newest[device_id, name] = newest_of(entry)
        kept = self.newest
        while True:
            try:
                self.recall()
                return
            except EvaluationFailed as failed:  # also in what has passed: it is left out
                self.leave_out(failed)
                self.registry, self.newest, self.cursor, self.clock = Registry(), kept, row[0], row[1] or 0
                self.registry.load(c, self.cursor)

    def leave_out(self, failed: EvaluationFailed) -> None:
        """What cannot be evaluated is left out until it is published anew."""
        listed = self.registry.routes if isinstance(failed, RouteFailed) else self.registry.conditions
        self.broken.add(listed[failed.key].version)

    def make_room(self, clock: int) -> None:
        """The conditions and routes in force, nothing known of what was before."""
        self.router = self.registry.router(self.broken)
        self.room = Room(self.registry.world, clock)
        for watched in self.registry.conditions.values():
            if watched.version not in self.broken:
                self.room.watch(watched)

    def recall(self) -> None:
        """What conditions remember: as it was kept last, and the stream from there up to the cursor once more."""
        c, cursor, clock = self.connection, self.cursor, self.clock
        row = c.execute(
            "select id, (extract(epoch from clock) * 1000000)::bigint, body, routes from engine_memory where"
            " share = %s",
            (self.share.number,),
        ).fetchone()
        self.kept_at = cursor
        if row is not None and row[0] <= cursor:
            kept = Registry()
            kept.load(c, row[0])
            current, self.registry = self.registry, kept
            self.make_room(row[1] or 0)
            newest = recalled(self.room, bytes(row[2]))
            known = row[3] is None or routes_recalled(self.router, bytes(row[3]))
            if not known:
                log.warning("what routes look back on was kept in another form: they begin anew")
            if newest is not None:
                self.play_again(int(row[0]), int(row[1] or 0), newest, cursor, clock)
                return
            self.registry = current
        self.make_room(clock)
        self.adopt()
        self.remember()

    def play_again(self, since: int, clock: int, newest: Fleet, cursor: int, until: int) -> None:
        """The stream from `since` up to the cursor through the conditions; nothing of it is written."""
        stored, now = self.newest, self.latest
        self.newest, self.cursor, self.clock, self.playing = newest, since, clock, True
        try:
            while self.cursor < cursor:
                arrived, events, whole = self.read_up_to(cursor, MOST)
                if not len(arrived) and not events:
                    break
                self.through(arrived, events, Told(), None, until if whole else None)
                self.cursor = max([self.cursor, *(e[0] for e in events[-1:]), *arrived.ids[-1:].tolist()])
            if until > self.clock:
                self.tick(until + 1, Told())
        finally:
            self.playing = False
        if self.share.of > 1:
            # What is stored of this share's devices is as of the cursor; of others' it may be of before or after it.
            own = {key: found for key, found in stored.items() if self.share.has(key[0])}
            stored = Fleet.of(own | {key: found for key, found in self.newest.items() if not self.share.has(key[0])})
        self.newest, self.latest, self.cursor, self.clock = stored, now, cursor, until

    def adopt(self) -> None:
        """Alarms that are open, taken over where nothing is remembered of them."""
        for key, device, priority in self.connection.execute(
            "select condition_id, device_id, priority from alarms_alarm where cleared_at is null and device_id is not"
            " null"
        ).fetchall():
            self.room.adopt(key, device, priority)

    def remember(self) -> None:
        """Keeps what conditions remember, with the place in the stream that it belongs to."""
        self.connection.execute(
            "insert into engine_memory (share, id, clock, body, routes) values (%s, %s, %s, %s, %s)"
            " on conflict (share) do update set id = excluded.id, clock = excluded.clock, body = excluded.body,"
            " routes = excluded.routes, at = clock_timestamp()",
            (
                self.share.number,
                self.cursor,
                moment(self.clock),
                remembered(self.room, self.newest),
                routes_remembered(self.router),
            ),
        )
        self.kept_at, self.kept_when = self.cursor, time.monotonic()

    # reading the stream --------------------------------------------------------
    def read_up_to(self, last: int, limit: int) -> tuple[Arrived, list[Event], bool]:
        """Messages and events after the cursor, up to a number, and whether these are all of them.

        What came at one moment is parted only where it is more than the limit.
        """
        with self.connection.cursor(binary=True) as cursor:
            cursor.execute(
                f"select {FIELDS} from message m where id > %s and id <= %s order by id limit %s",
                (self.cursor, last, limit),
            )
            rows = cursor.fetchall()
        bytes_ = np.cumsum([len(row[3]) for row in rows])
        some = max(int(np.searchsorted(bytes_, MOST_BYTES, side="right")), 1)
        whole = len(rows) < limit and some >= len(rows)
        if not whole:
            rows = rows[:some]
            rows = [row for row in rows if row[1] != rows[-1][1]] or rows
        events = self.connection.execute(
            "select id, kind, body, (extract(epoch from at) * 1000000)::bigint from control_event"
            " where id > %s and id <= %s order by id",
            (self.cursor, last if whole else rows[-1][0]),
        ).fetchall()
        return Arrived.of(rows), events, whole

    def read(self, limit: int) -> tuple[Arrived, list[Event], int | None]:
        """Messages and events after the cursor, and the moment up to which all arrivals are among them.

        Writers number and stamp while they hold the turn in the stream. `stream_end` waits for whoever has it, so
        that everything stamped before its clock is committed, and numbered up to its last number. Where intake has
        not listened for a while, that is told to the stream before the clock goes on; and conditions whose time off is
        over are in force again.
        """
        self.connection.execute("select unheard(), switched_on()")
        end = self.connection.execute("select clock_us, last_id from stream_end()").fetchone()
        assert end is not None
        clock, last = end
        arrived, events, whole = self.read_up_to(last, limit)
        return arrived, events, clock if whole else None

    # one step --------------------------------------------------------------------
    def step(self, limit: int = MOST) -> int:
        """Takes what waits, at most `limit` messages. Returns how many messages and events were taken."""
        arrived, events, horizon = self.together(*self.read(limit))
        if not len(arrived) and not events and (horizon is None or not self.due(horizon)):
            return 0
        try:
            self.write(arrived, events, horizon)
        except Fenced:
            raise
        except EvaluationFailed as failed:
            self.leave_out(failed)
            self.load()
            what = "route" if isinstance(failed, RouteFailed) else "condition"
            log.exception("%s %d could not be evaluated and is left out until it is published anew", what, failed.key)
            return self.step(limit)
        except Exception as error:
            if isinstance(error, psycopg.Error) and of_the_database(error, self.connection):
                raise
            self.load()
            if len(arrived) > 1:
                log.warning("a batch of %d could not be written (%s); halving it", len(arrived), type(error).__name__)
                return self.step(max(len(arrived) // 2, 1))
            log.exception("a message could not be written and is set aside")
            self.write(arrived, events, None, aside=f"{type(error).__name__}: {error}")
        packs, self.packs = self.packs, {}
        for type_id, some in packs.items():
            self.make(type_id, some)
        return len(arrived) + len(events)

    def together(
        self, arrived: Arrived, events: list[Event], horizon: int | None
    ) -> tuple[Arrived, list[Event], int | None]:
        """What may be taken now: where values are looked up anew, all engines have written what was before."""
        edges = [number for number, kind, *_ in events if kind == "again"] if self.share.of > 1 else []
        if edges and edges[0] == min([*arrived.ids[:1].tolist(), events[0][0]]):
            behind = self.connection.execute("select min(id) < %s from engine_cursor", (self.cursor,)).fetchone()
            if behind is not None and behind[0]:
                return arrived.part(0, 0), [], None
            edges = edges[1:]
        if not edges:
            return arrived, events, horizon
        return (
            arrived.part(0, int(np.searchsorted(arrived.ids, edges[0]))),
            [event for event in events if event[0] < edges[0]],
            None,
        )

    def catch_up(self, place: int, clock: int) -> None:
        """Goes on to a place of the stream and a moment, and no further."""
        while self.cursor < place:
            arrived, events, whole = self.read_up_to(place, MOST)
            if not len(arrived) and not events:
                break
            self.write(arrived, events, clock if whole else None)
        if self.clock < clock:
            self.write(Arrived.of([]), [], clock)

    def close(self) -> None:
        """Lets go of the share and of the connections; the next one need not wait for the database to see it."""
        with contextlib.suppress(psycopg.Error):
            self.connection.execute("select pg_advisory_unlock_all()")
        self.connection.close()
        self.listening.close()

    def make(self, type_id: int, packs: list[bytes]) -> None:
        """A decoder for packs that have none; a type for which that failed three times is let be."""
        if self.failed_makes[type_id] >= 3:
            return
        try:
            make(type_id, packs)
            self.failed_makes.pop(type_id, None)
        except Exception:
            self.failed_makes[type_id] += 1
            log.exception("no decoder could be made from the packs of type %d", type_id)

    def due(self, horizon: int) -> bool:
        """Whether something happens by the clock up to a moment."""
        return self.room.next_due() <= horizon

    def write(self, arrived: Arrived, events: list[Event], horizon: int | None, aside: str | None = None) -> None:
        c = self.connection
        told, own = Told(), self.share.mask(arrived.device)
        with c.transaction():
            writers_turn(c, self.share.number)
            self.through(arrived, events, told, aside, horizon)
            if horizon is not None:
                self.clock = max(self.clock, horizon)
                self.tick(horizon + 1, told)
            place = max([self.cursor, *(e[0] for e in events[-1:]), *arrived.ids[-1:].tolist()])
            moved = c.execute(
                "update engine_cursor set id = %s, clock = %s, messages = messages + %s, at = clock_timestamp()"
                " where share = %s and id = %s and holder = %s",
                (place, moment(self.clock), int(own.sum()), self.share.number, self.cursor, self.holder),
            )
            if moved.rowcount != 1:
                raise Fenced(f"another engine has taken share {self.share.number} over")
            if told.messages or told.alarms or told.control:
                self.tell(told)
        self.cursor = place
        if self.cursor - self.kept_at >= KEEP_MESSAGES or (
            self.cursor > self.kept_at and time.monotonic() - self.kept_when >= KEEP_S
        ):
            self.remember()

    def through(
        self, arrived: Arrived, events: list[Event], told: Told, aside: str | None, horizon: int | None
    ) -> None:
        """Messages and what happens to the register among them, in their order.

        While history is being loaded the clock follows the arrivals: an event counts no later than what arrives
        after it.
        """
        start = 0
        for number, kind, body, at in events:
            end = int(np.searchsorted(arrived.ids, number))
            self.take(arrived.part(start, end), told, aside)
            start = end
            following = int(arrived.received[end]) if end < len(arrived) else horizon
            self.apply(number, kind, body, min(at, following if following is not None else self.clock), told)
        self.take(arrived.part(start, len(arrived)), told, aside)

    def apply(self, number: int, kind: str, body: dict[str, Any], at: int, told: Told) -> None:
        """One event of the stream. One that cannot be applied is logged and left out: the stream goes on."""
        at = max(at, self.clock)
        self.clock = at
        try:
            if kind == "unheard":  # counts from before the event: nobody fell silent meanwhile
                self.registry.apply(self.connection, number, kind, body)
                return
            self.tick(at, told)
            if kind in ("retire", "off"):
                why = "the condition was retired" if kind == "retire" else f"switched off: {body['why']}"
                told.alarms += self.alarm(self.room.forget(body["definition"], at, why))
            self.registry.apply(self.connection, number, kind, body)
            if kind in ("publish", "retire", "order", "table", "registry"):
                self.registry.direct(self.router, self.broken)
            if kind == "again":
                self.look_up(number, body, told)
            self.failed_makes.clear()
            if self.share.number == 0:
                told.control.append(kind)
            told.alarms += self.alarm(self.touched(kind, body, at))
        except (psycopg.Error, EvaluationFailed):
            raise
        except Exception:
            log.exception("an event `%s` of the stream could not be applied and is left out", kind)

    def touched(self, kind: str, body: dict[str, Any], at: int) -> list[Transition]:
        """What an event of the register does to alarms at its moment."""
        room, conditions = self.room, self.registry.conditions
        if kind == "publish":
            watched = conditions.get(body.get("definition", 0))
            if watched is not None and watched.version == body["version"] and watched.version not in self.broken:
                return room.watch(watched, at, self.newest)
        elif kind == "rollout":
            watched, first = conditions.get(body["definition"]), conditions.get(-body["definition"])
            if watched is not None and watched.version not in self.broken:
                well = first if first is not None and first.version not in self.broken else None
                return room.divide(watched, well, at, self.newest)
        elif kind == "setpoint":
            keys = [
                key
                for key, watched in conditions.items()
                if watched.type == body["type"] and body["name"] in watched.plan.setpoints and key in room.watched
            ]
            return room.touch(at, self.newest, keys) if keys else []
        elif kind == "registry":
            return room.refresh(at, self.newest)
        return []

    def look_up(self, number: int, body: dict[str, Any], told: Told) -> None:
        """Newest values that messages gave before they were decoded again are those of what is stored now."""
        c, horizon = self.connection, self.clock + SET_BACK_US
        wanted = {int(d): set(names) for d, names in body["newest"].items() if int(d) in self.registry.devices}
        last = {device: (message, failed) for device, message, failed in body["last"]}
        for device, names in wanted.items():
            own = self.latest.setdefault(device, {})
            for name in names:
                own.pop(name, None)
                self.newest.pop((device, name), None)
            for name, (value, at, message, arrival) in newest_stored(c, device, names, horizon, number).items():
                self.newest[device, name] = found = Newest(value, at)
                own[name] = latest_entry(found, message, arrival)
        if self.playing:
            return
        known = {
            device: (message, received, failed)
            for device, message, received, failed in c.execute(
                "select device_id, message_id, (extract(epoch from received_at) * 1000000)::bigint, failed from latest"
                " where device_id = any(%s)",
                ([d for d in sorted({*wanted, *last} & self.registry.devices.keys()) if self.share.has(d)],),
            ).fetchall()
        }
        for device in {d for d in wanted if self.share.has(d)} - known.keys():
            arrivals = [(entry[3], entry[2]) for entry in self.latest[device].values()]
            if arrivals:
                known[device] = (max(arrivals)[1], max(arrivals)[0], False)
        rows: list[tuple[int, int, int, int, bool | None, dict[str, Any]]] = []
        for device, (message, received, failed) in sorted(known.items()):
            failing = last[device][1] if device in last and last[device][0] == message else failed
            rows.append((device, int(message), int(received), 0, bool(failing), self.latest.get(device, {})))
        write_latest(c, rows)
        self.stand_anew({int(d): int(since) for d, since in body.get("outcomes", {}).items()}, last)
        told.devices.update(known)

    def stand_anew(self, outcomes: dict[int, int], last: dict[int, tuple[int, bool]]) -> None:
        """Messages of devices, from moments on, came out otherwise: what they were in since then is made anew. last:
        their last messages, where it is among them, and whether it failed.
        """
        concerned = {d: since for d, since in outcomes.items() if d in self.presence.stands and self.share.has(d)}
        if not concerned:
            return
        parts = []
        for device, since in concerned.items():
            stands = self.presence.stands[device]
            failed = last[device][1] if device in last else stands.state == UNDECODABLE
            concerned[device] = min(since, stands.since)
            parted = self.presence.part(device, self.clock, failed)
            parts.append((parted.device, parted.since, parted.until, parted.state))
        write_stretches(self.connection, Stretches.of(parts), concerned, self.presence)
        unmade(self.connection, list(concerned), [moment(since) for since in concerned.values()])

    def take(self, arrived: Arrived, told: Told, aside: str | None) -> None:
        """Messages between two events: nothing that they go by changes among them."""
        for start, end, arrival in eras(arrived.received, self.clock):
            if arrival[0] < self.clock:
                self.set_back(int(arrival[0]))
            part = arrived.part(start, end)
            edges = self.room.cuts(arrival)
            for first, last in zip(edges, edges[1:], strict=False):
                self.take_era(part.part(first, last), arrival[first:last], told, aside)

    def set_back(self, clock: int) -> None:
        """The clock has been set right: delays that began later than now begin again with the next reading."""
        log.warning(
            "arrivals are stamped %.0f s earlier than before: the clock was set back", (self.clock - clock) / 1e6
        )
        self.room.set_back(clock + SET_BACK_US)

    def take_era(self, arrived: Arrived, arrival: np.ndarray, told: Told, aside: str | None) -> None:
        """Messages among which the clock does not go back. arrival: int64 (n,), the moments as they count."""
        self.clock = int(arrival[-1])
        c, registry = self.connection, self.registry
        known = known_rows(registry, arrived)
        lots, without = lots_of(c, registry, arrived, known) if aside is None else ([], np.flatnonzero(known))
        oldest = self.clock - settings.READING_RETENTION_DAYS * 86_400_000_000
        effects = process(
            [lot for _, lot in lots],
            arrived.device,
            arrival,
            arrived.ids,
            self.newest,
            registry.type_of,
            self.room,
            int(arrival[-1]),
            oldest,
            registry.owner,
            self.router,
            arrived.headers.__getitem__,
        )
        if self.playing:
            effects.settle(self.newest)
            self.tick(int(arrival[-1]), told)
            return
        own = self.share.mask(arrived.device)
        built = built_rows(c, self.layouts, lots, effects, arrived, self.share)
        for rows in built:
            write_rows(c, rows)
        one_of_each(c, self.layouts, built, self.newest.measured)
        effects.settle(self.newest)
        refused, failed = refusals(lots, effects, arrived)
        if aside is not None:
            failed[without] = True  # where a type has no decoder yet, nothing has failed
        refused += refuse(arrived, without, *(NO_DECODER if aside is None else ("unwritable", aside)))
        write_refused(c, [one for one in refused if self.share.has(one.device_id)])
        if aside is None and self.share.number == 0:
            for type_id, packs in unaided(registry, arrived, without, lots).items():
                self.packs.setdefault(type_id, []).extend(packs)
        told.alarms += self.alarm(effects.transitions)
        write_counted(c, effects.routed.counted, arrived.received, arrived.ids, registry.type_of, self.share.has)
        self.send(arrived, effects.routed.sent)
        groups = [
            (lot, group)
            for (_, lot), decoded in zip(lots, effects.decoded, strict=True)
            for group in decoded.groups
            if group.owner is not None
        ]
        # Devices that others have spoken for, and the message.
        heard = [distinct(group.owner, lot.index[group.rows])[0] for lot, group in groups if group.owner is not None]
        owner, row = distinct(*np.concatenate(heard, axis=1))[0] if heard else np.zeros((2, 0), np.int64)
        other = (owner != arrived.device[row]) & self.share.mask(owner)
        owner, row = owner[other], row[other]
        known &= own
        of_devices = np.array([registry.type_of(int(d)) != registry.world.site_type for d in owner], bool)
        write_activity(
            c,
            np.concatenate([arrived.device[known], owner[of_devices]]),
            np.concatenate([arrived.received[known], arrived.received[row[of_devices]]]),
            np.concatenate([failed[known], np.zeros(int(of_devices.sum()), bool)]),
            said(lots, effects, arrived, registry, self.share),
        )
        self.stand(arrived, known, failed, owner[of_devices], row[of_devices])
        told.devices.update(owner.tolist())
        newest = {key: found for key, found in effects.newest.items() if self.share.has(key[0])}
        self.keep_latest(arrived, known, failed, owner, row, newest)
        told.messages += int(own.sum())
        told.devices.update(arrived.device[known].tolist())
        self.tick(int(arrival[-1]), told)

    def stand(
        self, arrived: Arrived, known: np.ndarray, failed: np.ndarray, heard: np.ndarray, heard_row: np.ndarray
    ) -> None:
        """In which state devices are from their arrivals on; heard, in heard_row: those of whom others told."""
        own = np.flatnonzero(known)
        row = np.concatenate([own, heard_row])
        outcome = np.concatenate([np.where(failed[own], FAILED, OK), np.full(len(heard), BY_OTHERS)])
        order = np.argsort(row, kind="stable")
        device = np.concatenate([arrived.device[own], heard])[order]
        over, changed = self.presence.take(
            device, arrived.received[row[order]], outcome[order], self.cadence, self.registry.world.downtime
        )
        write_stretches(self.connection, over, changed, self.presence)

    def cadence(self, device: int) -> int:
        world = self.registry.world
        found = world.devices.get(device)
        return world.cadence(found) if found is not None else 0

    def send(self, arrived: Arrived, sent: list[Sent]) -> None:
        """What routes send to outlets, of the devices of this share."""
        bodies: dict[str, list[dict[str, Any]]] = {}
        registry = self.registry
        for one in sent:
            device = registry.devices.get(one.device)
            if device is None or not self.share.has(one.device):
                continue
            site = registry.world.sites.get(device.site_id or 0)
            bodies.setdefault(one.outlet, []).append(
                outgoing(
                    one,
                    device.name,
                    device.title,
                    site.name if site is not None else None,
                    registry.routes[one.key].plan.name,
                    int(arrived.received[one.row]),
                    int(arrived.ids[one.row]),
                )
            )
        self.outbox.write(self.connection, bodies)

    def tick(self, until: int, told: Told) -> None:
        """What is due before `until`."""
        told.alarms += self.alarm(self.room.elapse(until, self.newest))

    def alarm(self, transitions: list[Transition]) -> list[int]:
        mine = [one for one in transitions if self.share.has(one.subject)]
        return [] if self.playing else alarms.write_transitions(self.connection, self.registry, mine)

    def keep_latest(
        self,
        arrived: Arrived,
        known: np.ndarray,
        failed: np.ndarray,
        heard: np.ndarray,
        heard_row: np.ndarray,
        newest: dict[tuple[int, str], tuple[Newest, int]],
    ) -> None:
        """The last of each device's messages, and of those of others that tell of it (heard, in heard_row)."""
        for (device_id, name), (found, row) in newest.items():
            self.latest.setdefault(device_id, {})[name] = latest_entry(
                found, int(arrived.ids[row]), int(arrived.received[row])
            )
        own = np.flatnonzero(known)
        said = np.concatenate([own, heard_row])
        devices, which, counts = np.unique(
            np.concatenate([arrived.device[own], heard]), return_inverse=True, return_counts=True
        )
        last, last_own = np.full((2, len(devices)), -1)
        np.maximum.at(last, which, said)
        np.maximum.at(last_own, which[: len(own)], own)
        write_latest(
            self.connection,
            [
                (
                    device,
                    int(arrived.ids[row]),
                    int(arrived.received[row]),
                    count,
                    bool(failed[mine]) if mine >= 0 else None,
                    self.latest.setdefault(device, {}),
                )
                for device, row, mine, count in zip(
                    devices.tolist(), last.tolist(), last_own.tolist(), counts.tolist(), strict=True
                )
            ],
        )

    def tell(self, told: Told) -> None:
        devices = sorted(self.registry.devices[d].name for d in told.devices)
        body = {
            "messages": told.messages,
            "devices": devices[:500],
            "many": len(devices) > 500,
            "alarms": told.alarms[:200],
            "control": sorted(set(told.control)),
        }
        tell(self.connection, body)
