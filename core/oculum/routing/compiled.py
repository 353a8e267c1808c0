"""Loops of routing as machine code."""

from __future__ import annotations

import numpy as np

from ..compiling import Loops
from ..history import compiled as of_the_past
from . import thinning

compiled = Loops((thinning, ("apart", "thin")))


def ready() -> None:
    """Compiles all loops for the arrays that they are given, so that no batch waits for it."""
    of_the_past.ready()
    i8, two = np.zeros(0, np.int64), np.zeros((0, 1))
    compiled("thin")(i8, i8, two, two, i8, 0.0, False, 0, np.zeros(0, bool))
