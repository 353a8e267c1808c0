"""All conditions on the devices of one type: what they speak of is worked out once, then each machine is moved on.

Devices are slots; a batch becomes rows of readings and of moments (a silence that has lasted, hours that begin, a step
of the clock). Rules are evaluated over all rows at once; see `machine` for what follows from them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..arrays import distinct, in_order
from ..history.events import Events
from ..history.fleet import Fleet
from ..language.conditions.plan import ConditionPlan
from ..language.evaluate import evaluate
from ..language.expressions import Silent
from ..register import hours
from ..register.world import World
from . import arrivals as heard
from . import machine
from .compiled import compiled
from .machine import ARRIVAL, BEGINS, ENDS, NEVER, READING, REGISTER, TIMER, Machine
from .rows import Moments, Rows
from .slots import Slots
from .trace import Trace
from .view import Shown, View
from .watched import FOREVER, NOTHING, WHAT, Cause, ConditionFailed, Transition, Watched, step_for, ternary


@dataclass
class Kept:
    """Causes of delays that were begun in earlier batches: by number of the delay and slot."""

    causes: dict[tuple[int, int], Cause] = field(default_factory=dict)


class Bank(Slots):
    """The conditions on one type's devices of one depth behind gateways."""

    def __init__(self, world: World, type_: int, ids: Sequence[int], clock: int, learning: bool = True) -> None:
        super().__init__(world, type_, ids)
        self.clock, self.learning = clock, learning
        self.machines: dict[int, Machine] = {}
        self.kept: dict[int, Kept] = {}
        self.last: tuple[Rows, View] | None = None  # of the last batch
        self.trace: Trace | None = None

    def add_devices(self, ids: Sequence[int]) -> None:
        """Slots for devices that have come."""
        super().add_devices(ids)
        self.machines = {key: found.grown(len(self.ids)) for key, found in self.machines.items()}

    # conditions --------------------------------------------------------------------------
    def watch(self, watched: Watched) -> None:
        """A condition is in force. One of another version of it keeps its open alarms."""
        before_ = self.conditions.get(watched.key)
        self.conditions[watched.key] = watched
        self.scope[watched.key] = self.scope_of(watched)
        fresh = Machine.of(len(self.ids), len(watched.plan.steps))
        old = self.machines.get(watched.key)
        if before_ is not None and old is not None:
            for slot in np.flatnonzero(old.level >= 0).tolist():
                fresh.level[slot] = step_for(watched.plan, before_.plan.steps[old.level[slot]].priority)
        self.machines[watched.key] = fresh
        self.kept[watched.key] = Kept()
        self.profiled()
        self.prepare(watched.plan)

    def hand_over(self, source: int, target: int, slots: np.ndarray) -> list[int]:
        """Devices are another condition's from now on, which keeps their open alarms as a version after it would.
        Returns the devices that have one.
        """
        old, fresh, steps = self.machines[source], self.machines[target], self.conditions[source].plan.steps
        open_ = slots[old.level[slots] >= 0]
        for slot in open_.tolist():
            fresh.level[slot] = step_for(self.conditions[target].plan, steps[old.level[slot]].priority)
        self.leave(source, slots, 0, "")
        return [int(i) for i in self.ids[open_]]

    def forget(self, key: int) -> None:
        """A condition is not in force any more; what only it looked back on is let go."""
        for held in (self.conditions, self.served, self.machines, self.kept, self.scope):
            held.pop(key, None)  # type: ignore[attr-defined]
        self.let_go()

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
            or (self.slots(arrived_device) >= 0).any()
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
        slot, arrived = self.slots(events.device), self.slots(arrived_device)
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
        view = View(self, rows, newest, changes, arrived, arrived_at, learned, spread)
        found: list[Transition] = []
        looked: dict[int, np.ndarray] = {}
        for key, watched in self.conditions.items():
            with ConditionFailed.of(key):
                looked[key] = self._looked(watched, rows, view, tags)
        view.wanted = looked
        for key, watched in self.conditions.items():
            with ConditionFailed.of(key):
                found += self._move(watched, rows, view, looked[key], until)
        self.last = (rows, view)
        view.keep()
        self.clock = max(self.clock, until - 1)
        if len(arrived):
            self.last_heard[arrived] = arrived_at  # the last of each slot stays
        return found

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
            limits = self.limits(node, own, own_learned, own_spread)
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
    def _looked(self, watched: Watched, rows: Rows, view: View, tags: Mapping[tuple[int, int], int]) -> np.ndarray:
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
            looked &= view.within(plan)
            looked |= self._of_hours(plan, rows) & (rows.kind == BEGINS)
        return looked & self.scope[watched.key][rows.slot]

    # one condition -----------------------------------------------------------------------
    def _move(self, watched: Watched, rows: Rows, view: View, looked: np.ndarray, until: int) -> list[Transition]:
        plan, found, steps = watched.plan, self.machines[watched.key], len(watched.plan.steps)
        read, ends = rows.kind == READING, rows.kind == ENDS
        kind = rows.kind
        if ends.any():
            own_ends = ends & self._of_hours(plan, rows)
            kind = np.where(ends & ~own_ends, TIMER, kind)
            read |= own_ends
        chosen = np.flatnonzero((looked | read) & self.scope[watched.key][rows.slot])
        own = slice(None) if len(chosen) == len(rows) else chosen
        view.exact = plan.exact
        count = len(rows)
        rules = np.empty((steps, len(chosen)), np.int8)
        stills = np.empty((steps, len(chosen)), np.int8)
        for k, step in enumerate(plan.steps):
            rules[k] = ternary(evaluate(step.rule, view), count)[own]
            stills[k] = rules[k] if step.still is step.rule else ternary(evaluate(step.still, view), count)[own]
        self._traced(watched, rows, view, looked, chosen, rules)
        clear = (
            ternary(evaluate(plan.clear, view), count)[own]
            if plan.clear is not None
            else np.zeros(len(chosen), np.int8)
        )
        cause = np.full((steps + 1, len(self.ids)), -1, np.int64)
        out = machine.space(len(chosen), len(self.ids), steps)
        total = compiled("walk")(
            rows.slot[own],
            kind[own],
            rows.at[own],
            rows.bound[own],
            looked[own],
            view.explained(plan)[own],
            rules,
            stills,
            clear,
            plan.clear is not None,
            np.array([step.held_us for step in plan.steps], np.int64),
            plan.clear_held_us,
            until,
            found.level,
            found.since,
            found.holds,
            found.ending,
            found.held_back,
            cause,
            out,
        )
        return self._told(watched, rows, view, out[:total], chosen, cause)

    def _of_hours(self, plan: ConditionPlan, rows: Rows) -> np.ndarray:
        """bool (m,): rows at which hours begin or end that a plan keeps to."""
        if plan.hours.always:
            return np.zeros(len(rows), bool)
        origins = [w for w in self._origins if w[0] == "hours" and w[1] == plan.hours]
        return np.isin(rows.tag, [1000 + self._origins[w] for w in origins])

    def _traced(
        self, watched: Watched, rows: Rows, view: View, looked: np.ndarray, chosen: np.ndarray, rules: np.ndarray
    ) -> None:
        """Keeps what is compared for the device that is traced. rules: int8 (steps, k), of the rows `chosen`."""
        trace = self.trace
        if trace is None or trace.on_site or trace.key != watched.key or trace.subject not in self.slot_of:
            return
        own = np.flatnonzero(looked & (rows.slot == self.slot_of[trace.subject]))
        trace.look(watched.plan, view, own, rows.at[own], rules[:, np.searchsorted(chosen, own)])

    def _told(
        self, watched: Watched, rows: Rows, view: View, out: np.ndarray, place: np.ndarray, cause: np.ndarray
    ) -> list[Transition]:
        """Transitions of the rows of `out`; and the causes of delays that go on, for later batches."""
        plan, kept = watched.plan, self.kept[watched.key].causes
        found_machine = self.machines[watched.key]
        shown = Shown(plan, view, rows)
        running = cause >= 0
        running[:-1] &= found_machine.since != NEVER
        running[-1] &= found_machine.ending != NEVER
        delays = np.argwhere(running)
        top = len(plan.steps) - 1
        shown.look(place, out[out[:, machine.ROW] >= 0][:, [machine.ROW, machine.LEVEL]])
        shown.look(place, np.stack([cause[running], np.minimum(delays[:, 0], top)], axis=1))
        found = []
        ids, priorities = self.ids[out[:, machine.SLOT]].tolist(), [step.priority for step in plan.steps]
        for device, (slot, what, at, row, level) in zip(ids, out.tolist(), strict=True):
            if row >= 0:
                own = shown.found[row, level]
            elif row <= machine.STORED:
                own = kept.get((-row - 10, slot), NOTHING)
            else:
                own = NOTHING
            found.append(Transition(watched.key, device, WHAT[what], priorities[level], at, max(at, own.arrival), own))
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
