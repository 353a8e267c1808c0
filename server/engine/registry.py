"""What the engine goes by: devices, definitions in force, limits, each as of its place in the stream."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import psycopg

from oculum.language.plan import ConditionPlan, DecoderPlan
from server.definitions.plans import condition_plan, decoder_plan, hands_on


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


@dataclass
class Registry:
    """Decoders by device type, conditions by definition, limits by type and name."""

    devices: dict[int, DeviceRow] = field(default_factory=dict)
    parents: dict[int, int | None] = field(default_factory=dict)
    site_titles: dict[int, str] = field(default_factory=dict)
    decoders: dict[int, Decoder] = field(default_factory=dict)
    conditions: dict[int, Condition] = field(default_factory=dict)
    limits: dict[tuple[int, str, str, int], float] = field(default_factory=dict)  # type, name, scope, id
    names: dict[str, int] = field(default_factory=dict)
    types_behind: dict[int, set[int]] = field(default_factory=dict)  # gateway -> types of the devices assigned to it
    texts: dict[str, tuple[int, int, str, list[dict[str, Any]]]] = field(default_factory=dict)  # key -> version, type, text, fields
    constants: dict[int, dict[str, list[tuple[int, Any]]]] = field(default_factory=dict)

    def load_devices(self, connection: psycopg.Connection) -> None:
        rows = connection.execute("select id, name, title, type_id, site_id, labels, gateway_id from fleet_device").fetchall()
        self.devices = {r[0]: DeviceRow(*r) for r in rows}
        self.names = {r[1]: r[0] for r in rows}
        self.types_behind = {}
        for device in self.devices.values():
            if device.gateway_id is not None:
                self.types_behind.setdefault(device.gateway_id, set()).add(device.type_id)
        self.constants = {}
        for owner, name, value, valid_from in connection.execute(
            "select device_id, name, value, (extract(epoch from valid_from) * 1000000)::bigint from fleet_constant order by device_id, name, valid_from"
        ).fetchall():
            self.constants.setdefault(owner, {}).setdefault(name, []).append((int(valid_from), value))
        sites = connection.execute("select id, parent_id, title from fleet_site").fetchall()
        self.parents = {r[0]: r[1] for r in sites}
        self.site_titles = {r[0]: r[2] for r in sites}

    def apply(self, connection: psycopg.Connection, kind: str, body: dict[str, Any]) -> None:
        """One event of the stream takes effect."""
        if kind == "publish":
            self._publish(connection, body["version"])
        elif kind == "retire":
            self.conditions.pop(body["definition"], None)
            self.decoders = {t: d for t, d in self.decoders.items() if d.version_id not in body.get("versions", [])}
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
            " join definitions_definition d on d.id = v.definition_id join fleet_devicetype t on t.id = d.type_id where v.id = %s",
            (version,),
        ).fetchone()
        if row is None:
            return
        definition, kind, type_id, key, text, fields, setpoints = row
        if kind == "decoder":
            self.texts[key] = (version, type_id, text, fields)
            # a decoder that hands on to others holds their plans: it is made anew when one of them changes
            for other, (number, owner, own_text, own_fields) in self.texts.items():
                if other == key or hands_on(own_text):
                    plan = decoder_plan(own_text, own_fields, self.other)
                    if plan is not None:
                        self.decoders[owner] = Decoder(number, plan)
        else:
            rule = condition_plan(text, key, fields, setpoints)
            if rule is not None:
                self.conditions[definition] = Condition(definition, version, type_id, rule)

    def other(self, key: str) -> DecoderPlan | None:
        """The decoder in force of another type, for one that hands on to it."""
        found = self.texts.get(key)
        return decoder_plan(found[2], found[3]) if found is not None else None

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
        site = device.site_id
        while found is None and site is not None:
            found = self.limits.get((device.type_id, name, "site", site))
            site = self.parents.get(site)
        return found if found is not None else self.limits.get((device.type_id, name, "type", 0))

    def selects(self, condition: Condition, device_id: int) -> bool:
        """Whether the condition watches the device: its type and its labels."""
        device = self.devices.get(device_id)
        if device is None or device.type_id != condition.type_id:
            return False
        return matches(device.labels, condition.plan.labels)


def matches(labels: dict[str, str], wanted: tuple[tuple[str, str, str], ...]) -> bool:
    return all((labels.get(name) == text) == (sign == "=") for name, sign, text in wanted)
