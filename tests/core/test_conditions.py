"""Conditions of every kind against the slow engine: the same transitions at the same moments, however the stream is cut
and wherever it is forgotten and taken up again.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.alarms.memory import recalled, remembered
from oculum.alarms.room import Room
from oculum.alarms.watched import Transition, Watched
from oculum.history.fleet import Fleet
from oculum.replay import read_folder
from oculum.replay.run import _step, told
from oculum.routing.router import Router
from tests.core import slow_alarms as slow
from tests.core.slow_alarms import Around, Slow, Step
from tests.often import examples

MINUTE = 60_000_000
DAY0 = "2026-03-01"
START = 1_772_323_200_000_000  # 2026-03-01T00:00:00Z
RING = [(20.0, 10.0), (20.0, 10.5), (20.5, 10.5), (20.5, 10.0)]
BIG_DAY = 1440


def values(around: Around, width: int) -> list[float]:
    return [v for _, v in around.window("x", width)]


def time_mean(around: Around, width: int) -> float | None:
    spans = around.staircase("x", width)
    if spans is None:
        return None
    length = sum(s for s, _ in spans)
    return spans[-1][1] if length == 0 else sum(s * v for s, v in spans) / length


def time_in(around: Around, width: int) -> float | None:
    spans = around.staircase("x", width)
    return None if spans is None else sum(s for s, v in spans if v > 3)


def change(around: Around, width: int, relative: bool = False) -> float | None:
    now = around.older("x", around.now)
    then = around.older("x", around.now - width)
    if now is None or then is None or then[0] < around.now - 1.5 * width:
        return None
    difference = now[1] - then[1]
    if not relative:
        return float(difference)
    return None if then[1] == 0 else difference / abs(then[1])


def share(around: Around, width: int, least: float) -> float | None:
    found = values(around, width)
    cadence = around.fleet.devices[around.device].cadence
    return slow.mean(found) if len(found) * cadence >= least * width else None


def inside(around: Around) -> bool | None:
    fix = around.fix()
    return None if fix is None else slow.in_polygon(fix[0], fix[1], RING)


def moved(around: Around, out: bool) -> bool | None:
    fixes = around.fleet.fixes.get(around.device, [])
    if not fixes:
        return None
    if len(fixes) == 1:
        return False
    before, now = (slow.in_polygon(*f[1], RING) for f in fixes[-2:])
    return before and not now if out else now and not before


# The text of each condition, and the same by hand.
CONDITIONS: list[tuple[str, Slow]] = [
    (
        "raise when x > 3 V deadband 0.5 V held 7 min",
        Slow(
            "c",
            (Step("high", lambda a: slow.over(a.value("x"), 3), lambda a: slow.over(a.value("x"), 2.5), 7),),
            fields=("x",),
        ),
    ),
    (
        "raise low when x > 2 V\n  raise when x > 3 V held 4 min\n  raise critical when x > 4 V\n  clear held 3 min",
        Slow(
            "c",
            (
                Step("low", lambda a: slow.over(a.value("x"), 2)),
                Step("high", lambda a: slow.over(a.value("x"), 3), held=4),
                Step("critical", lambda a: slow.over(a.value("x"), 4)),
            ),
            clear_held=3,
            fields=("x",),
        ),
    ),
    (
        "raise when x > 3 V and y > 1 Cel or y > 4 Cel held 5 min\n  clear when y < 1 Cel held 4 min",
        Slow(
            "c",
            (
                Step(
                    "high",
                    lambda a: slow.either(
                        slow.both(slow.over(a.value("x"), 3), slow.over(a.value("y"), 1)), slow.over(a.value("y"), 4)
                    ),
                    held=5,
                ),
            ),
            clear=lambda a: slow.under(a.value("y"), 1),
            clear_held=4,
            fields=("x", "y"),
        ),
    ),
    (
        "raise when x > setpoint x_max",
        Slow("c", (Step("high", lambda a: slow.over(a.value("x"), a.limit("x_max"))),), fields=("x",)),
    ),
    *[
        (f"raise when {text}", Slow("c", (Step("high", rule),), fields=("x",)))
        for text, rule in [
            ("mean(x, 30 min) > 3 V", lambda a: slow.over(slow.mean(values(a, 30)), 3)),
            ("mean(x, 30 min, 50 %) > 2 V", lambda a: slow.over(share(a, 30, 0.5), 2)),
            ("time_mean(x, 30 min) > 2.5 V", lambda a: slow.over(time_mean(a, 30), 2.5)),
            ("lowest(x, 20 min) > 1 V", lambda a: slow.over(min(values(a, 20), default=None), 1)),
            ("highest(x, 20 min) > 3 V", lambda a: slow.over(max(values(a, 20), default=None), 3)),
            ("total(x, 40 min) > 8 V", lambda a: slow.over(sum(values(a, 40)) if values(a, 40) else None, 8)),
            ("count(x, 30 min) > 3", lambda a: slow.over(len(values(a, 30)), 3)),
            ("count(x > 3 V, 30 min) > 1", lambda a: slow.over(sum(v > 3 for v in values(a, 30)), 1)),
            ("first(x, 30 min) > 3 V", lambda a: slow.over(values(a, 30)[0] if values(a, 30) else None, 3)),
            ("last(x, 30 min) > 3 V", lambda a: slow.over(values(a, 30)[-1] if values(a, 30) else None, 3)),
            ("change(x, 20 min) > 1 V", lambda a: slow.over(change(a, 20), 1)),
            ("relative_change(x, 20 min) > 60 %", lambda a: slow.over(change(a, 20, True), 0.6)),
            ("rate(x, 40 min) > 3 V/h", lambda a: slow.over(slow.slope(a.window("x", 40)), 3 / 60 + 1e-12)),
            ("deviation(x, 40 min) > 1.25 V", lambda a: slow.over(slow.deviation(values(a, 40)), 1.25)),
            ("percentile(x, 80, 60 min) > 3.05 V", lambda a: slow.over(slow.percentile(values(a, 60), 80), 3.05)),
            ("time_in(x > 3 V, 30 min) > 10 min", lambda a: slow.over(time_in(a, 30), 10)),
            ("total(x, today) > 20 V", lambda a: slow.over(sum(values(a, a.now % BIG_DAY + 1)) or None, 20)),
        ]
    ],
    (
        "raise when silent(15 min)",
        Slow("c", (Step("high", lambda a: a.silent("c")),), silence=(None, lambda f, d: 15), explained=True),
    ),
    (
        "raise when silent(2 * cadence) held 3 min\n  clear held 2 min",
        Slow(
            "c",
            (Step("high", lambda a: a.silent("c"), held=3),),
            clear_held=2,
            silence=(None, lambda f, d: 2 * f.devices[d].cadence),
        ),
    ),
    (
        "raise when silent(x, 20 min)",
        Slow("c", (Step("high", lambda a: a.silent("c")),), silence=("x", lambda f, d: 20)),
    ),
    (
        "raise when messages(30 min) < 2",
        Slow("c", (Step("high", lambda a: slow.under(a.heard(30), 2)),), messages=30),
    ),
    (
        'raise when x > 3 V held 6 min\n  active "00:20" to "01:10"',
        Slow("c", (Step("high", lambda a: slow.over(a.value("x"), 3), held=6),), fields=("x",), hours=(20, 70)),
    ),
    (
        "every 10 min\n  raise when mean(x, 20 min) > 2 V",
        Slow("c", (Step("high", lambda a: slow.over(slow.mean(values(a, 20)), 2)),), every=10),
    ),
    ('raise when inside(fix, "bay")', Slow("c", (Step("high", inside),), fix=True)),
    (
        'raise when outside(fix, "bay") held 8 min',
        Slow("c", (Step("high", lambda a: None if (i := inside(a)) is None else not i, held=8),), fix=True),
    ),
    ('raise when enters(fix, "bay")', Slow("c", (Step("high", lambda a: moved(a, False)),), fix=True)),
    ('raise when leaves(fix, "bay")', Slow("c", (Step("high", lambda a: moved(a, True)),), fix=True)),
]
VALUES = st.sampled_from([None, 0.0, 0.5, 1.0, 1.5, 2.0, 2.5, 3.0, 3.1, 4.0, 4.5])
FIXES = st.sampled_from([(0.0, 0.0), (10.2, 20.2), (10.2, 20.7), (10.4, 20.1), (9.0, 20.2), (10.45, 20.45)])


@st.composite
def worlds(draw: Any) -> tuple[dict[str, slow.Device], list[slow.Message], list[tuple[int, int]], int]:
    devices = {
        "gate": slow.Device("gate", 5),
        "a": slow.Device("a", 10, "gate", limits=(("x_max", 3.0),)),
        "b": slow.Device("b", 6, None, limits=(("x_max", 0.0),)),
    }
    messages: list[slow.Message] = []
    clock = 0
    for _ in range(draw(st.integers(1, 22))):
        clock += draw(st.sampled_from([0, 1, 2, 3, 5, 6, 10, 15, 20, 31]))
        device = draw(st.sampled_from(["gate", "a", "a", "b"]))
        if any((m.arrival, m.device) == (clock, device) for m in messages):
            clock += 1  # what a table says of one device at one time is one message
        if device == "gate":
            messages.append(slow.Message(clock, device, ((clock, (("cpu", 1.0),)),)))
            continue
        back = draw(st.sampled_from([0, 0, 0, 1, 4, 12, 25]))
        given = [("x", draw(VALUES))]
        if draw(st.booleans()):
            given.append(("y", draw(VALUES)))
        if draw(st.booleans()):
            given.append(("fix", draw(FIXES)))
        messages.append(slow.Message(clock, device, ((clock - back, tuple(given)),)))
    downtime = [(40, 55)] if draw(st.booleans()) else []
    return devices, messages, downtime, clock + draw(st.sampled_from([0, 7, 30, 90]))


def moment(minute: int) -> str:
    return str(np.datetime64(START + minute * MINUTE, "us")) + "Z"


def files_of(
    text: str, devices: dict[str, slow.Device], messages: list[slow.Message], downtime: list[tuple[int, int]]
) -> dict[str, str]:
    """The same world as a folder."""
    readings = ["device,field,measured_at,received_at,value,lat,lon"]
    for m in messages:
        for at, told_ in m.readings:
            for name, value in told_:
                cells = ["", "", ""]
                if isinstance(value, tuple):
                    cells[1:] = [str(value[0]), str(value[1])]
                elif value is not None:
                    cells[0] = str(value)
                readings.append(",".join([m.device, name, moment(at), moment(m.arrival), *cells]))
    listed = [
        f"{d.name},{'gate' if d.name == 'gate' else 'thing'},{d.gateway or ''},{d.cadence * 60},{moment(d.registered)}"
        for d in devices.values()
    ]
    limits = [f"device,{d.name},{n},{v},V" for d in devices.values() for n, v in d.limits]
    square = [[lon, lat] for lon, lat in [*RING, RING[0]]]
    fence = {"type": "Feature", "properties": {"name": "bay"}, "geometry": {"type": "Polygon", "coordinates": [square]}}
    import json

    found = {
        "types.csv": "type,gateway\nthing,no\ngate,yes\n",
        "fields.csv": "type,field,kind,unit\nthing,x,number,V\nthing,y,number,Cel\nthing,fix,position,\n"
        "gate,cpu,number,1\n",
        "devices.csv": "\n".join(["device,type,gateway,cadence_s,registered_at", *listed]) + "\n",
        "setpoints.csv": "\n".join(["scope,of,setpoint,value,unit", *limits]) + "\n",
        "fences.geojson": json.dumps({"type": "FeatureCollection", "features": [fence]}),
        "readings.csv": "\n".join(readings) + "\n",
        "downtime.csv": "start,end\n" + "".join(f"{moment(a)},{moment(b)}\n" for a, b in downtime),
        "c.ocu": f'condition "c" priority high\n  on thing\n  {text}\n',
    }
    if "silent(15 min)" in text:
        found["d.ocu"] = 'condition "g" priority high\n  on gate\n  raise when silent(12 min)\n'
    return found


def quickly(files: dict[str, str], cuts: list[int], until: int) -> list[slow.Told]:
    """Through the room, cut into batches and forgotten between any two of them."""
    folder = read_folder(files)
    assert not [p for _, p in folder.problems if p.severity == "error"], folder.problems

    def fresh() -> Room:
        room = Room(folder.world, START - 1)
        for watched in folder.conditions:
            room.watch(Watched(watched.key, watched.version, watched.type, watched.plan))
        return room

    room, newest = fresh(), Fleet()
    router = Router(folder.world)
    found: list[Transition] = []
    edges = sorted({0, *(c for c in cuts if c < len(folder.messages)), len(folder.messages)})
    for a, b in zip(edges, edges[1:], strict=False):
        if a == b:
            continue
        part = folder.messages[a:b]
        found += _step(folder, room, router, part, newest, part[-1].received).transitions
        body = remembered(room, newest)
        room = fresh()
        again = recalled(room, body)
        assert again is not None
        newest = again
    found += _step(folder, room, router, [], newest, START + until * MINUTE + 1).transitions
    lines = [(t.at, told(folder, t)) for t in found]
    return sorted(((at - START) // MINUTE, t.subject, t.condition, t.what, t.priority) for at, t in lines)


def slowly(
    condition: Slow,
    devices: dict[str, slow.Device],
    messages: list[slow.Message],
    downtime: list[tuple[int, int]],
    until: int,
) -> list[slow.Told]:
    things = [condition]
    if condition.explained:
        gate = Slow("g", (Step("high", lambda a: a.silent("g")),), silence=(None, lambda f, d: 12), explained=True)
        things.append(gate)
    found = slow.play(devices, things, messages, until, downtime, lambda fix: fix == (0.0, 0.0))
    return [t for t in found if (t[1] == "gate") == (t[2] == "g")]


@pytest.mark.parametrize(("text", "condition"), CONDITIONS, ids=[text.split("\n")[0] for text, _ in CONDITIONS])
@settings(max_examples=examples(6), deadline=None)
@given(world=worlds(), cuts=st.lists(st.integers(1, 21), max_size=6))
def test_every_kind_is_what_the_slow_engine_says(text: str, condition: Slow, world: Any, cuts: list[int]) -> None:
    devices, messages, downtime, until = world
    wanted = slowly(condition, devices, messages, downtime, until)
    files = files_of(text, devices, messages, downtime)
    assert quickly(files, [], until) == wanted
    assert quickly(files, cuts, until) == wanted
    assert quickly(files, list(range(1, len(messages) + 1)), until) == wanted
