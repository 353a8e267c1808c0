"""Decoding on one core: compiled decoders beside NumPy, or plain Python, written by hand for the same payloads."""

from __future__ import annotations

import struct
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import cbor2
import numpy as np
import orjson

from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan

ROOT = Path(__file__).resolve().parent.parent
BUOY = bytes.fromhex("10047187fc34a024ba164cabc0e698e05801d683d1")
BATCHES = (500, 5000)

FIXED = """decoder fixed for bytes, little endian
  length 24
  byte 0   mark     u8                              hidden
  reject "another mark" as unknown layout unless mark = 0xA5
  byte 1   mode     code { 0 off, 1 on, 2 standby }
  byte 2   level    i16 / 100                  m    within -20 to 120
  byte 4   flow     u16 / 10                   L/s  missing "sensor out" raw 0xFFFF
  byte 6   depth    i32 / 1000                 m
  byte 10  total    u32                        L
  byte 14  voltage  u16 / 1000                 V    within 0 to 30
  byte 16  current  f32                        A
  byte 20  heat     i16 / 10                   Cel  missing "not fitted" raw -32768
  byte 22  count    u16
"""
FIXED_FIELDS = np.dtype(
    [
        ("mark", "u1"),
        ("mode", "u1"),
        ("level", "<i2"),
        ("flow", "<u2"),
        ("depth", "<i4"),
        ("total", "<u4"),
        ("voltage", "<u2"),
        ("current", "<f4"),
        ("heat", "<i2"),
        ("count", "<u2"),
    ]
)

RECORDS = """decoder records for bytes, big endian
  records bytes 1 to -1, tag u8, size u8
  record 1  uptime   u32         s
  record 2  pulses   u24
  record 3  load     i16 * 10    N    missing "broken" raw 0x7FFF
  record 4  brake    code u8 { 0 released, 1 applied, 2 slipping }
  record 5  heat     i8          Cel  missing "not fitted" raw -128
  record 6  current  u16 / 100   A
"""

REPEATS = """decoder repeats for bytes, big endian
  byte 0  n  u8    hidden
  repeat n times up to 48, each 10 min earlier
    next  level   u16 / 100  m    missing "no sample" raw 0xFFFF
    next  heat    i16 / 100  Cel
"""

JSON = """decoder boat for json
  at t               sent         time iso          hidden
  stamp sent
  at state           state        text
  at nav.sog         speed        number    [kn_i]
  at nav.cog         course       number    deg
  at fuel.flow       flow         number    L/h
  at engine.rpm      revs         number    /min    missing "bus silent" raw "n/a"
  at engine.heat     heat         number    Cel     missing "bus silent" raw "n/a"
  at engine.hours    hours        number    h
"""


def compiled(text: str) -> DecoderPlan:
    plan, problems = check_decoder(text)
    assert plan is not None, problems
    return plan


# by hand -----------------------------------------------------------------------
def fixed_by_hand(data: np.ndarray, count: int) -> dict[str, Any]:
    """The whole of FIXED on structured dtypes: values, and which are there."""
    rows = data[: count * 24].view(FIXED_FIELDS)
    good = rows["mark"] == 0xA5
    level, voltage = rows["level"] / 100, rows["voltage"] / 1000
    current = rows["current"].astype(float)
    return {
        "good": good,
        "mode": rows["mode"].astype(float),
        "mode there": np.isin(rows["mode"], [0, 1, 2]),
        "level": level,
        "level there": (level >= -20) & (level <= 120),
        "flow": rows["flow"] / 10,
        "flow there": rows["flow"] != 0xFFFF,
        "depth": rows["depth"] / 1000,
        "total": rows["total"].astype(float),
        "voltage": voltage,
        "voltage there": (voltage >= 0) & (voltage <= 30),
        "current": current,
        "current there": np.isfinite(current),
        "heat": rows["heat"] / 10,
        "heat there": rows["heat"] != -32768,
        "count": rows["count"].astype(float),
    }


Found = tuple[str, float | None, str | None, int]  # field, value, why it is missing, measured at


def records_by_hand(payload: bytes, received: int = 0) -> list[Found]:
    """RECORDS for one message in plain Python: its readings, as the compiled decoder gives them."""
    found: list[Found] = []
    at, end = 1, len(payload)
    while at < end:
        if at + 2 > end:
            raise ValueError("too short")
        tag, size = payload[at], payload[at + 1]
        at += 2
        if at + size > end:
            raise ValueError("too short")
        content = payload[at : at + size]
        if tag == 1:
            found.append(("uptime", float(int.from_bytes(content, "big")), None, received))
        elif tag == 2:
            found.append(("pulses", float(int.from_bytes(content, "big")), None, received))
        elif tag == 3:
            raw = int.from_bytes(content, "big", signed=True)
            found.append(("load", None, "broken", received) if raw == 0x7FFF else ("load", raw * 10.0, None, received))
        elif tag == 4:
            found.append(
                ("brake", float(content[0]), None, received)
                if content[0] <= 2
                else ("brake", None, "code without a text", received)
            )
        elif tag == 5:
            raw = int.from_bytes(content, "big", signed=True)
            found.append(
                ("heat", None, "not fitted", received) if raw == -128 else ("heat", float(raw), None, received)
            )
        elif tag == 6:
            found.append(("current", int.from_bytes(content, "big") / 100, None, received))
        at += size
    return found


def repeats_by_hand(payload: bytes, received: int) -> list[Found]:
    """REPEATS for one message in plain Python: its readings, as the compiled decoder gives them."""
    count = payload[0]
    if count > 48:
        raise ValueError("malformed")
    if len(payload) < 1 + 4 * count:
        raise ValueError("too short")
    found: list[Found] = []
    for k in range(count):
        level, heat = struct.unpack_from(">Hh", payload, 1 + 4 * k)
        at = received - k * 600_000_000
        found.append(("level", None, "no sample", at) if level == 0xFFFF else ("level", level / 100, None, at))
        found.append(("heat", heat / 100, None, at))
    return found


# payloads ----------------------------------------------------------------------
def fixed_payloads(count: int, random: np.random.Generator) -> list[bytes]:
    rows = np.zeros(count, FIXED_FIELDS)
    rows["mark"], rows["mode"] = 0xA5, random.integers(0, 3, count)
    for name in ("level", "flow", "depth", "total", "voltage", "heat", "count"):
        rows[name] = random.integers(0, 10_000, count)
    rows["current"] = random.normal(4, 1, count)
    return [row.tobytes() for row in rows]


def records_payloads(count: int, random: np.random.Generator) -> list[bytes]:
    found = []
    for numbers in random.integers(0, 100, (count, 6)).tolist():
        parts = [
            bytes([1, 4]) + struct.pack(">I", numbers[0]),
            bytes([2, 3]) + numbers[1].to_bytes(3, "big"),
            bytes([3, 2]) + struct.pack(">h", numbers[2]),
            bytes([4, 1, numbers[3] % 3]),
            bytes([5, 1, numbers[4]]),
            bytes([6, 2]) + struct.pack(">H", numbers[5]),
            bytes([9, 3, 1, 2, 3]),
        ]
        random.shuffle(parts)
        found.append(b"\x31" + b"".join(parts[: 5 + numbers[0] % 3]))
    return found


def repeats_payloads(count: int, random: np.random.Generator) -> list[bytes]:
    return [
        bytes([n]) + random.integers(0, 60_000, 2 * n).astype(">u2").tobytes()
        for n in random.integers(16, 33, count).tolist()
    ]


def json_payloads(count: int, random: np.random.Generator) -> list[bytes]:
    return [
        orjson.dumps(
            {
                "t": "2026-03-02T09:15:20Z",
                "state": "under_way",
                "nav": {"sog": round(v, 1), "cog": 271.5},
                "fuel": {"flow": 14.2},
                "engine": {"rpm": 1450 if v < 9 else "n/a", "heat": 80.5, "hours": 1204.7},
            }
        )
        for v in random.uniform(0, 10, count).tolist()
    ]


# measuring ---------------------------------------------------------------------
def rate(work: Callable[[], object], messages: int, seconds: float) -> float:
    """Messages a second: the best of the portions measured in about `seconds`."""
    work()
    best, until = 0.0, time.perf_counter() + seconds
    while time.perf_counter() < until:
        began = time.perf_counter()
        work()
        best = max(best, messages / (time.perf_counter() - began))
    return best


def by_turns(
    first: Callable[[], object], second: Callable[[], object], messages: int, seconds: float
) -> tuple[float, float]:
    """Two rates out of one run, measured by turns, so that a busy machine burdens both."""
    rates = [0.0, 0.0]
    for _ in range(4):
        rates[0] = max(rates[0], rate(first, messages, seconds / 8))
        rates[1] = max(rates[1], rate(second, messages, seconds / 8))
    return rates[0], rates[1]


def measure(seconds: float) -> dict[str, Any]:
    random = np.random.default_rng(7)
    share = seconds / 9
    figures: dict[str, float] = {}
    ratios: dict[str, float] = {}
    plan = compiled(FIXED)
    for count in BATCHES:
        payloads = Payloads.of(fixed_payloads(count, random), np.zeros(count, np.int64))
        mine, theirs = decode(plan, payloads), fixed_by_hand(payloads.data, count)
        assert mine.good.all() and theirs["good"].all()
        for name in ("level", "flow", "depth", "total", "voltage", "current", "heat", "count", "mode"):
            assert np.array_equal(mine.groups[0].columns[name].values, theirs[name]), name
        print(f"fixed layout, batches of {count}", file=sys.stderr)
        own, hand = by_turns(
            partial(decode, plan, payloads), partial(fixed_by_hand, payloads.data, count), count, share
        )
        figures[f"fixed_messages_per_s_{count}"], figures[f"fixed_numpy_messages_per_s_{count}"] = own, hand
        ratios[f"fixed_to_numpy_{count}"] = own / hand
    ratios["fixed_to_numpy"] = min(ratios[f"fixed_to_numpy_{count}"] for count in BATCHES)
    count = BATCHES[1]
    for name, text, make, by_hand in (
        ("records", RECORDS, records_payloads, records_by_hand),
        ("repeats", REPEATS, repeats_payloads, lambda p: repeats_by_hand(p, 0)),
    ):
        own_plan = compiled(text)
        raw = make(count, random)
        payloads = Payloads.of(raw, np.zeros(count, np.int64))
        mine = decode(own_plan, payloads)
        assert mine.good.all()
        _equal(name, mine, [by_hand(p) for p in raw])  # type: ignore[operator]
        print(f"{name}, batches of {count}", file=sys.stderr)
        own, hand = by_turns(
            partial(decode, own_plan, payloads), partial(lambda f, r: [f(p) for p in r], by_hand, raw), count, share
        )
        figures[f"{name}_messages_per_s"], figures[f"{name}_python_messages_per_s"] = own, hand
        ratios[f"{name}_to_python_loop"] = own / hand
    print("raft buoys", file=sys.stderr)
    buoy = compiled((ROOT / "examples" / "sheets" / "raft_buoy_1.ocu").read_text())
    payloads = Payloads.of([BUOY] * count, np.zeros(count, np.int64))
    assert decode(buoy, payloads).good.all()
    figures["buoy_messages_per_s"] = rate(lambda: decode(buoy, payloads), count, share)
    print("JSON", file=sys.stderr)
    boat = compiled(JSON)
    documents = json_payloads(count, random)
    texts = Payloads.of(documents, np.zeros(count, np.int64))
    assert decode(boat, texts).good.all()
    own, hand = by_turns(lambda: decode(boat, texts), lambda: [orjson.loads(d) for d in documents], count, share)
    figures["json_messages_per_s"], figures["json_parser_messages_per_s"] = own, hand
    ratios["json_to_parser"] = own / hand
    print("CBOR", file=sys.stderr)
    boat = compiled(JSON.replace("for json", "for cbor"))
    documents = [cbor2.dumps(orjson.loads(d)) for d in documents]
    binaries = Payloads.of(documents, np.zeros(count, np.int64))
    assert decode(boat, binaries).good.all()
    own, hand = by_turns(lambda: decode(boat, binaries), lambda: [cbor2.loads(d) for d in documents], count, share)
    figures["cbor_messages_per_s"], figures["cbor_parser_messages_per_s"] = own, hand
    ratios["cbor_to_parser"] = own / hand
    return {"figures": figures, "ratios": ratios}


def _equal(name: str, mine: Any, theirs: list[Any]) -> None:
    """The columns hold what the loop gives."""
    if name == "records":
        columns = mine.groups[0].columns
        for row in range(0, len(theirs), 97):
            for field, value, _, _ in theirs[row]:
                assert (columns[field].values[row] if columns[field].state[row] == 1 else None) == value
        return
    group = mine.groups[0]
    expected = {(row, at, field): value for row, own in enumerate(theirs) for field, value, _, at in own}
    assert len(expected) == 2 * len(group.rows)
    level, heat = group.columns["level"], group.columns["heat"]
    for i in range(0, len(group.rows), 311):
        value = level.values[i] if level.state[i] == 1 else None
        assert expected[int(group.rows[i]), int(group.at[i]), "level"] == value
        assert expected[int(group.rows[i]), int(group.at[i]), "heat"] == heat.values[i]
