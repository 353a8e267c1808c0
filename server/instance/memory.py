"""How often a process looks for what refers to itself in a circle."""

from __future__ import annotations

import gc

YOUNG, MIDDLE, OLD = 50_000, 20, 20


def settle() -> None:
    """What stands by now stays, and is not looked through again; what is made from now on more rarely than usual: an
    answer about ten thousand devices makes a hundred thousand objects, and has no circles.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(YOUNG, MIDDLE, OLD)
