"""Loops over the past as machine code."""

from __future__ import annotations

import numpy as np

from ..compiling import Loops
from . import following, members, unpacking, windows

compiled = Loops(
    (windows, ("first_above", "one", "fill")),
    (following, ("follow",)),
    (members, ("over", "look", "newest")),
    (unpacking, ("little", "plane", "unzigzag", "whole", "numbers", "opened")),
)


def ready() -> None:
    """Compiles all loops for the arrays that they are given, so that no batch waits for it."""
    i8, f8, truth, two = (
        np.zeros(shape, kind) for shape, kind in ((0, np.int64), (0, float), (0, bool), ((0, 0), np.int64))
    )
    compiled("fill")(
        np.zeros((0, 1), np.int64), np.zeros((0, 1)), i8, i8, 1, i8, i8, truth, i8, f8, truth, i8, two, i8, f8, f8,
        i8, f8, np.zeros((0, 0)), np.zeros((0, 0), bool), 0,
    )  # fmt: skip
    compiled("opened")(
        np.frombuffer(b"\0", np.uint8), np.zeros(1, np.int64), np.zeros(1, np.int64), truth, f8,
        np.zeros((4, 0), np.int64), np.zeros((0, 0)), two, i8,
    )  # fmt: skip
    values, known, moments = np.zeros((1, 0)), np.zeros((1, 0), bool), np.zeros((1, 0), np.int64)
    compiled("follow")(np.zeros(1, np.int64), i8, i8, np.zeros(0, np.int16), i8, truth, i8)
    compiled("over")(np.int64(0), i8, f8, truth, i8, i8, 0)
    compiled("look")(
        i8, np.zeros(1, np.int64), i8, i8, values, known, moments, values, known, moments, moments, i8, i8, i8, i8,
        i8, i8, i8, values, known,
    )  # fmt: skip
    compiled("newest")(
        i8, np.zeros(1, np.int64), i8, i8, values, known, values, known, moments, moments, i8, i8, i8, i8, i8, i8,
        i8, i8, i8, values, known,
    )  # fmt: skip
