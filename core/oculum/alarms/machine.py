"""The state machines of conditions as arrays over slots, moved on by one loop over rows.

The loop is written in what compiles: no objects, whole numbers of 64 bits. `NEVER` stands for no moment.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..history.following import NEVER

NO, YES, UNKNOWN = 0, 1, -1
RAISED, CLEARED, CHANGED, SUPPRESSED = 0, 1, 2, 3
# what a row is
READING, ARRIVAL, TIMER, BEGINS, ENDS, REGISTER = 0, 1, 2, 3, 4, 5
# columns of `out`
SLOT, WHAT, AT, ROW, LEVEL, COLUMNS = 0, 1, 2, 3, 4, 5
STORED = -10  # less the number of the delay: a row of `out` whose cause lies in an earlier batch


@dataclass
class Machine:
    """One condition over its slots.

    level: int8, the step that the open alarm stands at, -1 where none is open. since: int64 (steps, n), since when a
    step's rule holds and is waited for. holds: bool (steps, n). ending: since when the rule for clearing is waited
    for. held_back: suppressed and on record. cause: int64 (steps + 1, n), the row that began a delay (the last for
    clearing): a row of the batch, or STORED for one that is in `stored`.
    """

    level: np.ndarray
    since: np.ndarray
    holds: np.ndarray
    ending: np.ndarray
    held_back: np.ndarray

    @classmethod
    def of(cls, slots: int, steps: int) -> Machine:
        return cls(
            np.full(slots, -1, np.int8),
            np.full((steps, slots), NEVER, np.int64),
            np.zeros((steps, slots), bool),
            np.full(slots, NEVER, np.int64),
            np.zeros(slots, bool),
        )

    def grown(self, slots: int) -> Machine:
        found = Machine.of(slots, len(self.since))
        n = len(self.level)
        found.level[:n], found.since[:, :n], found.holds[:, :n] = self.level, self.since, self.holds
        found.ending[:n], found.held_back[:n] = self.ending, self.held_back
        return found

    def next_due(self, held: Sequence[int], clear_held: int) -> int:
        """When the first delay ends, µs; the largest number where none runs."""
        found = [np.iinfo(np.int64).max]
        for k, delay in enumerate(held):
            waiting = (self.since[k] != NEVER) & ~self.holds[k]
            if waiting.any():
                found.append(int(self.since[k][waiting].min()) + delay)
        ending = self.ending != NEVER
        if ending.any():
            found.append(int(self.ending[ending].min()) + clear_held)
        return min(found)

    def set_back(self, clock: int) -> None:
        """Delays that began later than `clock` are dropped."""
        self.since[(self.since > clock) & ~self.holds] = NEVER
        self.ending[self.ending > clock] = NEVER


def walk(
    slot: Any,
    kind: Any,
    at: Any,
    bound: Any,
    looked: Any,
    quiet: Any,
    rules: Any,
    stills: Any,
    clear: Any,
    own_clear: bool,
    held: Any,
    clear_held: int,
    until: int,
    level: Any,
    since: Any,
    holds: Any,
    ending: Any,
    held_back: Any,
    cause: Any,
    out: Any,
) -> int:
    """Moves the machines on over rows sorted by slot and then by their order. Returns how many transitions there are.

    slot, kind, at, bound: int64 (m,), `bound` the moment before which delays are over. looked: bool, whether the rule
    is evaluated. quiet: bool, a silence that a silent gateway explains. rules, stills: int8 (steps, m); clear: int8
    (m,). held: int64 (steps,). until: the moment up to which the clock has come for every slot. cause: int64
    (steps + 1, n), the row that began a delay (the last for clearing), -1 for one of an earlier batch. out: int64
    (k, COLUMNS), large enough (`space`).
    """
    steps = len(held)
    count = 0
    ended = 0  # slots below it have come to the end
    for r in range(len(slot)):
        s = slot[r]
        if ended < s:
            count = end(
                ended, s, until, steps, own_clear, held, clear_held, level, since, holds, ending, cause, out, count
            )
            ended = s
        # delays that are over before this row
        if waits(s, steps, since, holds, ending):
            count = fire(
                s, bound[r], steps, own_clear, held, clear_held, level, since, holds, ending, cause, out, count
            )
        if kind[r] == 4:  # the hours end
            if level[s] >= 0:
                put(out, count, s, 1, at[r], r, level[s])
                count += 1
            level[s] = -1
            ending[s] = NEVER
            held_back[s] = False
            for k in range(steps):
                since[k, s] = NEVER
                holds[k, s] = False
            continue
        if not looked[r]:
            continue
        now = at[r]
        any_yes = False
        for k in range(steps):
            rule = rules[k, r]
            if rule == 1:
                any_yes = True
            if holds[k, s]:
                if rule != 1 and (stills[k, r] == 0 if not own_clear else rule == 0):
                    holds[k, s] = False
                    since[k, s] = NEVER
            elif rule == 1:
                if since[k, s] == NEVER:
                    since[k, s] = now
                    cause[k, s] = r
                if held[k] == 0:
                    holds[k, s] = True
            elif rule == 0:
                since[k, s] = NEVER
        if quiet[r] and any_yes and level[s] < 0:
            if not held_back[s]:
                held_back[s] = True
                top = steps - 1
                while top > 0 and rules[top, r] != 1:
                    top -= 1
                put(out, count, s, 3, now, r, top)
                count += 1
            for k in range(steps):
                since[k, s] = NEVER
                holds[k, s] = False
            continue
        if not any_yes:
            held_back[s] = False
        top = -1
        for k in range(steps):
            if holds[k, s]:
                top = k
        if top >= 0:
            ending[s] = NEVER
            if level[s] < 0:
                put(out, count, s, 0, now, r, top)
                count += 1
                level[s] = top
            elif level[s] != top:
                put(out, count, s, 2, now, r, top)
                count += 1
                level[s] = top
            continue
        if level[s] < 0:
            continue
        if own_clear:
            over = clear[r]
        else:
            over = 1
            for k in range(steps):
                if stills[k, r] != 0:
                    over = 0 if stills[k, r] == 1 or rules[k, r] == 1 or over == 0 else -1
        if any_yes or over == 0:
            ending[s] = NEVER
        elif over == 1 and ending[s] == NEVER:
            ending[s] = now
            cause[steps, s] = r
            if clear_held == 0:
                put(out, count, s, 1, now, r, level[s])
                count += 1
                level[s] = -1
                ending[s] = NEVER
    return end(
        ended, len(level), until, steps, own_clear, held, clear_held, level, since, holds, ending, cause, out, count
    )


def space(rows: int, slots: int, steps: int) -> np.ndarray:
    """An empty `out` for the walk over so many rows and slots."""
    return np.empty(((2 * steps + 3) * (rows + slots + 4), COLUMNS), np.int64)


def waits(s: int, steps: int, since: Any, holds: Any, ending: Any) -> bool:
    """Whether a delay of a slot is under way: most often none is."""
    if ending[s] != NEVER:
        return True
    for k in range(steps):  # noqa: SIM110
        if since[k, s] != NEVER and not holds[k, s]:
            return True
    return False


def put(out: Any, count: int, slot: Any, what: int, at: Any, row: Any, level: Any) -> None:
    """Writes down one transition."""
    out[count, 0] = slot
    out[count, 1] = what
    out[count, 2] = at
    out[count, 3] = row
    out[count, 4] = level


def begun(cause: Any, which: int, s: int) -> Any:
    """The row that began a delay, as `out` names it."""
    return cause[which, s] if cause[which, s] >= 0 else -10 - which


def fire(
    s: int,
    passed: int,
    steps: int,
    own_clear: bool,
    held: Any,
    clear_held: int,
    level: Any,
    since: Any,
    holds: Any,
    ending: Any,
    cause: Any,
    out: Any,
    count: int,
) -> int:
    """Ends the delays of a slot that were due before `passed`, the earliest first."""
    while True:
        due = passed
        which = -1
        for k in range(steps):
            if since[k, s] != NEVER and not holds[k, s] and since[k, s] + held[k] < due:
                due = since[k, s] + held[k]
                which = k
        if ending[s] != NEVER and ending[s] + clear_held < due:
            due = ending[s] + clear_held
            which = steps
        if which < 0:
            return count
        if which == steps:
            put(out, count, s, 1, due, begun(cause, steps, s), level[s])
            count += 1
            level[s] = -1
            ending[s] = NEVER
            continue
        holds[which, s] = True
        ending[s] = NEVER
        top = which
        for k in range(steps):
            if holds[k, s] and k > top:
                top = k
        if level[s] < 0:
            put(out, count, s, 0, due, begun(cause, which, s), top)
            count += 1
        elif top != level[s]:
            put(out, count, s, 2, due, begun(cause, which, s), top)
            count += 1
        level[s] = top


def end(
    first: int,
    last: int,
    until: int,
    steps: int,
    own_clear: bool,
    held: Any,
    clear_held: int,
    level: Any,
    since: Any,
    holds: Any,
    ending: Any,
    cause: Any,
    out: Any,
    count: int,
) -> int:
    """Slots from `first` to before `last` come to the end: delays that were due before `until` are over."""
    for s in range(first, last):
        if waits(s, steps, since, holds, ending):
            count = fire(s, until, steps, own_clear, held, clear_held, level, since, holds, ending, cause, out, count)
    return count
