"""States over time, against going through the arrivals of one device after the other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from oculum.history.stretches import (
    BY_OTHERS,
    FAILED,
    NAMES,
    OK,
    OVERDUE,
    REPORTING,
    SILENT,
    UNDECODABLE,
    Listening,
    Presence,
    going_on,
    mostly,
    over_time,
    shares,
)

CADENCES = {1: 10, 2: 4, 3: 0}
Arrival = tuple[int, int, int]  # device, moment, outcome
arrivals = st.lists(
    st.tuples(st.sampled_from([1, 2, 3]), st.integers(0, 400), st.sampled_from([OK, FAILED, BY_OTHERS])), max_size=25
).map(lambda listed: sorted(listed, key=lambda one: one[1]))
gaps = st.lists(st.integers(0, 400), max_size=6, unique=True).map(
    lambda edges: [*zip(sorted(edges)[::2], sorted(edges)[1::2], strict=False)]
)


def asked(device: int, at: int, came: Sequence[Arrival], deaf: Sequence[tuple[int, int]]) -> int | None:
    """The state at a moment, by the rules as they are told."""
    heard = [(t, outcome) for d, t, outcome in came if d == device and t <= at]
    if not heard:
        return None
    age = sum(not any(a <= t < b for a, b in deaf) for t in range(heard[-1][0], at + 1))
    own = [outcome for _, outcome in heard if outcome != BY_OTHERS]
    cadence = CADENCES[device]
    if cadence and age > 3 * cadence:
        return SILENT
    if own[-1:] == [FAILED]:
        return UNDECODABLE
    return OVERDUE if cadence and age > 1.5 * cadence else REPORTING


@given(arrivals, gaps, st.lists(st.integers(0, 25), max_size=4))
def test_stretches_are_what_one_would_say_at_each_moment(
    came: list[Arrival], deaf: list[tuple[int, int]], cuts: list[int]
) -> None:
    presence, parts = Presence(), []
    edges = [0, *sorted({min(cut, len(came)) for cut in cuts}), len(came)]
    for first, last in zip(edges, edges[1:], strict=False):
        device, at, outcome = np.array(came[first:last], np.int64).reshape(-1, 3).T
        parts.append(presence.take(device, at, outcome, CADENCES.__getitem__, deaf)[0])
    names = sorted(presence.stands)
    told = [presence.stands[d] for d in names]
    parts.append(
        going_on(
            np.array(names, np.int64),
            np.array([s.state for s in told], np.int64),
            np.array([s.since for s in told], np.int64),
            np.array([s.last for s in told], np.int64),
            np.array([CADENCES[d] for d in names], np.int64),
            500,
            deaf,
        )
    )
    found: dict[tuple[int, int], int] = {}
    for part in parts:
        columns = (part.device.tolist(), part.since.tolist(), part.until.tolist(), part.state.tolist())
        for d, since, until, state in zip(*columns, strict=True):
            for moment in range(since, until):
                assert (d, moment) not in found
                found[d, moment] = state
    for d in CADENCES:
        for moment in range(500):
            assert found.get((d, moment)) == asked(d, moment, came, deaf), (d, moment)


@given(arrivals, st.integers(1, 60), st.integers(0, 50))
def test_shares_of_buckets_add_up(came: list[Arrival], width: int, start: int) -> None:
    presence = Presence()
    device, at, outcome = np.array(came, np.int64).reshape(-1, 3).T
    told, _ = presence.take(device, at, outcome, CADENCES.__getitem__)
    spent = shares(told, np.array([1, 2]), start, width, 5)
    assert over_time(told, np.array([1, 2]), start, width, 5).tolist() == mostly(spent).tolist()
    for row, d in enumerate([1, 2]):
        for bucket in range(5):
            edge = start + bucket * width
            for state in range(len(NAMES)):
                slow = sum(
                    max(min(b, edge + width) - max(a, edge), 0)
                    for x, a, b, s in zip(told.device, told.since, told.until, told.state, strict=True)
                    if (x, s) == (d, state)
                )
                assert spent[row, bucket, state] == slow
            best = mostly(spent)[row, bucket]
            assert best == -1 if not spent[row, bucket].any() else spent[row, bucket, best] == spent[row, bucket].max()


def test_what_was_read_anew_parts_a_stretch() -> None:
    presence = Presence()
    one = np.array([1], np.int64)
    presence.take(one, np.array([100]), np.array([FAILED]), CADENCES.__getitem__)
    parted = presence.part(1, 105, False)
    assert (parted.since.tolist(), parted.until.tolist(), parted.state.tolist()) == ([100], [105], [UNDECODABLE])
    told, changed = presence.take(one, np.array([109]), np.array([OK]), CADENCES.__getitem__)
    assert not len(told) and not changed and presence.stands[1].since == 105


def test_the_clock_of_silence_stands_still() -> None:
    clock = Listening([(10, 20), (30, 31)])
    assert clock.of(np.array([5, 10, 15, 20, 30, 31, 40])).tolist() == [5, 10, 10, 10, 20, 20, 29]
    assert clock.back(np.array([5, 9, 10, 19, 20, 29])).tolist() == [5, 9, 20, 29, 31, 40]
