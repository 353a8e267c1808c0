"""What routes go by and remember: the register, reference tables, and of each route what it has seen."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..arrays import Ints, objects
from ..history.looking import DAY, keep_of
from ..history.windows import Past
from ..language.evaluate import Val
from ..language.expressions import Ex, Window
from ..language.routes.plan import Gather, RoutePlan, Thin, expressions
from ..register.world import World
from . import gathering
from .gathering import Gathered
from .pairs import Looked, RouteId, Through
from .routed import InForce


@dataclass
class Memory:
    """What a route has made sites of, by line."""

    gathered: dict[int, Gathered] = field(default_factory=dict)


class Standing:
    """The register as it is, reference tables (rows by key, by name), and what routes remember: memories by definition
    and version; what is looked back on by device type, expression and how far; and what was let through last by device
    type, line, field and width of its values.
    """

    def __init__(self, world: World) -> None:
        self.world = world
        self.tables: dict[str, dict[Any, Mapping[str, Any]]] = {}
        self.memories: dict[tuple[int, int], Memory] = {}
        self.looked: dict[tuple[int, Ex, int], Looked] = {}
        self.through: dict[tuple[int, int, str, int], Through] = {}
        self.slots: dict[int, int] = {}
        self._dense = np.zeros(0, np.int64)
        self.refresh()

    def refresh(self) -> None:
        """The register is another from here on."""
        self._cadence: np.ndarray | None = None
        self._said: dict[tuple[str, str], Val] = {}

    def said(self, what: str, name: str, devices: Ints) -> Val:
        """What the register says of devices: label (by its name), device, site, home."""
        slot = self.slot(devices)
        found = self._said.get((what, name))
        if found is None or len(found.values) < len(self.slots):
            found = self._said[what, name] = self._asked(what, name)
        return Val(found.values[slot], found.known[slot])

    def _asked(self, what: str, name: str) -> Val:
        """The same for all devices, by slot."""
        listed: list[Any] = []
        for device in map(self.world.devices.get, self.slots):
            match what:
                case _ if device is None:
                    listed.append(None)
                case "label":
                    listed.append(device.labels.get(name))
                case "site":
                    listed.append(getattr(self.world.sites.get(device.site or 0), "name", None))
                case "home":
                    listed.append(device.home)
                case _:
                    listed.append(device.name)
        known = np.array([one is not None for one in listed], bool)
        if what == "home":
            return Val(np.array([one or (0.0, 0.0) for one in listed], float).reshape(-1, 2), known)
        return Val(objects(one or "" for one in listed), known)

    def memory(self, route: InForce) -> Memory:
        return self.memories.setdefault((route.key, route.version), Memory())

    def forget(self, ids: Collection[RouteId]) -> None:
        """What other routes than these remember is gone."""
        self.memories = {key: memory for key, memory in self.memories.items() if key in ids}
        for pairs in (*self.looked.values(), *self.through.values()):
            pairs.forget(ids)
        self.looked = {key: pairs for key, pairs in self.looked.items() if pairs.count}
        self.through = {key: pairs for key, pairs in self.through.items() if pairs.count}

    def past(self, type_: int, inner: Ex, keep: int) -> Looked:
        """What is looked back on of an expression, `keep` µs far."""
        key = (type_, inner, keep)
        if key not in self.looked:
            self.looked[key] = Looked(past=Past.of(0, keep))
        return self.looked[key]

    def let_through(self, type_: int, line: int, name: str, width: int) -> Through:
        """What a line let through last of a field. line: which of the lines of its route it is."""
        key = (type_, line, name, width)
        if key not in self.through:
            self.through[key] = Through(values=np.zeros((0, width)))
        return self.through[key]

    def slot(self, devices: Ints) -> Ints:
        """int64 (n,): a place for each device in what routes remember; it never changes."""
        if len(devices) and int(devices.max()) >= len(self._dense):
            more = np.full(int(devices.max()) * 2 + 64, -1, np.int64)
            more[: len(self._dense)] = self._dense
            self._dense = more
        found = self._dense[devices]
        if not (found < 0).any():
            return found
        for device in np.unique(devices[found < 0]).tolist():
            self._dense[device] = self.slots[device] = len(self.slots)
        self._cadence = None
        return self._dense[devices]

    def cadences(self) -> tuple[np.ndarray, list[str]]:
        """Cadence (µs) and zone of the site, by slot."""
        if self._cadence is None:
            known = [self.world.devices.get(device) for device in self.slots]
            self._cadence = np.array([self.world.cadence(d) if d is not None else 0 for d in known], np.int64)
            self._zones = [self.world.zone(d.site if d is not None else None) for d in known]
        return self._cadence, self._zones


def looked_back(plans: Iterable[RoutePlan]) -> int:
    """How far routes look back, µs: what has to be gone through before a moment from which they are to be right."""
    widths = [0]
    for act in (act for plan in plans for act in plan.lines):
        if isinstance(act, Thin):
            widths.append(max(act.every_us, DAY))
        if isinstance(act, Gather):
            widths.append(gathering.keep_of(act))
        widths += [keep_of(part) for ex in expressions(act) for part in ex.walk() if isinstance(part, Window)]
    return max(widths)
