"""What routes have changed, back into the decoded batches that a table was made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ..arrays import Ints
from ..batches import FIRST_REASON, Column, Decoded, Group
from ..language.fields import FieldSpec
from .table import ABSENT, Origin, Table

Moved = dict[tuple[int, int], list[Ints]]  # by decoded batch and group: places that stand elsewhere now


def put_back(table: Table, decoded: Sequence[Decoded], moved: Moved) -> None:
    """What routes have changed, into the decoded batches that the table was made of: each value where it came from,
    and what was derived beside what its line was read from first.

    Every reading of the type gets a place for all that its routes derive, so that it does not tell what else was in
    its batch, and one that comes again meets itself. Where a group has readings of several types, those of this one
    move to a group of their own: `moved` keeps from where, until `taken_out`.
    """
    derived = _derived(table, decoded)
    first = _first(table)
    for k, part in enumerate(table.parts):
        batch = decoded[part.decoded]
        group = batch.groups[part.group]
        columns = dict(group.columns)
        for spec in group.fields:
            changed = table.changed.get(spec.name)
            if changed is None:
                continue
            given = spec.name in derived and spec.kind == table.given[spec.name].kind
            if table.alone and (given or spec.name not in derived):
                now = table.columns[spec.name]
                columns[spec.name] = Column(now.values, _reasoned(table, now.state.copy(), batch))
                continue
            there = columns[spec.name].state[part.chosen] != ABSENT
            if given:
                there |= first[k] & derived[spec.name][part.line]
            hit = np.flatnonzero(changed[part.line] & there)
            if len(hit):
                columns[spec.name] = _changed(table, spec.name, columns[spec.name], part, hit, batch)
        batch.groups[part.group] = replace(group, columns=columns)
        if table.given:
            _join_derived(table, part, batch, derived, first[k], moved)


def taken_out(decoded: Sequence[Decoded], moved: Moved) -> None:
    """Groups without what has moved from them, when all tables are put back."""
    for (d, g), places in moved.items():
        groups = decoded[d].groups
        keep = np.ones(len(groups[g].rows), bool)
        keep[np.concatenate(places)] = False
        groups[g] = groups[g].chosen(np.flatnonzero(keep))


def _changed(table: Table, name: str, own: Column, part: Origin, hit: Ints, batch: Decoded) -> Column:
    now = table.columns[name]
    lines, places = part.line[hit], part.chosen[hit]
    state = _reasoned(table, now.state[lines].copy(), batch)
    found = Column(own.values.copy(), own.state.copy())
    if found.values.dtype != now.values.dtype:
        found.values = found.values.astype(np.result_type(found.values.dtype, now.values.dtype))
    found.values[places] = now.values[lines]
    found.state[places] = state
    return found


def _derived(table: Table, decoded: Sequence[Decoded]) -> dict[str, np.ndarray]:
    """By field: bool (n,), the lines that routes have given it and no decoder."""
    found = {}
    for name in table.given.keys() & table.changed.keys():
        lines = table.changed[name] & (table.columns[name].state != ABSENT)
        for part in table.parts:
            column = decoded[part.decoded].groups[part.group].columns.get(name)
            if column is not None:
                lines[part.line[column.state[part.chosen] != ABSENT]] = False
        if lines.any():
            found[name] = lines
    return found


def _first(table: Table) -> list[np.ndarray]:
    """By part: bool (k,), whether a reading is the first that its line was made of."""
    if table.alone:
        return [np.ones(len(table), bool)]
    whose, which = np.zeros((2, len(table)), np.int64)
    for k in range(len(table.parts) - 1, -1, -1):
        line = table.parts[k].line
        whose[line] = k
        which[line[::-1]] = np.arange(len(line) - 1, -1, -1)
    return [
        (whose[part.line] == k) & (which[part.line] == np.arange(len(part.line))) for k, part in enumerate(table.parts)
    ]


def _join_derived(
    table: Table, part: Origin, batch: Decoded, derived: dict[str, np.ndarray], first: np.ndarray, moved: Moved
) -> None:
    """Gives readings places for derived fields. first: bool (k,), those of the part that a line begins with."""
    group = batch.groups[part.group]
    fields = [spec for name, spec in table.given.items() if name not in group.columns]
    if fields:
        whole = len(part.chosen) == len(group.rows)
        wider = group if whole else group.chosen(part.chosen)
        columns = dict(wider.columns)
        for spec in fields:
            columns[spec.name] = _given(table, spec, part.line, first, derived, batch)
        wider = replace(wider, fields=(*wider.fields, *fields), columns=columns)
        if whole:
            batch.groups[part.group] = wider
        else:
            batch.groups.append(wider)
            moved.setdefault((part.decoded, part.group), []).append(part.chosen)
    for spec in group.fields:  # a decoder that has something else by this name
        if spec.name in derived and spec.kind != table.given[spec.name].kind:
            own = np.flatnonzero(first & derived[spec.name][part.line])
            column = _given(table, table.given[spec.name], part.line[own], first[own], derived, batch)
            places = part.chosen[own]
            alone = Group(
                (table.given[spec.name],),
                group.rows[places],
                group.at[places],
                {spec.name: column},
                None,
                table.device[part.line[own]],
            )
            batch.groups.append(alone)


def _given(
    table: Table, spec: FieldSpec, lines: Ints, first: np.ndarray, derived: dict[str, np.ndarray], batch: Decoded
) -> Column:
    """A derived field over some lines of the table."""
    there = derived.get(spec.name)
    if there is None:
        return _blank(spec, len(lines))
    column = table.columns[spec.name]
    state = np.where(first & there[lines], column.state[lines], ABSENT).astype(np.int16)
    return Column(column.values[lines], _reasoned(table, state, batch))


def _blank(spec: FieldSpec, count: int) -> Column:
    """A field that nobody has given."""
    kinds: dict[str, type] = {"text": object, "time": np.int64}
    shape = (count, 2) if spec.kind == "position" else (count,)
    return Column(np.zeros(shape, kinds.get(spec.kind, float)), np.full(count, ABSENT, np.int16))


def _reasoned(table: Table, state: np.ndarray, batch: Decoded) -> np.ndarray:
    """States with the reasons of routes among those of the batch."""
    if not table.reasons or state.min(initial=ABSENT) == ABSENT:
        return state
    for number in np.unique(state[state < ABSENT]).tolist():
        text = table.reasons[-1 - number]
        if text not in batch.reasons:
            batch.reasons.append(text)
        state[state == number] = batch.reasons.index(text) + FIRST_REASON
    return state
