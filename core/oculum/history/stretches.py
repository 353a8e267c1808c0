"""In which state each device was, and when: stretches of time, from its arrivals and its cadence.

A device reports from an arrival on, or is undecodable where that message was refused. Where nothing came for 1.5
cadences it is overdue from there on, for 3 cadences silent; who is undecodable is so until it is silent. Time in which
Oculum did not listen does not count. The stretch that still goes on is told by three numbers: state, since, last
arrival.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from ..arrays import among

REPORTING, OVERDUE, SILENT, UNDECODABLE = range(4)
NAMES = ("reporting", "overdue", "silent", "undecodable")
OVERDUE_CADENCES, SILENT_CADENCES = 1.5, 3.0
OK, FAILED, BY_OTHERS = 0, 1, -1  # what became of a message; others' messages tell nothing of a device's own


@dataclass(frozen=True)
class Stretches:
    """device, since, until: int64 (n,), times in µs, each [since, until); state: int8 (n,)."""

    device: np.ndarray
    since: np.ndarray
    until: np.ndarray
    state: np.ndarray

    def __len__(self) -> int:
        return len(self.device)

    @classmethod
    def of(cls, parts: Iterable[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]]) -> Stretches:
        """Joined, without empty ones, by device and time."""
        listed = list(parts)
        if not listed:
            none = np.zeros(0, np.int64)
            return cls(none, none, none, none.astype(np.int8))
        device, since, until, state = (np.concatenate([part[k] for part in listed]) for k in range(4))
        order = np.lexsort((since, device))
        order = order[until[order] > since[order]]
        return cls(device[order], since[order], until[order], state[order].astype(np.int8))

    def within(self, start: int, end: int) -> Stretches:
        """What of them lies in [start, end)."""
        return Stretches.of([(self.device, np.maximum(self.since, start), np.minimum(self.until, end), self.state)])


class Listening:
    """The clock of silence: it stands still while nobody listens. downtime: spans in µs, rising and apart."""

    def __init__(self, downtime: Sequence[tuple[int, int]] = ()) -> None:
        spans = np.array(downtime, np.int64).reshape(-1, 2)
        self.starts, self.lengths = spans[:, 0], spans[:, 1] - spans[:, 0]
        self.before = np.append(0, np.cumsum(self.lengths))
        self.stands = self.starts - self.before[:-1]

    def of(self, moments: np.ndarray) -> np.ndarray:
        """int64 (n,) to int64 (n,): how far it has gone."""
        if not len(self.starts):
            return moments
        k = np.searchsorted(self.starts, moments, side="right") - 1
        into = np.minimum(moments - self.starts[k], self.lengths[k])
        return moments - np.where(k >= 0, self.before[k] + into, 0)

    def back(self, gone: np.ndarray) -> np.ndarray:
        """The moment behind which it has gone further than so far."""
        if not len(self.starts):
            return gone
        return gone + self.before[np.searchsorted(self.stands, gone, side="right")]


def limits(cadence: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """After how long a device is overdue, and silent; int64 (n,) of int64 (n,), all µs."""
    return (cadence * OVERDUE_CADENCES).astype(np.int64), (cadence * SILENT_CADENCES).astype(np.int64)


def _after(
    state: np.ndarray, last: np.ndarray, until: np.ndarray, cadence: np.ndarray, clock: Listening
) -> tuple[np.ndarray, np.ndarray]:
    """When a stretch that had its last arrival is over, and when silence begins, at `until` at the latest."""
    overdue, silent = limits(cadence)
    gone, some = clock.of(last), cadence > 0
    late = np.where(some & (state == REPORTING), np.minimum(clock.back(gone + overdue), until), until)
    quiet = np.where(some, np.minimum(clock.back(gone + silent), until), until)
    return np.minimum(late, quiet), quiet


def _told(
    device: np.ndarray,
    since: np.ndarray,
    last: np.ndarray,
    until: np.ndarray,
    state: np.ndarray,
    cadence: np.ndarray,
    clock: Listening,
) -> list[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]]:
    """A stretch with its last arrival and what follows of it, up to a moment."""
    over, quiet = _after(state, last, until, cadence, clock)
    return [
        (device, since, over, state),
        (device, over, quiet, np.full(len(device), OVERDUE)),
        (device, quiet, until, np.full(len(device), SILENT)),
    ]


def going_on(
    device: np.ndarray,
    state: np.ndarray,
    since: np.ndarray,
    last: np.ndarray,
    cadence: np.ndarray,
    until: int,
    downtime: Sequence[tuple[int, int]] = (),
) -> Stretches:
    """What still goes on, up to a moment; all int64 (n,), µs; cadence 0 where there is none."""
    end = np.full(len(device), until, np.int64)
    return Stretches.of(_told(device, since, np.minimum(last, end), end, state, cadence, Listening(downtime)))


@dataclass(frozen=True)
class Stands:
    """How a device stands: REPORTING or UNDECODABLE, since when, and its last arrival, µs."""

    state: int
    since: int
    last: int


class Presence:
    """How devices stand, moved on by their arrivals."""

    def __init__(self, stands: dict[int, Stands] | None = None) -> None:
        self.stands = stands if stands is not None else {}

    def take(
        self,
        device: np.ndarray,
        received: np.ndarray,
        outcome: np.ndarray,
        cadence: Callable[[int], int],
        downtime: Sequence[tuple[int, int]] = (),
    ) -> tuple[Stretches, set[int]]:
        """Arrivals in their order, int64 (n,) each; outcome: OK, FAILED or BY_OTHERS. cadence: of a device, µs, 0 where
        none is known. Gives the stretches that are over, and the devices that stand otherwise than before.
        """
        if not len(device):
            return Stretches.of([]), set()
        order = np.argsort(device, kind="stable")
        own, at, outcome = device[order], received[order], outcome[order].astype(np.int64)
        first = np.append(True, own[1:] != own[:-1])
        which = np.cumsum(first) - 1
        names = own[first].tolist()
        before = [self.stands.get(d) for d in names]
        known = np.array([s is not None for s in before])
        was = np.array([(s.state, s.since, s.last) if s is not None else (0, 0, 0) for s in before], np.int64)
        pace = np.array([cadence(d) for d in names], np.int64)[which]

        low = min(int(at.min()), int(was[known, 2].min()) if known.any() else int(at.min()))
        width = max(int(at.max()), int(was[:, 2].max())) - low + 1
        at = np.where(first & known[which], np.maximum(at, was[which, 2]), at)  # a clock that was set back
        at = np.maximum.accumulate(at - low + which * width) - which * width + low

        state = np.where(outcome == FAILED, UNDECODABLE, REPORTING)
        state = np.where(first & (outcome == BY_OTHERS), was[which, 0], state)
        said = np.maximum.accumulate(np.where(first | (outcome != BY_OTHERS), np.arange(len(own)), 0))
        state = state[said]

        prior = np.where(first, was[which, 0], np.append(0, state[:-1]))
        last = np.where(first, was[which, 2], np.append(0, at[:-1]))
        there = ~first | known[which]
        clock = Listening(downtime)
        over, _ = _after(prior, last, at, pace, clock)
        fresh = ~there | (over < at) | (state != prior)
        begun = np.where(fresh, np.arange(len(own)), -1)
        latest = np.maximum.accumulate(
            np.where(first & ~fresh, -2 - which, begun) + which * (len(own) + len(names) + 2)
        )
        latest = latest - which * (len(own) + len(names) + 2)
        since = np.where(latest >= 0, at[np.maximum(latest, 0)], was[which, 1])
        earlier = np.where(first, was[which, 1], np.append(0, since[:-1]))

        ended = fresh & there
        told = Stretches.of(_told(own[ended], earlier[ended], last[ended], at[ended], prior[ended], pace[ended], clock))
        ends = np.flatnonzero(np.append(first[1:], True))
        for d, s, a, b in zip(names, state[ends].tolist(), since[ends].tolist(), at[ends].tolist(), strict=True):
            self.stands[d] = Stands(s, a, b)
        return told, set(own[fresh].tolist())

    def part(self, device: int, at: int, failed: bool) -> Stretches:
        """From a moment on a device stands otherwise, though nothing came: its last message was read anew."""
        before = self.stands[device]
        if at <= before.since:
            return Stretches.of([])
        self.stands[device] = Stands(UNDECODABLE if failed else REPORTING, at, before.last)
        one = np.array([device, before.since, at, before.state], np.int64)[:, None]
        return Stretches.of([(one[0], one[1], one[2], one[3])])


def shares(stretches: Stretches, devices: np.ndarray, start: int, width: int, buckets: int) -> np.ndarray:
    """How long each device was in each state by bucket: int64 (devices, buckets, 4), µs. devices: int64 (n,), rising;
    stretches of others are left out. Buckets of `width` µs from `start` on.
    """
    found = np.zeros((len(devices), buckets + 1, len(NAMES)), np.int64)
    cut = stretches.within(start, start + width * buckets)
    mine, place = among(devices, cut.device)
    since, until, state = cut.since[mine] - start, cut.until[mine] - start, cut.state[mine]
    a, b = since // width, until // width
    whole = np.zeros_like(found)  # differences: how many stretches fill a bucket
    np.add.at(found, (place, a, state), np.where(a == b, until - since, (a + 1) * width - since))
    np.add.at(found, (place, b, state), np.where(a == b, 0, until - b * width))
    far = b > a
    np.add.at(whole, (place[far], a[far] + 1, state[far]), width)
    np.add.at(whole, (place[far], b[far], state[far]), -width)
    return (found + np.cumsum(whole, axis=1))[:, :buckets]


def over_time(stretches: Stretches, devices: np.ndarray, start: int, width: int, buckets: int) -> np.ndarray:
    """The state of each device for most of each bucket: int8 (devices, buckets), as `mostly` says of `shares`. Most
    devices are in one state all the time: only of the others the shares are looked at.
    """
    cut = stretches.within(start, start + width * buckets)
    mine, place = among(devices, cut.device)
    since, until, state = cut.since[mine] - start, cut.until[mine] - start, cut.state[mine]
    steady = np.bincount(place, minlength=len(devices)) <= 1
    found = np.full((len(devices), buckets), -1, np.int8)
    alone = steady[place]
    first, last = since[alone] // width, -(-until[alone] // width)
    column = np.arange(buckets)
    there = (column >= first[:, None]) & (column < last[:, None])
    found[place[alone]] = np.where(there, state[alone][:, None], -1)
    found[~steady] = mostly(shares(cut, devices[~steady], start, width, buckets))
    return found


def mostly(spent: np.ndarray) -> np.ndarray:
    """The state in which a device was for most of a bucket: int8 (devices, buckets), -1 where it was in none. What is
    worse wins a draw.
    """
    worst_first = [SILENT, UNDECODABLE, OVERDUE, REPORTING]
    best = np.argmax(spent[:, :, worst_first], axis=2)
    return np.where(spent.any(axis=2), np.array(worst_first, np.int8)[best], -1).astype(np.int8)
