"""Playing a folder: the pipeline under a clock that arrivals drive."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from ..alarms.room import Room
from ..alarms.watched import Transition
from ..batches import PRESENT, Column, Decoded, Group, Payloads
from ..history.fleet import Fleet
from ..language.fields import FieldSpec
from ..pipeline import FUTURE_US, Effects, Lot, decode_batch, evaluated, of_types
from ..routing.reference import by_key
from ..routing.routed import FAILED, SEEN, TOOK, Routed, Sent
from ..routing.router import Router
from .folder import Folder, Message

PORTION = 20_000
WORDS = {"raised": "raised", "cleared": "cleared", "priority_changed": "priority_changed", "suppressed": "suppressed"}


@dataclass(frozen=True)
class Passed:
    """One reading that a route sends, as a line says it."""

    device: str
    route: str
    outlet: str
    at: str
    values: dict[str, Any]

    def as_dict(self) -> dict[str, Any]:
        about = {"device": self.device, "route": self.route, "what": "sent"}
        return about | {"outlet": self.outlet, "at": self.at, "values": self.values}


@dataclass
class Counts:
    """What a line of a route did: readings that it saw, took, and could not tell of."""

    seen: int = 0
    took: int = 0
    failed: int = 0


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


def play(
    folder: Folder,
    since: int | None = None,
    until: int | None = None,
    lines: dict[tuple[str, int], Counts] | None = None,
) -> Iterator[Told | Passed]:
    """The transitions and the readings that are sent, in the order in which they happen.

    since: what is told begins here; what came before is played all the same, so that windows and delays are as they
    would be. until: what arrives later is left out, and the clock goes on up to here; else up to the last arrival.
    lines: filled with what each line of a route did, by the route's name and the line.
    """
    messages = [m for m in folder.messages if until is None or m.received <= until]
    world = folder.world
    moments = [m.received for m in messages] + [d.registered for d in world.devices.values()]
    room = Room(world, min(moments, default=0) - 1)
    for watched in folder.conditions:
        room.watch(watched)
    end = until if until is not None else max((m.received for m in messages), default=0)
    newest, router = Fleet(), Router(world)
    router.set(folder.routes)
    router.standing.tables = {n: by_key(t.columns, t.rows) for n, t in folder.tables.items()}  # type: ignore[misc]
    ticks = [*room.ticks(end + 1), end]
    start = 0
    for tick in dict.fromkeys(ticks):
        stop = start
        while stop < len(messages) and messages[stop].received <= tick:
            stop += 1
        while start < stop or start == stop:
            portion = messages[start : min(start + PORTION, stop)]
            last = start + len(portion) >= stop
            effects = _step(folder, room, router, portion, newest, tick + 1 if last else portion[-1].received)
            for sent in effects.routed.sent:
                if since is None or portion[sent.row].received >= since:
                    yield passed(folder, sent)
            for one in effects.transitions:
                if since is None or one.at >= since:
                    yield told(folder, one)
            if lines is not None:
                _count(folder, effects.routed, lines)
            start += len(portion)
            if last:
                break
        start = stop


def told(folder: Folder, one: Transition) -> Told:
    world = folder.world
    subject = world.sites[one.subject].name if one.on_site else world.devices[one.subject].name
    watched = next(w for w in folder.conditions if w.key == one.key)
    return Told(subject, one.on_site, watched.plan.name, one.what, one.priority, written(one.at), one.cause.value)


def passed(folder: Folder, one: Sent) -> Passed:
    route = next(r for r in folder.routes if r.key == one.key)
    values = {name: value for name, (value, _) in one.values.items()}
    return Passed(folder.world.devices[one.device].name, route.plan.name, one.outlet, written(one.at), values)


def _count(folder: Folder, routed: Routed, lines: dict[tuple[str, int], Counts]) -> None:
    names = {route.key: route.plan.name for route in folder.routes}
    for one in routed.counted:
        for (key, _, number), what, readings in one.each():
            own = lines.setdefault((names[key], number), Counts())
            own.seen += len(readings) * (what == SEEN)
            own.took += len(readings) * (what == TOOK)
            own.failed += len(readings) * (what == FAILED)


def _step(folder: Folder, room: Room, router: Router, messages: list[Message], newest: Fleet, until: int) -> Effects:
    device = np.array([m.device for m in messages], np.int64)
    arrival = np.array([m.received for m in messages], np.int64)
    ids = np.array([m.line for m in messages], np.int64)
    decoded: list[Decoded] = []
    for key, number in folder.types.items():
        rows = [i for i, m in enumerate(messages) if folder.world.devices[m.device].type == number]
        groups = _given(folder, key, messages, rows)
        none = np.full(len(messages), -1, np.int32)
        if groups:
            decoded.append(Decoded(groups, [], none, none, ["missing"], np.zeros(len(messages), np.int64)))
        decoder = folder.decoders.get(key)
        own = [i for i in rows if messages[i].payload is not None]
        if decoder is not None and own:
            decoded.append(_decoded(messages, Lot(decoder, _payloads(messages, own), np.array(own, np.int64))))

    def type_of(ident: int) -> int:
        return folder.world.devices[ident].type

    everything = np.arange(len(messages))
    routed = router.route(
        decoded, [everything] * len(decoded), device, arrival, type_of, lambda row: messages[row].headers
    )
    by_type: dict[int, list[Group]] = {}
    for group in (group for batch in decoded for group in batch.groups):
        for number, part in of_types(group, everything, device, type_of):
            by_type.setdefault(number, []).append(part)
    effects = evaluated(Effects(decoded, routed=routed), by_type, device, arrival, ids, newest, room, until)
    effects.settle(newest)
    return effects


def _payloads(messages: list[Message], rows: list[int]) -> Payloads:
    return Payloads.of(
        [messages[i].payload or b"" for i in rows],
        np.array([messages[i].received for i in rows], np.int64),
        [messages[i].headers for i in rows],
    )


def _decoded(messages: list[Message], lot: Lot) -> Decoded:
    """What a decoder reads, its rows those of all messages."""
    found = decode_batch(lot.plan, lot.payloads, 0)
    device = np.array([m.device for m in messages], np.int64)
    found.groups = [
        Group(g.fields, lot.index[g.rows], g.at, g.columns, None, device[lot.index[g.rows]])
        for g in found.groups
        if g.device is None
    ]
    return found


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
        str(one.get("condition") or one.get("route")),
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
            hint = f"  (there is one at {near['at']}, value {near.get('value')})" if near is not None else ""
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
    if "outlet" in one or "route" in one:
        return f"{one.get('at')}  {subject}  “{one.get('route')}” sent to {one.get('outlet')}: {one.get('values')}"
    value = f", value {one['value']}" if one.get("value") is not None else ""
    priority = f" ({one['priority']})" if one.get("priority") else ""
    return f"{one.get('at')}  {subject}  “{one.get('condition')}” {one.get('what')}{priority}{value}"
