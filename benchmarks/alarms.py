"""Conditions: readings a second with few and many of them, positions against fences, memory, and a start from memory.

Ten thousand devices of five types that report eight values every ten minutes, windows of up to a day, full from the
start; on one core. And the whole way of a message, through broker, intake and engine, to the alarm that it raises.
"""

from __future__ import annotations

import math
import resource
import time
from typing import Any

import numpy as np

from oculum.alarms import compiled
from oculum.alarms.memory import recalled, remembered
from oculum.alarms.room import Room
from oculum.alarms.watched import Watched
from oculum.batches import Column, Group
from oculum.history.fleet import Fleet
from oculum.language.conditions import check_condition
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.fields import FieldSpec
from oculum.pipeline import Effects, evaluated
from oculum.register.fences import Area
from oculum.register.world import Device, Site, World

from .ingest import raised
from .instance import say

DEVICES, TYPES, CADENCE = 10_000, 5, 600_000_000
BATCH = 5_000
DAY = 86_400_000_000
FIELDS = [FieldSpec(f"v{n}", "number", "V") for n in range(8)]
# Ten of each hundred conditions on a type; the limits differ, so that each is one of its own.
RULES = (
    "v0 > {n} V deadband 0.5 V held 10 min",
    "mean(v1, 30 min) > {n} V",
    "v2 < setpoint low held 20 min",
    "highest(v3, 6 h) > {n} V",
    "v4 > {n} V and v5 < 2 V",
    "mean(v6, 24 h) > {n} V",
    "rate(v7, 2 h) > {n} V/h",
    "silent(3 * cadence)",
    "change(v0, 1 h) > {n} V or v1 > 9 V",
    "time_in(v2 > 5 V, 3 h) > {n} min",
)


def plan(text: str, type_: int, name: str) -> ConditionPlan:
    fields = {f.name: f for f in FIELDS} | {"fix": FieldSpec("fix", "position")}
    types = {f"t{n}": (fields, {"low": "V"}) for n in range(TYPES)}
    found, problems = check_condition(f'condition "{name}" priority high\n  on t{type_}\n  raise when {text}\n', types)
    assert found is not None, problems
    return found


def world_of() -> World:
    devices = {
        n: Device(n, f"d{n}", n % TYPES, 1, {}, None, CADENCE // 1_000 * 1_000, 0) for n in range(1, DEVICES + 1)
    }
    limits = {(t, "low", "type", 0): 1.0 for t in range(TYPES)}
    return World(devices, {1: Site(1, "sound")}, {}, limits)


def room_of(world: World, conditions: list[Watched], start: int) -> Room:
    room = Room(world, start)
    for watched in conditions:
        room.watch(watched)
    return room


def fill(room: Room, now: int) -> None:
    """Every window is as full as a day of readings makes it."""
    for bank in room.banks.values():
        for past in bank.pasts.values():
            count = min(past.keep, DAY) // CADENCE + 2
            past.grow(len(bank.ids), count + 32)
            past.at[:, :count] = now - CADENCE * np.arange(count, 0, -1)
            past.values[:, :count] = 3 + np.sin(np.arange(count))[None, :]
            past.end[:] = count


def batches(clock: int, round_: int) -> list[tuple[np.ndarray, np.ndarray]]:
    """One round: every device once, spread over the ten minutes."""
    device = np.arange(1, DEVICES + 1)
    arrival = clock + (np.arange(DEVICES) * (CADENCE // DEVICES)) + round_ * CADENCE
    return [(device[a : a + BATCH], arrival[a : a + BATCH]) for a in range(0, DEVICES, BATCH)]


def step(room: Room, newest: Fleet, device: np.ndarray, arrival: np.ndarray, turn: int) -> None:
    count = len(device)
    columns = {
        f.name: Column(3 + np.sin(device * 0.37 + turn * 0.61 + k), np.ones(count, np.int16))
        for k, f in enumerate(FIELDS)
    }
    groups: dict[int, list[Group]] = {}
    for type_ in range(TYPES):
        rows = np.flatnonzero(device % TYPES == type_)
        own = {name: column.taken(rows) for name, column in columns.items()}
        groups[type_] = [Group(tuple(FIELDS), rows, arrival[rows], own, None, device[rows])]
    effects = evaluated(Effects(), groups, device, arrival, np.arange(count), newest, room, int(arrival[-1]))
    effects.settle(newest)


def readings_per_s(many: int, seconds: float) -> tuple[float, Room, Fleet]:
    conditions = [
        Watched(n + 1, 1, n % TYPES, plan(RULES[n // TYPES % len(RULES)].format(n=4 + n % 7), n % TYPES, f"c{n}"))
        for n in range(many)
    ]
    clock = 20_000 * DAY
    room, newest = room_of(world_of(), conditions, clock), Fleet()
    fill(room, clock)
    turn, taken, spent = 0, 0, 0.0
    while spent < seconds and turn < 40:
        for device, arrival in batches(clock, turn):
            began = time.perf_counter()
            step(room, newest, device, arrival, turn)
            if turn:  # the first round warms
                spent += time.perf_counter() - began
                taken += len(device) * len(FIELDS)
        turn += 1
    return taken / spent, room, newest


def fixes_per_s(seconds: float) -> float:
    """Positions of ten thousand devices against two hundred fences of a hundred corners."""
    random = np.random.default_rng(1)
    world = world_of()
    for n in range(200):
        lat, lon = 10 + random.random() * 5, 20 + random.random() * 5
        corners = [
            (lon + 0.1 * math.cos(a), lat + 0.1 * math.sin(a)) for a in np.linspace(0, 2 * math.pi, 100, endpoint=False)
        ]
        world.fences[f"f{n}"] = Area.polygons([[[*corners, corners[0]]]])
    conditions = [Watched(n + 1, 1, 0, plan(f'inside(fix, "f{n}")', 0, f"c{n}")) for n in range(200)]
    room, newest, clock = room_of(world, conditions, 0), Fleet(), 20_000 * DAY
    device = np.arange(TYPES, DEVICES + 1, TYPES)
    spec, taken, spent, turn = FieldSpec("fix", "position"), 0, 0.0, 0
    while spent < seconds and turn < 200:
        fix = np.stack([10 + random.random(len(device)) * 5, 20 + random.random(len(device)) * 5], axis=1)
        arrival = clock + turn * CADENCE + np.arange(len(device)) * 1000
        group = Group((spec,), np.arange(len(device)), arrival, {"fix": Column(fix, np.ones(len(device), np.int16))})
        began = time.perf_counter()
        found = evaluated(
            Effects(), {0: [group]}, device, arrival, np.arange(len(device)), newest, room, int(arrival[-1])
        )
        if turn:
            spent += time.perf_counter() - began
            taken += len(device)
        found.settle(newest)
        turn += 1
    return taken / spent


def measure(seconds: float) -> dict[str, Any]:
    compiled.ready()
    found: dict[str, float] = {}
    kept: tuple[Room, Fleet] | None = None
    for many in (5, 50, 500):
        say(f"{many} conditions")
        found[f"readings_per_s_{many}"], room, newest = readings_per_s(many, seconds / 4)
        if many == 50:
            kept = room, newest
    assert kept is not None
    found["memory_mb"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    say("200 fences")
    found["fixes_per_s_200_fences"] = fixes_per_s(seconds / 4)
    say("a start from memory")
    room, newest = kept
    body = remembered(room, newest)
    began = time.perf_counter()
    fresh = room_of(world_of(), list(room.watched.values()), room.clock)
    assert recalled(fresh, body) is not None
    found["restart_ready_s"] = time.perf_counter() - began
    found["remembered_mb"] = len(body) / 1e6
    say("from a payload to the row of its alarm, at half of intake's rate")
    found["ingest_messages_per_s"], found["raise_p99_ms"] = raised(max(seconds, 10))
    return {"figures": found, "ratios": {"of_50_to_5": found["readings_per_s_50"] / found["readings_per_s_5"]}}
