"""The engine room: all conditions of a fleet, moved on batch by batch in the order of the stream."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from ..history.events import Events
from ..history.fleet import Fleet
from ..register import hours
from ..register.world import World
from .bank import Bank
from .sites import SiteBank
from .trace import Trace
from .watched import FOREVER, NOTHING, ConditionFailed, Transition, Watched


class Room:
    """Banks by device type and depth behind gateways, and a second stage for sites.

    A gateway's bank moves first, so that its silence explains that of the devices behind it. start: the moment from
    which the clock counts, µs. learning: whether cadences are learned, also where no condition asks for them yet.
    """

    def __init__(self, world: World, start: int = 0, learning: bool = True) -> None:
        self.world, self.clock, self.learning = world, start, learning
        self.banks: dict[tuple[int, int], Bank] = {}
        self.sites: dict[int, SiteBank] = {}
        self.watched: dict[int, Watched] = {}
        self.open_silences: dict[int, dict[int, int]] = {}  # device -> condition -> since when its alarm is open
        self.closed: list[
            tuple[int, int, int]
        ] = []  # device, from, to: silences that were over at the last batch's end
        self.trace: Trace | None = None
        # Silences of gateways that no condition of this room watches: device -> from, to; apart and rising.
        self.explained: Mapping[int, Sequence[tuple[int, int]]] = {}
        self._house()

    def _house(self) -> None:
        """Devices to their banks."""
        by_bank: dict[tuple[int, int], list[int]] = {}
        for device in self.world.devices.values():
            by_bank.setdefault((device.type, self.world.depth(device)), []).append(device.id)
        for key, ids in sorted(by_bank.items()):
            if key in self.banks:
                self.banks[key].add_devices(ids)
                continue
            bank = self.banks[key] = Bank(self.world, key[0], sorted(ids), self.clock, self.learning)
            bank.trace = self.trace
            for watched in self.watched.values():
                self._into(bank, watched)

    def _into(self, bank: Bank, watched: Watched) -> None:
        if bank.type == watched.type:
            if watched.plan.each_site:
                bank.serve(watched.key, watched.plan)
            else:
                bank.watch(watched)

    def follow(self, trace: Trace) -> None:
        """Keeps in it what is compared from now on."""
        self.trace = trace
        for bank in self.banks.values():
            bank.trace = trace
        for site in self.sites.values():
            site.trace = trace

    # the register -----------------------------------------------------------------------------
    def watch(self, watched: Watched, at: int | None = None, newest: Fleet | None = None) -> list[Transition]:
        """A condition is in force; with a moment: from then on, looked at then with the newest readings."""
        before = self._priorities(watched.key) if at is not None else {}
        if at is not None:
            self._one_version(watched.key)
        self.watched[watched.key] = watched
        for bank in self.banks.values():
            self._into(bank, watched)
        if watched.plan.each_site:
            old = self.sites.get(watched.key)
            fresh = self.sites[watched.key] = SiteBank(self.world, watched, self.clock)
            fresh.trace = self.trace
            if old is not None and len(old.plan.steps) == len(fresh.plan.steps):
                for slot, site in enumerate(old.ids):
                    if site in fresh.ids:
                        fresh.machine.level[fresh.ids.index(site)] = old.machine.level[slot]
        if at is None:
            return []
        told = self.touch(at, newest if newest is not None else Fleet(), keys=[watched.key])
        return told + self._other_priorities(watched.key, before, told, at)

    def divide(self, watched: Watched, first: Watched | None, at: int, newest: Fleet) -> list[Transition]:
        """Chosen devices have another version of a condition before the others, other ones than before, or no more.

        first: under the negative key, None where it is over. Devices that change over keep their open alarms.
        """
        key, other = watched.key, -watched.key
        before = self._priorities(key)
        found: list[Transition] = []
        self.watched[key] = watched
        if first is None:
            self._one_version(key)
        else:
            self.watched[other] = first
        for bank in self.banks.values():
            if bank.type != watched.type or key not in bank.conditions:
                continue
            scopes = {k: bank.scope[k] for k in (key, other) if k in bank.scope}
            bank.conditions[key], bank.scope[key] = watched, bank.scope_of(watched)
            if first is not None and other in scopes and bank.conditions[other].version == first.version:
                bank.conditions[other], bank.scope[other] = first, bank.scope_of(first)
            elif first is not None:
                bank.watch(first)
            found += self._moved(bank, scopes, at, "out of scope")
        self._note(found)
        found += self.touch(at, newest, keys=[key, *([other] if first is not None else [])])
        return found + self._other_priorities(key, before, found, at)

    def _priorities(self, key: int) -> dict[int, str]:
        """The priority of each open alarm of a condition, by device, whichever version watches it."""
        return {
            int(bank.ids[slot]): bank.conditions[k].plan.steps[bank.machines[k].level[slot]].priority
            for bank in self.banks.values()
            for k in (key, -key)
            if k in bank.conditions
            for slot in np.flatnonzero(bank.machines[k].level >= 0).tolist()
        }

    def _other_priorities(
        self, key: int, before: Mapping[int, str], told: Sequence[Transition], at: int
    ) -> list[Transition]:
        """Alarms that go on under another version as what they are there, where nothing else is told of them."""
        spoken = {one.subject for one in told if abs(one.key) == key}
        return [
            Transition(key, device, "priority_changed", priority, at, at, NOTHING)
            for device, priority in sorted(self._priorities(key).items())
            if device not in spoken and before.get(device, priority) != priority
        ]

    def _one_version(self, key: int) -> None:
        """What chosen devices had first is over: their alarms are those of the version that all have."""
        if self.watched.pop(-key, None) is None:
            return
        for bank in self.banks.values():
            if -key in bank.conditions:
                self._hand_over(bank, -key, key, np.arange(len(bank.ids)))
                bank.forget(-key)

    def _hand_over(self, bank: Bank, source: int, target: int, slots: np.ndarray) -> None:
        for device in bank.hand_over(source, target, slots):
            since = self.open_silences.get(device, {}).pop(source, None)
            if since is not None and bank.conditions[target].plan.silence:
                self.open_silences[device][target] = since

    def _moved(self, bank: Bank, before: Mapping[int, np.ndarray], at: int, reason: str) -> list[Transition]:
        """Devices that a condition does not watch any more: their alarms go over to its other version where that one
        does, else they are closed.
        """
        found: list[Transition] = []
        for key, scope in before.items():
            gone = scope & ~bank.scope[key]
            if -key in bank.scope:
                over = gone & bank.scope[-key]
                self._hand_over(bank, key, -key, np.flatnonzero(over))
                gone &= ~over
            found += bank.leave(key, np.flatnonzero(gone), at, reason)
        return found

    def adopt(self, key: int, device: int, priority: str) -> None:
        """An alarm that is open already, of which nothing else is known."""
        for bank in self.banks.values():
            if key in bank.conditions and device in bank.slot_of:
                slot = bank.slot_of[device]
                own = -key if -key in bank.scope and bank.scope[-key][slot] else key
                steps = [s.priority for s in bank.conditions[own].plan.steps]
                bank.machines[own].level[slot] = steps.index(priority) if priority in steps else 0
                bank.machines[own].holds[bank.machines[own].level[slot], slot] = True

    def forget(self, key: int, at: int, reason: str) -> list[Transition]:
        """A condition is not in force any more: what it has open is closed."""
        found: list[Transition] = []
        if -key in self.watched and key > 0:
            found += self.forget(-key, at, reason)
        for bank in self.banks.values():
            if key in bank.conditions:
                found += bank.leave(key, np.arange(len(bank.ids)), at, reason)
            bank.forget(key)
        if key in self.sites:
            found += self.sites[key].leave(range(len(self.sites[key].ids)), at, reason)
            del self.sites[key]
        self.watched.pop(key, None)
        self._note(found)
        return found

    def refresh(self, at: int, newest: Fleet, reason: str = "out of scope") -> list[Transition]:
        """The register has changed: devices that left a scope have their alarms closed, the others are looked at."""
        self._house()
        found: list[Transition] = []
        divided = {one: self._priorities(one) for one in self.watched if one > 0 and -one in self.watched}
        for key, bank in self.banks.items():
            before = {k: scope.copy() for k, scope in bank.scope.items()}
            bank.refresh()
            here = np.array(
                [
                    int(i) in self.world.devices
                    and (self.world.devices[int(i)].type, self.world.depth(self.world.devices[int(i)])) == key
                    for i in bank.ids
                ],
                bool,
            )
            for k in bank.scope:
                bank.scope[k] &= here
            found += self._moved(bank, before, at, reason)
        for site in self.sites.values():
            gone_sites = [slot for slot, _ in site.refresh()]
            found += site.leave(gone_sites, at, reason)
        self._note(found)
        found += self.touch(at, newest)
        for one, priorities in divided.items():
            found += self._other_priorities(one, priorities, found, at)
        return found

    def touch(self, at: int, newest: Fleet, keys: Iterable[int] | None = None) -> list[Transition]:
        """Conditions are looked at at a moment with the newest readings, because the register has changed."""
        chosen = set(self.watched if keys is None else keys)
        touched = [
            (key, int(i), at)
            for bank in self.banks.values()
            for key in chosen & {*bank.conditions, *bank.served}
            for i in (bank.ids[bank.scope[key]] if key in bank.scope else bank.ids)
        ]
        empty = np.zeros(0, np.int64)
        none = Events(empty, empty, empty, empty, empty.astype(bool), empty)
        return self._advance({}, none, empty, empty, newest, at + 1, touched)

    # a batch ------------------------------------------------------------------------------------
    def advance(
        self,
        events: Mapping[int, Events],
        arrived_device: np.ndarray,
        arrived_at: np.ndarray,
        newest: Fleet,
        until: int,
    ) -> list[Transition]:
        """The transitions of a batch, in the order in which they happen.

        events: by device type. arrived_device, arrived_at: every device that a message tells of, with its arrival, in
        the order of the stream. newest: what was known before. until: all that arrived before it is in this batch or
        earlier ones; what is due before it has happened. Raises ConditionFailed.
        """
        empty = np.zeros(0, np.int64)
        none = Events(empty, empty, empty, empty, empty.astype(bool), empty)
        return self._advance(events, none, arrived_device, arrived_at, newest, until, [])

    def elapse(self, until: int, newest: Fleet) -> list[Transition]:
        """What is due before `until`, while nothing arrives."""
        empty = np.zeros(0, np.int64)
        found: list[Transition] = []
        for edge in [*(tick + 1 for tick in self.ticks(until)), until]:
            found += self.advance({}, empty, empty, newest, edge)
        return found

    def cuts(self, arrived_at: np.ndarray) -> list[int]:
        """Where a batch, by its arrivals, must be cut, so that each part ends at a tick: places in it, rising."""
        ticks = self.ticks(int(arrived_at[-1]))
        return sorted({0, len(arrived_at), *(int(np.searchsorted(arrived_at, tick, "right")) for tick in ticks)})

    def ticks(self, until: int) -> list[int]:
        """The moments before `until` at which a batch must end, because sites are looked at then by the clock."""
        found: set[int] = set()
        for site in self.sites.values():
            for zone in {self.world.zone(s) for s in site.ids}:
                if site.plan.every_us:
                    found |= set(hours.multiples(site.plan.every_us, self.clock, until, zone).tolist())
                for moments in hours.edges(site.plan.hours, self.clock, until, zone):
                    found |= set(moments.tolist())
        return sorted(found)

    def _advance(
        self,
        events: Mapping[int, Events],
        none: Events,
        arrived_device: np.ndarray,
        arrived_at: np.ndarray,
        newest: Fleet,
        until: int,
        touched: Sequence[tuple[int, int, int]],
    ) -> list[Transition]:
        found: list[Transition] = []
        gates: dict[int, list[tuple[int, int]]] = {}
        for device, begun, over in self.closed:
            gates.setdefault(device, []).append((begun, over))
        for device, since in self.open_silences.items():
            if since:
                gates.setdefault(device, []).append((min(since.values()), FOREVER))
        gates |= {device: list(spans) for device, spans in self.explained.items()}
        for (type_, _), bank in sorted(self.banks.items(), key=lambda item: item[0][1]):
            own_events = events.get(type_, none)
            if bank.idle(own_events, arrived_device, until, gates, touched):
                bank.pass_by(until)
                continue
            own = bank.advance(own_events, arrived_device, arrived_at, newest, until, gates, touched)
            self._note(own, gates)
            found += own
        for key, site in self.sites.items():
            banks = [bank for (type_, _), bank in self.banks.items() if type_ == site.watched.type]
            with ConditionFailed.of(key):
                found += site.advance(site.changes(banks, newest), until)
        self.clock = max(self.clock, until - 1)
        self.closed = [
            (device, begun, over)
            for device, spans in gates.items()
            if device not in self.explained
            for begun, over in spans
            if self.clock <= over < FOREVER
        ]
        found.sort(key=lambda t: (t.learned if t.what != "suppressed" else t.at, t.at))
        return found

    def set_back(self, clock: int) -> None:
        """The clock was set back: delays and silences that began later than now begin again from here."""
        self.clock = min(self.clock, clock)
        for bank in self.banks.values():
            bank.set_back(clock)
        for site in self.sites.values():
            site.clock = min(site.clock, clock)
            site.machine.set_back(clock)

    def next_due(self) -> int:
        """A moment before which nothing happens by the clock: nothing is due before it, something may be then."""
        found = [FOREVER]
        for bank in self.banks.values():
            found.append(bank.next_due())
        for site in self.sites.values():
            found.append(site.machine.next_due([s.held_us for s in site.plan.steps], site.plan.clear_held_us))
            if site.plan.every_us or not site.plan.hours.always:
                found.append((self.clock // hours.MINUTE + 1) * hours.MINUTE)
        return min(found)

    def _note(self, found: Sequence[Transition], gates: dict[int, list[tuple[int, int]]] | None = None) -> None:
        """Which silences are open: for gateways, they explain those of the devices behind them."""
        for one in found:
            watched = self.watched.get(one.key)
            if watched is None or not watched.plan.silence or one.on_site:
                continue
            since = self.open_silences.setdefault(one.subject, {})
            if one.what == "raised":
                since[one.key] = one.at
                if gates is not None:
                    gates.setdefault(one.subject, []).append((one.at, FOREVER))
            elif one.what == "cleared":
                begun = since.pop(one.key, None)
                if gates is not None and begun is not None and not since:
                    spans = [s for s in gates.get(one.subject, []) if s[1] != FOREVER]
                    gates[one.subject] = [*spans, (begun, one.at)]
