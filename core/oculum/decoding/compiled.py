"""Loops of the decoders as machine code."""

from __future__ import annotations

from . import loops, skeletons


def ready() -> None:
    """Compiles all loops, so that no batch waits for it: seconds the first time, milliseconds from what is kept on
    disk.
    """
    loops.ready()
    skeletons.ready()
