"""Which readings of a field are the newest as they arrive, in what compiles."""

from __future__ import annotations

from typing import Any

import numpy as np

NEVER = int(np.iinfo(np.int64).min)  # no moment
SET_BACK_US = 5 * 60 * 1_000_000  # a clock that goes back by more has been set right; by less, it stands still
FEW = 64  # events up to which compiled code is not asked for: one message at a time needs no compiler


def follow(heads: Any, at: Any, arrival: Any, state: Any, known: Any, fresh: Any, source: Any) -> None:
    """Follows the newest value of one field through events sorted by device and arrival.

    heads: int64 (d + 1,), where the events of each device begin, and the end of the last. at, arrival: int64 (m,).
    state: int16 (m,), 1 where there is a value. known: int64 (d,), when the newest of before was measured, NEVER where
    there is none. fresh: bool (m,), set to whether a value is not older than all before it. source: int64 (m,), set to
    the event that gave the newest value, -1 where it stems from before.
    """
    for device in range(len(known)):
        newest = known[device]
        # What was measured far ahead of this arrival came by a clock that has been set right since.
        if newest > arrival[heads[device]] + SET_BACK_US:
            newest = NEVER
        last = -1
        for event in range(heads[device], heads[device + 1]):
            fresh[event] = state[event] == 1 and at[event] >= newest
            if fresh[event]:
                newest = at[event]
                last = event
            source[event] = last
