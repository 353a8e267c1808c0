"""Conditions on sites: a second stage of the same machine, with the site as slot and its members' values as fields."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np

from ..history import members
from ..history.compiled import compiled as of_the_past
from ..history.fleet import Fleet
from ..language.conditions.plan import ConditionPlan
from ..language.evaluate import Val, evaluate
from ..language.expressions import Ex, Named, OfMembers, Silent, bare
from ..register import hours
from ..register.world import Device, World, matches
from . import machine
from .bank import Bank
from .compiled import compiled
from .machine import BEGINS, ENDS, NEVER, READING, REGISTER, TIMER, Machine
from .trace import Trace
from .watched import NOTHING, WHAT, Cause, Transition, Watched, decisive, listed, ternary

AGE_CADENCES = 3


@dataclass
class Changes:
    """Values of members as they change, in the order of the stream; what changes at one instant counts together.

    clock, late (0 for what arrives, 1 for what is due, 2 for the register), order, at, message: int64 (c,); device:
    int64 (c,), the place of the member. values: float (n, c), knowns: bool (n, c), ats: int64 (n, c), by node.
    """

    clock: np.ndarray
    late: np.ndarray
    order: np.ndarray
    at: np.ndarray
    message: np.ndarray
    device: np.ndarray
    values: np.ndarray
    knowns: np.ndarray
    ats: np.ndarray

    def __len__(self) -> int:
        return len(self.clock)

    @classmethod
    def of(cls, parts: Sequence[Changes], nodes: int) -> Changes:
        none = np.zeros(0, np.int64)
        blank = cls(none, none, none, none, none, none, *(np.zeros((nodes, 0), k) for k in (float, bool, np.int64)))
        names = [f.name for f in fields(cls)]
        whole = cls(*(np.concatenate([getattr(p, n) for p in (blank, *parts)], axis=-1) for n in names))
        order = np.lexsort((whole.order, whole.at, whole.late, whole.clock))
        return cls(*(getattr(whole, n)[..., order] for n in names))

    def groups(self) -> np.ndarray:
        """int64 (g + 1,): where changes begin that count at once, and the end."""
        fresh = np.ones(len(self) + 1, bool)
        if len(self):
            same = [key[1:] == key[:-1] for key in (self.clock, self.late > 0, self.at)]
            fresh[1:-1] = ~np.logical_and.reduce(same)
        return np.flatnonzero(fresh)


class SiteBank:
    """One condition on each site at which devices of its type are.

    devices: int64 (d,), the members there ever were; value, known, measured: (n, d), what is known of them by node.
    """

    def __init__(self, world: World, watched: Watched, clock: int) -> None:
        self.world, self.watched, self.clock = world, watched, clock
        self.plan: ConditionPlan = watched.plan
        nodes = [bare(p) for rule in self.plan.rules for p in rule.walk() if isinstance(p, OfMembers)]
        self.nodes: list[OfMembers] = list(dict.fromkeys(nodes))
        self.functions = np.array([members.FUNCTIONS[node.function] for node in self.nodes], np.int64)
        self.devices = np.zeros(0, np.int64)
        self.value, self.known, self.measured = (
            np.zeros((len(self.nodes), 0), kind) for kind in (float, bool, np.int64)
        )
        self.ids: list[int] = []
        self.machine = Machine.of(0, len(self.plan.steps))
        self.kept: dict[tuple[int, int], Cause] = {}
        self.trace: Trace | None = None
        self.refresh()

    def refresh(self) -> list[tuple[int, int]]:
        """Takes the register as it is; returns slots, with the priority of an open alarm, that are sites no more."""
        plan, world = self.plan, self.world
        at: dict[int, list[int]] = {}
        for device in world.devices.values():
            if self._member(device):
                for place in world.above(device.site):
                    if plan.site is None or world.at_or_below(place.id, plan.site):
                        at.setdefault(place.id, []).append(device.id)
        for site in at:
            if site not in self.ids:
                self.ids.append(site)
        self.machine = self.machine.grown(len(self.ids))
        self.at = at
        self.places(np.array([d.id for d in world.devices.values() if d.type == self.watched.type], np.int64))
        self._house()
        return [(slot, self.machine.level[slot]) for slot, site in enumerate(self.ids) if site not in at]

    def places(self, ids: np.ndarray) -> np.ndarray:
        """int64 (k,): the places of devices among the members; those that are new get one."""
        fresh = np.setdiff1d(ids, self.devices)
        if len(fresh):
            pad = np.zeros((len(self.nodes), len(fresh)))
            self.devices = np.concatenate([self.devices, fresh])
            self.value = np.concatenate([self.value, pad], axis=1)
            self.known = np.concatenate([self.known, pad.astype(bool)], axis=1)
            self.measured = np.concatenate([self.measured, pad.astype(np.int64)], axis=1)
            self._sorted = np.argsort(self.devices, kind="stable")
            self._house()
        if not len(ids):
            return np.zeros(0, np.int64)
        return self._sorted[np.searchsorted(self.devices[self._sorted], ids)]

    def _house(self) -> None:
        """Which members are below a site, and which sites above a member; how old a value may be."""
        place = {int(d): k for k, d in enumerate(self.devices)}
        below = [[place[d] for d in self.at.get(site, ()) if d in place] for site in self.ids]
        above: list[list[int]] = [[] for _ in self.devices]
        for slot, own in enumerate(below):
            for m in own:
                above[m].append(slot)
        self.below, self.below_of = _listed(below)
        self.above, self.above_of = _listed(above)
        devices = [self.world.devices.get(int(d)) for d in self.devices]
        cadence = np.array([AGE_CADENCES * self.world.cadence(d) if d is not None else 0 for d in devices], np.int64)
        self.ages = np.zeros((len(self.nodes), len(devices)), np.int64)
        for k, node in enumerate(self.nodes):
            if any(isinstance(p, Named) for p in node.value.walk()):
                self.ages[k] = node.age if node.age is not None else cadence

    def _member(self, device: Device) -> bool:
        return device.type == self.watched.type and device.in_service and matches(device.labels, self.plan.labels)

    def changes(self, banks: Sequence[Bank], newest: Fleet) -> Changes:
        """What the last batch changed for members, in the order of the stream."""
        return Changes.of([self._of_bank(bank) for bank in banks if bank.last is not None], len(self.nodes))

    def _of_bank(self, bank: Bank) -> Changes:
        assert bank.last is not None
        rows, view = bank.last
        view.exact = self.plan.exact
        count = len(rows)
        touched = np.zeros(count, bool)
        values = np.zeros((len(self.nodes), count))
        knowns = np.zeros((len(self.nodes), count), bool)
        ats = np.zeros((len(self.nodes), count), np.int64)
        for k, node in enumerate(self.nodes):
            names = {p.name for p in node.value.walk() if isinstance(p, Named)}
            silent = {bare(p) for p in node.value.walk() if isinstance(p, Silent)}
            found = evaluate(node.value, view)
            values[k], knowns[k] = np.asarray(found.values, float), np.asarray(found.known, bool)
            ats[k] = NEVER if not names else np.iinfo(np.int64).max
            for name in names:
                touched |= rows.fresh(name)
                ats[k] = np.minimum(ats[k], view._column(name)[1])
            for quiet in silent:
                tag = list(bank.quiet).index(quiet)
                touched |= (rows.tag == tag) | (rows.kind == machine.ARRIVAL)
        touched |= rows.kind == REGISTER
        some = np.flatnonzero(touched)
        kind, event = rows.kind[some], rows.event[some]
        read = event >= 0
        order, message = np.zeros((2, len(some)), np.int64)
        order[read] = rows.events.message[event[read]]
        message[read] = rows.events.ids[order[read]]
        late = np.where(kind == REGISTER, 2, np.isin(kind, (TIMER, BEGINS, ENDS))).astype(np.int64)
        return Changes(
            rows.clock[some],
            late,
            order,
            rows.at[some],
            message,
            self.places(bank.ids[rows.slot[some]]),
            values[:, some],
            knowns[:, some],
            ats[:, some],
        )

    def advance(self, changes: Changes, until: int) -> list[Transition]:
        """The transitions of a batch: each site is looked at whenever a member changes."""
        room = int((self.above_of[changes.device + 1] - self.above_of[changes.device]).sum())
        slots, sources = np.zeros((2, room), np.int64)
        found, sure = np.zeros((len(self.nodes), room)), np.zeros((len(self.nodes), room), bool)
        count = of_the_past("look")(
            self.functions,
            changes.groups(),
            changes.device,
            changes.at,
            changes.values,
            changes.knowns,
            changes.ats,
            self.value,
            self.known,
            self.measured,
            self.ages,
            self.above,
            self.above_of,
            self.below,
            self.below_of,
            np.full(len(self.ids), -1, np.int64),
            slots,
            sources,
            found,
            sure,
        )
        source = sources[:count]
        looked = _SiteRows(
            slots[:count],
            np.array([READING, TIMER, REGISTER])[changes.late[source]],
            changes.at[source],
            changes.clock[source],
            changes.message[source],
            np.full(count, not self.plan.every_us),
            found[:, :count],
            sure[:, :count],
        )
        rows = _SiteRows.joined([looked, *self._by_clock(until)])
        self.clock = max(self.clock, until - 1)
        return self._walk(rows, until)

    def _by_clock(self, until: int) -> list[_SiteRows]:
        """Steps of the clock, and hours that begin and end. What members were at a moment within the batch is not
        known any more: a batch ends at such a moment (`Room`).
        """
        plan, found = self.plan, []
        for slot, site in enumerate(self.ids):
            zone = self.world.zone(site)
            begins, ends = hours.edges(plan.hours, self.clock, until, zone)
            ticks = hours.multiples(plan.every_us, self.clock, until, zone) if plan.every_us else begins
            for kind, moments in ((BEGINS, ticks), (ENDS, ends)):
                found += [self._at(slot, kind, moment) for moment in moments.tolist()]
        return found

    def _at(self, slot: int, kind: int, moment: int) -> _SiteRows:
        """A site as it is now."""
        own = self.below[self.below_of[slot] : self.below_of[slot + 1]]
        some = [
            of_the_past("over")(function, own, self.value[k], self.known[k], self.measured[k], self.ages[k], moment)
            for k, function in enumerate(self.functions)
        ]
        one = np.array([moment], np.int64)
        return _SiteRows(
            np.array([slot], np.int64),
            np.array([kind], np.int64),
            one,
            one,
            np.zeros(1, np.int64),
            np.array([kind == BEGINS]),
            np.array([[value] for value, _ in some], float).reshape(len(self.nodes), 1),
            np.array([[known] for _, known in some], bool).reshape(len(self.nodes), 1),
        )

    def _walk(self, rows: _SiteRows, until: int) -> list[Transition]:
        plan, steps, count = self.plan, len(self.plan.steps), len(rows.slot)
        view = _SiteView(self, rows)
        order = np.lexsort((rows.kind != READING, rows.clock, rows.slot))
        rules, stills = np.empty((steps, count), np.int8), np.empty((steps, count), np.int8)
        for n, step in enumerate(plan.steps):
            rules[n] = ternary(evaluate(step.rule, view), count)
            stills[n] = ternary(evaluate(step.still, view), count)
        looked = rows.looked & view.within()
        if self.trace is not None and self.trace.on_site and self.trace.key == self.watched.key:
            places = [self.ids.index(self.trace.subject)] if self.trace.subject in self.ids else []
            traced = np.flatnonzero(np.isin(rows.slot, places) & looked)
            self.trace.look(plan, view, traced, rows.at[traced], rules[:, traced])
        clear = ternary(evaluate(plan.clear, view), count) if plan.clear is not None else np.zeros(count, np.int8)
        cause = np.full((steps + 1, len(self.ids)), -1, np.int64)
        out = machine.space(count, len(self.ids), steps)
        total = compiled("walk")(
            rows.slot[order],
            rows.kind[order],
            rows.at[order],
            np.maximum(rows.at, rows.clock)[order],
            looked[order],
            np.zeros(count, bool),
            np.ascontiguousarray(rules[:, order]),
            np.ascontiguousarray(stills[:, order]),
            clear[order],
            plan.clear is not None,
            np.array([step.held_us for step in plan.steps], np.int64),
            plan.clear_held_us,
            until,
            self.machine.level,
            self.machine.since,
            self.machine.holds,
            self.machine.ending,
            self.machine.held_back,
            cause,
            out,
        )
        found = []
        for s, what, moment, row, level in out[:total].tolist():
            if row >= 0:
                own = view.cause(int(order[row]), level)
            elif row <= machine.STORED:
                own = self.kept.get((-row - 10, s), NOTHING)
            else:
                own = NOTHING
            found.append(
                Transition(
                    self.watched.key,
                    self.ids[s],
                    WHAT[what],
                    plan.steps[level].priority,
                    moment,
                    max(moment, own.arrival),
                    own,
                    on_site=True,
                )
            )
        running = {(k, s) for k, s in np.argwhere(self.machine.since != NEVER).tolist()}
        running |= {(steps, s) for s in np.flatnonzero(self.machine.ending != NEVER).tolist()}
        for which, s in np.argwhere(cause >= 0).tolist():
            if (which, s) in running:
                self.kept[which, s] = view.cause(int(order[cause[which, s]]), min(which, steps - 1))
        for gone in [key for key in self.kept if key not in running]:
            del self.kept[gone]
        return found

    def leave(self, slots: Sequence[int], at: int, reason: str) -> list[Transition]:
        told = []
        for s in slots:
            if self.machine.level[s] >= 0:
                priority = self.plan.steps[self.machine.level[s]].priority
                told.append(
                    Transition(
                        self.watched.key, self.ids[s], "cleared", priority, at, at, NOTHING, on_site=True, reason=reason
                    )
                )
            self.machine.level[s] = -1
            self.machine.since[:, s] = self.machine.ending[s] = NEVER
            self.machine.holds[:, s] = False
        return told


def _listed(groups: Sequence[Sequence[int]]) -> tuple[np.ndarray, np.ndarray]:
    """Lists one after the other, and where each begins."""
    begins = np.concatenate([[0], np.cumsum([len(own) for own in groups])]).astype(np.int64)
    return np.array([one for own in groups for one in own], np.int64), begins


@dataclass
class _SiteRows:
    """Moments at which sites are looked at: (r,) each; found, sure: (n, r), by node."""

    slot: np.ndarray
    kind: np.ndarray
    at: np.ndarray
    clock: np.ndarray
    message: np.ndarray
    looked: np.ndarray
    found: np.ndarray
    sure: np.ndarray

    @classmethod
    def joined(cls, parts: Sequence[_SiteRows]) -> _SiteRows:
        return cls(*(np.concatenate([getattr(p, f.name) for p in parts], axis=-1) for f in fields(cls)))


class _SiteView:
    """What a rule on a site speaks of, over the moments at which it is looked at."""

    def __init__(self, bank: SiteBank, rows: _SiteRows) -> None:
        self.bank, self.rows = bank, rows

    def column(self, name: str) -> Val:
        return Val(0.0, False)

    raw = column

    def setpoint(self, name: str) -> Val:
        bank = self.bank
        limits = [bank.world.limit_at(bank.watched.type, site, name) for site in bank.ids]
        values = np.array([0.0 if v is None else v for v in limits], float)
        known = np.array([v is not None for v in limits], bool)
        return Val(values[self.rows.slot], known[self.rows.slot])

    def special(self, ex: Ex) -> Val:
        node = self.bank.nodes.index(bare(ex))
        values = self.rows.found[node]
        return Val(values != 0 if ex.type.kind == "truth" else values, self.rows.sure[node])

    def within(self) -> np.ndarray:
        bank, clock, slots = self.bank, self.rows.clock, self.rows.slot
        found = np.ones(len(clock), bool)
        if not bank.plan.hours.always:
            for slot in np.unique(slots).tolist():
                own = slots == slot
                found[own] = hours.within(bank.plan.hours, clock[own], bank.world.zone(bank.ids[slot]))
        return found

    def cause(self, row: int, level: int) -> Cause:
        compared, at = self.bank.plan.steps[level].compared, np.array([row])
        sides = [(listed(evaluate(li.left, self), at)[0], listed(evaluate(li.right, self), at)[0]) for li in compared]
        _, value, limit = decisive(compared, sides) or (None, None, None)
        return Cause(int(self.rows.message[row]), int(self.rows.clock[row]), value, limit)


__all__ = ["SiteBank"]
