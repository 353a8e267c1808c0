"""Decoding on one core: the compiled decoder beside NumPy written by hand for the same payload."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from oculum.batches import Payloads
from oculum.decoding.checksums import check
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder

EXAMPLE = Path(__file__).resolve().parent.parent / "examples" / "raft_buoy.ocu"
PAYLOAD = bytes.fromhex("10047187fc34a024ba164cabc0e698e05801d683d1")
BATCH = 5000


def by_hand(table: np.ndarray) -> dict[str, np.ndarray]:
    """The whole work of examples/raft_buoy.ocu for ordinary 21-byte payloads: checks, marks, scales, check sum.

    table: uint8 (n, 21). Returns columns and their masks.
    """
    count = len(table)
    fields = np.dtype([("head", "u1"), ("temperature", ">i2"), ("salinity", ">u2"), ("mixed", "u1", 3), ("battery", "u1"), ("lat", ">i4"), ("lon", ">i4"), ("strain", ">u2"), ("check", ">u2")])
    rows = np.ascontiguousarray(table).view(fields).ravel()
    version, mode = rows["head"] >> 4, rows["head"] & 15
    good = (version == 1) & (mode <= 3) & (mode != 3)
    starts = np.arange(count, dtype=np.int64) * 21
    good &= check("crc16_ibm3740", table.ravel(), starts, starts + 19) == rows["check"]
    mixed = rows["mixed"].astype(np.int64)
    oxygen, turbidity = (mixed[:, 0] << 4) | (mixed[:, 1] >> 4), ((mixed[:, 1] & 15) << 8) | mixed[:, 2]
    lat, lon = rows["lat"] / 1e7, rows["lon"] / 1e7
    fixed = (rows["lat"] != 0x7FFFFFFF) & (rows["lon"] != 0x7FFFFFFF)
    good &= ~fixed | ((np.abs(lat) <= 90) & (np.abs(lon) <= 180))
    return {
        "good": good, "mode": mode.astype(float),
        "temperature": rows["temperature"] / 100, "temperature there": rows["temperature"] != -32768,
        "salinity": rows["salinity"] / 1000, "salinity there": rows["salinity"] != 0xFFFF,
        "oxygen": oxygen / 100, "oxygen there": oxygen != 0xFFF,
        "turbidity": turbidity / 10, "turbidity there": turbidity < 0xFFE,
        "battery": (rows["battery"].astype(np.int64) + 200) / 100, "battery there": rows["battery"] != 0xFF,
        "lat": lat, "lon": lon, "fixed": fixed,
        "slack": (rows["strain"] >> 15).astype(float), "overload": ((rows["strain"] >> 14) & 1).astype(float), "strain": (rows["strain"] & 0x3FFF) * 5.0,
    }  # fmt: skip


def rate(work: Callable[[], object], messages: int, seconds: float) -> float:
    """Messages a second: the best of the portions measured in about `seconds`."""
    work()
    best, until = 0.0, time.perf_counter() + seconds
    while time.perf_counter() < until:
        began = time.perf_counter()
        work()
        best = max(best, messages / (time.perf_counter() - began))
    return best


def measure(seconds: float) -> dict[str, Any]:
    plan, problems = check_decoder(EXAMPLE.read_text())
    assert plan is not None, problems
    payloads = Payloads.of([PAYLOAD] * BATCH, np.zeros(BATCH, np.int64))
    table = payloads.data[: BATCH * len(PAYLOAD)].reshape(BATCH, len(PAYLOAD))
    mine, theirs = decode(plan, payloads), by_hand(table)
    assert mine.good.all() and theirs["good"].all()
    assert np.array_equal(mine.groups[0].columns["oxygen"].values, theirs["oxygen"])
    print("measuring the compiled decoder", file=sys.stderr)
    compiled = rate(lambda: decode(plan, payloads), BATCH, seconds / 2)
    print("measuring NumPy by hand", file=sys.stderr)
    numpy = rate(lambda: by_hand(table), BATCH, seconds / 2)
    return {
        "figures": {"batch_messages": BATCH, "compiled_messages_per_s": compiled, "numpy_messages_per_s": numpy},
        "ratios": {"compiled_to_numpy": compiled / numpy},
    }
