"""All conditions on the devices of one type: what they speak of is worked out once, then each machine is moved on.

Devices are slots; a batch becomes rows of readings and of moments (a silence that has lasted, hours that begin, a step
of the clock). Rules are evaluated over all rows at once; see `machine` for what follows from them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from oculum.errors import OculumError

from ..arrays import distinct, in_order
from ..history.events import Events
from ..history.fleet import Fleet
from ..history.looking import keep_of, look, over
from ..history.windows import KINDS, MARGIN_US, Past
from ..language.conditions.plan import PRIORITIES, ConditionPlan, Limit
from ..language.evaluate import Val, evaluate
from ..language.expressions import Age, AtFence, Builtin, Ex, MessageCount, Named, Silent, Speed, Window, bare
from ..language.fields import FieldSpec
from ..register import hours
from ..register.world import Device, World, matches
from . import arrivals as heard
from . import machine
from .compiled import compiled
from .machine import ARRIVAL, BEGINS, ENDS, NEVER, NO, READING, REGISTER, TIMER, UNKNOWN, YES, Machine
from .places import Fixes
from .rows import Moments, Rows
from .trace import Trace

FOREVER = np.iinfo(np.int64).max


class ConditionFailed(OculumError):
    """A condition that could not be evaluated. key: which one. The room is not to be used any more."""

    def __init__(self, key: int, error: Exception) -> None:
        super().__init__(f"{type(error).__name__}: {error}")
        self.key = key


@contextmanager
def blamed(key: int) -> Iterator[None]:
    """Whatever fails inside is the failure of a condition."""
    try:
        yield
    except Exception as error:
        raise ConditionFailed(key, error) from error


@dataclass(frozen=True)
class Watched:
    """A condition in force. key: its definition, the negative of it for a version that chosen devices have first; type:
    the device type's number; chosen: which of the devices that it selects it watches, all where that is None.
    """

    key: int
    version: int
    type: int
    plan: ConditionPlan
    chosen: Callable[[Device], bool] | None = None


@dataclass(frozen=True)
class Cause:
    """What started something: the message, its arrival, the value and the limit it was held against."""

    message: int
    arrival: int
    value: Any = None
    limit: float | None = None
    field: str | None = None


@dataclass(frozen=True)
class Transition:
    """What happened to an alarm. `at` is its exact moment, `learned` when that could first be known.

    subject: a device's number, or (on_site) a site's. what: raised, cleared, priority_changed, suppressed. reason:
    why it was cleared otherwise than by its rule.
    """

    key: int
    subject: int
    what: str
    priority: str
    at: int
    learned: int
    cause: Cause
    on_site: bool = False
    reason: str = ""

    @property
    def raised(self) -> bool:
        return self.what == "raised"


WHAT = ("raised", "cleared", "priority_changed", "suppressed")
NOTHING = Cause(0, 0)


class Profile:
    """What a plan speaks of, worked out once."""

    def __init__(self, plan: ConditionPlan) -> None:
        self.plan = plan
        self.parts: tuple[Ex, ...] = tuple(part for rule in plan.rules for part in rule.walk())
        self.windows = [bare(p) for p in self.parts if isinstance(p, Window)]
        self.silences = {bare(p) for p in self.parts if isinstance(p, Silent)}
        self.widths = sorted({p.width for p in self.parts if isinstance(p, MessageCount)})
        self.calendar = any(w.calendar for w in self.windows)
        self.by_clock = bool(plan.every_us) or self.calendar or not plan.hours.always
        self.by_arrival = bool(self.widths) or any(s.field is None for s in self.silences)
        builtins = {p.name for p in self.parts if isinstance(p, Builtin)}
        self.by_reading = bool(builtins & {"arrival_lag", "learned_cadence"})
        self.positions: list[str] = []
        self.values: list[str] = []
        for name in plan.fields:
            if any(isinstance(p, AtFence | Speed) and p.field == name for p in self.parts) or any(
                isinstance(p, Named) and p.name == name and p.type.kind == "position" for p in self.parts
            ):
                self.positions.append(name)
            elif any(
                (isinstance(p, Named) and p.name == name) or (isinstance(p, Age) and p.field == name)
                for p in self.parts
            ):
                self.values.append(name)


@dataclass
class Kept:
    """Causes of delays that were begun in earlier batches: by number of the delay and slot."""

    causes: dict[tuple[int, int], Cause] = field(default_factory=dict)


@dataclass
class Quiet:
    """A silence that is counted: since when, how long it may last, how it stands. int64 (n,) each."""

    last: np.ndarray
    limit: np.ndarray
    state: np.ndarray


class Bank:
    """The conditions on one type's devices of one depth behind gateways."""

    def __init__(self, world: World, type_: int, ids: Sequence[int], clock: int, learning: bool = True) -> None:
        self.world, self.type, self.clock, self.learning = world, type_, clock, learning
        self.ids = np.array(list(ids), np.int64)
        self.slot_of = {int(i): slot for slot, i in enumerate(self.ids)}
        self.conditions: dict[int, Watched] = {}
        self.served: dict[int, ConditionPlan] = {}  # of sites, that speak of these devices as their members
        self.machines: dict[int, Machine] = {}
        self.kept: dict[int, Kept] = {}
        self.scope: dict[int, np.ndarray] = {}
        self.pasts: dict[Ex, Past] = {}
        self.quiet: dict[Silent, Quiet] = {}
        self.messages: Past | None = None
        self.fixes: dict[tuple[str, tuple[float, str] | None], Fixes] = {}
        self.lag = np.full(len(self.ids), np.nan)
        self.counted = np.full(len(self.ids), NEVER, np.int64)
        self.intervals = np.zeros((len(self.ids), heard.KEPT), np.int64)
        self.sizes = np.zeros(len(self.ids), np.int64)
        self.learned = np.zeros(len(self.ids))
        self.spread = np.full(len(self.ids), np.nan)
        self.last_heard = np.full(len(self.ids), NEVER, np.int64)
        self.profiles: dict[int, Profile] = {}  # of all that is evaluated here
        self.last: tuple[Rows, _View] | None = None  # of the last batch
        self.trace: Trace | None = None
        self._sort()
        self.refresh()

    def _sort(self) -> None:
        self._table = np.full(int(self.ids.max(initial=-1)) + 2, -1, np.int64)
        self._table[self.ids] = np.arange(len(self.ids))

    def _profiled(self) -> None:
        plans = {key: w.plan for key, w in self.conditions.items()} | self.served
        self.profiles = {key: Profile(plan) for key, plan in plans.items()}

    # what the register says --------------------------------------------------------------
    def refresh(self) -> None:
        """Takes the register as it is now."""
        devices = [self.world.devices.get(int(i)) for i in self.ids]
        self.devices = devices
        self.cadence = np.array([self.world.cadence(d) if d is not None else 0 for d in devices], np.int64)
        self.registered = np.array([d.registered if d is not None else 0 for d in devices], np.int64)
        home = [d.home if d is not None and d.home is not None else (np.nan, np.nan) for d in devices]
        self.home = np.array(home, float).reshape(-1, 2)
        self.zones = [self.world.zone(d.site if d is not None else None) for d in devices]
        self.gateways = [d.gateway if d is not None else None for d in devices]
        fresh = np.isnan(self.spread) & (self.sizes < heard.LEAST)
        self.learned[fresh] = self.cadence[fresh] / 1e6
        for key in self.conditions:
            self.scope[key] = self._scope(self.conditions[key])

    def _scope(self, watched: Watched) -> np.ndarray:
        plan = watched.plan
        return np.array(
            [
                d is not None
                and d.in_service
                and d.type == self.type
                and matches(d.labels, plan.labels)
                and (plan.site is None or self.world.at_or_below(d.site, plan.site))
                and (watched.chosen is None or watched.chosen(d))
                for d in self.devices
            ],
            bool,
        )

    def add_devices(self, ids: Sequence[int]) -> None:
        """Slots for devices that have come."""
        fresh = [int(i) for i in ids if int(i) not in self.slot_of]
        if not fresh:
            return
        old, n = len(self.ids), len(self.ids) + len(fresh)
        self.ids = np.concatenate([self.ids, np.array(fresh, np.int64)])
        self.slot_of = {int(i): slot for slot, i in enumerate(self.ids)}
        self._sort()
        pad = n - old
        self.lag = np.concatenate([self.lag, np.full(pad, np.nan)])
        self.counted = np.concatenate([self.counted, np.full(pad, NEVER, np.int64)])
        self.intervals = np.concatenate([self.intervals, np.zeros((pad, heard.KEPT), np.int64)])
        self.sizes = np.concatenate([self.sizes, np.zeros(pad, np.int64)])
        self.learned = np.concatenate([self.learned, np.zeros(pad)])
        self.spread = np.concatenate([self.spread, np.full(pad, np.nan)])
        self.last_heard = np.concatenate([self.last_heard, np.full(pad, NEVER, np.int64)])
        for key, found in self.machines.items():
            self.machines[key] = found.grown(n)
        for past in [*self.pasts.values(), *([self.messages] if self.messages else [])]:
            past.grow(n, past.at.shape[1])
        for fixes in self.fixes.values():
            fixes.grow(n)
        self.refresh()
        for node, quiet in self.quiet.items():
            begun = self._begun(node, np.arange(old, n))
            for name in ("last", "limit", "state"):
                setattr(quiet, name, np.concatenate([getattr(quiet, name), getattr(begun, name)]))

    # conditions --------------------------------------------------------------------------
    def watch(self, watched: Watched) -> None:
        """A condition is in force. One of another version of it keeps its open alarms."""
        before_ = self.conditions.get(watched.key)
        self.conditions[watched.key] = watched
        self.scope[watched.key] = self._scope(watched)
        fresh = Machine.of(len(self.ids), len(watched.plan.steps))
        old = self.machines.get(watched.key)
        if before_ is not None and old is not None:
            for slot in np.flatnonzero(old.level >= 0).tolist():
                fresh.level[slot] = _step_for(watched.plan, before_.plan.steps[old.level[slot]].priority)
        self.machines[watched.key] = fresh
        self.kept[watched.key] = Kept()
        self._profiled()
        self._prepare(watched.plan)

    def hand_over(self, source: int, target: int, slots: np.ndarray) -> list[int]:
        """Devices are another condition's from now on, which keeps their open alarms as a version after it would.
        Returns the devices that have one.
        """
        old, fresh, steps = self.machines[source], self.machines[target], self.conditions[source].plan.steps
        open_ = slots[old.level[slots] >= 0]
        for slot in open_.tolist():
            fresh.level[slot] = _step_for(self.conditions[target].plan, steps[old.level[slot]].priority)
        self.leave(source, slots, 0, "")
        return [int(i) for i in self.ids[open_]]

    def serve(self, key: int, plan: ConditionPlan) -> None:
        """A condition on sites speaks of these devices as their members."""
        self.served[key] = plan
        self._profiled()
        self._prepare(plan)

    def forget(self, key: int) -> None:
        """A condition is not in force any more; what only it looked back on is let go."""
        for held in (self.conditions, self.served, self.machines, self.kept, self.scope):
            held.pop(key, None)  # type: ignore[attr-defined]
        self._profiled()
        nodes = {bare(p) for profile in self.profiles.values() for p in profile.parts}
        self.quiet = {node: quiet for node, quiet in self.quiet.items() if node in nodes}
        inner = {node.value for node in nodes if isinstance(node, Window)}
        self.pasts = {value: past for value, past in self.pasts.items() if value in inner}
        if not any(isinstance(node, MessageCount) for node in nodes):
            self.messages = None

    def _prepare(self, plan: ConditionPlan) -> None:
        """Room for what a condition looks back on."""
        for part in (part for rule in plan.rules for part in rule.walk()):
            match part:
                case Window():
                    inner, keep = bare(part.value), keep_of(part)
                    if inner not in self.pasts:
                        self.pasts[inner] = Past.of(len(self.ids), keep)
                    self.pasts[inner].keep = max(self.pasts[inner].keep, keep)
                case Silent():
                    node = bare(part)
                    if node not in self.quiet:
                        self.quiet[node] = self._begun(node, np.arange(len(self.ids)))
                case MessageCount():
                    if self.messages is None:
                        self.messages = Past.of(len(self.ids), part.width + MARGIN_US)
                    self.messages.keep = max(self.messages.keep, part.width + MARGIN_US)
                case AtFence() | Speed():
                    self._fixes(part.field, plan.exact)
                case Named() if part.type.kind == "position":
                    self._fixes(part.name, plan.exact)

    def _fixes(self, name: str, exact: tuple[float, str] | None) -> Fixes:
        key = (name, exact)
        if key not in self.fixes:
            self.fixes[key] = Fixes.of(len(self.ids))
        return self.fixes[key]

    def _begun(self, node: Silent, slots: np.ndarray) -> Quiet:
        """A silence that nothing is known of yet: from the last message, else from when the device was registered."""
        last = np.where(self.last_heard[slots] == NEVER, self.registered[slots], self.last_heard[slots])
        if node.field is not None:
            last = self.registered[slots].copy()
        return Quiet(last, self._limits(node, slots), np.zeros(len(slots), np.int64))

    def _limits(self, node: Silent, slots: np.ndarray, learned: Any = None, spread: Any = None) -> np.ndarray:
        """How long a silence may last, µs, as it counts from now on; 0 where that is not known."""
        view = _Limits(self, slots, learned, spread)
        found = evaluate(node.limit, view)
        seconds = np.broadcast_to(np.asarray(found.values, float), (len(slots),))
        known = np.broadcast_to(np.asarray(found.known, bool), (len(slots),)) & np.isfinite(seconds) & (seconds > 0)
        return np.where(known, np.rint(np.where(known, np.minimum(seconds, 1e9), 0) * 1e6), 0).astype(np.int64)

    # a batch -----------------------------------------------------------------------------
    def idle(
        self,
        events: Events,
        arrived_device: np.ndarray,
        until: int,
        gates: Mapping[int, Sequence[tuple[int, int]]],
        touched: Sequence[tuple[int, int, int]],
    ) -> bool:
        """Whether a batch is none of this bank's business: no reading, no arrival, nothing due before its end, and no
        gateway's silence that may explain one of these.
        """
        return not (
            len(events)
            or (gates and self.quiet)
            or any(device in self.slot_of for _, device, _ in touched)
            or (self._slots(arrived_device) >= 0).any()
            or self.next_due() < until
        )

    def pass_by(self, until: int) -> None:
        """The clock goes on, while nothing happens here."""
        self.clock = max(self.clock, until - 1)
        self.last = None

    def advance(
        self,
        events: Events,
        arrived_device: np.ndarray,
        arrived_at: np.ndarray,
        newest: Fleet,
        until: int,
        gates: Mapping[int, Sequence[tuple[int, int]]],
        touched: Sequence[tuple[int, int, int]] = (),
    ) -> list[Transition]:
        """The transitions of a batch.

        arrived_device, arrived_at: messages that tell of devices of this bank, in the order of arrival. newest: what
        was known before. until: all that arrived before it is in this batch or earlier ones. gates: by gateway, the
        spans in which its silence is open. touched: (condition, device, moment) that the register has touched.
        """
        if not self.conditions and not self.served:
            self.pass_by(until)
            return []
        slot, arrived = self._slots(events.device), self._slots(arrived_device)
        mine = arrived >= 0
        arrived, arrived_at = arrived[mine], arrived_at[mine]
        order = in_order(arrived)
        arrived, arrived_at = arrived[order], arrived_at[order]
        learned, spread = self._learn(arrived, arrived_at)
        moments: list[Moments] = []
        changes = self._silences(events, slot, arrived, arrived_at, learned, spread, gates, until, moments)
        self._other_moments(arrived, arrived_at, until, moments)
        if self._by_arrival():
            moments.append(Moments.of(arrived, arrived_at, ARRIVAL, -1))
        tags: dict[tuple[int, int], int] = {}
        for key, device, at in touched:
            if device in self.slot_of:
                tag = tags.setdefault((key, at), -10 - len(tags))
                moments.append(Moments.of([self.slot_of[device]], at, REGISTER, tag))
        rows = Rows.of(events, slot, moments)
        view = _View(self, rows, newest, changes, arrived, arrived_at, learned, spread)
        found: list[Transition] = []
        looked: dict[int, np.ndarray] = {}
        for key, watched in self.conditions.items():
            with blamed(key):
                looked[key] = self._looked(watched, rows, view, tags)
        view.wanted = looked
        for key, watched in self.conditions.items():
            with blamed(key):
                found += self._move(watched, rows, view, looked[key], until)
        self.last = (rows, view)
        view.keep()
        self.clock = max(self.clock, until - 1)
        if len(arrived):
            self.last_heard[arrived] = arrived_at  # the last of each slot stays
        return found

    def _slots(self, ids: np.ndarray) -> np.ndarray:
        """int64 (n,): the slot of each device, -1 for one of another bank."""
        last = len(self._table) - 1  # which is nobody's
        return self._table[np.where((ids >= 0) & (ids < last), ids, last)]

    def _by_arrival(self) -> bool:
        return any(profile.by_arrival for profile in self.profiles.values())

    def _learn(self, slot: np.ndarray, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Learned cadence and spread, seconds, after every arrival."""
        if not self.learning:
            return self.learned[slot], self.spread[slot]
        cadence, spread = np.zeros(len(slot), np.int64), np.full(len(slot), -1, np.int64)
        if len(slot):
            scratch = np.zeros(heard.KEPT, np.int64)
            compiled("learn")(
                slot, at, self.cadence, self.counted, self.intervals, self.sizes, scratch, cadence, spread
            )
        seconds, wide = cadence / 1e6, np.where(spread < 0, np.nan, spread / 1e6)
        if len(slot):
            self.learned[slot], self.spread[slot] = seconds, wide
        return seconds, wide

    def _silences(
        self,
        events: Events,
        slot: np.ndarray,
        arrived: np.ndarray,
        arrived_at: np.ndarray,
        learned: np.ndarray,
        spread: np.ndarray,
        gates: Mapping[int, Sequence[tuple[int, int]]],
        until: int,
        moments: list[Moments],
    ) -> dict[Silent, tuple[np.ndarray, np.ndarray]]:
        """Changes (slot, moment, state) of every silence that is counted, and how it stood; adds their moments."""
        found: dict[Silent, tuple[np.ndarray, np.ndarray]] = {}
        down = np.array(self.world.downtime, np.int64).reshape(-1, 2)
        for tag, (node, quiet) in enumerate(self.quiet.items()):
            own, own_at, own_learned, own_spread = arrived, arrived_at, learned, spread
            if node.field is not None:
                track = events.tracks.get(node.field)
                there = np.flatnonzero((track.column.state == 1) & (slot >= 0)) if track is not None else slot[:0]
                own, own_at = slot[there], events.arrival[there]
                own_learned, own_spread = self.learned[own], self.spread[own]
            limits = self._limits(node, own, own_learned, own_spread)
            if self.trace is not None and not self.trace.on_site and self.trace.subject in self.slot_of:
                heard_ = np.flatnonzero(own == self.slot_of[self.trace.subject])
                self.trace.hear(node, own_at[heard_], limits[heard_])
            slots = np.arange(len(self.ids))
            first = np.searchsorted(own, np.arange(len(self.ids) + 1))
            spans = self._spans(gates)
            gate_first = np.concatenate([[0], np.cumsum([len(s) for s in spans])]).astype(np.int64)
            flat = np.array([span for s in spans for span in s], np.int64).reshape(-1, 2)
            out = np.zeros((2 * (len(own) + len(slots) + len(flat)) + 16, 3), np.int64)
            was = quiet.state.copy()
            count = compiled("silences")(
                slots,
                first.astype(np.int64),
                own_at,
                limits,
                gate_first,
                np.ascontiguousarray(flat[:, 0]),
                np.ascontiguousarray(flat[:, 1]),
                until,
                np.ascontiguousarray(down[:, 0]),
                np.ascontiguousarray(down[:, 1]),
                quiet.last,
                quiet.limit,
                quiet.state,
                out,
            )
            found[node] = out[:count], was
            came = out[:count][out[:count, 2] != heard.COUNTING]
            moments.append(Moments.of(came[:, 0], came[:, 1], TIMER, tag))
            if node.field is not None:
                moments.append(Moments.of(own, own_at, ARRIVAL, tag))
        return found

    def _spans(self, gates: Mapping[int, Sequence[tuple[int, int]]]) -> list[Sequence[tuple[int, int]]]:
        """For every slot the spans in which its gateway's silence is open."""
        if not gates:
            return [()] * len(self.ids)
        return [gates.get(g, ()) if g is not None else () for g in self.gateways]

    def _tag(self, what: tuple[Any, ...]) -> int:
        """A number for moments of one origin, beyond those of silences."""
        return 1000 + self._origins.setdefault(what, len(self._origins))

    def _other_moments(self, arrived: np.ndarray, arrived_at: np.ndarray, until: int, moments: list[Moments]) -> None:
        """Messages that leave a window, steps of the clock, midnights, hours that begin and end."""
        self._origins: dict[tuple[Any, ...], int] = {}
        for key, watched in self.conditions.items():
            plan, profile = watched.plan, self.profiles[key]
            for width in profile.widths if not plan.every_us else ():
                self._leaving(width, arrived, arrived_at, until, moments)
            if not profile.by_clock:
                continue
            slots = np.flatnonzero(self.scope[key])
            zones = {self.zones[s] for s in slots.tolist()}
            for zone in zones:
                own = np.array([s for s in slots.tolist() if self.zones[s] == zone], np.int64)
                if plan.every_us:
                    ticks = hours.multiples(plan.every_us, self.clock, until, zone)
                    self._add(own, ticks, TIMER, ("every", plan.every_us, zone), moments)
                elif profile.calendar:
                    ticks = hours.midnights_between(self.clock, until, zone)
                    self._add(own, ticks, TIMER, ("midnight", zone), moments)
                begins, ends = hours.edges(plan.hours, self.clock, until, zone)
                self._add(own, begins, BEGINS, ("hours", plan.hours, zone), moments)
                self._add(own, ends, ENDS, ("hours", plan.hours, zone), moments)

    def _add(
        self, slots: np.ndarray, ticks: np.ndarray, kind: int, what: tuple[Any, ...], moments: list[Moments]
    ) -> None:
        known = (what, kind) in self._origins
        tag = self._tag(what)
        if known or not len(ticks) or not len(slots):
            return
        self._origins[(what, kind)] = self._origins[what]
        moments.append(Moments.of(np.tile(slots, len(ticks)), np.repeat(ticks, len(slots)), kind, tag))

    def _leaving(
        self, width: int, arrived: np.ndarray, arrived_at: np.ndarray, until: int, moments: list[Moments]
    ) -> None:
        what = ("leaving", width)
        if what in self._origins:
            return
        tag = self._tag(what)
        assert self.messages is not None
        slot, place = self.messages.places()
        slots = np.concatenate([slot, arrived])
        at = np.concatenate([self.messages.at[slot, place], arrived_at]) + width
        due = (at > self.clock) & (at < until)
        pairs = distinct(slots[due], at[due])[0].T
        moments.append(Moments.of(pairs[:, 0], pairs[:, 1], TIMER, tag))

    # which rows are looked at --------------------------------------------------------------
    def _looked(self, watched: Watched, rows: Rows, view: _View, tags: Mapping[tuple[int, int], int]) -> np.ndarray:
        plan = watched.plan
        looked = np.zeros(len(rows), bool)
        profile = self.profiles[watched.key]
        wanted = {tag for (key, _), tag in tags.items() if key == watched.key}
        if plan.every_us:
            origins = [w for w in self._origins if w[0] == "every" and w[1] == plan.every_us]
            wanted |= {1000 + self._origins[w] for w in origins}
        else:
            for name in profile.positions:
                looked |= view.usable(name, plan.exact)
            for name in profile.values:
                looked |= view.fresh(name)
            if profile.by_arrival:
                looked |= (rows.kind == ARRIVAL) & (rows.tag == -1)
            if profile.by_reading:
                looked |= rows.kind == READING
            wanted |= {tag for tag, node in enumerate(self.quiet) if node in profile.silences}
            for what, number in self._origins.items():
                if (what[0] == "leaving" and what[1] in profile.widths) or (what[0] == "midnight" and profile.calendar):
                    wanted.add(1000 + number)
        if wanted:
            looked |= np.isin(rows.tag, list(wanted))
        if not plan.hours.always:
            origins = [w for w in self._origins if w[0] == "hours" and w[1] == plan.hours]
            own = np.isin(rows.tag, [1000 + self._origins[w] for w in origins])
            looked &= view.within(plan)
            looked |= own & (rows.kind == BEGINS)
        return looked & self.scope[watched.key][rows.slot]

    # one condition -----------------------------------------------------------------------
    def _move(self, watched: Watched, rows: Rows, view: _View, looked: np.ndarray, until: int) -> list[Transition]:
        plan, found, steps = watched.plan, self.machines[watched.key], len(watched.plan.steps)
        own_hours = np.zeros(len(rows), bool)
        if not plan.hours.always:
            origins = [w for w in self._origins if w[0] == "hours" and w[1] == plan.hours]
            own_hours = np.isin(rows.tag, [1000 + self._origins[w] for w in origins])
        scope = self.scope[watched.key]
        chosen = np.flatnonzero(
            (looked | (own_hours & (rows.kind == ENDS)) | (rows.kind == READING)) & scope[rows.slot]
        )
        view.exact = plan.exact
        count = len(rows)
        rules = np.empty((steps, len(chosen)), np.int8)
        stills = np.empty((steps, len(chosen)), np.int8)
        for k, step in enumerate(plan.steps):
            rules[k] = _ternary(evaluate(step.rule, view), count)[chosen]
            stills[k] = rules[k] if step.still is step.rule else _ternary(evaluate(step.still, view), count)[chosen]
        self._traced(watched, rows, view, looked, chosen, rules)
        clear = (
            _ternary(evaluate(plan.clear, view), count)[chosen]
            if plan.clear is not None
            else np.zeros(len(chosen), np.int8)
        )
        kinds = np.where(own_hours | (rows.kind != ENDS), rows.kind, TIMER)[chosen]
        # Every slot with something open ends with the moment up to which the clock has come.
        slot = np.concatenate([rows.slot[chosen], np.arange(len(self.ids))])
        kind = np.concatenate([kinds, np.full(len(self.ids), TIMER)])
        at = np.concatenate([rows.at[chosen], np.full(len(self.ids), until)])
        bound = np.concatenate([rows.bound[chosen], np.full(len(self.ids), until)])
        seen = np.concatenate([looked[chosen], np.zeros(len(self.ids), bool)])
        quiet = np.concatenate([view.explained(plan)[chosen], np.zeros(len(self.ids), bool)])
        pad = np.zeros((steps, len(self.ids)), np.int8)
        rules, stills = np.concatenate([rules, pad], axis=1), np.concatenate([stills, pad], axis=1)
        clear = np.concatenate([clear, pad[0]])
        order = in_order(slot)
        cause = np.full((steps + 1, len(self.ids)), -1, np.int64)
        held = np.array([step.held_us for step in plan.steps], np.int64)
        out = np.empty(((2 * steps + 3) * (len(slot) + 4), machine.COLUMNS), np.int64)
        total = compiled("walk")(
            slot[order],
            kind[order],
            at[order],
            bound[order],
            seen[order],
            quiet[order],
            np.ascontiguousarray(rules[:, order]),
            np.ascontiguousarray(stills[:, order]),
            clear[order],
            plan.clear is not None,
            held,
            plan.clear_held_us,
            found.level,
            found.since,
            found.holds,
            found.ending,
            found.held_back,
            cause,
            out,
        )
        place = np.concatenate([chosen, np.full(len(self.ids), -1)])[order]
        return self._told(watched, rows, view, out[:total], place, cause)

    def _traced(
        self, watched: Watched, rows: Rows, view: _View, looked: np.ndarray, chosen: np.ndarray, rules: np.ndarray
    ) -> None:
        """Keeps what is compared for the device that is traced. rules: int8 (steps, k), of the rows `chosen`."""
        trace = self.trace
        if trace is None or trace.on_site or trace.key != watched.key or trace.subject not in self.slot_of:
            return
        own = np.flatnonzero(looked & (rows.slot == self.slot_of[trace.subject]))
        trace.look(watched.plan, view, own, rows.at[own], rules[:, np.searchsorted(chosen, own)])

    def _told(
        self, watched: Watched, rows: Rows, view: _View, out: np.ndarray, place: np.ndarray, cause: np.ndarray
    ) -> list[Transition]:
        """Transitions of the rows of `out`; and the causes of delays that go on, for later batches."""
        plan, kept = watched.plan, self.kept[watched.key].causes
        found_machine = self.machines[watched.key]
        shown = _Shown(plan, view, rows)
        running = cause >= 0
        running[:-1] &= found_machine.since != NEVER
        running[-1] &= found_machine.ending != NEVER
        delays = np.argwhere(running)
        top = len(plan.steps) - 1
        shown.look(place, out[out[:, machine.ROW] >= 0][:, [machine.ROW, machine.LEVEL]])
        shown.look(place, np.stack([cause[running], np.minimum(delays[:, 0], top)], axis=1))
        found = []
        for slot, what, at, row, level in out.tolist():
            if row >= 0:
                own = shown.found[row, level]
            elif row <= machine.STORED:
                own = kept.get((-row - 10, slot), NOTHING)
            else:
                own = NOTHING
            found.append(
                Transition(
                    watched.key,
                    int(self.ids[slot]),
                    WHAT[what],
                    plan.steps[level].priority,
                    at,
                    max(at, own.arrival),
                    own,
                )
            )
        for which, slot in delays.tolist():
            kept[which, slot] = shown.found[int(cause[which, slot]), min(which, top)]
        for which, slot in list(kept):
            since = found_machine.since[which, slot] if which <= top else found_machine.ending[slot]
            if since == NEVER:
                del kept[which, slot]
        return found

    def next_due(self) -> int:
        """A moment before which nothing happens by the clock."""
        found = [FOREVER]
        for key, watched in self.conditions.items():
            plan = watched.plan
            found.append(self.machines[key].next_due([s.held_us for s in plan.steps], plan.clear_held_us))
            if self.profiles[key].by_clock:
                found.append((self.clock // hours.MINUTE + 1) * hours.MINUTE)
        for quiet in self.quiet.values():
            counting = (quiet.state == heard.COUNTING) & (quiet.limit > 0) & (quiet.last != NEVER)
            if counting.any():
                last = quiet.last[counting]
                due = last + quiet.limit[counting]
                for down_from, down_to in self.world.downtime:
                    due += np.where((down_to > last) & (down_from < due), down_to - np.maximum(down_from, last), 0)
                found.append(int(due.min()))
        widths = [w for profile in self.profiles.values() for w in profile.widths]
        if self.messages is not None and widths:
            at = self.messages.at[self.messages.places()]
            for width in widths:
                later = at[at > self.clock - width]
                if len(later):
                    found.append(int(later.min()) + width)
        return min(found)

    def set_back(self, clock: int) -> None:
        """The clock was set back: what began later begins again from here."""
        self.clock = min(self.clock, clock)
        for machine_ in self.machines.values():
            machine_.set_back(clock)
        for quiet in self.quiet.values():
            quiet.last = np.minimum(quiet.last, clock)
        self.last_heard = np.minimum(self.last_heard, clock)
        self.counted = np.minimum(self.counted, clock)

    # the register touches -----------------------------------------------------------------
    def leave(self, key: int, slots: np.ndarray, at: int, reason: str) -> list[Transition]:
        """Closes what is open and drops what is waited for, of devices that are not watched any more."""
        found, watched = self.machines[key], self.conditions[key]
        told = [
            Transition(
                key,
                int(self.ids[s]),
                "cleared",
                watched.plan.steps[found.level[s]].priority,
                at,
                at,
                NOTHING,
                reason=reason,
            )
            for s in slots.tolist()
            if found.level[s] >= 0
        ]
        found.level[slots] = -1
        found.since[:, slots] = NEVER
        found.holds[:, slots] = False
        found.ending[slots] = NEVER
        found.held_back[slots] = False
        return told


def _step_for(plan: ConditionPlan, priority: str) -> int:
    """The step at which an open alarm of a priority goes on: the one of it, or the nearest below."""
    rank = PRIORITIES.index(priority)
    return max([k for k, step in enumerate(plan.steps) if PRIORITIES.index(step.priority) <= rank], default=0)


def _ternary(found: Val, count: int) -> np.ndarray:
    """int8 (count,): NO, YES or UNKNOWN."""
    values = np.broadcast_to(np.asarray(found.values, bool), (count,))
    known = np.broadcast_to(np.asarray(found.known, bool), (count,))
    return np.where(known, np.where(values, YES, NO), UNKNOWN).astype(np.int8)


class _Limits:
    """What the length of a silence may speak of, for some slots."""

    def __init__(self, bank: Bank, slots: np.ndarray, learned: Any, spread: Any) -> None:
        self.bank, self.slots = bank, slots
        self.learned = bank.learned[slots] if learned is None else learned
        self.spread = bank.spread[slots] if spread is None else spread

    def column(self, name: str) -> Val:
        return Val(0.0, False)

    raw = column

    def setpoint(self, name: str) -> Val:
        return _setpoints(self.bank, name, self.slots)

    def special(self, ex: Ex) -> Val:
        assert isinstance(ex, Builtin)
        if ex.name == "cadence":
            own = self.bank.cadence[self.slots]
            return Val(own / 1e6, own > 0)
        found = self.learned if ex.name == "learned_cadence" else self.spread
        return Val(np.nan_to_num(found), np.isfinite(found) & (found > 0 if ex.name == "learned_cadence" else True))


def _setpoints(bank: Bank, name: str, slots: np.ndarray) -> Val:
    unique, back = np.unique(slots, return_inverse=True)
    found = [bank.world.limit(int(bank.ids[s]), name) for s in unique.tolist()]
    values = np.array([0.0 if v is None else v for v in found], float)
    known = np.array([v is not None for v in found], bool)
    return Val(values[back], known[back])


class _Shown:
    """Value and limit that an alarm names: of the first comparison of its step that holds, else of the first."""

    def __init__(self, plan: ConditionPlan, view: _View, rows: Rows) -> None:
        self.plan, self.view, self.rows = plan, view, rows
        self.found: dict[tuple[int, int], Cause] = {}

    def look(self, place: np.ndarray, wanted: np.ndarray) -> None:
        """Finds the causes of places in the walk and their levels. place: int64 (m,), the row of each place in the
        walk; wanted: int64 (k, 2).
        """
        for level in np.unique(wanted[:, 1]).tolist():
            places = wanted[wanted[:, 1] == level, 0]
            for walked, cause in zip(places.tolist(), self._causes(place[places], level), strict=True):
                self.found[walked, level] = cause

    def _causes(self, at: np.ndarray, level: int) -> list[Cause]:
        """at: int64 (k,), rows."""
        rows, events = self.rows, self.rows.events
        event = rows.event[at]
        message = np.zeros(len(at), np.int64)
        message[event >= 0] = events.ids[events.message[event[event >= 0]]]
        self.view.exact = self.plan.exact
        compared = self.plan.steps[level].compared
        sides = [[listed(evaluate(side, self.view), at) for side in (limit.left, limit.right)] for limit in compared]
        found = []
        for i, (number, arrival) in enumerate(zip(message.tolist(), rows.clock[at].tolist(), strict=True)):
            chosen = decisive(compared, [(lefts[i], rights[i]) for lefts, rights in sides])
            found.append(
                Cause(number, arrival)
                if chosen is None
                else Cause(number, arrival, chosen[1], float(chosen[2]), chosen[0].field or None)
            )
        return found


def decisive(compared: Sequence[Limit], sides: Sequence[tuple[Any, Any]]) -> tuple[Limit, Any, Any] | None:
    """The first comparison that holds, with both its sides; else the first of which both are known."""
    chosen = None
    for limit, (left, right) in zip(compared, sides, strict=True):
        if left is None or right is None:
            continue
        if {"<": left < right, "<=": left <= right, ">": left > right, ">=": left >= right}[limit.sign]:
            return limit, left, right
        chosen = chosen or (limit, left, right)
    return chosen


def listed(found: Val, at: np.ndarray) -> list[Any]:
    """The values of some rows as plain ones, None where they are not known."""
    values, known = np.asarray(found.values), np.asarray(found.known, bool)
    values = np.broadcast_to(values, at.shape) if values.ndim == 0 else values[at]
    known = np.broadcast_to(known, at.shape) if known.ndim == 0 else known[at]
    return [v if k else None for v, k in zip(values.tolist(), known.tolist(), strict=True)]


class _View:
    """Fields, limits and all else that rules speak of, over the rows of a batch; each is worked out once."""

    def __init__(
        self,
        bank: Bank,
        rows: Rows,
        newest: Fleet,
        changes: Mapping[Silent, tuple[np.ndarray, np.ndarray]],
        arrived: np.ndarray,
        arrived_at: np.ndarray,
        learned: np.ndarray,
        spread: np.ndarray,
    ) -> None:
        self.bank, self.rows, self.newest, self.changes = bank, rows, newest, changes
        self.arrived, self.arrived_at, self.learned, self.spread = arrived, arrived_at, learned, spread
        self.exact: tuple[float, str] | None = None
        self.wanted: dict[int, np.ndarray] = {}
        self.cache: dict[Any, Any] = {}
        self.filled: set[Ex] = set()

    def _once(self, key: Any, make: Callable[[], Any]) -> Any:
        if key not in self.cache:
            self.cache[key] = make()
        return self.cache[key]

    # fields --------------------------------------------------------------------------------
    def column(self, name: str) -> Val:
        spec = self._spec(name)
        if spec is not None and spec.kind == "position" or (name, self.exact) in self.bank.fixes:
            return self._once(("fix", name, self.exact), lambda: self._fix(name).column())  # type: ignore[no-any-return]
        return self._once(("column", name), lambda: self._column(name)[0])  # type: ignore[no-any-return]

    raw = column

    def _spec(self, name: str) -> FieldSpec | None:
        track = self.rows.track(name)
        return track.spec if track is not None else None

    def _column(self, name: str) -> tuple[Val, np.ndarray]:
        """The newest value at every row, and when it was measured."""
        return self._once(("filled", name), lambda: self._fill(name))  # type: ignore[no-any-return]

    def _fill(self, name: str) -> tuple[Val, np.ndarray]:
        rows = self.rows
        track = rows.track(name)
        heads = np.flatnonzero(rows.head)
        ids = self.bank.ids[rows.slot[heads]] if len(rows) else np.zeros(0, np.int64)
        sample = track.column.values if track is not None else None
        start, was = self.newest.column(name, ids, sample)
        if sample is not None and start.dtype != sample.dtype:
            start = start.astype(object)
        has = was != NEVER
        index = np.cumsum(rows.head) - 1
        values, known, at = start[index], has[index], was[index]
        if track is not None:
            source = rows.sources(self.fresh(name))
            inside = source >= 0
            from_ = rows.event[source[inside]]
            values = values.astype(object) if values.dtype != track.column.values.dtype else values
            values[inside] = track.column.values[from_]
            known = known | inside
            at = np.where(inside, rows.at[np.maximum(source, 0)], at)
        return Val(values, known), at

    def setpoint(self, name: str) -> Val:
        return self._once(("setpoint", name), lambda: _setpoints(self.bank, name, self.rows.slot))  # type: ignore[no-any-return]

    def _fix(self, name: str) -> Any:
        key = (name, self.exact)
        return self._once(("fixes", key), lambda: self.bank._fixes(*key).over(self.rows, name, self.exact))

    def fresh(self, name: str) -> np.ndarray:
        return self._once(("fresh", name), lambda: self.rows.fresh(name))  # type: ignore[no-any-return]

    def usable(self, name: str, exact: tuple[float, str] | None) -> np.ndarray:
        self.exact = exact
        return self._fix(name).fresh  # type: ignore[no-any-return]

    def within(self, plan: ConditionPlan) -> np.ndarray:
        return self._once(("hours", plan.hours), lambda: self._within(plan))  # type: ignore[no-any-return]

    def _within(self, plan: ConditionPlan) -> np.ndarray:
        rows, found = self.rows, np.zeros(len(self.rows), bool)
        zone_of = np.array(self.bank.zones, object)[rows.slot] if len(rows) else np.zeros(0, object)
        for zone in set(zone_of.tolist()):
            own = zone_of == zone
            found[own] = hours.within(plan.hours, rows.clock[own], zone)
        return found

    # what conditions have beside fields ----------------------------------------------------
    def special(self, ex: Ex) -> Val:
        node = bare(ex)
        if isinstance(node, AtFence | Speed):
            return self._once((node, self.exact), lambda: self._place(node))  # type: ignore[no-any-return]
        if isinstance(node, Window) and node not in self.cache:
            self._windows(bare(node.value))
        return self._once(node, lambda: self._other(node))  # type: ignore[no-any-return]

    def _other(self, node: Ex) -> Val:
        rows, bank = self.rows, self.bank
        match node:
            case Silent():
                state = self._state(node)
                limit = bank.quiet[node].limit[rows.slot]
                return Val(state != heard.COUNTING, (state != heard.COUNTING) | (limit > 0))
            case MessageCount():
                return self._messages(node.width)
            case Age():
                value, at = self._column(node.field)
                return Val((rows.at - np.where(value.known, at, rows.at)) / 1e6, value.known)
            case Builtin():
                return self._builtin(node.name)
        raise AssertionError(node)

    def _state(self, node: Silent) -> np.ndarray:
        """How a silence stands at every row."""
        (changes, was), rows = self.changes[node], self.rows
        if not len(changes) or not len(rows):
            return was[rows.slot]
        low = min(int(changes[:, 1].min()), int(rows.clock.min()))
        high = max(int(changes[:, 1].max()), int(rows.clock.max()))
        span = high - low + 2
        keys = changes[:, 0] * span + (changes[:, 1] - low)
        place = np.searchsorted(keys, rows.slot * span + (rows.clock - low), "right") - 1
        inside = (place >= 0) & (changes[np.maximum(place, 0), 0] == rows.slot)
        return np.where(inside, changes[np.maximum(place, 0), 2], was[rows.slot])

    def explained(self, plan: ConditionPlan) -> np.ndarray:
        """bool (m,): rows at which a silence that the condition speaks of is explained by a gateway's."""
        found = np.zeros(len(self.rows), bool)
        for part in Profile(plan).silences if plan.silence else ():
            if part.field is None:
                found |= self._state(part) == heard.EXPLAINED
        return found

    def _builtin(self, name: str) -> Val:
        rows, bank = self.rows, self.bank
        if name == "home":
            home = bank.home[rows.slot]
            return Val(np.nan_to_num(home), np.isfinite(home[:, 0]))
        if name == "cadence":
            own = bank.cadence[rows.slot]
            return Val(own / 1e6, own > 0)
        if name == "arrival_lag":
            source = rows.sources(rows.kind == READING)
            inside = source >= 0
            at = np.maximum(source, 0)
            lag = np.where(inside, (rows.clock[at] - rows.at[at]) / 1e6 if len(rows) else 0.0, bank.lag[rows.slot])
            self.cache["lag"] = lag
            return Val(np.nan_to_num(lag), np.isfinite(lag))
        values, start = (self.learned, bank.learned) if name == "learned_cadence" else (self.spread, bank.spread)
        found = start[rows.slot].copy()
        if len(self.arrived) and len(rows):
            low = min(int(self.arrived_at.min()), int(rows.clock.min()))
            span = max(int(self.arrived_at.max()), int(rows.clock.max())) - low + 2
            keys = self.arrived * span + (self.arrived_at - low)
            place = np.searchsorted(keys, rows.slot * span + (rows.clock - low), "right") - 1
            inside = (place >= 0) & (self.arrived[np.maximum(place, 0)] == rows.slot)
            found = np.where(inside, values[np.maximum(place, 0)], found)
        return Val(np.nan_to_num(found), np.isfinite(found) & (found > 0))

    def _place(self, node: AtFence | Speed) -> Val:
        over = self._fix(node.field)
        if isinstance(node, Speed):
            return over.speed()  # type: ignore[no-any-return]
        area = self.bank.world.fences.get(node.fence)
        if area is None:
            return Val(False, False)
        return over.at_fence(node, area)  # type: ignore[no-any-return]

    # windows -------------------------------------------------------------------------------
    def _windows(self, inner: Ex) -> None:
        """Works out all windows over one expression, and takes the batch's readings of it in."""
        rows, bank = self.rows, self.bank
        nodes: dict[Window, np.ndarray] = {}
        for key in bank.conditions:
            for node in bank.profiles[key].windows:
                if node.value == inner:
                    nodes[node] = nodes.get(node, np.zeros(len(rows), bool)) | self.wanted[key]
        name = next(part.name for part in inner.walk() if isinstance(part, Named))
        track = rows.track(name)
        added = np.zeros(len(rows), bool)
        values = np.zeros(len(rows))
        if track is not None:
            found = evaluate(inner, _Alone(self, name))
            there = rows.of_events(track.column.state == 1, False)
            known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
            added = there & known
            values = np.where(added, np.broadcast_to(np.asarray(found.values, float), (len(rows),)), 0.0)
        listed = list(nodes)
        wanted = np.logical_or.reduce(list(nodes.values()))
        past, cadence, zones = bank.pasts[inner], bank.cadence, bank.zones
        for node, val in zip(
            listed, over(past, listed, rows.slot, rows.at, added, values, wanted, cadence, zones), strict=True
        ):
            self.cache[node] = val
        self.filled.add(inner)

    def _messages(self, width: int) -> Val:
        rows, bank = self.rows, self.bank
        assert bank.messages is not None
        widths = sorted({w for profile in bank.profiles.values() for w in profile.widths})
        added = (rows.kind == ARRIVAL) & (rows.tag == -1)
        out, _ = look(
            bank.messages,
            rows.slot,
            rows.clock,
            added,
            rows.clock,
            np.zeros(len(rows)),
            np.ones(len(rows), bool),
            np.full(len(widths), KINDS.index("count"), np.int64),
            np.stack([rows.clock - w for w in widths]),
            np.zeros(len(widths), np.int64),
            np.zeros(len(widths)),
            np.zeros(len(widths)),
            bank.cadence,
        )
        for k, w in enumerate(widths):
            known = rows.clock - bank.registered[rows.slot] >= w
            for down_from, down_to in bank.world.downtime:
                known &= ~((down_from < rows.clock) & (down_to > rows.clock - w))
            self.cache["counted", w] = Val(out[k], known)
        return self.cache["counted", width]  # type: ignore[no-any-return]

    def keep(self) -> None:
        """Takes into memory what nobody has asked for in this batch, and what was worked out on the way."""
        for inner in self.bank.pasts:
            if inner not in self.filled:
                self._windows(inner)
        if self.bank.messages is not None and not any(
            isinstance(key, tuple) and key[0] == "counted" for key in self.cache if isinstance(key, tuple)
        ):
            widths = [w for profile in self.bank.profiles.values() for w in profile.widths]
            if widths:
                self._messages(widths[0])
        for name, exact in self.bank.fixes:
            self.exact = exact
            self._fix(name).keep()
        rows = self.rows
        reading = np.flatnonzero(rows.kind == READING)
        if len(reading):
            self.bank.lag[rows.slot[reading]] = (rows.clock[reading] - rows.at[reading]) / 1e6


class _Alone:
    """The readings of one field as they come in, late ones too, each by itself."""

    def __init__(self, view: _View, name: str) -> None:
        self.view, self.name = view, name

    def column(self, name: str) -> Val:
        rows = self.view.rows
        track = rows.track(self.name)
        assert track is not None and name == self.name
        values = rows.of_events(track.column.values, 0 if track.column.values.dtype != object else None)
        return Val(values, rows.of_events(track.column.state == 1, False))

    raw = column

    def setpoint(self, name: str) -> Val:
        return self.view.setpoint(name)

    def special(self, ex: Ex) -> Val:
        raise AssertionError("a window looks at one field")
