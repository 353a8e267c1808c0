"""What the engine goes by: devices, definitions in force, limits, each as of its place in the stream."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field, replace
from typing import Any

import psycopg

from oculum.alarms.watched import Watched
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.routes.check import SITE
from oculum.language.routes.plan import RoutePlan
from oculum.register.fences import area_of
from oculum.register.world import Device, Site, World
from oculum.routing.reference import by_key
from oculum.routing.routed import InForce
from oculum.routing.router import Router
from server.rules.all_kinds import RULES
from server.rules.kinds import Published, Source
from server.rules.plans import decoder_plan
from server.rules.selection import Selection
from server.store.published import events_until, types_by_key, version_row
from server.store.register import RegisterRow, register_at, register_changes

MADE = "made from the names of SenML packs"  # why a version is there that no person has written


@dataclass(frozen=True)
class DeviceRow:
    id: int
    name: str
    title: str
    type_id: int
    site_id: int | None
    labels: dict[str, str]
    gateway_id: int | None = None


@dataclass(frozen=True)
class Decoder:
    version_id: int
    plan: DecoderPlan


@dataclass
class Registry:
    """Decoders by version, conditions by definition, limits by type and name."""

    devices: dict[int, DeviceRow] = field(default_factory=dict)
    parents: dict[int, int | None] = field(default_factory=dict)
    site_titles: dict[int, str] = field(default_factory=dict)
    sources: dict[int, Source] = field(default_factory=dict)  # by version
    plans: dict[int, Decoder | None] = field(default_factory=dict)  # by version, as far as used
    live: dict[int, int] = field(default_factory=dict)  # type -> version in force
    first: dict[int, tuple[int, Selection]] = field(
        default_factory=dict
    )  # type -> version that chosen devices have before the others
    held: dict[int, int] = field(default_factory=dict)  # device -> version it is held on
    running: dict[int, int | None] = field(default_factory=dict)  # device -> version, as far as asked
    # by definition; what chosen devices have first, by its negative
    conditions: dict[int, Watched] = field(default_factory=dict)
    world: World = field(default_factory=World)
    names: dict[str, int] = field(default_factory=dict)
    types: dict[str, int] = field(default_factory=dict)  # key -> type, of those with a decoder
    constants: dict[int, dict[str, list[tuple[int, Any]]]] = field(default_factory=dict)
    constant_rows: dict[int, dict[str, Any]] = field(default_factory=dict)
    fences: dict[int, str] = field(default_factory=dict)
    routes: dict[int, InForce] = field(default_factory=dict)  # by definition
    places: list[int] = field(default_factory=list)  # definitions of routes in their order, also of those not in force
    tables: dict[str, dict[Any, dict[str, Any]]] = field(default_factory=dict)  # reference tables: rows by key

    def load(self, connection: psycopg.Connection, until: int | None = None) -> None:
        """Everything as it is at a place of the stream, or at its end."""
        self.take(register_at(connection, until))
        for number, kind, body in events_until(connection, until):
            self.apply(connection, number, kind, body)

    def take(self, rows: Iterable[RegisterRow]) -> None:
        """Rows of the register as they are from here on."""
        self.running.clear()
        devices: set[int] = set()
        for one in rows:
            match one.what:
                case "device":
                    self._device(one.id, one.row)
                case "site":
                    self._site(one.id, one.row)
                case "type":
                    cadence = (one.row or {}).get("cadence_s")
                    if cadence is None:
                        self.world.cadences.pop(one.id, None)
                    else:
                        self.world.cadences[one.id] = round(cadence * 1e6)
                case "fence":
                    self.world.fences.pop(self.fences.pop(one.id, ""), None)
                    if one.row is not None:
                        self.fences[one.id] = one.row["name"]
                        self.world.fences[one.row["name"]] = area_of(one.row["feature"])
                case "constant":
                    devices.add(self.constant_rows.pop(one.id, one.row or {"device": 0})["device"])
                    if one.row is not None:
                        self.constant_rows[one.id] = one.row
                        devices.add(one.row["device"])
        if devices:
            self._constants(devices)

    def _device(self, ident: int, row: dict[str, Any] | None) -> None:
        before = self.devices.get(ident)
        if before is not None and self.names.get(before.name) == ident:
            del self.names[before.name]
        if row is None:
            self.devices.pop(ident, None)
            self.world.devices.pop(ident, None)
            return
        name, type_, site, labels, gateway = (row[k] for k in ("name", "type", "site", "labels", "gateway"))
        labels = labels or {}
        self.devices[ident] = DeviceRow(ident, name, row["title"], type_, site, labels, gateway)
        self.names[name] = ident
        there = row["latitude"] is not None and row["longitude"] is not None
        home = (row["latitude"], row["longitude"]) if there else None
        cadence = round((row["cadence_s"] or 0) * 1e6)
        self.world.devices[ident] = Device(
            ident, name, type_, site, labels, gateway, cadence, row["registered_us"], home, row["in_service"]
        )

    def _site(self, ident: int, row: dict[str, Any] | None) -> None:
        if row is None:
            for known in (self.parents, self.site_titles, self.world.sites):
                known.pop(ident, None)  # type: ignore[attr-defined]
            return
        self.parents[ident], self.site_titles[ident] = row["parent"], row["title"]
        self.world.sites[ident] = Site(ident, row["name"], row["parent"], row["zone"])

    def _constants(self, devices: set[int]) -> None:
        for device in devices:
            self.constants.pop(device, None)
        for row in sorted(self.constant_rows.values(), key=lambda r: (r["device"], r["name"], r["from_us"])):
            if row["device"] in devices:
                own = self.constants.setdefault(row["device"], {})
                own.setdefault(row["name"], []).append((row["from_us"], row["value"]))

    def apply(self, connection: psycopg.Connection, number: int, kind: str, body: dict[str, Any]) -> None:
        """One event of the stream takes effect."""
        self.running.clear()
        if kind == "publish":
            self._publish(connection, body["version"])
        elif kind == "rollout":
            self._give_first(connection, body)
        elif kind == "hold":
            if body["version"] is None:
                self.held.pop(body["device"], None)
            elif self.keep_source(connection, body["version"]):
                self.held[body["device"]] = body["version"]
        elif kind == "retire":
            gone = set(body.get("versions", []))
            self._watch_no_more(body["definition"])
            self.routes.pop(body["definition"], None)
            self.live = {t: v for t, v in self.live.items() if v not in gone}
            self.first = {t: f for t, f in self.first.items() if f[0] not in gone}
            self.held = {d: v for d, v in self.held.items() if v not in gone}
        elif kind == "off":
            self._watch_no_more(body["definition"])
        elif kind == "setpoint":
            scope = "device" if body.get("device") else "site" if body.get("site") else "type"
            key = (int(body["type"]), str(body["name"]), scope, int(body[scope]) if scope != "type" else 0)
            if body["value"] is None:
                self.world.limits.pop(key, None)
            else:
                self.world.limits[key] = float(body["value"])
        elif kind == "order":
            self.places = [int(ident) for ident in body["routes"]]
        elif kind == "table":
            if body["rows"] is None:
                self.tables.pop(body["name"], None)
            else:
                self.tables[body["name"]] = by_key(body["columns"], body["rows"])
        elif kind == "unheard":
            self.world.unheard(int(body["since"]), None if body["until"] is None else int(body["until"]))
        elif kind == "registry":
            self.take(register_changes(connection, number))

    def _publish(self, connection: psycopg.Connection, version: int) -> None:
        row = version_row(connection, version, MADE)
        if row is not None:
            RULES[row.kind].put_in_force(self, Published(**vars(row), types=types_by_key(connection)))

    def _watch_no_more(self, definition: int) -> None:
        for key in (definition, -definition):
            self.conditions.pop(key, None)

    def watch(self, published: Published, plan: ConditionPlan) -> None:
        """A condition is in force from here on."""
        self._watch_no_more(published.definition)
        self.conditions[published.definition] = Watched(
            published.definition, published.version, published.type_id, plan
        )

    def watch_first(self, published: Published, plan: ConditionPlan, selection: Selection) -> None:
        """Chosen devices have a version of a condition before the others, from here on."""
        key = published.definition
        if key not in self.conditions:
            return

        def chosen(device: Device) -> bool:
            return selection.takes(device.name, device.labels, device.site, self.parents)

        self.conditions[key] = replace(self.conditions[key], chosen=lambda device: not chosen(device))
        self.conditions[-key] = Watched(-key, published.version, published.type_id, plan, chosen)

    def route(self, published: Published, plan: RoutePlan) -> None:
        """A route is in force from here on: in its place, or behind all others where it has none."""
        if not all(key in published.types for key in plan.types):
            return
        types = tuple(published.types[key] for key in plan.types)
        if plan.gathered:
            self.world.site_type = published.types.get(SITE, 0)
        self.routes[published.definition] = InForce(published.definition, published.version, types, plan)
        if published.definition not in self.places:
            self.places.append(published.definition)

    def in_order(self) -> list[InForce]:
        """The routes in force, in the order in which readings pass them."""
        return [self.routes[ident] for ident in self.places if ident in self.routes]

    def router(self, but: Collection[int] = ()) -> Router:
        """The routes in force, with nothing known of what was before; but: versions that are left out."""
        found = Router(self.world)
        self.direct(found, but)
        return found

    def direct(self, router: Router, but: Collection[int] = ()) -> None:
        """Gives a router what is in force from here on."""
        router.set([route for route in self.in_order() if route.version not in but])
        router.standing.tables = self.tables  # type: ignore[assignment]
        router.refresh()

    def keep_source(self, connection: psycopg.Connection, version: int) -> bool:
        """Has the text of a decoder's version at hand, which never changes; False if there is none."""
        if version not in self.sources:
            row = version_row(connection, version, MADE)
            if row is None:
                return False
            self.sources[version] = Source(row.text, row.fields, row.type_id, row.made)
        return True

    def _give_first(self, connection: psycopg.Connection, body: dict[str, Any]) -> None:
        if body["version"] is not None:
            row = version_row(connection, body["version"], MADE)
            if row is not None and (given := RULES[row.kind].give_first) is not None:
                given(self, Published(**vars(row), types=types_by_key(connection)), Selection.of(body))
        elif self.conditions.pop(-body["definition"], None) is not None:
            self.conditions[body["definition"]] = replace(self.conditions[body["definition"]], chosen=None)
        else:
            self.first.pop(body["type"], None)

    def version_of(self, device_id: int) -> int | None:
        """The version that a device's messages are decoded by: the one it is held on, one it is chosen for, the one in
        force.
        """
        if device_id not in self.running:
            device = self.devices.get(device_id)
            found = self.held.get(device_id)
            if found is not None and (device is None or self.sources[found].type_id != device.type_id):
                found = None  # the device has become one of another type since it was held
            if found is None and device is not None:
                found = self.live.get(device.type_id)
                version, selection = self.first.get(device.type_id, (None, None))
                if selection is not None and selection.takes(device.name, device.labels, device.site_id, self.parents):
                    found = version
            self.running[device_id] = found
        return self.running[device_id]

    def runs_by(self, type_id: int) -> str:
        """Which versions read the messages of a type, as one short word: another where any of it changes."""
        held = sorted((d, v) for d, v in self.held.items() if self.type_of(d) == type_id)
        routes = [route.version for route in self.in_order() if type_id in route.types]
        by = (self.live.get(type_id), self.first.get(type_id), held, routes)
        return hashlib.sha256(repr(by).encode()).hexdigest()[:16]

    def decoder(self, version: int | None) -> Decoder | None:
        """A version as a plan; None where there is none, or no sound one."""
        if version is None or version not in self.sources:
            return None
        if version not in self.plans:
            source = self.sources[version]
            plan = decoder_plan(source.text, source.fields, self.other)
            self.plans[version] = Decoder(version, plan) if plan is not None else None
        return self.plans[version]

    def other(self, key: str) -> DecoderPlan | None:
        """The decoder in force of another type, for one that hands on to it."""
        source = self.sources.get(self.live.get(self.types.get(key, 0), 0))
        return decoder_plan(source.text, source.fields) if source is not None else None

    def type_of(self, device_id: int) -> int:
        device = self.devices.get(device_id)
        return device.type_id if device is not None else 0

    def owner(self, sender: int, name: str) -> int | None:
        """The device of a name, if the sender may speak for it: itself, or one assigned to it."""
        found = self.names.get(name)
        if found is None or found == sender:
            return found
        return found if self.devices[found].gateway_id == sender else None


def spoken_of(registry: Registry, senders: Iterable[int]) -> list[int]:
    """Devices that messages of some senders may speak of: themselves, those behind them, and sites."""
    found = set(senders)
    behind = {d.id for d in registry.devices.values() if d.gateway_id in found}
    return sorted(found | behind | set(registry.world.own_devices().values()))
