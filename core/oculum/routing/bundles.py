"""Routes that say the same of devices that they do not share, taken together: only their numbers differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ..arrays import Ints
from ..language.expressions import Constant, Ex, Window
from ..language.routes.plan import Act, Drop, Gather, RoutePlan, When, expressions, walked
from .prepared import Prepared
from .routed import InForce


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

    lines: by line of the plan, the line of each route. numbers: float64 (c, m), by `Varying`.
    """

    plan: RoutePlan
    routes: list[InForce]
    scopes: list[Ints]
    values: list[tuple[float, ...]] = field(default_factory=list)

    def close(self) -> None:
        """All routes are there."""
        self.prepared = Prepared(self.plan)
        self.own = [Prepared(route.plan) for route in self.routes] if len(self.routes) > 1 else [self.prepared]
        self.numbers = np.array(self.values, float).T if self.values else np.zeros((0, len(self.routes)))
        listed = [route.plan.lines for route in self.routes]
        self.lines = {act.line: [own[k].line for own in listed] for k, act in enumerate(self.plan.lines)}
        self.devices = np.concatenate(self.scopes)
        self.member = np.repeat(np.arange(len(self.scopes)), [len(own) for own in self.scopes])
        order = np.argsort(self.devices, kind="stable")
        self._sorted, self._member = self.devices[order], self.member[order]

    def taken(self, devices: Ints) -> tuple[Ints, Ints]:
        """Of devices, rising, the places of those that the routes are on, and whose each is: route by route."""
        if len(self._sorted) <= len(devices):
            place = np.minimum(np.searchsorted(devices, self.devices), max(len(devices) - 1, 0))
            hit = devices[place] == self.devices if len(devices) else np.zeros(len(place), bool)
            return place[hit], self.member[hit]
        place = np.minimum(np.searchsorted(self._sorted, devices), len(self._sorted) - 1)
        found = np.flatnonzero(self._sorted[place] == devices)
        member = self._member[place[found]]
        if len(self.routes) > 1:
            order = np.argsort(member, kind="stable")
            return found[order], member[order]
        return found, member


def bundled(routes: Sequence[tuple[InForce, Ints]], apart: bool = False) -> list[Bundle]:
    """Routes with the devices that they are on, in their order, as bundles in an order that comes to the same: a route
    goes back to one like it only past such as share no device with it. apart: each by itself.
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
        bundle.close()
    return found
