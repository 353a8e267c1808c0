"""The engine: inbox to readings, alarms and notices, one transaction a batch with its place in the stream.

Everything it holds in memory is read back from the database at start; when a batch cannot be
written, memory is thrown away and read back the same way.
"""

from __future__ import annotations

import logging
import signal
import time
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import psycopg
from django.conf import settings
from psycopg.types.json import Jsonb

from oculum.alarms.evaluate import DeviceState, Transition, evaluate_condition
from oculum.history.events import Events, Newest
from oculum.pipeline import WatchedCondition, process

from . import alarms
from .again import decode_again_step
from .feeding import FIELDS, Arrived
from .lots import NO_DECODER, known_rows, lots_of, refuse, write_lots
from .registry import Condition, Registry
from .store import Layouts, latest_entry, moment, write_activity, write_latest, write_refused
from .unaided import make, unaided

log = logging.getLogger("oculum.engine")
MOST = 20_000
MOST_BYTES = 16 * 1024 * 1024
TICK_S = 0.2


# Transaction, number, kind, body, moment in µs: a change that counts from its place in the stream.
Event = tuple[str, int, str, dict[str, Any], int]


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
        self.listening = psycopg.connect(url, autocommit=True, application_name="oculum engine notices")
        for channel in ("oculum_arrival", "oculum_control"):
            self.listening.execute(f"listen {channel}")
        if not self._only_one():
            raise RuntimeError(f"another engine works on part {part} already")
        self.layouts = Layouts()
        self.packs: dict[int, list[bytes]] = {}  # SenML packs by type, that wait for a decoder to be made
        self.stopping = False
        self.load()

    def _only_one(self) -> bool:
        row = self.listening.execute("select pg_try_advisory_lock(640, %s)", (self.part,)).fetchone()
        return bool(row and row[0])

    # memory ------------------------------------------------------------------
    def load(self) -> None:
        """All state from the database, as of the cursor."""
        c = self.connection
        c.execute(
            "insert into engine_cursor (part, txid, id) values (%s, '0'::xid8, 0) on conflict do nothing", (self.part,)
        )
        row = c.execute(
            "select txid::text, id, (extract(epoch from clock) * 1000000)::bigint from engine_cursor where part = %s",
            (self.part,),
        ).fetchone()
        assert row is not None
        self.cursor: tuple[str, int] = (row[0], row[1])
        self.clock: int = row[2] or 0
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

        Every transaction below xmin is over. Arrivals are stamped after their transaction has its
        number, so that with none in progress nothing stamped before the clock can still appear.
        """
        c = self.connection
        now = c.execute("select (extract(epoch from clock_timestamp()) * 1000000)::bigint").fetchone()
        bounds = c.execute(
            "select pg_snapshot_xmin(s)::text, pg_snapshot_xmax(s)::text from pg_current_snapshot() s"
        ).fetchone()
        assert now is not None and bounds is not None
        with c.cursor(binary=True) as cursor:
            cursor.execute(
                f"select {FIELDS}, m.txid::text as transaction from message m where part = %s and (txid, id) > (%s::text::xid8, %s) and txid < %s::text::xid8 order by txid, id limit %s",
                (self.part, *self.cursor, bounds[0], limit),
            )
            rows = cursor.fetchall()
        total = 0
        for index, row in enumerate(rows):
            total += len(row[3])
            if total > MOST_BYTES and index:
                rows = rows[:index]
                break
        whole = len(rows) < limit and total <= MOST_BYTES
        upper = (bounds[0], 0) if whole else (rows[-1][6], rows[-1][0])
        events = c.execute(
            "select txid::text as transaction, id, kind, body, (extract(epoch from at) * 1000000)::bigint from control_event where (txid, id) > (%s::text::xid8, %s) and (txid, id) <= (%s::text::xid8, %s) and txid < %s::text::xid8 order by txid, id",
            (*self.cursor, *upper, bounds[0]),
        ).fetchall()
        arrived = Arrived.of(rows)
        return arrived, events, int(now[0]) if whole and bounds[0] == bounds[1] else None

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
        except (psycopg.OperationalError, psycopg.InterfaceError):
            raise
        except Exception as error:
            self.load()
            if len(arrived) > 1:
                log.warning("a batch of %d could not be written (%s); halving it", len(arrived), type(error).__name__)
                return self.step(max(len(arrived) // 2, 1))
            log.exception("a message could not be written and is set aside")
            self.write(arrived, events, None, aside=f"{type(error).__name__}: {error}")
        packs, self.packs = self.packs, {}
        for type_id, some in packs.items():
            make(type_id, some)
        return len(arrived) + len(events)

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
            order = [(int(t), i) for t, i in zip(arrived.txids, arrived.ids.tolist(), strict=True)]
            for txid, event_id, kind, body, at in events:
                end = start
                while end < len(order) and order[end] < (int(txid), event_id):
                    end += 1
                if end > start:
                    self.take(arrived.part(start, end), told, aside)
                start = end
                if kind == "retire":
                    told.alarms += alarms.clear_retired(c, body["definition"], at)
                    self.states.pop(body["definition"], None)
                self.registry.apply(c, kind, body)
                told.control.append(kind)
            if start < len(order):
                self.take(arrived.part(start, len(order)), told, aside)
            if horizon is not None:
                self.tick(horizon + 1, told)
            self.keep_states()
            last = [(int(e[0]), e[1]) for e in events[-1:]] + order[-1:]
            if last:
                txid_number, ident = max(last)
                self.cursor = (str(txid_number), ident)
            c.execute(
                "update engine_cursor set txid = %s::text::xid8, id = %s, clock = %s, messages = messages + %s, at = clock_timestamp() where part = %s",
                (*self.cursor, moment(self.clock), len(arrived), self.part),
            )
            if told.messages or told.alarms or told.control:
                self.tell(told)

    def take(self, arrived: Arrived, told: Told, aside: str | None) -> None:
        """Messages between two events: nothing that they go by changes among them."""
        # The engine's clock follows the arrivals and never goes back.
        arrival = np.maximum.accumulate(np.maximum(arrived.received, self.clock))
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
        failed[without] = True
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
        write_activity(self.connection, arrived.device[known], arrived.received[known], failed[known])
        if heard:
            owner, row = np.unique(np.concatenate(heard, axis=1), axis=1)
            other = owner != arrived.device[row]
            write_activity(
                self.connection, owner[other], arrived.received[row[other]], np.zeros(int(other.sum()), bool)
            )
            told.devices.update(owner[other].tolist())
        self.keep_latest(arrived, known, failed, effects.newest)
        told.messages += len(arrived)
        told.devices.update(arrived.device[known].tolist())
        self.tick(int(arrival[-1]), told)

    def watched(self, type_id: int) -> list[WatchedCondition]:
        return [self.watch(c) for c in self.registry.conditions.values() if c.type_id == type_id]

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
            w = self.watch(condition)
            found += [
                (w.key, t)
                for t in evaluate_condition(w.plan, none, self.newest, w.setpoint, w.selected, w.states, until)
            ]
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
                    "insert into condition_state values (%s, %s, %s) on conflict (condition_id, device_id) do update set state = excluded.state",
                    changed,
                )
            if gone:
                cursor.executemany("delete from condition_state where condition_id = %s and device_id = %s", gone)

    def keep_latest(
        self, arrived: Arrived, known: np.ndarray, failed: np.ndarray, newest: dict[tuple[int, str], tuple[Newest, int]]
    ) -> None:
        for (device_id, name), (found, row) in newest.items():
            self.latest.setdefault(device_id, {})[name] = latest_entry(
                found, int(arrived.ids[row]), int(arrived.received[row])
            )
        rows = []
        index = np.flatnonzero(known)
        devices, first_from_end = np.unique(arrived.device[index][::-1], return_index=True)
        counts = np.bincount(np.searchsorted(devices, arrived.device[index]), minlength=len(devices))
        for device_id, back, count in zip(devices.tolist(), first_from_end.tolist(), counts, strict=True):
            row = int(index[len(index) - 1 - back])
            rows.append(
                (
                    device_id,
                    int(arrived.ids[row]),
                    int(arrived.received[row]),
                    int(count),
                    bool(failed[row]),
                    self.latest.setdefault(device_id, {}),
                )
            )
        spoke = set(devices.tolist())
        others: dict[int, int] = {}
        for (device_id, _), (_, row) in newest.items():
            if device_id not in spoke:
                others[device_id] = max(others.get(device_id, -1), row)
        for device_id, row in others.items():
            rows.append(
                (device_id, int(arrived.ids[row]), int(arrived.received[row]), 1, False, self.latest[device_id])
            )
        write_latest(self.connection, rows)

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
    def run(self) -> None:
        """Works until told to stop; after a lost database the process ends and is started anew."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: setattr(self, "stopping", True))
        kept_house = 0.0
        while not self.stopping:
            if time.monotonic() - kept_house > 600:
                self.keep_house()
                kept_house = time.monotonic()
            taken = self.step()
            if taken == 0 and not decode_again_step(self):
                for _ in self.listening.notifies(timeout=TICK_S, stop_after=1):
                    pass

    def keep_house(self) -> None:
        """Partitions for the days ahead, and an end to what is older than its retention."""
        c = self.connection
        c.execute("select message_day((now() at time zone 'UTC')::date + d) from generate_series(-1, 3) d")
        for (name,) in c.execute(
            "select relname from pg_class where relname ~ '^message_[0-9]{8}$' and relkind = 'r' and relname < 'message_' || to_char(now() - make_interval(days => %s), 'YYYYMMDD')",
            (settings.RAW_RETENTION_DAYS,),
        ).fetchall():
            c.execute(f'drop table "{name}"')
        c.execute(
            "delete from refused where received_at < now() - make_interval(days => %s)", (settings.RAW_RETENTION_DAYS,)
        )
        c.execute("delete from live_change where at < now() - interval '10 minutes'")
        c.execute("delete from intake_refusal where minute < now() - interval '30 days'")


def main() -> None:
    import os

    import django

    django.setup()
    engine = Engine(settings.INSTANCE.database_url(), int(os.environ.get("OCULUM_PART", "0")))
    log.info("working on part %d", engine.part)
    (settings.INSTANCE.folder / "run" / "engine.ready").touch()
    engine.run()


if __name__ == "__main__":
    main()
