"""Playing a folder: the pipeline under a clock that arrivals drive."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from ..alarms.bank import Transition
from ..alarms.room import Room
from ..batches import PRESENT, Column, Group, Payloads
from ..history.fleet import Fleet
from ..language.fields import FieldSpec
from ..pipeline import FUTURE_US, Effects, Lot, decode_batch, evaluated
from .folder import Folder, Message

PORTION = 20_000
WORDS = {"raised": "raised", "cleared": "cleared", "priority_changed": "priority_changed", "suppressed": "suppressed"}


@dataclass(frozen=True)
class Told:
    """One transition as a line says it."""

    subject: str
    on_site: bool
    condition: str
    what: str
    priority: str
    at: str
    value: Any

    def as_dict(self) -> dict[str, Any]:
        return {
            "site" if self.on_site else "device": self.subject,
            "condition": self.condition,
            "what": self.what,
            "priority": self.priority,
            "at": self.at,
            "value": self.value,
        }


def written(us: int) -> str:
    """A moment as RFC 3339, in UTC."""
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=us)
    text = moment.strftime("%Y-%m-%dT%H:%M:%S")
    return text + (f".{moment.microsecond:06d}".rstrip("0") if moment.microsecond else "") + "Z"


def play(folder: Folder, since: int | None = None, until: int | None = None) -> Iterator[Told]:
    """The transitions, in the order in which they happen.

    since: what is told begins here; what came before is played all the same, so that windows and delays are as they
    would be. until: what arrives later is left out, and the clock goes on up to here; else up to the last arrival.
    """
    messages = [m for m in folder.messages if until is None or m.received <= until]
    world = folder.world
    moments = [m.received for m in messages] + [d.registered for d in world.devices.values()]
    room = Room(world, min(moments, default=0) - 1)
    for watched in folder.conditions:
        room.watch(watched)
    end = until if until is not None else max((m.received for m in messages), default=0)
    newest = Fleet()
    ticks = [*room.ticks(end + 1), end]
    start = 0
    for tick in dict.fromkeys(ticks):
        stop = start
        while stop < len(messages) and messages[stop].received <= tick:
            stop += 1
        while start < stop or start == stop:
            portion = messages[start : min(start + PORTION, stop)]
            last = start + len(portion) >= stop
            for one in _step(folder, room, portion, newest, tick + 1 if last else portion[-1].received):
                if since is None or one.at >= since:
                    yield told(folder, one)
            start += len(portion)
            if last:
                break
        start = stop


def told(folder: Folder, one: Transition) -> Told:
    world = folder.world
    subject = world.sites[one.subject].name if one.on_site else world.devices[one.subject].name
    watched = next(w for w in folder.conditions if w.key == one.key)
    return Told(subject, one.on_site, watched.plan.name, one.what, one.priority, written(one.at), one.cause.value)


def _step(folder: Folder, room: Room, messages: list[Message], newest: Fleet, until: int) -> list[Transition]:
    device = np.array([m.device for m in messages], np.int64)
    arrival = np.array([m.received for m in messages], np.int64)
    ids = np.array([m.line for m in messages], np.int64)
    by_type: dict[int, list[Group]] = {}
    for key, number in folder.types.items():
        rows = [i for i, m in enumerate(messages) if folder.world.devices[m.device].type == number]
        groups = _given(folder, key, messages, rows)
        decoder = folder.decoders.get(key)
        own = [i for i in rows if messages[i].payload is not None]
        if decoder is not None and own:
            groups += _decoded(messages, Lot(decoder, _payloads(messages, own), np.array(own, np.int64)))
        if groups:
            by_type[number] = groups
    effects = evaluated(Effects(), by_type, device, arrival, ids, newest, room, until)
    effects.settle(newest)
    return effects.transitions


def _payloads(messages: list[Message], rows: list[int]) -> Payloads:
    return Payloads.of(
        [messages[i].payload or b"" for i in rows],
        np.array([messages[i].received for i in rows], np.int64),
        [messages[i].headers for i in rows],
    )


def _decoded(messages: list[Message], lot: Lot) -> list[Group]:
    found = decode_batch(lot.plan, lot.payloads, 0)
    device = np.array([m.device for m in messages], np.int64)
    return [
        Group(g.fields, lot.index[g.rows], g.at, g.columns, None, device[lot.index[g.rows]])
        for g in found.groups
        if g.device is None
    ]


def _given(folder: Folder, key: str, messages: list[Message], rows: list[int]) -> list[Group]:
    """Readings of a table as a decoder would give them; one measured far ahead of its arrival is refused."""
    cells: dict[tuple[int, int], dict[str, Any]] = {}
    for i in rows:
        for measured, name, value in messages[i].readings:
            if measured <= messages[i].received + FUTURE_US:
                cells.setdefault((i, measured), {})[name] = value
    if not cells:
        return []
    places = list(cells)
    specs: dict[str, FieldSpec] = dict(folder.fields[key])
    for name, spec in folder.fields[key].items():
        if spec.kind == "position":
            specs.setdefault(f"{name}_accuracy", FieldSpec(f"{name}_accuracy", "number", "m"))
    columns = {name: _column(spec, [cells[p] for p in places]) for name, spec in specs.items()}
    at = np.array([measured for _, measured in places], np.int64)
    rows_of = np.array([i for i, _ in places], np.int64)
    owner = np.array([messages[i].device for i, _ in places], np.int64)
    return [Group(tuple(specs.values()), rows_of, at, columns, None, owner)]


def _column(spec: FieldSpec, cells: list[dict[str, Any]]) -> Column:
    state = np.array([0 if spec.name not in c else 2 if c[spec.name] is None else PRESENT for c in cells], np.int16)
    found = [c.get(spec.name) for c in cells]
    values: np.ndarray
    if spec.kind == "position":
        values = np.array([v if v is not None else (0.0, 0.0) for v in found], float).reshape(-1, 2)
    elif spec.kind == "text" or any(isinstance(v, int) and abs(v) > 2**53 for v in found if spec.kind == "integer"):
        values = np.empty(len(found), object)
        values[:] = [v if v is not None else ("" if spec.kind == "text" else 0) for v in found]
    elif spec.kind == "time":
        values = np.array([v if v is not None else 0 for v in found], np.int64)
    else:
        values = np.array([float(v) if v is not None else 0.0 for v in found], float)
    return Column(values, state)


def _key(one: Mapping[str, Any]) -> tuple[str, ...]:
    return (
        str(one.get("at")),
        str(one.get("device") or one.get("site")),
        str(one.get("condition")),
        str(one.get("what")),
    )


def differences(found: Iterable[Mapping[str, Any]], expected: Iterable[Mapping[str, Any]]) -> list[str]:
    """What is otherwise than expected, a line each: `+` for what came, `-` for what did not. A line of `expected` that
    says less than a transition has (no value, say) is content with what it says.
    """
    left = sorted(found, key=_key)
    lines = []
    for wanted in sorted(expected, key=_key):
        hit = next((i for i, one in enumerate(left) if all(_same(one.get(k), v) for k, v in wanted.items())), None)
        if hit is None:
            near = next((one for one in left if _key(one)[1:] == _key(wanted)[1:]), None)
            hint = f"  (there is one at {near['at']}, value {near['value']})" if near is not None else ""
            lines.append(f"- {_shown(wanted)}{hint}")
        else:
            del left[hit]
    return lines + [f"+ {_shown(one)}" for one in left]


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, int | float) and isinstance(b, int | float) and not isinstance(a, bool):
        return abs(a - b) <= 1e-9 * max(abs(a), abs(b), 1.0)
    return bool(a == b)


def _shown(one: Mapping[str, Any]) -> str:
    subject = one.get("device") or f"site {one.get('site')}"
    value = f", value {one['value']}" if one.get("value") is not None else ""
    priority = f" ({one['priority']})" if one.get("priority") else ""
    return f"{one.get('at')}  {subject}  “{one.get('condition')}” {one.get('what')}{priority}{value}"
