"""Loops of the alarms as machine code."""

from __future__ import annotations

import numpy as np

from ..compiling import Loops
from ..history import compiled as of_the_past
from . import arrivals, machine

compiled = Loops(
    (machine, ("put", "waits", "begun", "fire", "end", "walk")),
    (arrivals, ("due_after", "median", "learn", "silences")),
)


def ready() -> None:
    """Compiles all loops for the arrays that they are given, so that no batch waits for it."""
    of_the_past.ready()
    i8, f8, truth, small = (np.zeros(0, kind) for kind in (np.int64, float, bool, np.int8))
    two, none = np.zeros((1, 0), np.int64), np.zeros((1, 0), bool)
    one = np.zeros((1, 0), np.int8)
    compiled("walk")(
        i8, i8, i8, i8, truth, truth, one, one, small, False, np.zeros(1, np.int64), 0, 0, small, two, none, i8, truth,
        np.zeros((2, 0), np.int64), np.zeros((1, machine.COLUMNS), np.int64),
    )  # fmt: skip
    compiled("learn")(i8, i8, i8, i8, np.zeros((0, arrivals.KEPT), np.int64), i8, i8, i8, i8)
    compiled("silences")(
        i8, np.zeros(1, np.int64), i8, i8, np.zeros(1, np.int64), i8, i8, 0, i8, i8, i8, i8, i8,
        np.zeros((16, 3), np.int64),
    )  # fmt: skip
