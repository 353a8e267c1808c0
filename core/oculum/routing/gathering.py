"""Fields of sites, gathered from the readings of the devices at them and below them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from ..arrays import Ints
from ..batches import PRESENT, Column, Decoded, Group
from ..history import members
from ..history.compiled import compiled
from ..history.looking import look
from ..history.windows import Past
from ..language.evaluate import Val, evaluate
from ..language.expressions import Ex, OfMembers, bare
from ..language.fields import FieldSpec
from ..language.routes.plan import Gather
from ..register import hours
from ..register.world import World

AGE_CADENCES = 3
NONE = -(2**62)  # before all moments
DAY = 86_400_000_000
KEPT_STEPS = 2  # so many, and two days at least, are made again with late data


@lru_cache(maxsize=4096)
def nodes_of(act: Gather) -> tuple[OfMembers, ...]:
    """What a line takes out of the members, each once."""
    return tuple(dict.fromkeys(bare(part) for part in act.value.walk() if isinstance(part, OfMembers)))


def keep_of(act: Gather) -> int:
    """How far back a line goes by what it has seen, µs."""
    if act.every_us:
        return max(2 * DAY, KEPT_STEPS * act.every_us) + act.every_us
    return max(DAY, *(node.age or 0 for node in nodes_of(act)))


@dataclass
class Changes:
    """Readings of members, in the order of the stream; those of one message and moment count together.

    row, at, slot (the place of the member): int64 (c,). values: float (n, c), knowns: bool (n, c), by node.
    """

    row: Ints
    at: Ints
    slot: Ints
    values: np.ndarray
    knowns: np.ndarray

    @classmethod
    def of(cls, parts: Sequence[Changes]) -> Changes:
        row, at, slot = (np.concatenate([getattr(p, name) for p in parts]) for name in ("row", "at", "slot"))
        values, knowns = (np.concatenate([getattr(p, name) for p in parts], axis=1) for name in ("values", "knowns"))
        order = np.lexsort((slot, at, row))
        return cls(row[order], at[order], slot[order], values[:, order], knowns[:, order])

    def groups(self) -> Ints:
        """int64 (g + 1,): where changes begin that count together, and the end."""
        fresh = np.ones(len(self.row) + 1, bool)
        fresh[1:-1] = (self.row[1:] != self.row[:-1]) | (self.at[1:] != self.at[:-1])
        return np.flatnonzero(fresh)


@dataclass
class House:
    """Which members are at a site and below it. ids: the sites that have a device of their own, by slot; own: int64
    (s,), that device. below: the places of members, those of site slot s from below_of[s] to before below_of[s + 1];
    above: the slots of sites of member place m, likewise. cadences: int64 (m,), µs.
    """

    ids: list[int]
    own: Ints
    zones: list[str]
    below: Ints
    below_of: Ints
    above: Ints
    above_of: Ints
    cadences: Ints

    @classmethod
    def of(cls, world: World, devices: Iterable[int], slots: Iterable[int], places: int, top: str | None) -> House:
        """Of devices with their places among all `places`; top: the site from which on downwards sites count."""
        sites = world.own_devices()
        below = [site for site in sorted(sites) if top is None or world.at_or_below(site, top)]
        found: dict[int, list[int]] = {site: [] for site in below}
        cadences = np.zeros(places, np.int64)
        for device, slot in sorted(zip(devices, slots, strict=True), key=lambda pair: pair[0]):
            known = world.devices[device]
            cadences[slot] = world.cadence(known)
            if known.in_service:
                for place in world.above(known.site):
                    if place.id in found:
                        found[place.id].append(slot)
        ids = [site for site, own in found.items() if own]
        above: list[list[int]] = [[] for _ in range(places)]
        for s, site in enumerate(ids):
            for slot in found[site]:
                above[slot].append(s)
        return cls(
            ids,
            np.array([sites[site] for site in ids], np.int64),
            [world.zone(site) for site in ids],
            *_listed([found[site] for site in ids]),
            *_listed(above),
            cadences,
        )


def _listed(groups: Sequence[Sequence[int]]) -> tuple[Ints, Ints]:
    begins = np.concatenate([[0], np.cumsum([len(own) for own in groups])]).astype(np.int64)
    return np.array([one for own in groups for one in own], np.int64), begins


@dataclass
class Gathered:
    """What a line remembers: of newest values, each by node and member, and the moment of each site; of steps, all
    values of the last ones (a place for each member and node), and the step that each site is in.
    """

    value: np.ndarray
    known: np.ndarray
    at: Ints
    past: Past | None = None
    stamp: dict[int, int] = field(default_factory=dict)  # by site

    @classmethod
    def of(cls, act: Gather) -> Gathered:
        count = len(nodes_of(act))
        shape = (count, 0)
        past = Past.of(0, keep_of(act)) if act.every_us else None
        return cls(np.zeros(shape), np.zeros(shape, bool), np.zeros(shape, np.int64), past)

    def grown(self, places: int) -> None:
        """Room for members at all these places."""
        count, have = self.value.shape
        if self.past is not None:
            if len(self.past.begin) < places * count:
                self.past.grow(places * count * 3 // 2, self.past.at.shape[1])
        elif have < places:
            more = places * 3 // 2 - have
            for name in ("value", "known", "at"):
                old = getattr(self, name)
                setattr(self, name, np.concatenate([old, np.zeros((count, more), old.dtype)], axis=1))


@dataclass
class Readings:
    """Readings of sites in the order in which they are made. device, row (the message in the batch), at: int64 (r,)."""

    spec: FieldSpec
    device: Ints
    row: Ints
    at: Ints
    values: np.ndarray


class _View:
    """What the expression of a site speaks of: its members, by node."""

    def __init__(self, nodes: Sequence[OfMembers], found: np.ndarray, sure: np.ndarray) -> None:
        self.nodes, self.found, self.sure = nodes, found, sure

    def column(self, name: str) -> Val:
        return Val(0.0, False)

    raw = setpoint = column

    def special(self, ex: Ex) -> Val:
        node = self.nodes.index(bare(ex))  # type: ignore[arg-type]
        values = self.found[node]
        return Val(values != 0 if ex.type.kind == "truth" else values, self.sure[node])


def gather(act: Gather, memory: Gathered, house: House, changes: Changes) -> Readings:
    """The readings that sites get from readings of their members, and what is remembered moved on."""
    memory.grown(len(house.cadences))
    nodes = nodes_of(act)
    slots, source, at, found, sure = (_by_steps if act.every_us else _newest)(act, memory, house, changes)
    row = changes.row[source]
    val = evaluate(act.value, _View(nodes, found, sure))
    known = np.broadcast_to(np.asarray(val.known, bool), (len(row),)).copy()
    values = np.broadcast_to(np.asarray(val.values), (len(row),)).astype(float)
    # Of several at one moment out of one message the last one counts.
    device = house.own[slots]
    order = np.lexsort((np.arange(len(row)), at, device, row))
    a, b, c = row[order], device[order], at[order]
    last = np.ones(len(row), bool)
    last[:-1] = (a[1:] != a[:-1]) | (b[1:] != b[:-1]) | (c[1:] != c[:-1])
    keep = order[last & known[order]]
    return Readings(act.field, device[keep], row[keep], at[keep], values[keep])


Looked = tuple[Ints, Ints, Ints, np.ndarray, np.ndarray]  # site slots, changes, moments; by node: values, known


def _newest(act: Gather, memory: Gathered, house: House, changes: Changes) -> Looked:
    nodes, places = nodes_of(act), memory.value.shape[1]
    count = len(house.cadences)
    ages = np.zeros((len(nodes), places), np.int64)
    for n, node in enumerate(nodes):
        ages[n, :count] = node.age if node.age is not None else AGE_CADENCES * house.cadences
    stamp = np.array([memory.stamp.get(site, NONE) for site in house.ids], np.int64)
    room = int((house.above_of[changes.slot + 1] - house.above_of[changes.slot]).sum())
    slots, source, stamps = np.zeros((3, room), np.int64)
    found, sure = np.zeros((len(nodes), room)), np.zeros((len(nodes), room), bool)
    made = compiled("newest")(
        np.array([members.FUNCTIONS[node.function] for node in nodes], np.int64),
        changes.groups(),
        changes.slot,
        changes.at,
        changes.values,
        changes.knowns,
        memory.value,
        memory.known,
        memory.at,
        ages,
        house.above,
        house.above_of,
        house.below,
        house.below_of,
        stamp,
        np.full(len(house.ids), -1, np.int64),
        slots,
        source,
        stamps,
        found,
        sure,
    )
    memory.stamp |= {s: t for s, t in zip(house.ids, stamp.tolist(), strict=True) if t != NONE}
    return slots[:made], source[:made], stamps[:made], found[:, :made], sure[:, :made]


def _by_steps(act: Gather, memory: Gathered, house: House, changes: Changes) -> Looked:
    """A step of a site is over when something was measured in a later one; what comes late makes its step again."""
    nodes, count = nodes_of(act), len(changes.row)
    assert memory.past is not None
    steps = {zone: _steps(act.every_us, changes.at, zone) for zone in set(house.zones)} if count else {}
    wanted: list[tuple[int, int, int, int, int]] = []  # change, 0 before it or 1 after it, site slot, step
    some = np.flatnonzero(changes.knowns.any(axis=0))
    first = house.above_of[changes.slot[some]]
    many = house.above_of[changes.slot[some] + 1] - first
    change = np.repeat(some, many)
    above = house.above[np.arange(len(change)) + np.repeat(first - (np.cumsum(many) - many), many)]
    for s in np.unique(above).tolist():
        own = change[above == s]
        begins, ends = steps[house.zones[s]]
        site = house.ids[s]
        now = begins[own]
        before = np.maximum.accumulate(np.append(memory.stamp.get(site, NONE), now))[:-1]
        length = dict(zip(begins.tolist(), ends.tolist(), strict=True))
        for k, here, there in zip(own.tolist(), now.tolist(), before.tolist(), strict=True):
            if here > there and there != NONE:
                wanted.append((k, 0, s, there, length.get(there) or _end(act.every_us, there, house.zones[s])))
            elif here < there and here >= there - memory.past.keep + act.every_us:
                wanted.append((k, 1, s, here, length[here]))
        memory.stamp[site] = int(max(before[-1], now[-1]))
    wanted.sort()
    done = 0
    found, sure = np.zeros((len(nodes), len(wanted))), np.zeros((len(nodes), len(wanted)), bool)
    for w, (k, after, s, begin, end) in enumerate(wanted):
        _take(memory.past, changes, done, k + after)
        done = max(done, k + after)
        own = house.below[house.below_of[s] : house.below_of[s + 1]]
        for n, node in enumerate(nodes):
            values = _within(memory.past, own * len(nodes) + n, begin, end)
            everything = np.arange(len(values), dtype=np.int64)
            found[n, w], sure[n, w] = compiled("over")(
                np.int64(members.FUNCTIONS[node.function]),
                everything,
                values,
                np.ones(len(values), bool),
                everything,
                np.zeros(len(values), np.int64),
                0,
            )
    _take(memory.past, changes, done, count)
    some_of = [np.array([one[i] for one in wanted], np.int64) for i in (2, 0, 3)]
    return some_of[0], some_of[1], some_of[2], found, sure


def _steps(every: int, at: Ints, zone: str) -> tuple[Ints, Ints]:
    """When the step of each moment begins and ends, by the wall clock."""
    ticks = hours.multiples(every, int(at.min()) - 2 * DAY, int(at.max()) + 2 * DAY, zone)
    place = np.searchsorted(ticks, at, "right")
    return ticks[place - 1], ticks[place]


def _end(every: int, begin: int, zone: str) -> int:
    return int(_steps(every, np.array([begin], np.int64), zone)[1][0])


def _take(past: Past, changes: Changes, first: int, end: int) -> None:
    """Takes readings of members into their pasts."""
    count = len(changes.values)
    none = np.zeros(0, np.int64)
    if end <= first:
        return
    for n in range(count):
        own = np.arange(first, end)[changes.knowns[n, first:end]]
        at = changes.at[own]
        look(
            past,
            changes.slot[own] * count + n,
            at,
            np.ones(len(own), bool),
            at,
            changes.values[n, own],
            np.zeros(len(own), bool),
            none,
            np.zeros((0, len(own)), np.int64),
            none,
            np.zeros(0),
            np.zeros(0),
            np.zeros(len(own), np.int64),
        )


def _within(past: Past, places: Ints, begin: int, end: int) -> np.ndarray:
    """The values measured in [begin, end), place by place."""
    at = past.at[places]
    place = np.arange(at.shape[1])
    there = (place >= past.begin[places, None]) & (place < past.end[places, None])
    return past.values[places][there & (at >= begin) & (at < end)]  # type: ignore[no-any-return]


def put(readings: Sequence[Readings], decoded: Sequence[Decoded], index: Sequence[Ints]) -> None:
    """Readings of sites as groups of the decoded batches whose messages they were made with: a group a field, so that
    what different messages say of one moment stands apart.
    """
    for batch, rows_of in zip(decoded, index, strict=True):
        for one in readings if len(rows_of) else ():
            place = np.minimum(np.searchsorted(rows_of, one.row), len(rows_of) - 1)
            own = np.flatnonzero(rows_of[place] == one.row)
            if len(own):
                column = Column(one.values[own], np.full(len(own), PRESENT, np.int16))
                columns = {one.spec.name: column}
                batch.groups.append(Group((one.spec,), place[own], one.at[own], columns, None, one.device[own]))
