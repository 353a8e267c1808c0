"""The one entrance to decoding: a batch through a checked decoder."""

from __future__ import annotations

import gc
from dataclasses import replace
from typing import Any

import numpy as np

from ..arrays import objects
from ..batches import PRESENT, Column, Decoded, Group, Part, Payloads, Trace
from ..language import limits
from ..language.decoders.plan import ConstantSpec, DecoderPlan
from ..language.fields import FieldSpec
from . import shapes, sources
from .level import FIRST_US, LAST_US, NO_DATE, NOWHERE, Batch, Level, Window, blank, everyone
from .run import Run
from .view import names_of


def decode(plan: DecoderPlan, payloads: Payloads, trace: Trace | None = None) -> Decoded:
    """A batch of messages through a checked decoder; a single message is a batch of one.

    `trace` collects the place of every value of one message.
    """
    if plan.source not in ("json", "cbor", "senml") or len(payloads) < sources.AT_ONCE or not gc.isenabled():
        return _decode(plan, payloads, trace)
    gc.disable()  # documents hold no circles, and to look for some among so many takes longer than to read them
    try:
        return _decode(plan, payloads, trace)
    finally:
        gc.enable()


def _decode(plan: DecoderPlan, payloads: Payloads, trace: Trace | None) -> Decoded:
    count = len(payloads)
    batch = Batch(payloads, trace, np.full(count, -1, np.int32), np.full(count, -1, np.int32), tail=plan.tail)
    batch.tags = plan.tags
    window = Window("bytes", payloads.data, payloads.starts, payloads.ends)
    level = Level(batch, count, window)
    walker = Run(batch, decode, plan.raw_names)
    _constants(level, plan.constants)
    rows = everyone(count)
    if plan.source in ("bytes", "registers", "coils"):
        length = int(payloads.ends[0] - payloads.starts[0]) if count else 0
        if count and length:
            first = int(payloads.starts[0])
            if (
                int(payloads.starts[-1]) == first + (count - 1) * length
                and np.count_nonzero(payloads.ends - payloads.starts == length) == count
            ):
                window.table = (first, length, length)
    elif plan.source == "senml":
        level, rows = _senml(batch, level, plan)
    elif plan.source == "text" or not shapes.take(level, plan.source, plan.steps):
        rows = sources.parse_window(batch, level, window, plan.source, rows, 1)
        if plan.source != "text":
            _containers(level, rows)
            rows = level.living(rows)
    root = level
    root.given = {spec.name: spec for spec in plan.fields}
    walker.run(root, plan.steps, rows)
    _late(walker, root)
    for inner in root.all_inner():
        _late(walker, inner)
    top = root if root.parent is None else root.parent
    unread = np.zeros(count, np.int64)
    if plan.source in ("bytes", "registers", "coils"):
        if window.table is not None and window.read_to is None:
            unread += max(window.table[2] - window.read - plan.tail, 0)
        else:
            unread = np.maximum(window.unread() - plan.tail, 0)
    found = _finish(walker, top, unread)
    top.let_go()
    return found


def _constants(level: Level, constants: tuple[ConstantSpec, ...]) -> None:
    """The constants of each message's device, or the values that hold where none is known."""
    given = level.batch.payloads.constants
    for spec in constants:
        kind = {"number": float, "integer": float, "text": object, "flag": float}[spec.kind]
        default = spec.default if kind is object else float(spec.default)
        values = np.full(level.count, default, kind)
        if given is not None:
            for row, own in enumerate(given):
                if spec.name in own:
                    value = own[spec.name]
                    values[row] = value if kind is object else float(value)
        level.columns[spec.name] = Column(values, np.ones(level.count, np.int16))


def _containers(level: Level, rows: np.ndarray) -> None:
    docs = level.window.docs or []
    if set(map(type, docs)) <= {dict, list}:
        return
    for row in rows.tolist():
        document = sources.bare(docs[row])
        if not isinstance(document, dict | list):
            found = sources.WORDS.get(type(document), "something else")
            level.fail(np.array([row]), "malformed", f"found {found}, expected an object or a list", 1, 0)


def _senml(batch: Batch, level: Level, plan: DecoderPlan) -> tuple[Level, np.ndarray]:
    """One element a record of the pack, with its name, unit and time."""
    payloads = batch.payloads
    buffer = payloads.data.tobytes()
    up: list[int] = []
    records: list[tuple[str, str | None, int, sources.Measured]] = []
    for row, (a, b) in enumerate(zip(payloads.starts.tolist(), payloads.ends.tolist(), strict=True)):
        found, wrong = sources.read_senml(buffer[a:b], int(payloads.received_us[row]), plan.labels)
        if wrong is None and plan.records and not found:
            wrong = ("malformed", "the pack has no record", 0)
        if wrong is None and len(found) > limits.ELEMENTS:
            wrong = ("malformed", f"the pack has more than {limits.ELEMENTS} records", 0)
        if wrong is not None:
            level.fail(np.array([row]), wrong[0], wrong[1], 1, wrong[2])
            continue
        up.extend([row] * len(found))
        records.extend(found)
    none = np.zeros(len(records), np.int64)
    window = Window("document", payloads.data, none, none, "malformed")
    window.own, window.named = False, True
    window.docs = [
        {sources.quantity(name): measured, name.rpartition("/")[2]: measured, name: measured}
        for name, _, _, measured in records
    ]
    child = Level(batch, len(records), window, level, np.array(up, np.int64))
    child.at = np.array([r[2] for r in records], np.int64)
    child.index = np.arange(1, len(records) + 1)
    names = objects(r[0] for r in records)
    units = objects(r[1] for r in records)
    child.columns["name"] = Column(names, np.ones(child.count, np.int16))
    child.columns["unit"] = Column(units, np.array([u is not None for u in units], np.int16))
    level.children[0] = [child]
    return child, everyone(child.count)


def _late(walker: Run, level: Level) -> None:
    """Steps that speak of the message before, now that all are decoded."""
    waiting, level.late = level.late, []
    for step, rows in waiting:
        rows = level.living(rows)
        if len(rows):
            if hasattr(step, "value"):
                walker.derive(level, step, rows)
            else:
                walker.miss(level, step, rows)


def _finish(walker: Run, root: Level, unread: np.ndarray) -> Decoded:
    batch = walker.batch
    groups: list[Group] = []
    _collect(walker, root, root.alive, groups)
    parts = sorted(batch.parts, key=lambda p: p.row) if batch.parts else []
    if parts:
        _nothing_left(batch, groups, parts)
    good = batch.failure < 0
    parts = [p for p in parts if good[p.row]]
    return Decoded(
        groups,
        batch.failures,
        batch.failure,
        batch.byte,
        batch.reasons,
        np.where(good, unread, 0) if batch.deaths else unread,
        parts,
    )


def _nothing_left(batch: Batch, groups: list[Group], parts: list[Part]) -> None:
    """A message of which nothing is left but refused parts is refused, for the reason of the first."""
    some = np.zeros(len(batch.payloads), bool)
    for group in groups:
        there = np.zeros(len(group.rows), bool)
        for column in group.columns.values():
            there |= column.state != 0
        some[group.rows[there]] = True
    for refused in parts:
        if not some[refused.row] and batch.failure[refused.row] < 0:
            batch.failures.append(refused.failure)
            batch.failure[refused.row] = len(batch.failures) - 1


def _collect(walker: Run, level: Level, alive: np.ndarray, groups: list[Group]) -> None:
    """The readings of a level and of those below it."""
    batch = level.batch
    rows = everyone(level.count) if not level.batch.deaths or alive.all() else np.flatnonzero(alive)
    devices = walker.devices(level)
    messages = level.message(rows)
    plain: dict[str, FieldSpec] = {}
    for spec in level.given.values():
        if "{" in spec.name:
            _family(walker, level, spec, rows, messages, devices, groups)
        elif spec.name in level.sent:
            _as_sent(level, spec, rows, devices, groups)
        elif spec.name in level.moments:
            _group(level, {spec.name: spec}, rows, messages, level.moments_of(spec.name)[rows], devices, groups)
        else:
            plain[spec.name] = spec
    if plain:
        _group(
            level, plain, rows, messages, level.at if rows is everyone(level.count) else level.at[rows], devices, groups
        )
    for done, mapped in level.handed:
        _handed(walker, level, done, mapped, alive, devices, groups)
    for inner in level.all_inner():
        assert inner.up is not None
        _collect(walker, inner, inner.alive & alive[inner.up] if batch.deaths else inner.alive, groups)


def _as_sent(level: Level, spec: FieldSpec, rows: np.ndarray, devices: np.ndarray | None, groups: list[Group]) -> None:
    """A field whose readings keep the unit in which they came: one group for each."""
    choice, arms = level.sent[spec.name]
    column, at = level.columns[spec.name], level.moments_of(spec.name)
    for arm in np.unique(arms[rows]).tolist():
        own = rows[arms[rows] == arm]
        found = column.taken(own)
        kept = spec
        if arm >= 0:
            a, b, c = choice.arms[arm][2]
            kept = replace(spec, unit=choice.sent[arm])
            found = Column((found.values * c - b) / a, found.state)
        own_devices = devices[own] if devices is not None else None
        groups.append(Group((kept,), level.message(own), at[own], {spec.name: found}, own_devices))


def _group(
    level: Level,
    specs: dict[str, FieldSpec],
    rows: np.ndarray,
    messages: np.ndarray,
    at: np.ndarray,
    devices: np.ndarray | None,
    groups: list[Group],
) -> None:
    full = len(rows) == level.count
    columns = {}
    for name, spec in specs.items():
        column = level.columns.get(name)
        columns[name] = blank(spec, len(rows)) if column is None else column if full else column.taken(rows)
        columns[name] = _sensible(level.batch, spec, columns[name])
    groups.append(Group(tuple(specs.values()), messages, at, columns, devices[rows] if devices is not None else None))


def _sensible(batch: Batch, spec: FieldSpec, column: Column) -> Column:
    """A position or a time that is none, for those who get the reading; rules have seen it as it was sent."""
    if spec.kind not in ("position", "time"):
        return column
    values = column.values
    if spec.kind == "position":
        far, reason = (np.abs(values[:, 0]) > 90) | (np.abs(values[:, 1]) > 180), NOWHERE
    else:
        far, reason = (values < FIRST_US) | (values > LAST_US), NO_DATE
    far &= column.state == PRESENT
    if not far.any():
        return column
    state = np.where(far, batch.reason(reason), column.state).astype(np.int16)
    blank: Any = far[:, None] if values.ndim > 1 else far
    return Column(np.where(blank, 0, values), state)


def _family(
    walker: Run,
    level: Level,
    spec: FieldSpec,
    rows: np.ndarray,
    messages: np.ndarray,
    devices: np.ndarray | None,
    groups: list[Group],
) -> None:
    """Fields whose names are made from values: each row's reading under its own name."""
    column = level.columns.get(spec.name)
    if column is None:
        return
    rows = rows[column.state[rows] != 0]
    if not len(rows):
        return
    names = names_of(level, spec.name, rows)
    at = level.moments_of(spec.name)
    distinct, which = np.unique(np.array(names), return_inverse=True)
    if len(distinct) > limits.FIELDS:
        distinct = distinct[: limits.FIELDS]
    for number, name in enumerate(distinct.tolist()):
        own = rows[which == number]
        named = replace(spec, name=name)
        groups.append(
            Group(
                (named,),
                level.message(own),
                at[own],
                {name: _sensible(level.batch, spec, column.taken(own))},
                devices[own] if devices is not None else None,
            )
        )


def _handed(
    walker: Run,
    level: Level,
    done: Decoded,
    mapped: np.ndarray,
    alive: np.ndarray,
    devices: np.ndarray | None,
    groups: list[Group],
) -> None:
    """Readings that another decoder has given, as those of this message."""
    batch = walker.batch
    codes = [0, 1, *(batch.reason(text) for text in done.reasons)]
    translate = np.array(codes, np.int16)
    for group in done.groups:
        owner = mapped[group.rows]
        keep = np.flatnonzero((owner >= 0) & alive[np.maximum(owner, 0)])
        if not len(keep):
            continue
        owner = owner[keep]
        columns = {name: Column(c.values[keep], translate[c.state[keep]]) for name, c in group.columns.items()}
        own: Any = group.device[keep] if group.device is not None else None
        if devices is not None:
            own = (
                devices[owner]
                if own is None
                else np.where(np.array([d is None for d in own], bool), devices[owner], own)
            )
        groups.append(Group(group.fields, level.message(owner), group.at[keep], columns, own))
