"""The newest value of every field of every device, as arrays over slots."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, MutableMapping, Sequence
from typing import Any

import numpy as np

from .events import Events, Newest, plain
from .following import NEVER


class _Field:
    """One field: values and measured times by slot, NEVER where there is none."""

    def __init__(self, slots: int, sample: np.ndarray) -> None:
        self.values = np.zeros((slots, *sample.shape[1:]), sample.dtype)
        self.at = np.full(slots, NEVER, np.int64)

    def grow(self, slots: int) -> None:
        pad = slots - len(self.at)
        self.values = np.concatenate([self.values, np.zeros((pad, *self.values.shape[1:]), self.values.dtype)])
        self.at = np.concatenate([self.at, np.full(pad, NEVER, np.int64)])

    def fit(self, sample: np.ndarray) -> None:
        """Takes values of another kind in as well. What does not fit the new kind is forgotten."""
        if sample.shape[1:] != self.values.shape[1:]:
            fresh = _Field(len(self.at), sample)
            self.values, self.at = fresh.values, fresh.at
        elif sample.dtype != self.values.dtype:
            self.values = self.values.astype(object)


class Fleet(MutableMapping[tuple[int, str], Newest]):
    """Newest values by device and field."""

    def __init__(self) -> None:
        self.slots: dict[int, int] = {}
        self._ids = np.zeros(0, np.int64)
        self._dense = np.zeros(0, np.int64)  # a device's slot by its number, -1 for none
        self.fields: dict[str, _Field] = {}

    @classmethod
    def of(cls, found: Mapping[tuple[int, str], Newest]) -> Fleet:
        fleet = cls()
        for key, one in found.items():
            fleet[key] = one
        return fleet

    # slots ------------------------------------------------------------------------------
    def places(self, ids: np.ndarray) -> np.ndarray:
        """int64 (n,): the slot of each device, -1 where nothing of it is known."""
        if not len(self._dense):
            return np.full(len(ids), -1, np.int64)
        inside = (ids >= 0) & (ids < len(self._dense))
        return np.where(inside, self._dense[np.where(inside, ids, 0)], -1)

    def _with(self, ids: np.ndarray) -> np.ndarray:
        """The slots of devices, with fresh ones for those that have none."""
        found = self.places(ids)
        if (found >= 0).all():
            return found
        fresh = np.unique(ids[found < 0])
        begin = len(self._ids)
        self._ids = np.concatenate([self._ids, fresh])
        self.slots |= {int(d): begin + k for k, d in enumerate(fresh.tolist())}
        if int(fresh.max()) >= len(self._dense):
            more = np.full(int(fresh.max()) * 2 + 64, -1, np.int64)
            more[: len(self._dense)] = self._dense
            self._dense = more
        self._dense[fresh] = begin + np.arange(len(fresh))
        room = len(self._ids)
        for field in self.fields.values():
            if len(field.at) < room:
                field.grow(room * 3 // 2 + 16)
        return self.places(ids)

    def _field(self, name: str, sample: np.ndarray) -> _Field:
        if name not in self.fields:
            self.fields[name] = _Field(len(self._ids) * 3 // 2 + 16, sample)
        field = self.fields[name]
        field.fit(sample)
        return field

    # columns ----------------------------------------------------------------------------
    def column(self, name: str, ids: np.ndarray, sample: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
        """Values of a field and when they were measured, NEVER where there is none. sample: of the kind of values that
        it is to be joined with, None for whatever it is.
        """
        field = self.fields.get(name)
        if field is None or (sample is not None and sample.shape[1:] != field.values.shape[1:]):
            blank = sample if sample is not None else np.zeros(0)
            return np.zeros((len(ids), *blank.shape[1:]), blank.dtype), np.full(len(ids), NEVER, np.int64)
        place = self.places(ids)
        at = np.where(place >= 0, field.at[np.maximum(place, 0)], NEVER)
        return field.values[np.maximum(place, 0)], at

    def times(self, names: Sequence[str], ids: np.ndarray) -> list[np.ndarray]:
        """int64 (n,) for each field: when its newest value of each device was measured, NEVER where there is none."""
        place = self.places(ids)
        at = np.maximum(place, 0)
        none = np.full(len(ids), NEVER, np.int64)
        there = place >= 0
        return [np.where(there, self.fields[name].at[at], NEVER) if name in self.fields else none for name in names]

    def measured(self, ids: np.ndarray) -> np.ndarray:
        """int64 (n,): when the newest of all values of each device was measured, NEVER where nothing is known."""
        found = np.full(len(ids), NEVER, np.int64)
        place = self.places(ids)
        there = np.flatnonzero(place >= 0)
        for field in self.fields.values():
            found[there] = np.maximum(found[there], field.at[place[there]])
        return found

    def take(self, events: Events) -> None:
        """What is newest after some events."""
        if not len(events):
            return
        ends = np.flatnonzero(np.append(events.device[1:] != events.device[:-1], True))
        place = self._with(events.device[ends])
        for name, track in events.tracks.items():
            source = track.source[ends]
            known = source >= 0
            values = track.column.values[source[known]]
            if not known.any():
                continue
            field = self._field(name, values)
            field.values[place[known]] = values
            field.at[place[known]] = events.at[source[known]]

    def whole(self, name: str) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """All that is known of a field: devices, values, measured times."""
        field = self.fields[name]
        slots = np.flatnonzero(field.at[: len(self._ids)] != NEVER)
        return self._ids[slots], field.values[slots], field.at[slots]

    def put(self, name: str, ids: np.ndarray, values: np.ndarray, at: np.ndarray) -> None:
        """Values of one field, whatever was known before."""
        place = self._with(ids)
        field = self._field(name, values)
        field.values[place], field.at[place] = values, at

    # one by one -------------------------------------------------------------------------
    def __getitem__(self, key: tuple[int, str]) -> Newest:
        device, name = key
        slot = self.slots[device]
        field = self.fields[name]
        if slot >= len(field.at) or field.at[slot] == NEVER:
            raise KeyError(key)
        return Newest(plain(field.values[slot]), int(field.at[slot]))

    def __setitem__(self, key: tuple[int, str], found: Newest) -> None:
        device, name = key
        slot = int(self._with(np.array([device], np.int64))[0])
        value: Any = found.value
        sample = np.zeros((0, 2)) if isinstance(value, list | tuple) else np.zeros(0)
        if isinstance(value, str) or (isinstance(value, int) and abs(value) > 2**53):
            sample = np.zeros(0, object)
        field = self._field(name, sample)
        field.values[slot] = value
        field.at[slot] = found.at

    def __delitem__(self, key: tuple[int, str]) -> None:
        self[key]
        self.fields[key[1]].at[self.slots[key[0]]] = NEVER

    def __iter__(self) -> Iterator[tuple[int, str]]:
        for name, field in self.fields.items():
            for slot in np.flatnonzero(field.at[: len(self._ids)] != NEVER).tolist():
                yield int(self._ids[slot]), name

    def __len__(self) -> int:
        return sum(int((field.at[: len(self._ids)] != NEVER).sum()) for field in self.fields.values())
