"""The engine: inbox to readings, alarms and notices, one transaction a batch with its place in the stream.

Everything it holds in memory is read back from the database at start; when a batch cannot be
written, memory is thrown away and read back the same way.
"""

from __future__ import annotations

import logging
import secrets
import signal
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import psycopg
from django.conf import settings
from psycopg.types.json import Jsonb

from oculum.alarms.evaluate import DeviceState, Transition, set_back
from oculum.history.events import SET_BACK_US, Events, Newest, eras
from oculum.pipeline import ConditionFailed, WatchedCondition, advance, process
from server.runner.processes import Lock
from server.runner.pulse import Pulse
from server.store.faults import of_the_database

from . import alarms
from .again import decode_again_step
from .feeding import FIELDS, Arrived
from .house import House
from .lots import NO_DECODER, known_rows, lots_of, refuse, write_lots
from .registry import Condition, Registry
from .store import (
    Fenced,
    Layouts,
    latest_entry,
    moment,
    write_activity,
    write_latest,
    write_refused,
)
from .unaided import make, unaided

log = logging.getLogger("oculum.engine")
MOST = 20_000
MOST_BYTES = 16 * 1024 * 1024
TICK_S = 0.2


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
    def __init__(self, url: str, part: int = 0) -> None:
        self.url, self.part = url, part
        self.connection = psycopg.connect(url, autocommit=True, application_name=f"oculum engine {part}")
        self.holder = secrets.token_hex(8)
        self.listening = psycopg.connect(url, autocommit=True, application_name="oculum engine notices")
        for channel in ("oculum_arrival", "oculum_control"):
            self.listening.execute(f"listen {channel}")
        if not self._only_one():
            raise RuntimeError(f"another engine works on part {part} already")
        self.packs: dict[int, list[bytes]] = {}  # SenML packs by type, that wait for a decoder to be made
        self.broken: set[int] = set()  # versions of conditions whose evaluation failed
        self.failed_makes: Counter[int] = Counter()  # by type
        self.stopping = False
        self.take_over()

    def _only_one(self) -> bool:
        row = self.connection.execute("select pg_try_advisory_lock(640, %s)", (self.part,)).fetchone()
        return bool(row and row[0])

    def take_over(self) -> None:
        """This engine works on the part from here on; whichever did before can write no more."""
        c = self.connection
        c.execute("insert into engine_cursor (part, id) values (%s, 0) on conflict do nothing", (self.part,))
        c.execute("update engine_cursor set holder = %s where part = %s", (self.holder, self.part))
        self.load()

    def hold(self) -> None:
        """Holds the part until the end of the transaction. Raises Fenced where it is another engine's."""
        held = self.connection.execute(
            "select 1 from engine_cursor where part = %s and holder = %s for share", (self.part, self.holder)
        ).fetchone()
        if held is None:
            raise Fenced(f"another engine has taken part {self.part} over")

    # memory ------------------------------------------------------------------
    def load(self) -> None:
        """All state from the database, as of the cursor."""
        c = self.connection
        row = c.execute(
            "select id, (extract(epoch from clock) * 1000000)::bigint from engine_cursor"
            " where part = %s and holder = %s",
            (self.part, self.holder),
        ).fetchone()
        if row is None:
            raise Fenced(f"another engine has taken part {self.part} over")
        self.cursor: int = row[0]
        self.clock: int = row[1] or 0
        self.layouts = Layouts()
        self.registry = Registry()
        self.registry.load(c, self.cursor)
        self.newest: dict[tuple[int, str], Newest] = {}
        self.latest: dict[int, dict[str, Any]] = {}
        for device_id, fields in c.execute("select device_id, fields from latest").fetchall():
            self.latest[device_id] = fields
            for name, (value, at, *_) in fields.items():
                self.newest[device_id, name] = Newest(value, at)
        self.states: dict[int, dict[int, DeviceState]] = {}
        self.stored: dict[int, dict[int, dict[str, Any]]] = {}
        for condition_id, device_id, state in c.execute(
            "select condition_id, device_id, state from condition_state"
        ).fetchall():
            self.states.setdefault(condition_id, {})[device_id] = DeviceState.from_dict(state)
            self.stored.setdefault(condition_id, {})[device_id] = state

    # reading the stream --------------------------------------------------------
    def read(self, limit: int) -> tuple[Arrived, list[Event], int | None]:
        """Messages and events after the cursor, and the moment up to which all arrivals are among them.

        Writers number and stamp while they hold the turn in the stream. `stream_end` waits for whoever has it, so
        that everything stamped before its clock is committed, and numbered up to its last number.
        """
        c = self.connection
        end = c.execute("select clock_us, last_id from stream_end()").fetchone()
        assert end is not None
        clock, last = end
        with c.cursor(binary=True) as cursor:
            cursor.execute(
                f"select {FIELDS} from message m where part = %s and id > %s and id <= %s order by id limit %s",
                (self.part, self.cursor, last, limit),
            )
            rows = cursor.fetchall()
        total = 0
        for index, row in enumerate(rows):
            total += len(row[3])
            if total > MOST_BYTES and index:
                rows = rows[:index]
                break
        whole = len(rows) < limit and total <= MOST_BYTES
        events = c.execute(
            "select id, kind, body, (extract(epoch from at) * 1000000)::bigint from control_event"
            " where id > %s and id <= %s order by id",
            (self.cursor, last if whole else rows[-1][0]),
        ).fetchall()
        return Arrived.of(rows), events, clock if whole else None

    # one step --------------------------------------------------------------------
    def step(self, limit: int = MOST) -> int:
        """Takes what waits, at most `limit` messages. Returns how many messages and events were taken."""
        arrived, events, horizon = self.read(limit)
        if not len(arrived) and not events:
            if horizon is not None and self.due(horizon):
                self.write(arrived, [], horizon)
            return 0
        try:
            self.write(arrived, events, horizon)
        except Fenced:
            raise
        except ConditionFailed as failed:
            self.broken.add(self.registry.conditions[failed.key].version_id)
            self.load()
            log.exception("condition %d could not be evaluated and is left out until it is published anew", failed.key)
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
        for definition, states in self.states.items():
            condition = self.registry.conditions.get(definition)
            if condition is None:
                continue
            for state in states.values():
                for since, held in (
                    (state.raise_since, condition.plan.raise_held_us),
                    (state.clear_since, condition.plan.clear_held_us),
                ):
                    if since is not None and since + held <= horizon:
                        return True
        return False

    def write(self, arrived: Arrived, events: list[Event], horizon: int | None, aside: str | None = None) -> None:
        c = self.connection
        told = Told()
        with c.transaction():
            start = 0
            for number, kind, body, at in events:
                end = int(np.searchsorted(arrived.ids, number))
                self.take(arrived.part(start, end), told, aside)
                start = end
                self.apply(kind, body, at, told)
            self.take(arrived.part(start, len(arrived)), told, aside)
            if horizon is not None:
                self.tick(horizon + 1, told)
            self.keep_states()
            place = max([self.cursor, *(e[0] for e in events[-1:]), *arrived.ids[-1:].tolist()])
            moved = c.execute(
                "update engine_cursor set id = %s, clock = %s, messages = messages + %s, at = clock_timestamp()"
                " where part = %s and id = %s and holder = %s",
                (place, moment(self.clock), len(arrived), self.part, self.cursor, self.holder),
            )
            if moved.rowcount != 1:
                raise Fenced(f"another engine has taken part {self.part} over")
            if told.messages or told.alarms or told.control:
                self.tell(told)
        self.cursor = place

    def apply(self, kind: str, body: dict[str, Any], at: int, told: Told) -> None:
        """One event of the stream. One that cannot be applied is logged and left out: the stream goes on."""
        try:
            if kind == "retire":
                told.alarms += alarms.clear_retired(self.connection, body["definition"], at)
                self.states.pop(body["definition"], None)
            self.registry.apply(self.connection, kind, body)
            self.failed_makes.clear()
            told.control.append(kind)
        except psycopg.Error:
            raise
        except Exception:
            log.exception("an event `%s` of the stream could not be applied and is left out", kind)

    def take(self, arrived: Arrived, told: Told, aside: str | None) -> None:
        """Messages between two events: nothing that they go by changes among them."""
        for start, end, arrival in eras(arrived.received, self.clock):
            if arrival[0] < self.clock:
                self.set_back(int(arrival[0]))
            self.take_era(arrived.part(start, end), arrival, told, aside)

    def set_back(self, clock: int) -> None:
        """The clock has been set right: delays that began later than now begin again with the next reading."""
        log.warning(
            "arrivals are stamped %.0f s earlier than before: the clock was set back", (self.clock - clock) / 1e6
        )
        for states in self.states.values():
            set_back(states, clock + SET_BACK_US)

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
            self.watched,
            int(arrival[-1]),
            oldest,
            registry.owner,
        )
        refused, failed = write_lots(c, self.layouts, lots, effects, arrived)
        if aside is not None:
            failed[without] = True  # where a type has no decoder yet, nothing has failed
        write_refused(c, refused + refuse(arrived, without, *(NO_DECODER if aside is None else ("unwritable", aside))))
        if aside is None:
            for type_id, packs in unaided(registry, arrived, without, lots).items():
                self.packs.setdefault(type_id, []).extend(packs)
        self.newest |= {key: value for key, (value, _) in effects.newest.items()}
        told.alarms += self.alarm(effects.transitions)
        groups = [
            (lot, group)
            for (_, lot), decoded in zip(lots, effects.decoded, strict=True)
            for group in decoded.groups
            if group.owner is not None
        ]
        # Devices that others have spoken for, and the message.
        heard = [
            np.unique(np.stack([group.owner, lot.index[group.rows]]), axis=1)
            for lot, group in groups
            if group.owner is not None
        ]
        owner, row = np.unique(np.concatenate(heard, axis=1), axis=1) if heard else np.zeros((2, 0), np.int64)
        other = owner != arrived.device[row]
        owner, row = owner[other], row[other]
        write_activity(self.connection, arrived.device[known], arrived.received[known], failed[known])
        write_activity(self.connection, owner, arrived.received[row], np.zeros(len(row), bool))
        told.devices.update(owner.tolist())
        self.keep_latest(arrived, known, failed, owner, row, effects.newest)
        told.messages += len(arrived)
        told.devices.update(arrived.device[known].tolist())
        self.tick(int(arrival[-1]), told)

    def watched(self, type_id: int) -> list[WatchedCondition]:
        conditions = [c for c in self.registry.conditions.values() if c.type_id == type_id]
        return [self.watch(c) for c in conditions if c.version_id not in self.broken]

    def watch(self, condition: Condition) -> WatchedCondition:
        registry = self.registry
        return WatchedCondition(
            condition.definition_id,
            condition.plan,
            lambda d: registry.selects(condition, d),
            registry.limit,
            self.states.setdefault(condition.definition_id, {}),
        )

    def tick(self, until: int, told: Told) -> None:
        """Ends the delays of every condition that were due before `until`."""
        empty = np.zeros(0, np.int64)
        none = Events(empty, empty, empty, empty, empty.astype(bool), empty, empty)
        found: list[tuple[int, Transition]] = []
        for condition in self.registry.conditions.values():
            if condition.version_id not in self.broken:
                found += advance(self.watch(condition), none, self.newest, until)
        told.alarms += self.alarm(found)

    def alarm(self, transitions: list[tuple[int, Transition]]) -> list[int]:
        return alarms.write_transitions(self.connection, self.registry, transitions)

    def keep_states(self) -> None:
        """Running delays and open alarms, for the next start: only what differs from what is stored."""
        changed: list[tuple[int, int, Jsonb]] = []
        gone: list[tuple[int, int]] = []
        for condition_id in set(self.states) | set(self.stored):
            states = {d: s.as_dict() for d, s in self.states.get(condition_id, {}).items() if not s.idle}
            before = self.stored.get(condition_id, {})
            changed += [(condition_id, d, Jsonb(s)) for d, s in states.items() if before.get(d) != s]
            gone += [(condition_id, d) for d in before if d not in states]
            self.stored[condition_id] = states
        with self.connection.cursor() as cursor:
            if changed:
                cursor.executemany(
                    "insert into condition_state values (%s, %s, %s) on conflict (condition_id, device_id) do update"
                    " set state = excluded.state",
                    changed,
                )
            if gone:
                cursor.executemany("delete from condition_state where condition_id = %s and device_id = %s", gone)

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
        self.connection.execute("insert into live_change (body) values (%s)", (Jsonb(body),))
        self.connection.execute("select pg_notify('oculum_live', '')")

    # the loop ----------------------------------------------------------------------
    def run(self, pulse: Pulse) -> None:
        """Works until told to stop; after a lost database the process ends and is started anew."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: setattr(self, "stopping", True))
        house = House()
        while not self.stopping:
            pulse.beat()
            if house.due:
                house.keep(self.connection)
            taken = self.step()
            if taken == 0 and not decode_again_step(self):
                for _ in self.listening.notifies(timeout=TICK_S, stop_after=1):
                    pass


def main() -> None:
    import os

    import django

    django.setup()
    part = int(os.environ.get("OCULUM_PART", "0"))
    lock = Lock(settings.INSTANCE.folder, f"engine-{part}")
    lock.or_exit()
    engine = Engine(settings.INSTANCE.database_url(), part)
    log.info("working on part %d", engine.part)
    (settings.INSTANCE.folder / "run" / "engine.ready").touch()
    engine.run(Pulse(settings.INSTANCE.folder, "engine"))


if __name__ == "__main__":
    main()
