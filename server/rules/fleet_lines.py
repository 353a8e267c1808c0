"""Many devices at once: lines of text that say what each is to be, held against what it is, and written together."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from math import isfinite, nan
from typing import Any

from django.db.models import F

from oculum.language.routes.check import SITE
from server.records.definitions.models import Hold
from server.records.fleet.models import Device, DeviceType, Setpoint, Site
from server.records.people.models import Person
from server.rules.publishing import hold
from server.rules.refusal import Refused
from server.rules.registering import registry_changed, set_setpoint

HEAD = ["device", "title", "type", "site", "gateway", "phase", "cadence_s", "latitude", "longitude"]
HEAD += ["labels", "setpoints"]  # several in a cell each
NUMBERS = ("cadence_s", "latitude", "longitude")
MOST = 5_000
PART = re.compile(r"((?:[^;\\]|\\.)*)(?:;|$)")


@dataclass
class Line:
    """One device: what it is now (None where it is not there yet), what it is to be, and why it cannot be that."""

    number: int
    name: str
    before: dict[str, Any] | None = None
    after: dict[str, Any] = field(default_factory=dict)
    why: str | None = None

    @property
    def changed(self) -> list[str]:
        """The columns that differ."""
        return [name for name, value in self.after.items() if self.before is None or self.before[name] != value]

    @property
    def becomes(self) -> str:
        if self.why:
            return "refused"
        return "created" if self.before is None else "changed" if self.changed else "unchanged"

    @property
    def says(self) -> str:
        if self.why:
            return self.why
        told = []
        for name in self.changed:
            was = self.before[name] if self.before is not None else None
            if name in _TOLD:
                told += _TOLD[name](was or {}, self.after[name])
            else:
                told.append(f"{name} {_of(was, self, name)}")
        return ", ".join(told)


def _of(was: Any, line: Line, name: str) -> str:
    now = line.after[name]
    shown = "none" if now is None else str(now)
    return shown if line.before is None else f"{'none' if was is None else was} → {shown}"


def _labels_told(was: Mapping[str, str], now: Mapping[str, str]) -> list[str]:
    told = [
        f"label {k} {was[k]} → {now[k]}" if k in was else f"label {k} {now[k]}" for k in now if was.get(k) != now[k]
    ]
    return told + [f"label {k} taken off" for k in was if k not in now]


def _setpoints_told(was: Mapping[str, float], now: Mapping[str, float]) -> list[str]:
    told = [f"{name} {was[name]:g} → {now[name]:g}" for name in now if name in was and was[name] != now[name]]
    told += [f"{name} {now[name]:g} of its own" for name in now if name not in was]
    return told + [f"{name} no more of its own" for name in was if name not in now]


_TOLD: dict[str, Callable[[Any, Any], list[str]]] = {"labels": _labels_told, "setpoints": _setpoints_told}


class Fleet:
    """Everything that lines are held against, read once."""

    def __init__(self) -> None:
        self.types = {t.key: t for t in DeviceType.objects.all()}
        self.sites = {s.name: s for s in Site.objects.all()}
        self.devices = {d.name: d for d in Device.objects.select_related("type", "site", "gateway")}
        self.setpoints: dict[int, dict[str, float]] = {}  # own ones, by device, of the type that it is
        own = Setpoint.objects.filter(device__isnull=False, type=F("device__type"))
        for device, name, value in own.values_list("device_id", "name", "value"):
            self.setpoints.setdefault(device, {})[name] = value

    def told(self, device: Device) -> dict[str, Any]:
        return {
            "title": device.title,
            "type": device.type.key,
            "site": device.site.name if device.site else None,
            "gateway": device.gateway.name if device.gateway else None,
            "phase": device.phase,
            "cadence_s": device.cadence_s,
            "latitude": device.latitude,
            "longitude": device.longitude,
            "labels": device.labels,
            "setpoints": self.setpoints.get(device.pk, {}),
        }

    def ring(self, lines: Sequence[Line]) -> set[str]:
        """Devices that would speak through themselves."""
        through = {d.name: d.gateway.name if d.gateway else None for d in self.devices.values()}
        through |= {line.name: line.after["gateway"] for line in lines if "gateway" in line.after and not line.why}
        found = set()
        for name in [line.name for line in lines]:
            seen, at = {name}, through.get(name)
            while at is not None and at not in seen:
                seen.add(at)
                at = through.get(at)
            if at == name:
                found.add(name)
        return found


# as text ------------------------------------------------------------------------------------
def written(rows: Iterable[tuple[str, Mapping[str, Any]]]) -> str:
    """Devices by name as lines that give the same again."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEAD)
    for name, one in rows:
        cells = [_cell(one[column]) for column in HEAD[1:-2]]
        setpoints = {key: repr(value) for key, value in one["setpoints"].items()}
        writer.writerow([name, *cells, labels_text(one["labels"]), labels_text(setpoints)])
    return out.getvalue()


def _cell(value: Any) -> str:
    return "" if value is None else f"{value:.12g}" if isinstance(value, float) else str(value)


def labels_text(labels: Mapping[str, str]) -> str:
    return ";".join(re.sub(r"([;\\])", r"\\\1", f"{name}={text}") for name, text in sorted(labels.items()))


def read_setpoints(text: str) -> dict[str, float]:
    """Raises ValueError."""
    found: dict[str, float] = {}
    try:
        told = read_labels(text)
    except ValueError:
        raise ValueError(f"setpoints: found `{text[:40]}`, expected `name=number;name=number`") from None
    for name, value in told.items():
        try:
            found[name] = float(value)
        except ValueError:
            found[name] = nan
        if not isfinite(found[name]):
            raise ValueError(f"setpoints: found `{value[:40]}` for {name[:40]}, expected a number")
    return found


def read_labels(text: str) -> dict[str, str]:
    """Raises ValueError."""
    found: dict[str, str] = {}
    for part in (re.sub(r"\\(.)", r"\1", m[1]).strip() for m in PART.finditer(text)):
        if not part:
            continue
        name, sign, value = part.partition("=")
        if not sign or not name.strip():
            raise ValueError(f"labels: found `{part[:40]}`, expected `key=value;key=value`")
        found[name.strip()] = value.strip()
    return found


def read(text: str, fleet: Fleet) -> list[Line]:
    """The lines of a file, each with what it asks. Columns that are not there stay as they are. Raises Refused."""
    rows = list(csv.reader(io.StringIO(text.removeprefix("\ufeff"))))
    head = [cell.strip() for cell in rows[0]] if rows else []
    strange = next((name for name in head if name not in HEAD), None)
    if "device" not in head or strange is not None:
        found = strange if strange is not None else ",".join(head)
        raise Refused("invalid", f"line 1: found `{found[:60]}`, expected columns among {', '.join(HEAD)}")
    if len(head) != len(set(head)):
        raise Refused("invalid", "line 1: a column stands twice")
    lines: list[Line] = []
    for number, row in enumerate(rows[1:], start=2):
        if not any(cell.strip() for cell in row):
            continue
        if len(lines) >= MOST:
            raise Refused("too many", f"a file has at most {MOST:,} devices")
        cells = dict(zip(head, [*(cell.strip() for cell in row), *[""] * len(head)], strict=False))
        name = cells.pop("device")
        line = Line(number, name[:63])
        lines.append(line)
        if len(row) > len(head):
            line.why = f"found {len(row)} cells, expected {len(head)}"
            continue
        try:
            asked = {column: _value(column, cell) for column, cell in cells.items()}
        except ValueError as error:
            line.why = str(error)
            continue
        ask(line, asked, fleet)
    return lines


def _value(column: str, cell: str) -> Any:
    if column == "labels":
        return read_labels(cell)
    if column == "setpoints":
        return read_setpoints(cell)
    if column not in NUMBERS or not cell:
        return cell or None
    try:
        return int(cell) if column == "cadence_s" else float(cell)
    except ValueError:
        words = "a whole number of seconds" if column == "cadence_s" else "a number of degrees"
        raise ValueError(f"{column}: found `{cell[:40]}`, expected {words}") from None


def ask(line: Line, asked: Mapping[str, Any], fleet: Fleet) -> None:
    """Takes into a line what is asked of its device."""
    device = fleet.devices.get(line.name)
    if device is not None:
        line.before = fleet.told(device)
        line.after = {name: value for name, value in asked.items() if value is not None or name in _MAY_BE_NONE}
        if device.type.key == SITE or line.after.get("type") == SITE:
            line.why = "it stands for a site, and is as the site is"
        return
    blank: dict[str, Any] = {"title": line.name, "type": None, "site": None, "gateway": None, "phase": "in service"}
    blank |= {"cadence_s": None, "latitude": None, "longitude": None, "labels": {}, "setpoints": {}}
    line.after = blank | {name: value for name, value in asked.items() if value is not None}


_MAY_BE_NONE = ("site", "gateway", "cadence_s", "latitude", "longitude")


# written to the register ------------------------------------------------------------------------
def keep(lines: Sequence[Line], fleet: Fleet, person: Person | None) -> None:
    """Makes sound lines true, all at one place in the stream. Their devices are locked by whoever calls."""
    fresh = [line for line in lines if line.becomes == "created"]
    made = {line.name: Device(name=line.name, **_values(line.after, fleet, gateway=False)) for line in fresh}
    Device.objects.bulk_create(made.values(), batch_size=500)
    fleet.devices |= {device.name: device for device in Device.objects.filter(name__in=made)}
    changed: list[Device] = []
    moved: list[Device] = []
    for line in lines:
        if line.becomes not in ("created", "changed"):
            continue
        device = fleet.devices[line.name]
        before = device.type_id
        for name, value in _values(line.after, fleet).items():
            setattr(device, name, value)
        device.revision += line.name not in made
        changed.append(device)
        if device.type_id != before:
            moved.append(device)
    Device.objects.bulk_update(changed, [*HEAD[1:-1], "revision"], batch_size=500)
    for one in Hold.objects.filter(device__in=moved).select_related("device"):
        hold(one.device, None, "it is of another type now", person)
    if changed:
        registry_changed(person, accounts=True)
    for line in lines:
        if line.becomes in ("created", "changed") and "setpoints" in line.changed:
            _set(fleet.devices[line.name], (line.before or {}).get("setpoints", {}), line.after["setpoints"], person)


def _set(device: Device, before: Mapping[str, float], after: Mapping[str, float], person: Person | None) -> None:
    for name in sorted({*before, *after}):
        if before.get(name) != after.get(name):
            set_setpoint(device.type, name, after.get(name), person, device=device.pk)


def _values(after: Mapping[str, Any], fleet: Fleet, gateway: bool = True) -> dict[str, Any]:
    found = {name: value for name, value in after.items() if name != "setpoints"}
    if "type" in found:
        found["type"] = fleet.types[found["type"]]
    if "site" in found:
        found["site"] = fleet.sites[found["site"]] if found["site"] else None
    if "gateway" in found:
        own = found.pop("gateway")
        if gateway:
            found["gateway"] = fleet.devices[own] if own else None
    return found
