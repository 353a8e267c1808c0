"""The readings of one device type in a batch as one table, whichever decoder and part of a message gave them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field

import numpy as np

from ..arrays import Ints, in_turn, objects
from ..batches import PRESENT, Column, Decoded, Group
from ..language.fields import FieldSpec

ABSENT = 0


@dataclass
class Origin:
    """Some readings of a group of a decoded batch: their places in it, and the lines of the table that they are in."""

    decoded: int
    group: int
    chosen: Ints
    line: Ints


@dataclass
class Table:
    """One line for each device, message and measured time, sorted by device, message, time.

    device, row (the message in the batch), at: int64 (n,). columns: fields as they stand; a state above 1 is a reason
    of the decoder, below 0 one of a route (-1 the first of `reasons`). changed: bool (n,), by field: what routes have
    changed. given: the fields that routes of the type derive, whether they have or not. alive: bool (n,), whether
    further routes take the line. marks: by name int32 (n,) and texts, 0 for none and k for the text k - 1. dropped: the
    fields of which routes have dropped values.
    """

    device: Ints
    row: Ints
    at: Ints
    parts: list[Origin]
    specs: dict[str, FieldSpec]
    columns: dict[str, Column]
    changed: dict[str, np.ndarray] = field(default_factory=dict)
    given: dict[str, FieldSpec] = field(default_factory=dict)
    reasons: list[str] = field(default_factory=list)
    marks: dict[str, tuple[np.ndarray, list[str]]] = field(default_factory=dict)
    shared: set[str] = field(default_factory=set)
    alone: bool = False  # whether it is a group as it stands

    def __post_init__(self) -> None:
        self.alive, self.ended = np.ones(len(self.device), bool), False
        self.dropped: set[str] = set()
        self._everywhere: dict[str, bool] = {}
        self.slot = np.zeros(0, np.int64)  # int64 (n,): where the devices stand among all, once they are looked up
        head = np.append(True, self.device[1:] != self.device[:-1])
        self.starts = np.flatnonzero(head)
        self.devices = self.device[self.starts]
        self.ends = np.append(self.starts[1:], len(self.device))

    def __len__(self) -> int:
        return len(self.device)

    def end(self, lines: Ints) -> None:
        """No further route takes these lines."""
        self.alive[lines] = False
        self.ended = True

    def living(self, lines: Ints) -> Ints:
        """Those that further routes take."""
        return lines[self.alive[lines]] if self.ended else lines

    def at_lines(self, array: np.ndarray, lines: Ints) -> np.ndarray:
        """What stands at some lines, rising. The array itself where these are all, to be read only."""
        return array if len(lines) == len(self.device) else array[lines]

    def mark(self, name: str, lines: Ints, text: str) -> None:
        marks, texts = self.marks.setdefault(name, (np.zeros(len(self), np.int32), []))
        if text not in texts:
            texts.append(text)
        marks[lines] = texts.index(text) + 1

    def marked(self, name: str, lines: Ints) -> np.ndarray:
        """object (n,): what lines are marked with under a name, None where they are not."""
        marks, texts = self.marks.get(name, (np.zeros(len(self), np.int32), []))
        return objects([None, *texts])[marks[lines]]

    def state(self, name: str) -> np.ndarray:
        """int16 (n,): states of a field, 0 throughout where it is none of the batch."""
        column = self.columns.get(name)
        return column.state if column is not None else np.zeros(len(self), np.int16)

    def everywhere(self, name: str) -> bool:
        """Whether all lines have a value of a field, or one that is missing."""
        if name not in self._everywhere:
            self._everywhere[name] = bool(self.state(name).all())
        return self._everywhere[name]

    def own(self, name: str) -> Column:
        """A column that is about to be changed."""
        self._everywhere.pop(name, None)
        column = self.columns[name]
        if name in self.shared:
            self.shared.discard(name)
            column = self.columns[name] = Column(column.values.copy(), column.state.copy())
        return column

    def reason(self, text: str) -> int:
        """The state of what a route drops for a reason."""
        if text not in self.reasons:
            self.reasons.append(text)
        return -1 - self.reasons.index(text)

    def touched(self, name: str) -> np.ndarray:
        if name not in self.changed:
            self.changed[name] = np.zeros(len(self), bool)
        return self.changed[name]

    def put(self, spec: FieldSpec, lines: Ints, values: np.ndarray) -> None:
        """Values of a field where there were others, or none."""
        if spec.name not in self.columns:
            self.specs[spec.name] = spec
            blank = Column(np.zeros((len(self), *values.shape[1:]), values.dtype), np.zeros(len(self), np.int16))
            self.columns[spec.name] = blank
        column = self.own(spec.name)
        if column.values.dtype != values.dtype:
            column.values = column.values.astype(np.result_type(column.values.dtype, values.dtype))
        column.values[lines] = values
        column.state[lines] = PRESENT
        self.touched(spec.name)[lines] = True

    def take_out(self, name: str, lines: Ints, state: int = ABSENT) -> None:
        """Takes values of a field out, with a reason or (state 0) as if they had not been there."""
        there = lines[self.state(name)[lines] == PRESENT]
        if len(there):
            if state < ABSENT:
                self.dropped.add(name)
            self.own(name).state[there] = state
            self.touched(name)[there] = True


class Types:
    """The types of devices, those of a batch looked up once."""

    def __init__(self, device: Ints, type_of: Callable[[int], int]) -> None:
        self._devices = np.unique(device)
        self._types = np.fromiter(map(type_of, self._devices.tolist()), np.int64, len(self._devices))
        self._type_of = type_of

    @classmethod
    def around(cls, device: Ints, type_of: Callable[[int], int]) -> Types:
        return type_of if isinstance(type_of, Types) else cls(device, type_of)

    def __call__(self, device: int) -> int:
        return self._type_of(device)

    def of(self, owner: Ints) -> Ints:
        """int64 (n,): the type of each."""
        if not len(self._devices):
            return np.fromiter(map(self._type_of, owner.tolist()), np.int64, len(owner))
        place = np.minimum(np.searchsorted(self._devices, owner), len(self._devices) - 1)
        found = self._types[place]
        for i in np.flatnonzero(self._devices[place] != owner).tolist():  # somebody else has spoken for it
            found[i] = self._type_of(int(owner[i]))
        return found


def tables(
    decoded: Sequence[Decoded],
    index: Sequence[Ints],
    device: Ints,
    type_of: Callable[[int], int],
    wanted: Collection[int],
) -> dict[int, Table]:
    """The tables of the types that are wanted. index: int64, the rows of each decoded batch among all messages."""
    found: dict[int, list[tuple[Origin, Ints, Ints, Ints, Group]]] = {}
    known = Types.around(device, type_of)
    for d, (batch, rows_of) in enumerate(zip(decoded, index, strict=True)):
        for g, group in enumerate(batch.groups):
            if not len(group.rows):
                continue
            rows = rows_of[group.rows]
            owner = group.owner if group.owner is not None else device[rows]
            types = known.of(owner)
            alike = bool((types == types[0]).all())
            for type_ in [int(types[0])] if alike else np.unique(types).tolist():
                if type_ not in wanted:
                    continue
                chosen = np.arange(len(rows)) if alike else np.flatnonzero(types == type_)
                part = Origin(d, g, chosen, chosen)
                found.setdefault(type_, []).append((part, owner[chosen], rows[chosen], group.at[chosen], group))
    return {type_: _table(parts) for type_, parts in found.items()}


def _table(listed: list[tuple[Origin, Ints, Ints, Ints, Group]]) -> Table:
    owner, row, at = (np.concatenate([entry[k] for entry in listed]) for k in (1, 2, 3))
    lines, line_of = in_turn(owner, row, at)
    device, row, at, count = owner[lines], row[lines], at[lines], len(lines)
    (alone, *_, group), several = listed[0], len(listed) > 1
    if not several and count == len(line_of) == len(group.rows) and not (lines[1:] < lines[:-1]).any():
        alone.line = line_of  # as they stand in their group
        given = {spec.name: spec for spec in group.fields}
        return Table(device, row, at, [alone], given, dict(group.columns), shared=set(given), alone=True)
    specs: dict[str, FieldSpec] = {}
    columns: dict[str, Column] = {}
    begin = 0
    for part, owners, _, _, group in listed:
        part.line = line_of[begin : begin + len(owners)]
        begin += len(owners)
        for spec in group.fields:
            if specs.setdefault(spec.name, spec).kind != spec.kind:
                continue  # two versions of a decoder may differ in what a name is
            _join(columns, spec.name, group.columns[spec.name], part, count)
    return Table(device, row, at, [entry[0] for entry in listed], specs, columns)


def _join(columns: dict[str, Column], name: str, own: Column, part: Origin, count: int) -> None:
    column = columns.get(name)
    if column is None:
        column = Column(np.zeros((count, *own.values.shape[1:]), own.values.dtype), np.zeros(count, np.int16))
        columns[name] = column
    elif column.values.dtype != own.values.dtype:
        column.values = column.values.astype(np.result_type(column.values.dtype, own.values.dtype))
    state = own.state[part.chosen]
    there = state != ABSENT
    lines = part.line[there]
    column.values[lines] = own.values[part.chosen[there]]
    column.state[lines] = state[there]
