"""Conditions over the stored past: a room of their own, and nothing is written."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.alarms import compiled
from oculum.alarms.room import Room
from oculum.alarms.trace import Trace
from oculum.alarms.watched import FOREVER, Transition, Watched
from oculum.batches import Column, Group
from oculum.history.events import eras
from oculum.history.fleet import Fleet
from oculum.history.following import SET_BACK_US
from oculum.history.looking import keep_of
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.expressions import Builtin, MessageCount, Silent, Window
from oculum.language.fields import FieldSpec
from oculum.pipeline import Effects, evaluated
from oculum.register.world import TYPE
from server.records.fleet.models import DeviceType
from server.rules.plans import plan_of
from server.rules.refusal import Refused
from server.rules.registry import MADE, Registry
from server.store.columns import Columns, pieces
from server.store.published import version_row
from server.store.raised import of_gateways
from server.store.register import register_at
from server.store.rows import specs

MOST = 15_000_000  # readings in one trial: about a gigabyte
PORTION = 50_000  # messages evaluated at a time


@dataclass
class _Change:
    """A change of limits or of the register in the span: its number in the stream, when, and what."""

    number: int
    at: int
    kind: str
    body: dict[str, Any]


@dataclass
class _Stream:
    """Messages in the order of the stream, and their readings beside them.

    ids, device, received: int64 (n,) a message; row: int64 (m,), the message of each row of `read`, rising.
    """

    ids: np.ndarray
    device: np.ndarray
    received: np.ndarray
    read: Columns
    row: np.ndarray

    @classmethod
    def of(cls, read: Columns, heard: Columns | None) -> _Stream:
        """Readings and, where they are asked for, all that arrived."""
        if heard is None:
            head = np.diff(read.message, prepend=-1) != 0
            ids, device, received = read.message[head], read.device[head], read.received[head]
            return cls(ids, device, received, read, np.cumsum(head) - 1)
        ids, heads = np.unique(np.concatenate([heard.message, read.message]), return_index=True)
        device = np.concatenate([heard.device, read.device])[heads]
        received = np.concatenate([heard.received, read.received])[heads]
        return cls(ids, device, received, read, np.searchsorted(ids, read.message))

    def group(self, first: int, last: int, fields: tuple[FieldSpec, ...]) -> Group:
        """What messages from `first` to before `last` have given, as a batch of their own."""
        a, b = np.searchsorted(self.row, [first, last]).tolist()
        columns = {spec.name: _column(spec, self.read.values[spec.name][a:b]) for spec in fields}
        return Group(fields, self.row[a:b] - first, self.read.at[a:b], columns, None, self.read.device[a:b])


def _column(spec: FieldSpec, values: np.ndarray) -> Column:
    if values.dtype == object:
        there = np.array([v is not None for v in values], bool)
        blank: Any = "" if spec.kind == "text" else 0
        return Column(np.where(there, values, blank), there.astype(np.int16))
    there = ~np.isnan(values[:, 0] if values.ndim > 1 else values)
    return Column(np.where(there[:, None] if values.ndim > 1 else there, values, 0), there.astype(np.int16))


@dataclass
class Asked:
    """What is to be looked at again: conditions by a number of their own, all on one type, in [start, end).

    supposed: values of the type's setpoints in place of those that there were. trace: what it follows is kept in it.
    devices: only these are read.
    """

    plans: Mapping[int, ConditionPlan]
    type: DeviceType
    start: datetime
    end: datetime
    supposed: Mapping[str, float] = field(default_factory=dict)
    trace: Trace | None = None
    devices: Sequence[int] | None = None

    @property
    def begin(self) -> datetime:
        """The room is warmed by as much of the time before as the longest window asks for."""
        return self.start - timedelta(microseconds=max(map(looked_back, self.plans.values())))


def looked_at(*asked: Asked) -> Generator[dict[str, Any], None, list[PastRoom]]:
    """{"done", "total"} in hundredths of the work as it goes; returns a room at the end of the span for each.

    All are about the same type, span and devices; what was stored is read once. Nothing is written; leaving off reading
    it ends the work. Raises Refused where there is too much.
    """
    url, one = settings.INSTANCE.database_url(), asked[0]
    plans = [plan for each in asked for plan in each.plans.values()]
    fields = _fields(plans, one.type)
    begin = min(each.begin for each in asked)
    read: list[Columns] = []
    heard: list[Columns] = []
    hear = any(map(hears, plans))
    with psycopg.connect(url, autocommit=True) as own:
        rooms = [PastRoom(each, begin, fields, own) for each in asked]
        for piece in pieces(url, one.type.pk, begin, one.end, fields, hear, one.devices):
            read.append(piece.readings)
            heard += [piece.arrivals] if piece.arrivals is not None else []
            if sum(len(part) for part in read) > MOST:
                raise Refused("too much", f"these are more than {MOST:,} readings: choose a shorter span")
            stream = _Stream.of(piece.readings, piece.arrivals)
            for room in rooms:
                room.take(stream)
            yield {"done": round(99 * piece.share), "total": 100}
        if rooms[0].disordered:  # a clock that was set back: arrivals by day are not in the order of the stream
            rooms = [PastRoom(each, begin, fields, own) for each in asked]
            whole = _Stream.of(Columns.joined(read), Columns.joined(heard) if heard else None)
            for each, room in zip(asked, rooms, strict=True):
                if each.trace is not None:
                    each.trace.clear()
                room.take(whole)
        for room in rooms:
            room.finish(int(one.end.timestamp() * 1e6))
    yield {"done": 100, "total": 100}
    return rooms


def _fields(plans: Iterable[ConditionPlan], type_: DeviceType) -> tuple[FieldSpec, ...]:
    """The fields that conditions go by."""
    declared = specs(DeviceType.objects.values_list("fields", flat=True).get(pk=type_.pk))
    names: list[str] = []
    for plan in plans:
        names += plan.fields
        if plan.exact is not None:
            names += [f"{name}_accuracy" for name in plan.fields] + [plan.exact[1]]
    return tuple(declared[name] for name in dict.fromkeys(names) if name in declared)


def hears(plan: ConditionPlan) -> bool:
    """Whether a condition goes by arrivals, also by those that gave no reading."""
    parts = [part for rule in plan.rules for part in rule.walk()]
    return any(
        isinstance(part, Silent | MessageCount) or (isinstance(part, Builtin) and part.name != "home") for part in parts
    )


def learns(plan: ConditionPlan) -> bool:
    """Whether a condition goes by cadences that devices have by themselves."""
    parts = [part for rule in plan.rules for part in rule.walk()]
    return any(isinstance(part, Builtin) and part.name in ("learned_cadence", "cadence_spread") for part in parts)


class PastRoom:
    """A room of its own, and how far it is. disordered: messages came that belong before those that were taken."""

    def __init__(
        self, asked: Asked, begin: datetime, fields: tuple[FieldSpec, ...], connection: psycopg.Connection[Any]
    ) -> None:
        compiled.ready()
        self.asked, self.type, self.fields, self.connection = asked, asked.type.pk, fields, connection
        self.registry = Registry()
        setpoints = {name for plan in asked.plans.values() for name in plan.setpoints}
        self.changes = [
            _Change(*row)
            for row in connection.execute(
                "select id, (extract(epoch from at) * 1000000)::bigint, kind, body from control_event where kind"
                " in ('registry', 'unheard') or (kind = 'setpoint' and (body->>'type')::int = %s and body->>'name' ="
                " any(%s)) order by id",
                (self.type, sorted(setpoints)),
            ).fetchall()
        ]
        self.begin = int(begin.timestamp() * 1e6)
        self.newest = Fleet()
        self.found: list[Transition] = []
        self.received: list[np.ndarray] = []
        self.clock, self.last, self.disordered = 0, -1, False

    def take(self, stream: _Stream) -> None:
        """The messages that come next."""
        if not len(stream.ids):
            return
        self.disordered |= bool(stream.ids[0] <= self.last)
        if self.disordered:
            return
        if self.last < 0:
            self.open(int(stream.ids[0]))
        self.last = int(stream.ids[-1])
        self.received.append(stream.received)
        for first, last, arrival in eras(stream.received, self.clock):
            if arrival[0] < self.clock:
                self.room.set_back(int(arrival[0]) + SET_BACK_US)
            cuts = {int(np.searchsorted(stream.ids[first:last], c.number)) for c in self.changes}
            edges = sorted({*cuts, *self.room.cuts(arrival), *range(0, last - first, PORTION)})
            for a, b in zip(edges, edges[1:], strict=False):
                self._change(int(stream.ids[first + a]), int(arrival[a]))
                self._evaluate(stream, first + a, first + b, arrival[a:b])
            self.clock = int(arrival[-1])

    def open(self, number: int) -> None:
        """The room as of a message. What was registered later is there as it was first."""
        self.registry.take(register_at(self.connection, number - 1, later=True))
        while self.changes and self.changes[0].number < number:
            change = self.changes.pop(0)
            if change.kind != "registry":
                self.registry.apply(self.connection, change.number, change.kind, change.body)
        self._suppose()
        self.room = Room(self.registry.world, self.begin, any(map(learns, self.asked.plans.values())))
        if any(plan.silence for plan in self.asked.plans.values()):
            self.room.explained = silences_of_gateways(self.connection, self.type, self.begin)
        if self.asked.trace is not None:
            self.room.follow(self.asked.trace)
        for key, plan in self.asked.plans.items():
            self.room.watch(Watched(key, 0, self.type, plan))

    def _suppose(self) -> None:
        for name, value in self.asked.supposed.items():
            self.registry.world.limits[self.type, name, TYPE, 0] = value

    def _change(self, number: int, arrival: int, latest: int = FOREVER) -> None:
        """What was changed before a message, up to a moment, and counts no later than it arrived."""
        while self.changes and self.changes[0].number <= number and self.changes[0].at <= latest:
            change = self.changes.pop(0)
            at = max(min(change.at, arrival), self.room.clock)
            if change.kind != "unheard":
                self.found += self.room.elapse(at, self.newest)
            self.registry.apply(self.connection, change.number, change.kind, change.body)
            self._suppose()
            if change.kind == "registry":
                self.found += self.room.refresh(at, self.newest)
            elif change.kind == "setpoint":
                self.found += self.room.touch(at, self.newest)

    def _evaluate(self, stream: _Stream, first: int, last: int, arrival: np.ndarray) -> None:
        effects = evaluated(
            Effects(),
            {self.type: [stream.group(first, last, self.fields)]},
            stream.device[first:last],
            arrival,
            stream.ids[first:last],
            self.newest,
            self.room,
            int(arrival[-1]),
        )
        effects.settle(self.newest)
        self.found += effects.transitions

    def finish(self, until: int) -> None:
        """What the clock does up to the end."""
        if self.last < 0:
            self.open(2**62)
        self._change(FOREVER, until, until)
        self.found += self.room.elapse(until, self.newest)

    def transitions(self, key: int) -> list[Transition]:
        """Those of one of the conditions in the span; what was raised before it is left out."""
        since = int(self.asked.start.timestamp() * 1e6)
        return [t for t in self.found if t.key == key and (t.at >= since or not t.raised)]

    def messages(self) -> int:
        """How many messages of the span were looked at."""
        since = int(self.asked.start.timestamp() * 1e6)
        return sum(int((received >= since).sum()) for received in self.received)

    def unheard(self, at: np.ndarray) -> np.ndarray:
        """int64 (n,), µs: for how long nobody listened between each moment and the one before. at: rising."""
        gone = np.zeros(len(at), np.int64)
        for begin, end in self.registry.world.downtime:
            gone += np.clip(at, begin, min(end, FOREVER)) - begin
        return np.diff(gone, prepend=gone[:1])

    def subjects(self, key: int) -> list[int]:
        """The devices or sites in a condition's scope, by number."""
        if self.asked.plans[key].each_site:
            return sorted({place for site in self.room.sites.values() for place in site.at})
        banks = [bank for bank in self.room.banks.values() if key in bank.scope]
        return sorted(int(i) for bank in banks for i in bank.ids[bank.scope[key]])


def silences_of_gateways(
    connection: psycopg.Connection[Any], type_id: int, since: int
) -> dict[int, list[tuple[int, int]]]:
    """When gateways of a type's devices were in alarm because they were silent: device -> from, to (µs), apart and
    rising. The silence of what is behind them is explained by it, in a trial as in life.
    """
    plans: dict[int, bool] = {}
    found: dict[int, list[tuple[int, int]]] = {}
    for device, begun, over, version in of_gateways(connection, type_id, since):
        if version not in plans:
            row = version_row(connection, version, MADE)
            plan = plan_of(row, row.key) if row is not None else None
            plans[version] = plan is not None and plan.silence
        if not plans[version]:
            continue
        own, until = found.setdefault(device, []), FOREVER if over is None else int(over)
        if own and begun <= own[-1][1]:  # several conditions at a time
            own[-1] = (own[-1][0], max(own[-1][1], until))
        else:
            own.append((int(begun), until))
    return found


def looked_back(plan: ConditionPlan) -> int:
    """How far a condition looks back, µs: as much of the past as a trial begins before its span."""
    widths = [0, *(step.held_us for step in plan.steps), plan.clear_held_us]
    for part in (part for rule in plan.rules for part in rule.walk()):
        if isinstance(part, Window):
            widths.append(keep_of(part))
        elif isinstance(part, MessageCount):
            widths.append(part.width)
    return max(widths)
