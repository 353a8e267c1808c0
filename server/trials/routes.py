"""Routes over the stored past: messages decoded once, and taken through one set of routes or another. Nothing is
written, and nothing is sent.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.batches import FIRST_REASON, Decoded
from oculum.history.events import eras
from oculum.language.routes.plan import Gather, RoutePlan
from oculum.pipeline import decode_batch, owned
from oculum.register.world import Device
from oculum.routing.routed import FAILED, SEEN, TOOK, InForce, Routed
from oculum.routing.router import Router
from oculum.routing.standing import looked_back
from server.records.fleet.models import DeviceType
from server.rules.lots import known_rows, lots_of
from server.rules.registry import Registry
from server.store.messages import FIELDS, Arrived
from server.store.register import register_at
from server.store.times import moment
from server.trials.past import Compared, compare, readings

PORTION = 10_000
MOST_BEFORE = 50_000  # messages before a span that windows look back on
EXAMPLES = 5
NO_TYPE = -1
DRAFT = 0  # the version of a draft, and the definition of one that is not kept


@dataclass
class _Change:
    number: int
    kind: str
    body: dict[str, Any]


class PastRegister:
    """The register as it was at each place of the stream; decoders and routes as they are in force now, or (then) as
    they were at the first message.
    """

    def __init__(self, connection: psycopg.Connection[Any], first: int, then: bool = False) -> None:
        self.connection = connection
        self.registry = Registry()
        self.registry.load(connection, first - 1 if then else None)
        registry = self.registry
        registry.devices.clear()
        registry.world.devices.clear()
        registry.world.sites.clear()
        registry.world.limits.clear()
        registry.tables.clear()
        registry.take(register_at(connection, first - 1, later=True))
        self.changes = [
            _Change(*row)
            for row in connection.execute(
                "select id, kind, body from control_event where kind in ('registry', 'setpoint', 'table') order by id"
            ).fetchall()
        ]
        while self.changes and self.changes[0].number < first:
            change = self.changes.pop(0)
            if change.kind != "registry":
                registry.apply(connection, change.number, change.kind, change.body)

    def cuts(self, ids: np.ndarray) -> list[int]:
        """The places at which messages (their numbers, rising) are parted by a change."""
        inside = {int(np.searchsorted(ids, change.number)) for change in self.changes}
        return sorted({0, len(ids), *(place for place in inside if place < len(ids))})

    def up_to(self, number: int) -> bool:
        """Takes the changes before a message on; whether there were some."""
        some = False
        while self.changes and self.changes[0].number <= number:
            change = self.changes.pop(0)
            self.registry.apply(self.connection, change.number, change.kind, change.body)
            some = True
        return some


def with_draft(routes: Sequence[InForce], draft: InForce | None) -> list[InForce]:
    """The routes in force with a draft in its place, or behind all others where it has none yet."""
    if draft is None:
        return list(routes)
    found = [draft if route.key == draft.key else route for route in routes]
    return found if any(route.key == draft.key for route in routes) else [*found, draft]


def draft_of(plan: RoutePlan, definition: int) -> InForce:
    numbers = dict(DeviceType.objects.filter(key__in=plan.types).values_list("key", "pk"))
    return InForce(definition, DRAFT, tuple(numbers[key] for key in plan.types), plan)


Arranged = Callable[[Sequence[InForce]], list[InForce]]  # the routes in force, otherwise


def drafted(draft: InForce | None) -> Arranged:
    return lambda routes: with_draft(routes, draft)


def ordered(idents: Sequence[int]) -> Arranged:
    """The routes in force in another order. idents: definitions, the first first."""
    place = {ident: k for k, ident in enumerate(idents)}
    return lambda routes: sorted(routes, key=lambda route: place.get(route.key, len(place)))


class Way:
    """Messages through one or several sets of routes, each with a memory of its own."""

    def __init__(
        self, connection: psycopg.Connection[Any], first: int, sets: Sequence[Arranged], then: bool = False
    ) -> None:
        self.connection = connection
        self.register = PastRegister(connection, first, then)
        self.sets = list(sets)
        self.routers = [Router(self.register.registry.world) for _ in sets]
        self._direct()

    def _direct(self) -> None:
        registry = self.register.registry
        in_force = registry.in_order()
        world = registry.world
        listed = [arranged(in_force) for arranged in self.sets]
        if world.site_type <= 0 and any(route.plan.gathered for routes in listed for route in routes):
            # Sites that are no devices yet: the first route that gathers is not published.
            world.site_type = NO_TYPE
            world.devices |= {-s: Device(-s, f"site-{one.name}", NO_TYPE, s) for s, one in world.sites.items()}
        for router, routes in zip(self.routers, listed, strict=True):
            router.set(routes)
            router.standing.tables = registry.tables  # type: ignore[assignment]
            router.refresh()

    def take(self, arrived: Arrived, traced: bool = False) -> Iterator[Taken]:
        """The messages that come next, in the order of the stream."""
        cuts = self.register.cuts(arrived.ids)
        for a, b in zip(cuts, cuts[1:], strict=False):
            part = arrived.part(a, b)
            if self.register.up_to(int(part.ids[0])):
                self._direct()
            for first, last, arrival in eras(part.received, 0):
                yield self._taken(part.part(first, last), arrival, traced)

    def _taken(self, part: Arrived, arrival: np.ndarray, traced: bool) -> Taken:
        registry = self.register.registry
        lots, _ = lots_of(self.connection, registry, part, known_rows(registry, part))
        index = [lot.index for _, lot in lots]
        decoded = []
        for _, lot in lots:
            found = decode_batch(lot.plan, lot.payloads, 0, None, lot.context)
            owned(found, part.device[lot.index], registry.owner)
            decoded.append(found)
        taken = Taken(part, index, decoded)
        for router in self.routers:
            own = [replace(batch, groups=list(batch.groups), reasons=list(batch.reasons)) for batch in decoded]
            routed = router.route(own, index, part.device, arrival, registry.type_of, part.headers.__getitem__, traced)
            taken.ways.append((own, routed))
        return taken


@dataclass
class Taken:
    """Messages as they were decoded, and what each set of routes made of them.

    index: the rows of each decoded batch.
    """

    arrived: Arrived
    index: list[np.ndarray]
    decoded: list[Decoded]
    ways: list[tuple[list[Decoded], Routed]] = field(default_factory=list)


@dataclass
class _Line:
    seen: int = 0
    took: int = 0
    failed: int = 0
    examples: list[str] = field(default_factory=list)


def route_trial(
    plan: RoutePlan, definition: int, before: bool, start: datetime, end: datetime, most: int
) -> Iterator[dict[str, Any]]:
    """The draft over what arrived of its types in a span: {"done", "total"} as it goes, at last {"result"}.

    before: whether a version of it is in force, against which it is held. most: the last messages of the span.
    """
    draft = draft_of(plan, definition)
    devices = "select id from fleet_device where type_id = any(%(types)s)"
    about = {"types": list(draft.types), "start": start, "end": end, "most": most, "before": MOST_BEFORE}
    url = settings.INSTANCE.database_url()
    with (
        psycopg.connect(url, autocommit=True, application_name="oculum trial") as beside,
        psycopg.connect(url, application_name="oculum trial") as own,
    ):
        own.execute("set local statement_timeout = '60s'")
        total, first = own.execute(
            "select count(*), coalesce(min(id), 0) from (select m.id from message m where m.device_id = any(array("
            f"{devices})) and m.received_at >= %(start)s and m.received_at < %(end)s order by m.received_at desc,"
            " m.id desc limit %(most)s) x",
            about,
        ).fetchone() or (0, 0)
        yield {"done": 0, "total": total}
        lines: dict[int, _Line] = {act.line: _Line() for act in plan.lines}
        fields: dict[str, Compared] = {}
        outlets: Counter[str] = Counter()
        reasons: Counter[str] = Counter()
        done = values = gone = 0
        if total:
            way = Way(beside, first, [drafted(draft), drafted(None)])
            back = looked_back([plan, *(route.plan for route in way.register.registry.in_order())])
            if back:
                rows = own.execute(
                    f"select {FIELDS} from message m where m.device_id = any(array({devices})) and m.id < %(first)s"
                    " and m.received_at >= %(start)s - %(back)s * interval '1 microsecond' order by m.id desc limit"
                    " %(before)s",
                    about | {"first": first, "back": back},
                ).fetchall()
                for warm in range(0, len(rows), PORTION):
                    for _ in way.take(Arrived.of(rows[::-1][warm : warm + PORTION])):
                        pass
            with own.cursor("trial", binary=True) as cursor:
                cursor.execute(
                    f"select {FIELDS} from message m where m.device_id = any(array({devices})) and m.id >= %(first)s"
                    " and m.received_at >= %(start)s and m.received_at < %(end)s order by m.id",
                    about | {"first": first},
                )
                while portion := cursor.fetchmany(PORTION):
                    for taken in way.take(Arrived.of(portion)):
                        (now, routed), (was, _) = taken.ways
                        _tally(lines, routed, definition, taken.arrived)
                        for sent in routed.sent:
                            if sent.key == definition:
                                outlets[sent.outlet] += 1
                        for mine, theirs, plain, rows_of in zip(now, was, taken.decoded, taken.index, strict=True):
                            compare(fields, mine, theirs, taken.arrived.device[rows_of])
                            a, b = _present(plain), _present(mine)
                            values, gone = values + a, gone + max(a - b, 0)
                            _reasons(reasons, mine, plain)
                    done += len(portion)
                    yield {"done": done, "total": max(total, done)}
    yield {
        "result": {
            "messages": done,
            "values": values,
            "gone": gone,
            "lines": [
                {"line": number, "seen": one.seen, "took": one.took, "failed": one.failed, "examples": one.examples}
                for number, one in sorted(lines.items())
            ],
            "reasons": [{"reason": text, "count": n} for text, n in reasons.most_common(20)],
            "sent": [{"outlet": name, "readings": n} for name, n in outlets.most_common()],
            "fields": sorted(
                (one.as_dict(name, True) for name, one in fields.items() if one.differ or not one.before),
                key=lambda row: (-(row["differ"] or 0), row["field"]),
            ),
            "against": before,
        }
    }


def order_trial(idents: Sequence[int], most: int) -> dict[str, Any]:
    """What another order of the routes in force would make otherwise of the last messages.

    idents: definitions in their order, all that are in force among them. most: how many messages at most, of the types
    whose routes would come in another order.
    """
    with psycopg.connect(settings.INSTANCE.database_url(), autocommit=True, application_name="oculum trial") as own:
        registry = Registry()
        registry.load(own)
        now = registry.in_order()
        wanted = ordered(idents)(now)
        types = sorted(
            type_
            for type_ in {t for route in now for t in route.types}
            if [r.key for r in now if type_ in r.types] != [r.key for r in wanted if type_ in r.types]
        )
        own.execute("set statement_timeout = '20s'")
        rows = own.execute(
            f"select {FIELDS} from message m where m.device_id = any(array(select id from fleet_device where type_id ="
            " any(%s))) order by m.id desc limit %s",
            (types, most),
        ).fetchall()[::-1]
        fields: dict[str, Compared] = {}
        outlets: dict[str, list[int]] = {}
        if rows:
            way = Way(own, int(rows[0][0]), [ordered(idents), drafted(None)])
            for taken in way.take(Arrived.of(rows)):
                (other, routed), (was, routed_now) = taken.ways
                for mine, theirs, rows_of in zip(other, was, taken.index, strict=True):
                    compare(fields, mine, theirs, taken.arrived.device[rows_of])
                for k, found in enumerate((routed_now, routed)):
                    for sent in found.sent:
                        outlets.setdefault(sent.outlet, [0, 0])[k] += 1
        titles = DeviceType.objects.filter(pk__in=types).order_by("title").values_list("title", flat=True)
    return {
        "types": list(titles),
        "messages": len(rows),
        "fields": sorted(
            (one.as_dict(name, True) for name, one in fields.items() if one.differ or not one.before),
            key=lambda row: (-(row["differ"] or 0), row["field"]),
        ),
        "sent": [{"outlet": name, "now": a, "then": b} for name, (a, b) in sorted(outlets.items()) if a != b],
    }


def _present(decoded: Decoded) -> int:
    return sum(int((column.state == 1).sum()) for group in decoded.groups for column in group.columns.values())


def _reasons(reasons: Counter[str], routed: Decoded, plain: Decoded) -> None:
    """Counts what is missing now and was not before, by reason: those that the decoder did not know."""
    known = len(plain.reasons)
    for group in routed.groups:
        for column in group.columns.values():
            new = column.state[column.state >= FIRST_REASON + known]
            for number, count in zip(*np.unique(new, return_counts=True), strict=True):
                reasons[routed.reasons[int(number) - FIRST_REASON]] += int(count)


def _tally(lines: dict[int, _Line], routed: Routed, definition: int, arrived: Arrived) -> None:
    for one in routed.counted:
        told: dict[int, dict[int, np.ndarray]] = {}
        for (_, _, number), what, own in one.each(definition):
            told.setdefault(number, {})[what] = one.row[own]
        for number, rows in told.items():
            line = lines.setdefault(number, _Line())
            line.seen += len(rows.get(SEEN, ()))
            line.took += len(rows.get(TOOK, ()))
            line.failed += len(rows.get(FAILED, ()))
            shown = rows.get(FAILED, rows.get(TOOK, np.zeros(0, np.int64)))[-EXAMPLES:].tolist()
            line.examples = [*dict.fromkeys(str(arrived.ids[r]) for r in shown)] or line.examples


# one message -----------------------------------------------------------------------------------
@dataclass(frozen=True)
class One:
    """A message on its way, stored or written. number: the place in the stream at which it is looked at."""

    number: int
    received: datetime
    device: int
    payload: bytes
    headers: dict[str, str]


def stored_message(connection: psycopg.Connection[Any], number: int) -> One | None:
    row = connection.execute(
        f"select {FIELDS}, m.received_at from message m where m.id = %s and m.device_id is not null", (number,)
    ).fetchone()
    if row is None:
        return None
    arrived = Arrived.of([row[:6]])
    return One(number, row[6], int(arrived.device[0]), arrived.payloads[0], arrived.headers[0])


def passed_through(
    connection: psycopg.Connection[Any],
    one: One,
    draft: InForce | None,
    then: bool = False,
    site: int | None = None,
) -> dict[str, Any]:
    """A message through its decoder and all routes, line by line; what came before it of its device is gone through
    first, as far as windows look back. then: by what was in force when it arrived. site: also what came before it of
    the devices at a site and below it, of which that site's readings are made, and those with it, as "members".
    """
    way = Way(connection, one.number, [drafted(draft)], then)
    registry = way.register.registry
    back = looked_back(route.plan for route in way.routers[0].routes)
    devices = [one.device, *(_below(way.routers[0], site) if site is not None else ())]
    if back:
        rows = connection.execute(
            f"select {FIELDS} from message m where m.device_id = any(%s) and m.id < %s and m.received_at >= %s - %s *"
            " interval '1 microsecond' order by m.id desc limit %s",
            (devices, one.number, one.received, back, MOST_BEFORE),
        ).fetchall()[::-1]
        for _ in way.take(Arrived.of(rows)) if rows else ():
            pass
    arrived = Arrived(
        np.array([one.number], np.int64),
        np.array([int(one.received.timestamp() * 1e6)], np.int64),
        np.array([one.device], np.int64),
        [one.payload],
        [one.headers],
    )
    taken = next(iter(way.take(arrived, traced=True)))
    own, routed = taken.ways[0]
    known = {device.id: device.name for device in registry.world.devices.values()}
    names = {d: registry.devices[d].name for d in {s["device"] for s in routed.steps} if d in registry.devices}
    failure = next((batch.failures[batch.failure[0]] for batch in taken.decoded if batch.failure[0] >= 0), None)
    return {
        "before": [row for batch in taken.decoded for row in readings(batch, 0, known)],
        "after": [row for batch in own for row in readings(batch, 0, known)],
        "steps": [step | {"device": names.get(step["device"], ""), "at": moment(step["at"])} for step in routed.steps],
        "sent": [
            {
                "outlet": sent.outlet,
                "line": sent.line,
                "definition": sent.key,
                "at": moment(sent.at),
                "values": {name: {"value": v, "unit": unit} for name, (v, unit) in sent.values.items()},
                "marks": sent.marks,
            }
            for sent in routed.sent
        ],
        "error": failure.message if failure is not None else None,
        "decoder": bool(taken.decoded),
        "members": _members(way.routers[0], site) if site is not None else [],
    }


def _gathers(router: Router) -> Iterator[tuple[InForce, Gather]]:
    for route in router.routes:
        for act in route.plan.lines:
            if isinstance(act, Gather):
                yield route, act


def _below(router: Router, site: int) -> list[int]:
    """The devices at a site and below it that some route gathers from."""
    world = router.world
    types = {type_ for route, _ in _gathers(router) for type_ in route.types}
    return [
        d.id
        for d in world.devices.values()
        if d.type in types and any(place.id == site for place in world.above(d.site))
    ]


def _members(router: Router, site: int) -> list[dict[str, Any]]:
    """What a site's readings were made of, by field."""
    found = []
    for route, act in _gathers(router):
        for device, values, at in router.members(route, act, site):
            known = router.world.devices.get(device)
            name = known.name if known is not None else ""
            found.append({"field": act.field.name, "device": name, "values": values, "at": moment(at)})
    return found
