"""Benchmarks: each starts what it needs, on a database of its own, and leaves nothing behind; but `query` keeps its
database, which takes minutes to fill.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from . import alarms, decode, faults, fuzz, ingest, live, outbox, query, redecode, routes, screens, trial

BENCHES: dict[str, Callable[[float], dict[str, Any]]] = {
    "alarms": alarms.measure,
    "decode": decode.measure,
    "fuzz": fuzz.measure,
    "ingest": ingest.measure,
    "live": live.measure,
    "outbox": outbox.measure,
    "query": query.measure,
    "redecode": redecode.measure,
    "routes": routes.measure,
    "screens": screens.measure,
    "trial": trial.measure,
}
ROUNDS: dict[str, Callable[[int], dict[str, Any]]] = {"faults": faults.measure}
NAMES = sorted({*BENCHES, *ROUNDS})


def run(name: str, seconds: float, rounds: int) -> dict[str, Any]:
    """One benchmark: {"bench", "figures", "ratios"}. Those that measure by time take seconds, the others rounds."""
    return {"bench": name, **(ROUNDS[name](rounds) if name in ROUNDS else BENCHES[name](seconds))}
