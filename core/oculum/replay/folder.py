"""A folder of files as a world: types, sites, devices, limits, fences, definitions, and what arrived."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from zoneinfo import ZoneInfo

from ..alarms.watched import Watched
from ..language.conditions import check_condition
from ..language.decoders import check_decoder
from ..language.decoders.plan import DecoderPlan
from ..language.definitions import kind_of
from ..language.fields import FieldSpec
from ..language.kinds import Surroundings
from ..language.problems import DefinitionError, Problem
from ..language.routes import ROUTE
from ..language.routes.check import SITE
from ..quantities import UnitError, convert, parse_unit
from ..register.fences import area_of
from ..register.world import DEVICE, TYPE, Device, Site, World
from ..register.world import SITE as OF_SITE
from ..routing import reference
from ..routing.reference import Read
from ..routing.routed import InForce
from .tables import Cell, FileError, lines

KINDS = ("number", "integer", "flag", "code", "text", "position", "time")
COLUMNS = {
    "types.csv": (("type",), ("type", "cadence_s", "gateway")),
    "fields.csv": (("type", "field", "kind"), ("type", "field", "kind", "unit", "missing")),
    "sites.csv": (("site",), ("site", "parent", "zone")),
    "devices.csv": (
        ("device", "type"),
        (
            "device",
            "type",
            "site",
            "gateway",
            "labels",
            "cadence_s",
            "home_lat",
            "home_lon",
            "registered_at",
        ),
    ),
    "setpoints.csv": (("scope", "of", "setpoint", "value"), ("scope", "of", "setpoint", "value", "unit")),
    "readings.csv": (
        ("device", "field", "measured_at", "received_at"),
        ("device", "field", "measured_at", "received_at", "value", "lat", "lon", "accuracy_m"),
    ),
    "downtime.csv": (("start", "end"), ("start", "end")),
}


@dataclass
class Message:
    """One arrival. readings: measured time and field to value (None for missing), or a payload with its headers."""

    device: int
    received: int
    line: int
    readings: list[tuple[int, str, Any]] = field(default_factory=list)
    payload: bytes | None = None
    headers: dict[str, str] = field(default_factory=dict)


@dataclass
class Folder:
    """All of it, checked. remarks: what was read, yet is worth a word."""

    world: World = field(default_factory=World)
    types: dict[str, int] = field(default_factory=dict)
    fields: dict[str, dict[str, FieldSpec]] = field(default_factory=dict)
    missing: dict[tuple[str, str], set[str]] = field(default_factory=dict)
    units: dict[str, dict[str, str]] = field(default_factory=dict)  # setpoints of types
    devices: dict[str, int] = field(default_factory=dict)
    sites: dict[str, int] = field(default_factory=dict)
    decoders: dict[str, DecoderPlan] = field(default_factory=dict)
    conditions: list[Watched] = field(default_factory=list)
    routes: list[InForce] = field(default_factory=list)  # in the order of their files
    tables: dict[str, Read] = field(default_factory=dict)
    messages: list[Message] = field(default_factory=list)
    problems: list[tuple[str, Problem]] = field(default_factory=list)

    def type_of(self, device: int) -> str:
        number = self.world.devices[device].type
        return next(key for key, own in self.types.items() if own == number)


def read_folder(files: Mapping[str, str]) -> Folder:
    """A world out of the texts of files, by name. Raises FileError.

    Faulty definitions are told in `problems`; with an error among them the folder cannot be played.
    """
    found = Folder()
    _types(found, files)
    _sites(found, files)
    _devices(found, files)
    _fences(found, files)
    _decoders(found, files)
    _setpoints(found, files)
    _downtime(found, files)
    _readings(found, files)
    _payloads(found, files)
    _routes(found, files)
    _conditions(found, files)
    found.messages.sort(key=lambda m: m.received)
    _registered(found)
    return found


def _table(files: Mapping[str, str], name: str) -> Any:
    needed, known = COLUMNS[name]
    return lines(name, files[name], needed, known) if name in files else ()


def _cadence(cell: Cell) -> int:
    if not cell:
        return 0
    seconds = cell.number()
    if seconds <= 0:
        raise cell.fail("seconds above 0")
    return round(seconds * 1e6)


def _types(found: Folder, files: Mapping[str, str]) -> None:
    for row in _table(files, "types.csv"):
        key = row["type"].word()
        if key in found.types:
            raise row["type"].fail("a type that stands here once")
        row["gateway"].flag()
        found.types[key] = len(found.types) + 1
        found.fields[key], found.units[key] = {}, {}
        cadence = _cadence(row["cadence_s"])
        if cadence:
            found.world.cadences[found.types[key]] = cadence
    for row in _table(files, "fields.csv"):
        own = _type(found, row["type"])
        name, kind, unit = row["field"].word(), row["kind"].word(), row["unit"].text or None
        if kind not in KINDS:
            raise row["kind"].fail(f"one of {', '.join(KINDS)}")
        if unit is not None:
            try:
                parse_unit(unit)
            except UnitError as error:
                raise row["unit"].fail(f"a UCUM code ({error})") from None
        if name in found.fields[own]:
            raise row["field"].fail("a field that the type has once")
        found.fields[own][name] = FieldSpec(name, kind, unit)  # type: ignore[arg-type]
        found.missing[own, name] = {m.strip() for m in row["missing"].text.split(";") if m.strip()}


def _type(found: Folder, cell: Cell) -> str:
    if cell.word() not in found.types:
        raise cell.fail(f"a type of types.csv: {', '.join(found.types) or 'there is none'}")
    return cell.text


def _sites(found: Folder, files: Mapping[str, str]) -> None:
    rows = list(_table(files, "sites.csv"))
    for row in rows:
        if row["site"].word() in found.sites:
            raise row["site"].fail("a site that stands here once")
        found.sites[row["site"].text] = len(found.sites) + 1
    for row in rows:
        parent, zone = row["parent"], row["zone"].text
        if parent and parent.text not in found.sites:
            raise parent.fail("a site of this table")
        try:
            ZoneInfo(zone or "UTC")
        except (ValueError, OSError, KeyError):
            raise row["zone"].fail("a time zone such as Etc/GMT-2") from None
        ident = found.sites[row["site"].text]
        found.world.sites[ident] = Site(ident, row["site"].text, found.sites.get(parent.text), zone)
    for ident, site in list(found.world.sites.items()):
        if not site.zone:
            zone = next((s.zone for s in found.world.above(ident) if s.zone), "UTC")
            found.world.sites[ident] = replace(site, zone=zone)


def _devices(found: Folder, files: Mapping[str, str]) -> None:
    rows = list(_table(files, "devices.csv"))
    for row in rows:
        if row["device"].word() in found.devices:
            raise row["device"].fail("a device that stands here once")
        found.devices[row["device"].text] = len(found.devices) + 1
    for row in rows:
        ident = found.devices[row["device"].text]
        own = found.types[_type(found, row["type"])]
        site, gateway = row["site"], row["gateway"]
        if site and site.text not in found.sites:
            raise site.fail("a site of sites.csv")
        if gateway and gateway.text not in found.devices:
            raise gateway.fail("a device of this table")
        labels = {}
        for part in filter(None, (p.strip() for p in row["labels"].text.split(";"))):
            name, sign, text = part.partition("=")
            if not sign or not name:
                raise row["labels"].fail("labels as `key=value;key=value`")
            labels[name.strip()] = text.strip()
        home = None
        if row["home_lat"] or row["home_lon"]:
            home = _position(row["home_lat"], row["home_lon"])
        registered = row["registered_at"].time() if row["registered_at"] else -1
        found.world.devices[ident] = Device(
            ident,
            row["device"].text,
            own,
            found.sites.get(site.text),
            labels,
            found.devices.get(gateway.text),
            _cadence(row["cadence_s"]),
            registered,
            home,
        )


def _registered(found: Folder) -> None:
    """A device without a moment of registration is there from the first arrival on."""
    first = min((m.received for m in found.messages), default=0)
    for ident, device in found.world.devices.items():
        if device.registered < 0:
            found.world.devices[ident] = replace(device, registered=first)


def _position(lat: Cell, lon: Cell) -> tuple[float, float]:
    north, east = lat.number(), lon.number()
    if not -90 <= north <= 90:
        raise lat.fail("a latitude from -90 to 90")
    if not -180 <= east <= 180:
        raise lon.fail("a longitude from -180 to 180")
    return north, east


def _fences(found: Folder, files: Mapping[str, str]) -> None:
    name = "fences.geojson"
    if name not in files:
        return
    try:
        body = json.loads(files[name])
    except ValueError as error:
        raise FileError(name, getattr(error, "lineno", 1), "", f"this is no JSON: {error}") from None
    features = body.get("features") if isinstance(body, dict) else None
    if not isinstance(features, list):
        raise FileError(name, 1, "", "expected a FeatureCollection with `features`")
    for number, feature in enumerate(features, 1):
        try:
            found.world.fences[feature["properties"]["name"]] = area_of(feature)
        except (KeyError, TypeError, ValueError, IndexError) as error:
            raise FileError(name, 1, "", f"feature {number}: {error}") from None


def _decoders(found: Folder, files: Mapping[str, str]) -> None:
    texts = {name: text for name, text in sorted(files.items()) if name.endswith(".ocu") and _kind(text) == "decoder"}

    def other(key: str) -> DecoderPlan | None:
        text = texts.get(f"{key}.ocu")
        return check_decoder(text)[0] if text is not None else None

    for name, text in texts.items():
        plan, problems = check_decoder(text, others=other)
        found.problems += [(name, p) for p in problems]
        if plan is None:
            continue
        found.decoders[plan.name] = plan
        if plan.name in found.types:
            own = found.fields[plan.name]
            for spec in plan.all_fields:
                own.setdefault(spec.name, spec)


def _kind(text: str) -> str:
    try:
        return kind_of(text).name
    except DefinitionError:
        return ""


def _setpoints(found: Folder, files: Mapping[str, str]) -> None:
    for row in _table(files, "setpoints.csv"):
        scope, of, name = row["scope"].word(), row["of"], row["setpoint"].word()
        value, unit = row["value"].number(), row["unit"].text or "1"
        try:
            given = parse_unit(unit)
        except UnitError as error:
            raise row["unit"].fail(f"a UCUM code ({error})") from None
        if scope == TYPE:
            targets = [(_type(found, of), TYPE, 0)]
        elif scope == DEVICE:
            if of.word() not in found.devices:
                raise of.fail("a device of devices.csv")
            ident = found.devices[of.text]
            targets = [(found.type_of(ident), DEVICE, ident)]
        elif scope == OF_SITE:
            if of.word() not in found.sites:
                raise of.fail("a site of sites.csv")
            targets = [(key, OF_SITE, found.sites[of.text]) for key in found.types]
        else:
            raise row["scope"].fail("type, site or device")
        for key, where, ident in targets:
            own = found.units[key].setdefault(name, unit)
            want = parse_unit(own)
            if want.dimension != given.dimension:
                raise row["unit"].fail(f"a unit like that of the setpoint elsewhere, {own}")
            found.world.limits[found.types[key], name, where, ident] = float(convert(value, given, want))


def _downtime(found: Folder, files: Mapping[str, str]) -> None:
    for row in _table(files, "downtime.csv"):
        start, end = row["start"].time(), row["end"].time()
        if end <= start:
            raise row["end"].fail("a time after the start")
        found.world.downtime.append((start, end))
    found.world.downtime.sort()


def _readings(found: Folder, files: Mapping[str, str]) -> None:
    by_key: dict[tuple[int, int, int], Message] = {}
    codes: dict[tuple[str, str], dict[str, int]] = {}
    for row in _table(files, "readings.csv"):
        if row["device"].word() not in found.devices:
            raise row["device"].fail("a device of devices.csv")
        device = found.devices[row["device"].text]
        key = found.type_of(device)
        name = row["field"].word()
        spec = found.fields[key].get(name)
        if spec is None:
            raise row["field"].fail(f"a field of `{key}`: {', '.join(found.fields[key]) or 'it has none'}")
        measured, received = row["measured_at"].time(), row["received_at"].time()
        message = by_key.setdefault((device, received, measured), Message(device, received, row.number))
        value = _value(found, key, spec, row, codes)
        message.readings.append((measured, name, value))
        if spec.kind == "position" and row["accuracy_m"]:
            message.readings.append((measured, f"{name}_accuracy", row["accuracy_m"].number()))
    for (key, name), texts in codes.items():
        spec = found.fields[key][name]
        found.fields[key][name] = replace(spec, codes=tuple((number, text) for text, number in texts.items()))
    found.messages += by_key.values()


def _value(found: Folder, key: str, spec: FieldSpec, row: Any, codes: dict[tuple[str, str], dict[str, int]]) -> Any:
    """A reading as the pipeline takes it; None where it is missing."""
    if spec.kind == "position":
        if not row["lat"] and not row["lon"]:
            return None
        return _position(row["lat"], row["lon"])
    cell: Cell = row["value"]
    if not cell or cell.text in found.missing.get((key, spec.name), ()):
        return None
    match spec.kind:
        case "number":
            return cell.number()
        case "integer":
            try:
                whole = int(cell.text)
            except ValueError:
                number = cell.number()
                if number != int(number):
                    raise cell.fail("a whole number") from None
                whole = int(number)
            return whole
        case "flag":
            return float(cell.flag())
        case "time":
            return cell.time()
        case "code":
            if spec.codes:
                number_of = {text: number for number, text in spec.codes}
                if cell.text in number_of:
                    return float(number_of[cell.text])
                if cell.text.isdigit():
                    return float(cell.text)
                raise cell.fail(f"one of {', '.join(number_of)}")
            own = codes.setdefault((key, spec.name), {})
            return float(own.setdefault(cell.text, len(own)))
    return cell.text


def _payloads(found: Folder, files: Mapping[str, str]) -> None:
    name = "payloads.jsonl"
    for number, line in enumerate(files.get(name, "").split("\n"), 1):
        if not line.strip():
            continue
        try:
            body = json.loads(line)
        except ValueError as error:
            raise FileError(name, number, "", f"this is no JSON: {error}") from None
        if not isinstance(body, dict):
            raise FileError(name, number, "", "expected an object with `device`, `received_at` and a payload")

        def cell(column: str, body: dict[str, Any] = body, number: int = number) -> Cell:
            found_text = body.get(column)
            return Cell(name, number, column, found_text if isinstance(found_text, str) else "")

        device = cell("device")
        if device.word() not in found.devices:
            raise device.fail("a device of devices.csv")
        if ("payload_hex" in body) == ("payload_text" in body):
            raise FileError(name, number, "", "expected `payload_hex` or `payload_text`, one of them")
        if "payload_hex" in body:
            try:
                payload = bytes.fromhex(cell("payload_hex").text)
            except ValueError:
                raise cell("payload_hex").fail("bytes as hexadecimal digits") from None
        else:
            payload = str(body["payload_text"]).encode()
        headers = body.get("headers") or {}
        if not isinstance(headers, dict):
            raise FileError(name, number, "headers", "expected an object of texts")
        ident = found.devices[device.text]
        found.messages.append(
            Message(
                ident,
                cell("received_at").time(),
                number,
                payload=payload,
                headers={str(k): str(v) for k, v in headers.items()},
            )
        )


TABLE = "table "  # what the name of a reference table's file begins with


def _routes(found: Folder, files: Mapping[str, str]) -> None:
    """Routes in the order of their files; what they derive are fields of their types from there on."""
    for name, text in sorted(files.items()):
        if name.startswith(TABLE) and name.endswith(".csv"):
            try:
                table = reference.read(text)
            except reference.TableError as error:
                raise FileError(name, 1, "", str(error)) from None
            if table.refused:
                raise FileError(name, table.refused[0]["line"], "", table.refused[0]["why"])
            found.tables[name.removeprefix(TABLE).removesuffix(".csv")] = table
    columns = {name: tuple(map(FieldSpec.from_dict, table.columns)) for name, table in found.tables.items()}
    for name, text in sorted(files.items()):
        if not name.endswith(".ocu") or _kind(text) != ROUTE.name:
            continue
        around = Surroundings(
            found.fields, found.units, fences=set(found.world.fences), sites=set(found.sites), tables=columns
        )
        plan, problems = ROUTE.check(text, around)
        found.problems += [(name, p) for p in problems]
        if plan is None:
            continue
        for key in plan.types:
            for spec in plan.derived:
                found.fields[key].setdefault(spec.name, spec)
        if plan.gathered:
            _sites_as_devices(found)
            found.fields[SITE] |= {spec.name: spec for spec in plan.gathered}
        key = len(found.routes) + 1
        found.routes.append(InForce(key, key, tuple(found.types[k] for k in plan.types), plan))


def _sites_as_devices(found: Folder) -> None:
    """Each site as a device of its own, of the type of sites."""
    if SITE not in found.types:
        found.types[SITE] = len(found.types) + 1
        found.fields[SITE], found.units[SITE] = {}, {}
    world, own = found.world, found.types[SITE]
    world.site_type = own
    there = world.own_devices()
    for name, ident in found.sites.items():
        if ident not in there:
            device = found.devices.setdefault(f"site-{name}", len(found.devices) + 1)
            world.devices[device] = Device(device, f"site-{name}", own, ident, registered=-1)


def _conditions(found: Folder, files: Mapping[str, str]) -> None:
    types = {key: (found.fields[key], found.units[key]) for key in found.types}
    for name, text in sorted(files.items()):
        if not name.endswith(".ocu") or _kind(text) in ("decoder", ROUTE.name):
            continue
        plan, problems = check_condition(text, types, set(found.world.fences), set(found.sites))
        found.problems += [(name, p) for p in problems]
        if plan is not None:
            key = len(found.conditions) + 1
            found.conditions.append(Watched(key, key, found.types[plan.device_type], plan))
