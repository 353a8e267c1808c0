"""What is known of the devices of one type, slot by slot, and what conditions on them look back on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..history.looking import keep_of
from ..history.windows import MARGIN_US, Past
from ..language.conditions.plan import ConditionPlan
from ..language.evaluate import Val, evaluate
from ..language.expressions import AtFence, Builtin, Ex, MessageCount, Named, Silent, Speed, Window, bare
from ..register.world import World, matches
from . import arrivals as heard
from .machine import NEVER
from .places import Fixes
from .watched import Profile, Watched


@dataclass
class Quiet:
    """A silence that is counted: since when, how long it may last, how it stands. int64 (n,) each."""

    last: np.ndarray
    limit: np.ndarray
    state: np.ndarray


class Slots:
    """Devices as slots: what the register says of each, what is remembered of it, and which conditions look at it."""

    def __init__(self, world: World, type_: int, ids: Sequence[int]) -> None:
        self.world, self.type = world, type_
        self.ids = np.array(list(ids), np.int64)
        self.slot_of = {int(i): slot for slot, i in enumerate(self.ids)}
        self.conditions: dict[int, Watched] = {}
        self.served: dict[int, ConditionPlan] = {}  # of sites, that speak of these devices as their members
        self.profiles: dict[int, Profile] = {}  # of all that is evaluated here
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
        self._sort()
        self.refresh()

    def _sort(self) -> None:
        self._table = np.full(int(self.ids.max(initial=-1)) + 2, -1, np.int64)
        self._table[self.ids] = np.arange(len(self.ids))

    def profiled(self) -> None:
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
            self.scope[key] = self.scope_of(self.conditions[key])

    def scope_of(self, watched: Watched) -> np.ndarray:
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
        for past in [*self.pasts.values(), *([self.messages] if self.messages else [])]:
            past.grow(n, past.at.shape[1])
        for fixes in self.fixes.values():
            fixes.grow(n)
        self.refresh()
        for node, quiet in self.quiet.items():
            begun = self.begun(node, np.arange(old, n))
            for name in ("last", "limit", "state"):
                setattr(quiet, name, np.concatenate([getattr(quiet, name), getattr(begun, name)]))

    # what conditions look back on ----------------------------------------------------------
    def serve(self, key: int, plan: ConditionPlan) -> None:
        """A condition on sites speaks of these devices as their members."""
        self.served[key] = plan
        self.profiled()
        self.prepare(plan)

    def let_go(self) -> None:
        """What no condition looks back on any more is forgotten."""
        self.profiled()
        nodes = {bare(p) for profile in self.profiles.values() for p in profile.parts}
        self.quiet = {node: quiet for node, quiet in self.quiet.items() if node in nodes}
        inner = {node.value for node in nodes if isinstance(node, Window)}
        self.pasts = {value: past for value, past in self.pasts.items() if value in inner}
        if not any(isinstance(node, MessageCount) for node in nodes):
            self.messages = None

    def prepare(self, plan: ConditionPlan) -> None:
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
                        self.quiet[node] = self.begun(node, np.arange(len(self.ids)))
                case MessageCount():
                    if self.messages is None:
                        self.messages = Past.of(len(self.ids), part.width + MARGIN_US)
                    self.messages.keep = max(self.messages.keep, part.width + MARGIN_US)
                case AtFence() | Speed():
                    self.fixes_of(part.field, plan.exact)
                case Named() if part.type.kind == "position":
                    self.fixes_of(part.name, plan.exact)

    def fixes_of(self, name: str, exact: tuple[float, str] | None) -> Fixes:
        key = (name, exact)
        if key not in self.fixes:
            self.fixes[key] = Fixes.of(len(self.ids))
        return self.fixes[key]

    def begun(self, node: Silent, slots: np.ndarray) -> Quiet:
        """A silence that nothing is known of yet: from the last message, else from when the device was registered."""
        last = np.where(self.last_heard[slots] == NEVER, self.registered[slots], self.last_heard[slots])
        if node.field is not None:
            last = self.registered[slots].copy()
        return Quiet(last, self.limits(node, slots), np.zeros(len(slots), np.int64))

    def limits(self, node: Silent, slots: np.ndarray, learned: Any = None, spread: Any = None) -> np.ndarray:
        """How long a silence may last, µs, as it counts from now on; 0 where that is not known."""
        view = _Silence(self, slots, learned, spread)
        found = evaluate(node.limit, view)
        seconds = np.broadcast_to(np.asarray(found.values, float), (len(slots),))
        known = np.broadcast_to(np.asarray(found.known, bool), (len(slots),)) & np.isfinite(seconds) & (seconds > 0)
        return np.where(known, np.rint(np.where(known, np.minimum(seconds, 1e9), 0) * 1e6), 0).astype(np.int64)

    def slots(self, ids: np.ndarray) -> np.ndarray:
        """int64 (n,): the slot of each device, -1 for one of another bank."""
        last = len(self._table) - 1  # which is nobody's
        return self._table[np.where((ids >= 0) & (ids < last), ids, last)]


class _Silence:
    """What the length of a silence may speak of, for some slots."""

    def __init__(self, bank: Slots, slots: np.ndarray, learned: Any, spread: Any) -> None:
        self.bank, self.slots = bank, slots
        self.learned = bank.learned[slots] if learned is None else learned
        self.spread = bank.spread[slots] if spread is None else spread

    def column(self, name: str) -> Val:
        return Val(0.0, False)

    raw = column

    def setpoint(self, name: str) -> Val:
        return setpoints(self.bank, name, self.slots)

    def special(self, ex: Ex) -> Val:
        assert isinstance(ex, Builtin)
        if ex.name == "cadence":
            own = self.bank.cadence[self.slots]
            return Val(own / 1e6, own > 0)
        found = self.learned if ex.name == "learned_cadence" else self.spread
        return Val(np.nan_to_num(found), np.isfinite(found) & (found > 0 if ex.name == "learned_cadence" else True))


def setpoints(bank: Slots, name: str, slots: np.ndarray) -> Val:
    unique, back = np.unique(slots, return_inverse=True)
    found = [bank.world.limit(int(bank.ids[s]), name) for s in unique.tolist()]
    values = np.array([0.0 if v is None else v for v in found], float)
    known = np.array([v is not None for v in found], bool)
    return Val(values[back], known[back])
