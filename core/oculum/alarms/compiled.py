"""Loops of the alarms as machine code. What a loop calls is compiled with it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from types import FunctionType
from typing import Any

import numpy as np

from . import arrivals, machine, members, windows

LOOPS = (
    (machine, ("put", "begun", "fire", "walk")),
    (windows, ("first_above", "one", "fill")),
    (members, ("over", "look")),
    (arrivals, ("due_after", "median", "learn", "silences")),
)


@cache
def _machine_code() -> dict[str, Callable[..., Any]]:
    from numba import njit  # half a second, which nobody waits for who has no condition

    found: dict[str, Callable[..., Any]] = {}
    for module, names in LOOPS:
        around = dict(vars(module))
        for name in names:
            plain = getattr(module, name)
            own = FunctionType(plain.__code__, around, name, plain.__defaults__, plain.__closure__)
            own.__module__, own.__qualname__ = plain.__module__, plain.__qualname__
            try:
                found[name] = around[name] = njit(cache=True)(own)
            except RuntimeError:  # no place to keep it
                found[name] = around[name] = njit(own)
    return found


def compiled(name: str) -> Callable[..., Any]:
    return _machine_code()[name]


def ready() -> None:
    """Compiles all loops for the arrays that they are given, so that no batch waits for it."""
    i8, f8, truth, small = (np.zeros(0, kind) for kind in (np.int64, float, bool, np.int8))
    two, none = np.zeros((1, 0), np.int64), np.zeros((1, 0), bool)
    one = np.zeros((1, 0), np.int8)
    compiled("walk")(
        i8, i8, i8, i8, truth, truth, one, one, small, False, np.zeros(1, np.int64), 0, small, two, none, i8, truth,
        np.zeros((2, 0), np.int64), np.zeros((1, machine.COLUMNS), np.int64),
    )  # fmt: skip
    compiled("fill")(
        np.zeros((0, 1), np.int64), np.zeros((0, 1)), i8, i8, 1, i8, i8, truth, i8, f8, truth, i8, two[:0], i8, f8, f8,
        i8, f8, np.zeros((0, 0)), np.zeros((0, 0), bool), 0,
    )  # fmt: skip
    compiled("over")(np.int64(0), i8, f8, truth, i8, i8, 0)
    compiled("look")(
        i8, np.zeros(1, np.int64), i8, i8, np.zeros((1, 0)), none, two, np.zeros((1, 0)), none, two, two, i8, i8, i8,
        i8, i8, i8, i8, np.zeros((1, 0)), none,
    )  # fmt: skip
    compiled("learn")(i8, i8, i8, i8, np.zeros((0, arrivals.KEPT), np.int64), i8, i8, i8, i8)
    compiled("silences")(
        i8, np.zeros(1, np.int64), i8, i8, np.zeros(1, np.int64), i8, i8, 0, i8, i8, i8, i8, i8,
        np.zeros((16, 3), np.int64),
    )  # fmt: skip
