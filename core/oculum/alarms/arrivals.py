"""What the arrivals of messages tell by themselves: learned cadences, and when a silence lasts too long."""

from __future__ import annotations

from typing import Any

from ..history.following import NEVER

KEPT, LEAST = 50, 8  # intervals that a cadence is learned from
COUNTING, SILENT, EXPLAINED = 0, 1, 2  # of a silence: it is counted, it has lasted, a silent gateway explains it


def learn(
    slot: Any,
    at: Any,
    given: Any,
    counted: Any,
    intervals: Any,
    size: Any,
    scratch: Any,
    cadence: Any,
    spread: Any,
) -> int:
    """The learned cadence and its spread after every arrival.

    slot, at: int64 (m,), in the order of arrival. given: int64 (n,), the cadence of each slot, 0 where there is none.
    counted: int64 (n,), the last arrival that counted; intervals: int64 (n, KEPT), size: int64 (n,), how many there
    ever were. What arrives within a hundredth of the cadence of the one before belongs to one burst. cadence, spread:
    int64 (m,) are filled; a spread below 0 is not known.
    """
    for r in range(len(slot)):
        s = slot[r]
        have = min(size[s], KEPT)
        own = given[s]
        if have >= LEAST:
            own = median(intervals[s], have, scratch)
        if counted[s] == NEVER:
            counted[s] = at[r]
        elif (at[r] - counted[s]) * 100 >= own and at[r] > counted[s]:
            intervals[s, size[s] % KEPT] = at[r] - counted[s]
            size[s] += 1
            counted[s] = at[r]
        have = min(size[s], KEPT)
        if have >= LEAST:
            middle = median(intervals[s], have, scratch)
            cadence[r] = middle
            for i in range(have):
                scratch[i] = abs(intervals[s, i] - middle)
            for i in range(1, have):
                value = scratch[i]
                j = i
                while j > 0 and scratch[j - 1] > value:
                    scratch[j] = scratch[j - 1]
                    j -= 1
                scratch[j] = value
            spread[r] = (scratch[(have - 1) // 2] + scratch[have // 2]) // 2
        else:
            cadence[r] = given[s]
            spread[r] = -1
    return len(slot)


def median(values: Any, count: int, scratch: Any) -> int:
    """The median of the first `count` whole numbers; of two middle ones their mean, rounded down."""
    for i in range(count):
        value = values[i]
        j = i
        while j > 0 and scratch[j - 1] > value:
            scratch[j] = scratch[j - 1]
            j -= 1
        scratch[j] = value
    return (scratch[(count - 1) // 2] + scratch[count // 2]) // 2  # type: ignore[no-any-return]


def due_after(last: int, limit: int, down_from: Any, down_to: Any) -> int:
    """When a silence that began at `last` has lasted `limit`, time in which nobody listened taken out."""
    due = last + limit
    for i in range(len(down_from)):
        if down_to[i] <= last:
            continue
        if down_from[i] >= due:
            break
        due += down_to[i] - max(down_from[i], last)
    return due


def silences(
    slots: Any,
    first: Any,
    arrived: Any,
    limits: Any,
    gate_first: Any,
    gate_from: Any,
    gate_to: Any,
    until: int,
    down_from: Any,
    down_to: Any,
    last: Any,
    limit: Any,
    state: Any,
    out: Any,
) -> int:
    """When silences come, are explained, and end, for some slots.

    slots: int64 (n,), rising. first: int64 (n + 1,), where the arrivals of each begin in `arrived` (µs, rising) and
    `limits` (µs; what counts from that arrival on, below 0 where it is not known). gate_first, gate_from, gate_to:
    the same for the spans in which the gateway's silence is open, `gate_to` the largest number where it still is.
    until: the moment before which silences are over. last, limit, state: int64 by slot, moved on in place. out: int64
    (k, 3), slot, moment and new state of every change. Returns how many changes there are.
    """
    count = 0
    for n in range(len(slots)):
        s = slots[n]
        a = first[n]
        g = gate_first[n]
        while True:
            arrival = arrived[a] if a < first[n + 1] else until
            # The end of a gateway's silence, if it comes before the next arrival.
            while g < gate_first[n + 1] and gate_to[g] <= last[s]:
                g += 1
            back = gate_to[g] if g < gate_first[n + 1] else until
            event = min(arrival, back)
            at_end = event >= until and a >= first[n + 1]
            if state[s] == COUNTING and limit[s] > 0 and last[s] != NEVER:
                due = due_after(last[s], limit[s], down_from, down_to)
                if due < event or (due < until and at_end):
                    explained = False
                    for h in range(gate_first[n], gate_first[n + 1]):
                        if gate_from[h] <= due and due < gate_to[h]:
                            explained = True
                    state[s] = EXPLAINED if explained else SILENT
                    out[count, 0], out[count, 1], out[count, 2] = s, due, state[s]
                    count += 1
            if back < arrival and back < until:
                if state[s] != SILENT:
                    if state[s] == EXPLAINED:
                        out[count, 0], out[count, 1], out[count, 2] = s, back, COUNTING
                        count += 1
                    state[s] = COUNTING
                    last[s] = max(last[s], back)
                g += 1
                continue
            if a >= first[n + 1]:
                break
            if state[s] != COUNTING:
                out[count, 0], out[count, 1], out[count, 2] = s, arrival, COUNTING
                count += 1
            state[s] = COUNTING
            last[s] = arrival
            limit[s] = limits[a]
            a += 1
    return count
