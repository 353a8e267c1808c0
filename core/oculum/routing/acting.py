"""One batch of one device type through its routes: every line over all its readings at once."""

from __future__ import annotations

import hashlib
from typing import Any

import numpy as np

from ..answers import told
from ..arrays import Ints
from ..batches import ABSENT, PRESENT
from ..history.looking import keep_of, over
from ..language.evaluate import Val, evaluate
from ..language.expressions import (
    AtFence,
    Builtin,
    Ex,
    HeaderText,
    LabelText,
    MarkText,
    Named,
    TableEntry,
    Window,
)
from ..language.fields import FieldSpec
from ..language.routes.plan import (
    Act,
    Correct,
    Derive,
    Drop,
    Gather,
    Mark,
    RoutePlan,
    Send,
    Stop,
    Thin,
    When,
    expressions,
)
from ..register import hours
from .bundles import Bundle, Varying
from .compiled import compiled
from .gathering import Changes, nodes_of
from .routed import FAILED, SEEN, TOOK, Counted, Headers, InForce, Piece, Sent
from .standing import Standing
from .table import Table


class Run:
    """A table on its way through routes."""

    def __init__(
        self, standing: Standing, table: Table, type_: int, arrival: Ints, headers: Headers, traced: bool
    ) -> None:
        self.standing, self.table, self.type, self.arrival, self.headers = standing, table, type_, arrival, headers
        self.traced = traced
        # by line of the table: the place of its device in the bundle, and which route of it that is
        self.place, self.member = np.zeros((2, len(table)), np.int64)
        self.lines: list[tuple[int, int, int]] = []
        self._bases: dict[int, int] = {}
        self.pieces: list[Piece] = []
        self.sent: list[Sent] = []
        self.steps: list[dict[str, Any]] = []
        self.gathered: dict[tuple[int, int, int], tuple[InForce, Gather, Changes]] = {}

    def take(self, bundle: Bundle, lines: Ints, place: Ints) -> None:
        """The routes of a bundle over the lines of the table that they are on. place: int64, of the device of each."""
        self.bundle = bundle
        member = bundle.member[place]
        if len(lines) == len(self.table):
            self.place, self.member = place, member
        else:
            self.member = np.zeros(len(self.table), np.int64)
            self.place[lines], self.member[lines] = place, member
        self._bases = {}
        if not bundle.plan.hours.always:
            lines = lines[self._within(bundle.plan, lines)]
        self.prepared = bundle.prepared
        self.view = View(self, lines)
        self.acts(bundle.plan.acts, lines)

    def culprit(self, bundle: Bundle, lines: Ints, place: Ints) -> int:
        """The route of a bundle that cannot be evaluated over these lines: the first that fails by itself."""
        for k, route in enumerate(bundle.routes):
            alone = Bundle(route.plan, [route], [bundle.scopes[k]])
            alone.close(self.standing.slot)
            own = lines[bundle.member[place] == k]
            self.bundle, self.prepared = alone, alone.prepared
            self.place[own], self.member[own] = np.searchsorted(alone.devices, self.table.device[own]), 0
            try:
                self.view = View(self, own)
                for act in route.plan.lines:
                    for ex in expressions(act):
                        self.view.value(ex, own)
            except Exception:
                return route.key
        return bundle.routes[0].key

    def _within(self, plan: RoutePlan, lines: Ints) -> np.ndarray:
        at, world, table = self.table.at[lines], self.standing.world, self.table
        found = np.zeros(len(lines), bool)
        devices, which = np.unique(table.device[lines], return_inverse=True)
        known = [world.devices.get(d) for d in devices.tolist()]
        zone = np.array([world.zone(d.site if d is not None else None) for d in known], object)[which]
        for one in set(zone.tolist()):
            own = zone == one
            found[own] = hours.within(plan.hours, at[own], one)
        return found

    def acts(self, acts: tuple[Act, ...], lines: Ints) -> None:
        for act in acts:
            lines = self.table.living(lines)
            if not len(lines):
                return
            self.act(act, lines)

    def act(self, act: Act, lines: Ints) -> None:
        table = self.table
        lines = self._with_fields(act, lines)
        if not len(lines):
            return
        self._count(act, SEEN, lines)
        match act:
            case When():
                value = self.view.value(act.rule, lines)
                true = value.known & np.asarray(value.values, bool)
                taken = lines[true]
                self._took(act, taken)
                if not value.known.all():
                    self._fail(act, lines[~value.known])
                self.acts(act.then, taken)
                if act.otherwise:
                    self.acts(act.otherwise, lines[~true])
            case Drop(message=True):
                rows = np.unique(table.row[lines])
                lines = np.flatnonzero(np.isin(table.row, rows))
                self._drop(act, lines, [*table.columns])
                table.end(lines)
            case Drop():
                self._drop(act, lines, list(act.fields) or [*table.columns])
                if not act.fields:
                    table.end(lines)
            case Correct():
                spec = table.specs.get(act.field)
                if spec is not None:
                    there = table.at_lines(table.columns[act.field].state, lines) == PRESENT
                    self._give(act, spec, act.value, lines if there.all() else lines[there])
            case Derive():
                self._give(act, act.field, act.value, lines)
            case Gather():
                self._gather(act, lines)
            case Thin():
                self._thin(act, lines)
            case Mark():
                table.mark(act.name, lines, act.text)
                self._took(act, lines)
            case Send():
                self._send(act, lines)
            case Stop():
                table.end(lines)
                self._took(act, lines)

    def _with_fields(self, act: Act, lines: Ints) -> Ints:
        """The lines that have something of what is spoken of: a value, or one that is missing for a reason."""
        names = self.prepared.names(act)
        if not names:
            return lines
        if any(map(self.table.everywhere, names)):
            return lines
        some = np.zeros(len(lines), bool)
        for name in names:
            some |= self.table.at_lines(self.table.state(name), lines) != ABSENT
        return lines[some]

    # acts --------------------------------------------------------------------------------
    def _drop(self, act: Drop, lines: Ints, names: list[str]) -> None:
        table = self.table
        hit = np.zeros(len(lines), bool)
        for name in names:
            hit |= table.state(name)[lines] == PRESENT
        self._took(act, lines[hit], names)
        state = table.reason(act.reason)
        for name in names:
            table.take_out(name, lines, state)

    def _give(self, act: Correct | Derive, spec: FieldSpec, value: Ex, lines: Ints) -> None:
        found = self.view.value(value, lines)
        known, values = found.known, np.asarray(found.values)
        if not known.all():
            self._fail(act, lines[~known])
            lines, values = lines[known], values[known]
        if spec.kind == "text":
            values = values.astype(object)
        elif spec.kind == "time":
            values = values.astype(np.int64)
        else:
            values = values.astype(float)
        before = self._standing(spec.name, lines) if self.traced else []
        self.table.put(spec, lines, values)
        self._took(act, lines, [spec.name], before)

    def _gather(self, act: Gather, lines: Ints) -> None:
        """What sites are made of is taken here; it is put together when all types of the batch have been here."""
        nodes = nodes_of(act)
        values = np.zeros((len(nodes), len(lines)))
        knowns = np.zeros((len(nodes), len(lines)), bool)
        for n, node in enumerate(nodes):
            found = self.view.value(self.prepared.members(node), lines)
            knowns[n] = found.known
            values[n] = np.where(found.known, found.values, 0).astype(float)
        some = knowns.any(axis=0)
        self._took(act, lines[some], [act.field.name])
        self._fail(act, lines[~some])
        table = self.table
        own = lines[some]
        changes = Changes(table.row[own], table.at[own], table.slot[own], values[:, some], knowns[:, some])
        (route,) = self.bundle.routes
        self.gathered[route.key, route.version, act.line] = (route, act, changes)

    def _thin(self, act: Thin, lines: Ints) -> None:
        table = self.table
        hit = np.zeros(len(lines), bool)
        gone: list[tuple[str, Ints]] = []
        for name, band in zip(act.fields, act.bands, strict=True):
            there = np.flatnonzero(table.state(name)[lines] == PRESENT)
            own = lines[there]
            if not len(own):
                continue
            values = measures(table.columns[name].values[own])
            pairs = self.standing.let_through(self.type, self.bundle.place[act.line], name, values.shape[1])
            rows = pairs.rows(self.bundle, self.place[own])
            through = np.zeros(len(own), bool)
            compiled("thin")(
                rows, table.at[own], values, pairs.values, pairs.at, float(band), act.relative, act.every_us, through
            )
            hit[there[~through]] = True
            gone.append((name, own[~through]))
        self._took(act, lines[hit], list(act.fields))
        for name, out in gone:
            table.take_out(name, out)

    def _send(self, act: Send, lines: Ints) -> None:
        table = self.table
        names = list(act.fields) or [*table.columns]
        columns = [(table.specs[n], table.columns[n]) for n in names if n in table.columns]
        some = np.zeros(len(lines), bool)
        for _, column in columns:
            some |= column.state[lines] == PRESENT
        own = lines[some]
        marked = {name: table.marked(name, own) for name in table.marks}
        for k, i in enumerate(own.tolist()):
            values = {
                spec.name: [told(spec, column, i), spec.unit] for spec, column in columns if column.state[i] == PRESENT
            }
            marks = {name: texts[k] for name, texts in marked.items() if texts[k] is not None}
            member = int(self.member[i])
            route = self.bundle.routes[member]
            self.sent.append(
                Sent(
                    act.outlet,
                    route.key,
                    route.version,
                    self.bundle.lines[act.line][member],
                    int(table.device[i]),
                    int(table.row[i]),
                    int(table.at[i]),
                    values,
                    marks,
                )
            )
        self._took(act, own, names)

    # what is told ------------------------------------------------------------------------
    def _count(self, act: Act, what: int, lines: Ints) -> None:
        if len(lines):
            base = self._bases.get(act.line)
            if base is None:
                base = self._bases[act.line] = len(self.lines)
                self.lines += self.bundle.told[act.line]
            self.pieces.append(Piece(base, what, lines, self.member))

    def _fail(self, act: Act, lines: Ints) -> None:
        """Lines that could not tell although all that is spoken of is there, if only with why it is missing: what a
        message does not bring is no failure.
        """
        if not len(lines):
            return
        for name in self.prepared.names(act):
            lines = lines[self.table.state(name)[lines] != 0]
        self._count(act, FAILED, lines)
        if self.traced:
            for i in lines.tolist():
                self.steps.append(self._step(act, i) | {"what": "failed", "because": self._unknown(act, i)})

    def _unknown(self, act: Act, i: int) -> str:
        """Why a line could not tell, in words."""
        missing = []
        for name in dict.fromkeys(p.name for ex in expressions(act) for p in ex.walk() if isinstance(p, Named)):
            state = int(self.table.state(name)[i])
            if state != PRESENT:
                missing.append(f"`{name}` is {'not there' if state == 0 else 'missing'}")
        return ", ".join(missing) or "it gives no value"

    def _took(self, act: Act, lines: Ints, names: list[str] | None = None, before: list[Any] | None = None) -> None:
        self._count(act, TOOK, lines)
        if not self.traced:
            return
        for k, i in enumerate(lines.tolist()):
            changed: dict[str, list[Any]] = {}
            for name in names or ():
                column = self.table.columns.get(name)
                if isinstance(act, Gather):
                    changed[name] = [None, None]
                elif isinstance(act, Correct | Derive):
                    changed[name] = [before[k] if before else None, self._standing(name, np.array([i]))[0]]
                elif column is not None and column.state[i] == PRESENT:
                    changed[name] = [self._standing(name, np.array([i]))[0], None]
            self.steps.append(self._step(act, i) | {"what": "took", "fields": changed})

    def _standing(self, name: str, lines: Ints) -> list[Any]:
        column = self.table.columns.get(name)
        if column is None:
            return [None] * len(lines)
        spec = self.table.specs[name]
        return [told(spec, column, i) for i in lines.tolist()]

    def _step(self, act: Act, i: int) -> dict[str, Any]:
        table, member = self.table, int(self.member[i])
        route = self.bundle.routes[member]
        return {
            "route": route.plan.name,
            "definition": route.key,
            "version": route.version,
            "line": self.bundle.lines[act.line][member],
            "act": type(act).__name__.lower(),
            "device": int(table.device[i]),
            "row": int(table.row[i]),
            "at": int(table.at[i]),
        }

    def counted(self) -> Counted:
        return Counted(self.lines, self.pieces, self.table.row, self.table.device)


def measures(values: np.ndarray) -> np.ndarray:
    """float64 (m, w): what is compared from one reading to the next; texts as numbers that differ where they do."""
    if values.dtype == object:
        return np.array([_number(v) for v in values.tolist()], float).reshape(-1, 1)
    found = values.astype(float)
    return found if found.ndim == 2 else found.reshape(-1, 1)


def _number(value: Any) -> float:
    if isinstance(value, str):
        return float(int.from_bytes(hashlib.blake2b(value.encode("utf-8", "replace"), digest_size=6).digest(), "big"))
    return float(value)


class View:
    """What the expressions of a bundle speak of, for the lines of the table that its routes are on."""

    def __init__(self, run: Run, lines: Ints) -> None:
        self.run, self.bundle, self.whole = run, run.bundle, lines
        self.lines = lines
        self.windows: dict[Window, Val] = {}
        self.place: np.ndarray | None = None
        self._look_back()

    def value(self, ex: Ex, lines: Ints) -> Val:
        """What an expression gives for some lines, in full length."""
        self.lines = lines
        found = evaluate(ex, self)
        count = len(lines)
        known, values = np.asarray(found.known, bool), np.asarray(found.values)
        shape = (count, 2) if ex.type.kind == "position" else (count,)
        return Val(
            values if values.shape == shape else np.broadcast_to(values, shape),
            known if known.shape == (count,) else np.broadcast_to(known, (count,)),
        )

    def column(self, name: str) -> Val:
        column = self.run.table.columns.get(name)
        if column is None:
            if name in self.bundle.prepared.positions:
                return Val(np.zeros((len(self.lines), 2)), 0)
            return Val(0.0, 0)
        table = self.run.table
        state = table.at_lines(column.state, self.lines)
        return Val(
            table.at_lines(column.values, self.lines), np.where(state < 0, 2, state) if name in table.dropped else state
        )

    raw = column

    def setpoint(self, name: str) -> Val:
        """Limits change without the register: they are asked for anew in every batch."""
        world, table = self.run.standing.world, self.run.table
        devices, which = np.unique(table.device[self.lines], return_inverse=True)
        found = [world.limit(device, name) for device in devices.tolist()]
        known = np.array([v is not None for v in found], bool)
        return Val(np.array([v or 0.0 for v in found], float)[which], known[which])

    def _of_device(self, what: str, name: str = "") -> Val:
        """What the register says of the device of each line."""
        found = self.run.standing.said(what, name, self.run.table.device[self.lines])
        return Val(found.values, found.known)

    def special(self, ex: Ex) -> Val:
        run, table = self.run, self.run.table
        match ex:
            case Varying():
                return Val(self.bundle.numbers[ex.index][table.at_lines(run.member, self.lines)], True)
            case Window():
                val = self.windows[run.prepared.window(ex)]
                assert self.place is not None
                at = self.place[self.lines]
                return Val(val.values[at], np.asarray(val.known)[at])
            case AtFence():
                return self._at_fence(ex)
            case LabelText(name=name):
                return self._of_device("label", name)
            case MarkText(name=name):
                return _texts(table.marked(name, self.lines))
            case HeaderText(name=name):
                return _texts(self._by_row(lambda row: run.headers(row).get(name)))
            case TableEntry():
                return self._entry(ex)
            case Builtin():
                return self._builtin(ex.name)
        raise AssertionError(ex)

    def _by_row(self, of: Any) -> np.ndarray:
        rows, which = np.unique(self.run.table.row[self.lines], return_inverse=True)
        found = np.empty(len(rows), object)
        for k, row in enumerate(rows.tolist()):
            found[k] = of(row)
        return found[which]

    def _builtin(self, name: str) -> Val:
        run, table = self.run, self.run.table
        match name:
            case "device" | "site" | "home":
                return self._of_device(name)
            case "device_type":
                route = self.bundle.routes[0]
                key = dict(zip(route.types, route.plan.types, strict=True)).get(run.type, "")
                return Val(np.full(len(self.lines), key, object), True)
            case "topic":
                return _texts(self._by_row(lambda row: run.headers(row).get("topic")))
            case "received":
                return Val(run.arrival[table.row[self.lines]], True)
            case "measured":
                return Val(table.at[self.lines], True)
        raise AssertionError(name)

    def _at_fence(self, ex: AtFence) -> Val:
        area = self.run.standing.world.fences.get(ex.fence)
        found = self.column(ex.field)
        if area is None or not len(self.lines):
            return Val(np.zeros(len(self.lines), bool), np.zeros(len(self.lines), bool))
        values = np.broadcast_to(np.asarray(found.values, float), (len(self.lines), 2))
        inside = area.inside(values)
        known = np.broadcast_to(np.asarray(found.known, bool), (len(self.lines),))
        return Val(inside if ex.function == "inside" else ~inside, known)

    def _entry(self, ex: TableEntry) -> Val:
        rows = self.run.standing.tables.get(ex.table, {})
        key = evaluate(ex.key, self)
        count = len(self.lines)
        keys = np.broadcast_to(np.asarray(key.values, object), (count,))
        known = np.broadcast_to(np.asarray(key.known, bool), (count,))
        found = np.empty(count, object)
        for k, (one, good) in enumerate(zip(keys.tolist(), known.tolist(), strict=True)):
            found[k] = rows.get(one, {}).get(ex.column) if good else None
        if ex.type.kind == "text":
            return _texts(found)
        there = np.array([v is not None for v in found.tolist()], bool)
        blank: Any = (0.0, 0.0) if ex.type.kind == "position" else 0
        values = np.array([v if v is not None else blank for v in found.tolist()])
        return Val(values.astype(bool if ex.type.kind == "truth" else float), there)

    # the past ------------------------------------------------------------------------------
    def _look_back(self) -> None:
        """Works the windows out over the readings as they are when the route begins, and takes those in."""
        nodes = self.run.prepared.windows
        if not nodes:
            return
        run, lines = self.run, self.whole
        table, standing = run.table, run.standing
        cadence, zones = standing.cadences()
        self.place = np.zeros(len(table), np.int64)
        self.place[lines] = np.arange(len(lines))
        for inner, windows in nodes.items():
            found = self.value(inner, lines)
            values = np.where(found.known, found.values, 0).astype(float)
            pairs = standing.past(run.type, inner, max(map(keep_of, windows)))
            rows = pairs.rows(self.bundle, run.place[lines])
            wanted = np.ones(len(lines), bool)
            looked = over(
                pairs.past,
                windows,
                table.slot[lines],
                table.at[lines],
                found.known,
                values,
                wanted,
                cadence,
                zones,
                rows,
            )
            self.windows |= zip(windows, looked, strict=True)


def _texts(found: np.ndarray) -> Val:
    known = np.array([v is not None for v in found.tolist()], bool)
    return Val(np.where(known, found, "").astype(object), known)
