"""What rules speak of over the rows of a batch: fields, limits, windows, places, silences; each worked out once."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import numpy as np

from ..history.fleet import Fleet
from ..history.looking import look, over
from ..history.windows import KINDS
from ..language.conditions.plan import ConditionPlan
from ..language.evaluate import Val, evaluate
from ..language.expressions import Age, AtFence, Builtin, Ex, MessageCount, Named, Silent, Speed, Window, bare
from ..language.fields import FieldSpec
from ..register import hours
from . import arrivals as heard
from .machine import ARRIVAL, NEVER, READING
from .rows import Rows
from .slots import Slots, setpoints
from .watched import Cause, Profile, decisive, listed

T = TypeVar("T")


class View:
    """Fields, limits and all else that rules speak of, over the rows of a batch; each is worked out once."""

    def __init__(
        self,
        bank: Slots,
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

    def _once(self, key: Any, make: Callable[[], T]) -> T:
        if key not in self.cache:
            self.cache[key] = make()
        found: T = self.cache[key]
        return found

    # fields --------------------------------------------------------------------------------
    def column(self, name: str) -> Val:
        spec = self._spec(name)
        if spec is not None and spec.kind == "position" or (name, self.exact) in self.bank.fixes:
            return self._once(("fix", name, self.exact), lambda: self._fix(name).column())
        return self._once(("column", name), lambda: self._column(name)[0])

    raw = column

    def _spec(self, name: str) -> FieldSpec | None:
        track = self.rows.track(name)
        return track.spec if track is not None else None

    def _column(self, name: str) -> tuple[Val, np.ndarray]:
        """The newest value at every row, and when it was measured."""
        return self._once(("filled", name), lambda: self._fill(name))

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
        if track is None:
            return Val(start[index], has[index]), was[index]
        source = rows.sources(self.fresh(name))
        inside = source >= 0
        if inside.all() and start.dtype == track.column.values.dtype:
            return Val(track.column.values[rows.event[source]], inside), rows.at[source]
        values = start[index]
        values = values.astype(object) if values.dtype != track.column.values.dtype else values
        values[inside] = track.column.values[rows.event[source[inside]]]
        at = np.where(inside, rows.at[np.maximum(source, 0)], was[index])
        return Val(values, has[index] | inside), at

    def setpoint(self, name: str) -> Val:
        return self._once(("setpoint", name), lambda: setpoints(self.bank, name, self.rows.slot))

    def _fix(self, name: str) -> Any:
        key = (name, self.exact)
        return self._once(("fixes", key), lambda: self.bank.fixes_of(*key).over(self.rows, name, self.exact))

    def fresh(self, name: str) -> np.ndarray:
        return self._once(("fresh", name), lambda: self.rows.fresh(name))

    def usable(self, name: str, exact: tuple[float, str] | None) -> np.ndarray:
        self.exact = exact
        return self._fix(name).fresh  # type: ignore[no-any-return]

    def within(self, plan: ConditionPlan) -> np.ndarray:
        return self._once(("hours", plan.hours), lambda: self._within(plan))

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
            return self._once((node, self.exact), lambda: self._place(node))
        if isinstance(node, Window) and node not in self.cache:
            self._windows(bare(node.value))
        return self._once(node, lambda: self._other(node))

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
            bank.cadence[rows.slot],
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

    def __init__(self, view: View, name: str) -> None:
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


class Shown:
    """Value and limit that an alarm names: of the first comparison of its step that holds, else of the first."""

    def __init__(self, plan: ConditionPlan, view: View, rows: Rows) -> None:
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
