"""Benchmarks: each starts what it needs, on a database of its own, and leaves nothing behind."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from . import decode, fuzz, ingest, redecode

BENCHES: dict[str, Callable[[float], dict[str, Any]]] = {
    "decode": decode.measure,
    "fuzz": fuzz.measure,
    "ingest": ingest.measure,
    "redecode": redecode.measure,
}


def run(name: str, seconds: float) -> dict[str, Any]:
    """One benchmark: {"bench", "figures", "ratios"}."""
    return {"bench": name, **BENCHES[name](seconds)}
