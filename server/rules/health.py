"""How devices have been over a span: figures with formulas (docs/health.md), for one or by what they have in common."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np

from oculum.arrays import among, middles
from oculum.history.stretches import NAMES, Listening, shares
from server.store.heard import heard_before_known
from server.store.raised import alarm_spans
from server.store.register import in_service
from server.store.stretches import downtime, lasting, read_stretches
from server.store.summed import sums
from server.store.times import us

MANY = 1_000  # devices: of more, the database is asked about all


@dataclass(frozen=True)
class Figures:
    """Of a device, or of several. Shares from 0 to 1, None where nothing can be said; times in seconds.

    states: time spent in each. delay: from measured to received. clock: how far ahead a device's clock is.
    """

    devices: int
    messages: int
    expected: float | None
    availability: float | None
    decoded: float | None
    complete: float | None
    delay: float | None
    delay_max: float | None
    clock: float | None
    alarm: float
    states: dict[str, float]


@dataclass(frozen=True)
class Health:
    """Figures of devices, or of groups of them, an entry each. What cannot be said is NaN; times in seconds.

    device: int64 (n,), rising (of groups their places); devices: int64 (n,), how many; counts: int64 (5, n): messages,
    refused ones, values, missing values, delays; expected, met: float (n,), messages, and those of the expected that
    came; delay_sum, delay_max, clock, alarm: float (n,); states: float (n, 4).
    """

    device: np.ndarray
    devices: np.ndarray
    counts: np.ndarray
    expected: np.ndarray
    met: np.ndarray
    delay_sum: np.ndarray
    delay_max: np.ndarray
    clock: np.ndarray
    alarm: np.ndarray
    states: np.ndarray

    @cached_property
    def availability(self) -> np.ndarray:
        return share(self.met, self.expected)

    @cached_property
    def decoded(self) -> np.ndarray:
        return 1 - share(self.counts[1], self.counts[0])

    @cached_property
    def complete(self) -> np.ndarray:
        return share(self.counts[2], self.counts[2] + self.counts[3])

    @cached_property
    def delay(self) -> np.ndarray:
        return share(self.delay_sum, self.counts[4])

    def __getitem__(self, device: int) -> Figures:
        return self.told(int(np.flatnonzero(self.device == device)[0]))

    def told(self, place: int) -> Figures:
        """One entry."""

        def said(column: np.ndarray) -> float | None:
            return None if np.isnan(column[place]) else float(column[place])

        return Figures(
            devices=int(self.devices[place]),
            messages=int(self.counts[0][place]),
            expected=said(self.expected),
            availability=said(self.availability),
            decoded=said(self.decoded),
            complete=said(self.complete),
            delay=said(self.delay),
            delay_max=said(self.delay_max),
            clock=said(self.clock),
            alarm=float(self.alarm[place]),
            states=dict(zip(NAMES, self.states[place].tolist(), strict=True)),
        )

    def by_device(self, name: str) -> dict[int, float | None]:
        """One figure by device."""
        column = getattr(self, name)
        told = np.where(np.isnan(column), None, column.astype(object))
        return dict(zip(self.device.tolist(), list(told), strict=True))

    def grouped(self, groups: Sequence[Iterable[int]]) -> Health:
        """Of groups of devices, each at most in one, an entry a group: what is counted is added up, of clocks the
        median is told.
        """
        members = [np.fromiter(group, np.int64) for group in groups]
        asked = np.concatenate([np.zeros(0, np.int64), *members])
        owner = np.repeat(np.arange(len(groups)), [len(group) for group in members])
        there, place = among(self.device, asked)
        owner = owner[there]
        count = len(groups)

        def summed(column: np.ndarray) -> np.ndarray:
            return np.bincount(owner, weights=np.nan_to_num(column[place]), minlength=count)

        delay_max = np.full(count, np.nan)
        np.fmax.at(delay_max, owner, self.delay_max[place])
        order = np.argsort(owner, kind="stable")
        sizes = np.bincount(owner, minlength=count)
        within = np.arange(len(owner)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
        clocks = np.full((count, max(sizes, default=0)), np.nan)
        clocks[owner[order], within] = self.clock[place][order]
        expected = summed(self.expected)
        return Health(
            np.arange(count),
            summed(self.devices).astype(np.int64),
            np.stack([summed(row) for row in self.counts]).astype(np.int64),
            np.where(expected > 0, expected, np.nan),
            summed(self.met),
            summed(self.delay_sum),
            delay_max,
            middles(clocks),
            summed(self.alarm),
            np.stack([summed(column) for column in self.states.T], axis=1),
        )

    def together(self) -> Figures:
        """Of all of them."""
        return self.grouped([self.device.tolist()]).told(0)


def share(part: np.ndarray, whole: np.ndarray) -> np.ndarray:
    """float (n,), NaN where there is nothing to have a part of."""
    return np.divide(part, whole, out=np.full(len(whole), np.nan), where=whole > 0)


@dataclass(frozen=True)
class Now:
    """What several spans are asked with alike: devices in service, and how all stand."""

    service: Sequence[np.ndarray]
    lasting: Sequence[np.ndarray]

    @classmethod
    def read(cls, cursor: Any, only: Sequence[int] | None = None) -> Now:
        return cls(in_service(cursor, only), lasting(cursor, only))


def figures(
    cursor: Any, start: datetime, end: datetime, only: Sequence[int] | None = None, now: Now | None = None
) -> Health:
    """Of each device in service over a span; messages are counted by whole hours of arrival. now: of all devices, where
    it is known.
    """
    few = only if only is None or len(only) <= MANY else None
    now = now or Now.read(cursor, few)
    device, cadence, registered = now.service
    if only is not None and few is None:
        chosen = np.isin(device, np.array(only, np.int64))
        device, cadence, registered = device[chosen], cadence[chosen], registered[chosen]
    opened = start.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    first, last = us(opened), us(end)
    some = None if few is None else device.tolist()
    stretches = read_stretches(cursor, opened, end, some, now.lasting)
    states = shares(stretches, device, first, last - first, 1)[:, 0] / 1e6
    since = np.maximum(first, _known_since(cursor, device, registered, opened))
    clock = Listening(downtime(cursor, end))
    listened = np.maximum(clock.of(np.full(len(device), last)) - clock.of(np.minimum(since, last)), 0) / 1e6
    expected = np.where(listened > 0, share(listened, cadence), np.nan)
    counted = sums(cursor, opened, end, device)
    late = counted.tells  # where a payload has no time of its own, nothing is late
    counts = np.concatenate([counted.counts[:4], np.where(late, counted.counts[4:], 0)])
    return Health(
        device,
        np.ones(len(device), np.int64),
        counts,
        expected,
        np.minimum(counts[0], np.nan_to_num(expected)),
        np.where(late, counted.delay_sum, 0.0),
        np.where(late, counted.delay_max, np.nan),
        np.where(late, counted.clock, np.nan),
        _in_alarm(cursor, device, opened, end, some),
        states,
    )


def _in_alarm(
    cursor: Any, devices: np.ndarray, start: datetime, end: datetime, only: Sequence[int] | None
) -> np.ndarray:
    """How long each device was in any alarm in [start, end): float (n,), s; several at once count once."""
    owner, raised, cleared = alarm_spans(cursor, start, end, only)
    there, place = among(devices, owner)
    raised, cleared = raised[there], cleared[there]
    # Each device in a time of its own, one behind the other, so that the latest end so far is that of the device.
    begins, span = us(start), us(end) - us(start)
    raised, cleared = raised - begins + place * span, cleared - begins + place * span
    until = np.maximum.accumulate(np.append(0, cleared))[:-1]
    spent = np.maximum(cleared - np.maximum(raised, until), 0)
    return np.bincount(place, weights=spent, minlength=len(devices)) / 1e6


def _known_since(cursor: Any, devices: np.ndarray, registered: np.ndarray, start: datetime) -> np.ndarray:
    """When devices were registered, or were first heard if that was earlier: int64 (n,), µs. What stands before the
    span does not matter.
    """
    found = registered.copy()
    if (registered > us(start)).any():
        owner, since = heard_before_known(cursor, start)
        there, place = among(devices, owner)
        np.minimum.at(found, place, since[there])
    return found
