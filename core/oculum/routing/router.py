"""All routes in force over batches of readings: which lines take which, and what they do."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from functools import lru_cache

import numpy as np

from oculum.errors import EvaluationFailed

from ..arrays import Ints
from ..batches import Decoded
from ..language.fields import FieldSpec
from ..language.routes.plan import Gather, RoutePlan
from ..register.world import World
from .acting import Run
from .bundles import Bundle, bundled
from .gathering import Changes, Gathered, House, Readings, gather, put
from .putting_back import Moved, put_back, taken_out
from .routed import Headers, InForce, Routed
from .standing import Standing
from .table import Table, Types, tables


class RouteFailed(EvaluationFailed):
    """A route that could not be evaluated: its router is not to be used any more."""


class Router:
    """Routes in their order. Whoever changes the register tells it by `refresh`."""

    def __init__(self, world: World) -> None:
        self.world, self.standing = world, Standing(world)
        self.routes: list[InForce] = []
        self.gathers: Callable[[InForce], bool] = lambda route: True  # whether all that sites are made of comes by
        self._of_type: dict[int, list[InForce]] = {}
        self._derived: dict[int, dict[str, FieldSpec]] = {}  # by type: all fields that its routes derive
        self.refresh()

    # what is in force -----------------------------------------------------------------------
    def set(self, routes: Sequence[InForce]) -> None:
        """These routes, in this order, from here on; what a version has seen stays with it."""
        self.routes = list(routes)
        self.standing.forget({(route.key, route.version) for route in routes})
        self._of_type, self._derived = {}, {}
        for route in routes:
            for type_ in route.types:
                self._of_type.setdefault(type_, []).append(route)
                derived = self._derived.setdefault(type_, {})
                for spec in route.plan.derived:
                    derived.setdefault(spec.name, spec)
        self._scopes.clear()
        self._houses.clear()
        self._bundles.clear()

    def refresh(self) -> None:
        """The register is another from here on."""
        self._scopes: dict[tuple[object, ...], Ints] = {}
        self._by_type: dict[int, Ints] | None = None
        self._houses: dict[tuple[int, int], House] = {}
        self._bundles: dict[tuple[int, bool], list[Bundle]] = {}
        self.standing.refresh()

    # scopes -------------------------------------------------------------------------------
    def scope(self, route: InForce, type_: int) -> Ints:
        """int64: the devices of a type that a route is on, rising."""
        plan = route.plan
        key = (type_, plan.site, plan.labels, plan.devices)
        if key not in self._scopes:
            self._scopes[key] = self._scope(type_, plan)
        return self._scopes[key]

    def _scope(self, type_: int, plan: RoutePlan) -> Ints:
        if self._by_type is None:
            found: dict[int, list[int]] = {}
            for device in self.world.devices.values():
                found.setdefault(device.type, []).append(device.id)
            self._by_type = {t: np.array(sorted(ids), np.int64) for t, ids in found.items()}
            self._labels: dict[tuple[int, str], dict[str, Ints]] = {}
        own = self._by_type.get(type_, np.zeros(0, np.int64))
        for name, sign, text in plan.labels:
            having = self._labelled(type_, name).get(text, np.zeros(0, np.int64))
            own = np.intersect1d(own, having, True) if sign == "=" else np.setdiff1d(own, having, True)
        devices = self.world.devices
        if plan.devices:
            names = set(plan.devices)
            own = own[np.array([devices[d].name in names for d in own.tolist()], bool)] if len(own) else own
        if plan.site is not None and len(own):
            below: dict[int | None, bool] = {}
            keep = []
            for d in own.tolist():
                site = devices[d].site
                if site not in below:
                    below[site] = self.world.at_or_below(site, plan.site)
                keep.append(below[site])
            own = own[np.array(keep, bool)]
        return own

    def _labelled(self, type_: int, name: str) -> dict[str, Ints]:
        key = (type_, name)
        if key not in self._labels:
            found: dict[str, list[int]] = {}
            assert self._by_type is not None
            for d in self._by_type[type_].tolist() if type_ in self._by_type else ():
                text = self.world.devices[d].labels.get(name)
                if text is not None:
                    found.setdefault(text, []).append(d)
            self._labels[key] = {text: np.array(ids, np.int64) for text, ids in found.items()}
        return self._labels[key]

    # a batch --------------------------------------------------------------------------------
    def route(
        self,
        decoded: Sequence[Decoded],
        index: Sequence[Ints],
        device: Ints,
        arrival: Ints,
        type_of: Callable[[int], int],
        headers: Headers,
        traced: bool = False,
    ) -> Routed:
        """Takes the readings of decoded batches through the routes, and changes them.

        index: int64, the rows of each decoded batch among the messages; device, arrival: int64 (n,), of all messages
        in the order of arrival. headers: what the transport says beside a message, by its row.
        """
        found = Routed()
        if not self.routes:
            return found
        type_of = Types.around(device, type_of)
        sites = self.world.site_type
        gathered: dict[tuple[int, int, int], list[Run]] = {}
        below = self._of_type.keys() - {sites}
        for run in self._runs(below, decoded, index, device, arrival, type_of, headers, traced, found):
            for key in run.gathered:
                gathered.setdefault(key, []).append(run)
        if gathered:
            put(self._gather(gathered), decoded, index)
        if sites in self._of_type:
            list(self._runs({sites}, decoded, index, device, arrival, type_of, headers, traced, found))
        return found

    def _runs(
        self,
        types: Collection[int],
        decoded: Sequence[Decoded],
        index: Sequence[Ints],
        device: Ints,
        arrival: Ints,
        type_of: Callable[[int], int],
        headers: Headers,
        traced: bool,
        found: Routed,
    ) -> Iterator[Run]:
        """The readings of some types on their way, type by type; `found` is what came of them."""
        moved: Moved = {}
        for type_, table in sorted(tables(decoded, index, device, type_of, types).items()):
            table.given = self._derived[type_]
            table.slot = self.standing.slot(table.device)
            run = Run(self.standing, table, type_, arrival, headers, traced)
            for bundle in self.bundles(type_, traced):
                lines, place = self._taken(bundle, table, headers)
                if not len(lines):
                    continue
                try:
                    run.take(bundle, lines, place)
                except Exception as error:
                    raise RouteFailed(run.culprit(bundle, lines, place), error) from error
            put_back(table, decoded, moved)
            found.counted.append(run.counted())
            found.sent += run.sent
            found.steps += run.steps
            yield run
        taken_out(decoded, moved)

    def _gather(self, gathered: dict[tuple[int, int, int], list[Run]]) -> list[Readings]:
        """What sites get from the readings of a batch: of each line that gathers, from all types that it is on."""
        readings = []
        for key in sorted(gathered, key=self._order):
            route, act, _ = gathered[key][0].gathered[key]
            if not self.gathers(route):
                continue
            memory = self.standing.memory(route).gathered
            if act.line not in memory:
                memory[act.line] = Gathered.of(act)
            with RouteFailed.of(route.key):
                changes = Changes.of([run.gathered[key][2] for run in gathered[key]])
                readings.append(gather(act, memory[act.line], self._house(route), changes))
        return readings

    def members(self, route: InForce, act: Gather, site: int) -> list[tuple[int, list[float | None], int]]:
        """What a site is made of as it is: each member with what is taken of it, by node, and when it was measured.
        Empty for what goes by steps.
        """
        house, memory = self._house(route), self.standing.memory(route).gathered.get(act.line)
        if memory is None or memory.past is not None or site not in house.ids:
            return []
        devices, s = list(self.standing.slots), house.ids.index(site)
        found = []
        for slot in house.below[house.below_of[s] : house.below_of[s + 1]].tolist():
            if slot < memory.known.shape[1] and memory.known[:, slot].any():
                values = [
                    float(v) if known else None
                    for v, known in zip(memory.value[:, slot], memory.known[:, slot], strict=True)
                ]
                found.append((devices[slot], values, int(memory.at[:, slot].max())))
        return found

    def _order(self, key: tuple[int, int, int]) -> tuple[int, int]:
        place = next(k for k, route in enumerate(self.routes) if (route.key, route.version) == key[:2])
        return place, key[2]

    def _house(self, route: InForce) -> House:
        key = (route.key, route.version)
        found = self._houses.get(key)
        if found is None:
            devices = np.concatenate([self.scope(route, type_) for type_ in route.types])
            slots = self.standing.slot(devices)
            self._houses[key] = found = House.of(
                self.world, devices.tolist(), slots.tolist(), len(self.standing.slots), route.plan.site
            )
        return found

    def bundles(self, type_: int, apart: bool) -> list[Bundle]:
        """The routes of a type in their order, those that can be taken together as one. apart: each by itself."""
        found = self._bundles.get((type_, apart))
        if found is None:
            routes = [(route, self.scope(route, type_)) for route in self._of_type.get(type_, ())]
            found = self._bundles[type_, apart] = bundled(routes, self.standing.slot, apart)
        return found

    def _taken(self, bundle: Bundle, table: Table, headers: Headers) -> tuple[Ints, Ints]:
        """The lines of a table that the routes of a bundle are on, as far as no route above has ended their way, and
        the place of the device of each.
        """
        lines, place = bundle.taken(table, len(self.standing.slots))
        if table.ended:
            alive = table.alive[lines]
            lines, place = lines[alive], place[alive]
        topic = bundle.plan.topic
        if topic is not None and len(lines):
            rows, which = np.unique(table.row[lines], return_inverse=True)
            fits = np.array([topic_fits(topic, headers(row).get("topic", "")) for row in rows.tolist()], bool)[which]
            lines, place = lines[fits], place[fits]
        return lines, place


@lru_cache(maxsize=4096)
def _pattern(topic: str) -> re.Pattern[str]:
    parts = ["[^/]*" if level == "+" else re.escape(level) for level in topic.split("/")]
    if topic.endswith("#"):
        return re.compile("/".join(parts[:-1]) + ("(?:/.*)?" if len(parts) > 1 else ".*"), re.S)
    return re.compile("/".join(parts))


def topic_fits(pattern: str, topic: str) -> bool:
    """Whether a topic is among those that a filter of MQTT (version 5, 4.7) names: `+` one level, `#` all further."""
    return _pattern(pattern).fullmatch(topic) is not None
