"""Routes that say the same of devices that they do not share, taken together: only their numbers differ."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ..arrays import Ints
from ..language.expressions import Constant, Ex, Window
from ..language.routes.plan import Act, Drop, Gather, RoutePlan, When, expressions, walked
from .pairs import Pairs
from .prepared import Prepared
from .routed import InForce
from .table import Table

SPARSE = 16  # routes on fewer than one of so many devices look for them one by one


@dataclass(frozen=True)
class Varying(Ex):
    """A number in which the routes of a bundle differ."""

    index: int


@dataclass(frozen=True)
class Shape:
    """A route without its numbers. plan: it with `Varying` in their places, and places among the lines as lines."""

    plan: RoutePlan
    numbers: tuple[float, ...]

    @property
    def key(self) -> object:
        return self.plan.acts, self.plan.hours


def shape_of(plan: RoutePlan) -> Shape | None:
    """None where a route cannot stand beside others: it reaches beyond the lines that it takes."""
    if plan.topic is not None or any(alone(act) for act in walked(plan.acts)):
        return None
    numbers: list[float] = []
    place = {act.line: k for k, act in enumerate(plan.lines)}

    def within(ex: Ex, fixed: bool) -> Ex:
        if isinstance(ex, Constant) and isinstance(ex.value, float) and ex.digits is None and not fixed:
            numbers.append(ex.value)
            return Varying(ex.type, 0, len(numbers) - 1)
        changes: dict[str, object] = {"line": 0}
        for name in ex.__dataclass_fields__:
            value = getattr(ex, name)
            if isinstance(value, Ex):
                changes[name] = within(value, fixed or isinstance(ex, Window))
            elif isinstance(value, tuple) and any(isinstance(part, Ex) for part in value):
                inner = fixed or isinstance(ex, Window)
                changes[name] = tuple(within(part, inner) if isinstance(part, Ex) else part for part in value)
        return replace(ex, **changes)  # type: ignore[arg-type]

    def line(act: Act) -> Act:
        own: dict[str, object] = {"line": place[act.line]}
        if isinstance(act, When):
            own["rule"] = within(act.rule, False)
            own |= {"then": tuple(map(line, act.then)), "otherwise": tuple(map(line, act.otherwise))}
        elif expressions(act):
            own["value"] = within(expressions(act)[0], False)
        return replace(act, **own)  # type: ignore[arg-type]

    acts = tuple(map(line, plan.acts))
    return Shape(replace(plan, acts=acts), tuple(numbers))


def alone(act: Act) -> bool:
    return isinstance(act, Gather) or far_reaching(act)


def far_reaching(act: Act) -> bool:
    """Whether a line changes readings of other devices than it takes: no route may pass it in the order."""
    return isinstance(act, Drop) and act.message


@dataclass
class Bundle:
    """Routes of one device type that are taken together, of devices apart from each other.

    lines: by line of the plan, the line of each route; place: which of the lines it is. numbers: float64 (c, m), by
    `Varying`. devices, slot, member: int64 (d,), all devices, where they stand among all, and whose each is.
    """

    plan: RoutePlan
    routes: list[InForce]
    scopes: list[Ints]
    values: list[tuple[float, ...]] = field(default_factory=list)
    rows: dict[Pairs, Ints] = field(default_factory=dict)

    def close(self, slot_of: Callable[[Ints], Ints]) -> None:
        """All routes are there."""
        self.prepared = Prepared(self.plan)
        self.numbers = np.array(self.values, float).T if self.values else np.zeros((0, len(self.routes)))
        listed = [route.plan.lines for route in self.routes]
        self.lines = {act.line: [own[k].line for own in listed] for k, act in enumerate(self.plan.lines)}
        self.place = {act.line: k for k, act in enumerate(self.plan.lines)}
        self.ids = [(route.key, route.version) for route in self.routes]
        self.told = {
            own: [(*one, line) for one, line in zip(self.ids, lines, strict=True)] for own, lines in self.lines.items()
        }
        self.devices = np.concatenate(self.scopes)
        self.member = np.repeat(np.arange(len(self.scopes)), [len(own) for own in self.scopes])
        self.slot = slot_of(self.devices)
        self._place_of = np.zeros(0, np.int64)  # by slot, -1 where it is none of these

    def taken(self, table: Table, slots: int) -> tuple[Ints, Ints]:
        """The lines of a table that the routes are on, rising, and the place of the device of each. slots: how many
        devices there are.
        """
        if len(self.devices) * SPARSE < slots:
            place = np.minimum(np.searchsorted(table.devices, self.devices), max(len(table.devices) - 1, 0))
            hit = np.flatnonzero(table.devices[place] == self.devices) if len(table.devices) else place[:0]
            starts, ends = table.starts[place[hit]], table.ends[place[hit]]
            lines, place = spread(starts, ends), np.repeat(hit, ends - starts)
            order = np.argsort(lines)
            return lines[order], place[order]
        if len(self._place_of) < slots:
            self._place_of = np.full(slots, -1, np.int64)
            self._place_of[self.slot] = np.arange(len(self.slot))
        found = self._place_of[table.slot]
        lines = np.flatnonzero(found >= 0)
        return lines, found[lines]


def spread(starts: Ints, ends: Ints) -> Ints:
    """All numbers from each start to before its end, one stretch after the other."""
    sizes = ends - starts
    if not len(sizes):
        return np.zeros(0, np.int64)
    before = np.cumsum(sizes) - sizes
    return np.arange(int(sizes.sum())) + np.repeat(starts - before, sizes)


def bundled(
    routes: Sequence[tuple[InForce, Ints]], slot_of: Callable[[Ints], Ints], apart: bool = False
) -> list[Bundle]:
    """Routes with the devices that they are on, in their order, as bundles in an order that comes to the same: a route
    goes back to one like it only past such as share no device with it. slot_of: where devices stand among all; apart:
    each by itself.
    """
    found: list[Bundle] = []
    taken: list[np.ndarray] = []
    last: dict[object, int] = {}
    room = max((int(devices[-1]) + 1 for _, devices in routes if len(devices)), default=0)
    for route, devices in routes:
        if not len(devices):
            continue
        shape = None if apart else shape_of(route.plan)
        at = last.get(shape.key) if shape is not None else None
        if shape is not None and at is not None and not any(own[devices].any() for own in taken[at:]):
            bundle = found[at]
            if len(bundle.routes) == 1:
                bundle.plan = shape.plan
            bundle.routes.append(route)
            bundle.scopes.append(devices)
            bundle.values.append(shape.numbers)
            taken[at][devices] = True
            continue
        mask = np.zeros(room, bool)
        mask[devices] = True
        taken.append(mask)
        found.append(Bundle(route.plan, [route], [devices]))
        if shape is not None:
            found[-1].values.append(shape.numbers)
            last[shape.key] = len(found) - 1
        elif any(far_reaching(act) for act in route.plan.lines):
            last.clear()
    for bundle in found:
        if len(bundle.routes) == 1:
            bundle.values = []
        bundle.close(slot_of)
    return found
