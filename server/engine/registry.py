"""What the engine goes by: devices, definitions in force, limits, each as of its place in the stream."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from typing import Any

import psycopg

from oculum.language.plan import ConditionPlan, DecoderPlan
from server.definitions.plans import condition_plan, decoder_plan, hands_on
from server.definitions.rollouts import Selection, above

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


@dataclass(frozen=True)
class Condition:
    definition_id: int
    version_id: int
    type_id: int
    plan: ConditionPlan


@dataclass(frozen=True)
class Source:
    """A published decoder text, of which a plan is made when a message asks for it."""

    text: str
    fields: list[dict[str, Any]]
    type_id: int
    made: bool = False  # by no person, from what SenML packs say of themselves


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
    conditions: dict[int, Condition] = field(default_factory=dict)
    limits: dict[tuple[int, str, str, int], float] = field(default_factory=dict)  # type, name, scope, id
    names: dict[str, int] = field(default_factory=dict)
    types: dict[str, int] = field(default_factory=dict)  # key -> type, of those with a decoder
    constants: dict[int, dict[str, list[tuple[int, Any]]]] = field(default_factory=dict)

    def load(self, connection: psycopg.Connection, until: int | None = None) -> None:
        """Everything as it is at a place of the stream, or at its end."""
        self.load_devices(connection)
        for kind, body in connection.execute(
            "select kind, body from control_event where id <= %s and kind <> 'registry' order by id",
            (2**62 if until is None else until,),
        ).fetchall():
            self.apply(connection, kind, body)

    def load_devices(self, connection: psycopg.Connection) -> None:
        rows = connection.execute(
            "select id, name, title, type_id, site_id, labels, gateway_id from fleet_device"
        ).fetchall()
        self.devices = {r[0]: DeviceRow(*r) for r in rows}
        self.running.clear()
        self.names = {r[1]: r[0] for r in rows}
        self.load_constants(connection)
        sites = connection.execute("select id, parent_id, title from fleet_site").fetchall()
        self.parents = {r[0]: r[1] for r in sites}
        self.site_titles = {r[0]: r[2] for r in sites}

    def load_constants(self, connection: psycopg.Connection, device: int | None = None) -> None:
        """Constants of all devices, or of one."""
        self.constants = {}
        for owner, name, value, valid_from in connection.execute(
            "select device_id, name, value, (extract(epoch from valid_from) * 1000000)::bigint from fleet_constant"
            " where %s::int is null or device_id = %s order by device_id, name, valid_from",
            (device, device),
        ).fetchall():
            self.constants.setdefault(owner, {}).setdefault(name, []).append((int(valid_from), value))

    def apply(self, connection: psycopg.Connection, kind: str, body: dict[str, Any]) -> None:
        """One event of the stream takes effect."""
        self.running.clear()
        if kind == "publish":
            self._publish(connection, body["version"])
        elif kind == "rollout":
            self._give_first(connection, body)
        elif kind == "hold":
            if body["version"] is None:
                self.held.pop(body["device"], None)
            elif self._source(connection, body["version"]):
                self.held[body["device"]] = body["version"]
        elif kind == "retire":
            gone = set(body.get("versions", []))
            self.conditions.pop(body["definition"], None)
            self.live = {t: v for t, v in self.live.items() if v not in gone}
            self.first = {t: f for t, f in self.first.items() if f[0] not in gone}
            self.held = {d: v for d, v in self.held.items() if v not in gone}
        elif kind == "setpoint":
            scope = "device" if body.get("device") else "site" if body.get("site") else "type"
            key = (int(body["type"]), str(body["name"]), scope, int(body[scope]) if scope != "type" else 0)
            if body["value"] is None:
                self.limits.pop(key, None)
            else:
                self.limits[key] = float(body["value"])
        elif kind == "registry":
            self.load_devices(connection)

    def _publish(self, connection: psycopg.Connection, version: int) -> None:
        row = connection.execute(
            "select d.id, d.kind, d.type_id, t.key, v.text, v.fields, v.setpoints from definitions_version v"
            " join definitions_definition d on d.id = v.definition_id join fleet_devicetype t on t.id = d.type_id"
            " where v.id = %s",
            (version,),
        ).fetchone()
        if row is None:
            return
        definition, kind, type_id, key, text, fields, setpoints = row
        if kind == "decoder":
            self._source(connection, version)
            self.types[key] = type_id
            self.live[type_id] = version
            self.first.pop(type_id, None)
            # A decoder that hands on to others holds their plans: it is made anew when one of them changes.
            self.plans = {v: plan for v, plan in self.plans.items() if not hands_on(self.sources[v].text)}
        else:
            rule = condition_plan(text, key, fields, setpoints)
            if rule is not None:
                self.conditions[definition] = Condition(definition, version, type_id, rule)

    def _source(self, connection: psycopg.Connection, version: int) -> bool:
        """Has the text of a decoder's version at hand, which never changes; False if there is none."""
        if version not in self.sources:
            row = connection.execute(
                "select v.text, v.fields, d.type_id, v.person_id is null and v.why = %s from definitions_version v"
                " join definitions_definition d on d.id = v.definition_id where v.id = %s",
                (MADE, version),
            ).fetchone()
            if row is None:
                return False
            self.sources[version] = Source(*row)
        return True

    def _give_first(self, connection: psycopg.Connection, body: dict[str, Any]) -> None:
        if body["version"] is None:
            self.first.pop(body["type"], None)
        elif self._source(connection, body["version"]):
            self.first[body["type"]] = (body["version"], Selection.of(body))

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
        return hashlib.sha256(repr((self.live.get(type_id), self.first.get(type_id), held)).encode()).hexdigest()[:16]

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

    def limit(self, device_id: int, name: str) -> float | None:
        """A setpoint's value in force: the device's, else its nearest site's, else the type's."""
        device = self.devices.get(device_id)
        if device is None:
            return None
        found = self.limits.get((device.type_id, name, "device", device_id))
        for site in above(device.site_id, self.parents) if found is None else ():
            found = self.limits.get((device.type_id, name, "site", site))
            if found is not None:
                break
        return found if found is not None else self.limits.get((device.type_id, name, "type", 0))

    def selects(self, condition: Condition, device_id: int) -> bool:
        """Whether the condition watches the device: its type and its labels."""
        device = self.devices.get(device_id)
        if device is None or device.type_id != condition.type_id:
            return False
        return matches(device.labels, condition.plan.labels)


def matches(labels: dict[str, str], wanted: tuple[tuple[str, str, str], ...]) -> bool:
    return all((labels.get(name) == text) == (sign == "=") for name, sign, text in wanted)
