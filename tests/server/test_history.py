"""Curves, rhythm and the band of health: what they sum up is what a slow count over the same messages gives."""

from __future__ import annotations

import math
import random
from collections import Counter
from datetime import datetime, timedelta
from statistics import fmean
from typing import Any

import pytest

from server.api.overview.views import health, series
from server.records.fleet.models import Device
from server.store.activity import rhythm
from tests.server.test_api import signed_in
from tests.server.world import DECODER, START, World, payload, work_off

HOUR = timedelta(hours=1)


def level_of(raw: bytes) -> float:
    return int.from_bytes(raw[:2], "big") / 10


def stream(seed: int, count: int, hours: float) -> list[tuple[int, float, bytes]]:
    """Messages of three pods at random moments, in bursts and with gaps; every tenth cannot be decoded."""
    rng = random.Random(seed)
    found, at = [], {pod: rng.uniform(0, 600) for pod in range(3)}
    for _ in range(count):
        pod = rng.randrange(3)
        at[pod] += rng.choice([1, 5, 30, 60, 60, 60, 900, 7000])
        if at[pod] < hours * 3600:
            found.append((pod, at[pod], b"\x00" if rng.random() < 0.1 else payload(rng.uniform(0, 60))))
    return sorted(found, key=lambda m: m[1])


@pytest.mark.parametrize("seed", [3, 4])
@pytest.mark.parametrize("points", [50, 160])
def test_a_thinned_curve_keeps_mean_and_extremes_of_every_part(
    world: World, engine: Any, seed: int, points: int
) -> None:
    world.decoder(DECODER)
    messages = stream(seed, 1500, 40)
    world.arrive(*messages)
    work_off(engine)
    start, end = START - HOUR, START + 40 * HOUR
    (line,), cut = series(Device.objects.get(name="pod-1"), ["level"], start, end, points)
    assert not cut
    told = [(START.timestamp() + at, level_of(raw)) for pod, at, raw in messages if pod == 1 and len(raw) > 1]
    assert line["count"] == len(told)
    step = (end - start).total_seconds() / (points // 2)
    parts: dict[int, list[tuple[float, float]]] = {}
    for t, v in told:
        parts.setdefault(math.floor((t - start.timestamp()) / step), []).append((t, v))
    wanted = [parts[k] for k in sorted(parts)] if len(told) > points else [[one] for one in told]
    assert len(line["t"]) == len(wanted) <= points
    assert line["t"] == pytest.approx([sum(t for t, _ in p) / len(p) for p in wanted], abs=1e-3)
    assert line["v"] == pytest.approx([sum(v for _, v in p) / len(p) for p in wanted])
    if len(told) > points:
        assert line["low"] == [min(v for _, v in p) for p in wanted]
        assert line["high"] == [max(v for _, v in p) for p in wanted]


@pytest.mark.parametrize("hours", [1, 24, 40])
def test_rhythm_counts_every_message_once_in_its_place(world: World, engine: Any, hours: int) -> None:
    world.decoder(DECODER)
    messages = stream(5, 900, 40)
    world.arrive(*messages)
    work_off(engine)
    start, end, most = START + 0.5 * HOUR, START + (0.5 + hours) * HOUR, 48
    ids = [pod.pk for pod in world.pods[:3]]
    found = rhythm(ids, start, end, most)
    width = hours * 3600 / most
    for pod in range(3):
        heard, bad = [0] * most, [0] * most
        for sender, at, raw in messages:
            behind = at - 1800
            if sender == pod and 0 < behind <= hours * 3600:
                k = min(int(behind // width), most - 1)
                heard[k] += 1
                bad[k] += len(raw) == 1
        assert found[ids[pod]] == (heard, bad)


def test_the_rhythm_of_many_days_counts_whole_hours(world: World, engine: Any) -> None:
    world.decoder(DECODER)
    messages = stream(6, 900, 60)
    world.arrive(*messages)
    work_off(engine)
    start, end = START, START + 96 * HOUR
    found = rhythm([world.pods[0].pk], start, end, 48)
    by_bucket = Counter(int(at // 7200) for pod, at, _ in messages if pod == 0)
    assert found[world.pods[0].pk][0] == [by_bucket[k] for k in range(48)]


WORST_FIRST = ("silent", "undecodable", "overdue", "reporting")


def slowly(world: World, messages: list[tuple[int, float, bytes]], hours: int, end: datetime) -> list[dict[str, int]]:
    """How many devices were in which state for most of each hour, half a minute after the other; the cadence of a pod
    is a minute.
    """
    found = []
    for hour in range(hours):
        counts: Counter[str] = Counter()
        for number in range(len(world.pods)):
            spent: Counter[str] = Counter()
            for second in range(hour * 3600, min((hour + 1) * 3600, int((end - START).total_seconds())), 30):
                own = [(at, raw) for sender, at, raw in messages if sender == number and at <= second]
                if own:
                    at, raw = own[-1]
                    age = second - at
                    state = "silent" if age >= 180 else "undecodable" if len(raw) == 1 else "reporting"
                    spent["overdue" if state == "reporting" and age >= 90 else state] += 1
            if spent:
                counts[max(WORST_FIRST, key=lambda name: (spent[name], -WORST_FIRST.index(name)))] += 1
        found.append({name: counts[name] for name in WORST_FIRST})
    return found


@pytest.mark.parametrize("minutes", [20, 45, 60])
def test_the_band_says_of_every_hour_what_a_slow_count_says(world: World, engine: Any, minutes: int) -> None:
    world.decoder(DECODER)
    hours, end = 12, START + 11 * HOUR + timedelta(minutes=minutes)
    rng = random.Random(minutes)
    messages = []
    for pod in range(4):
        for hour in range(12):
            kept = rng.choice([0, 0.2, 0.45, 0.6, 1])
            wrong = rng.choice([0, 0, 0.4, 0.6])
            for k in range(60):
                at = hour * 3600 + k * 60
                if rng.random() < kept and at <= (end - START).total_seconds():
                    messages.append((pod, float(at), b"\x00" if rng.random() < wrong else payload(3)))
    world.arrive(*sorted(messages, key=lambda m: m[1]))
    work_off(engine)
    found = health(START, hours, 1, end)
    wanted = slowly(world, messages, hours, end)
    told = [{name: b[name] for name in WORST_FIRST} for b in found["buckets"]]
    assert told == wanted
    assert [b["messages"] for b in found["buckets"]] == [
        sum(at // 3600 == hour for _, at, _ in messages) for hour in range(hours)
    ]


def test_how_often_each_value_came_and_where_the_others_are(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.decoder(DECODER)
    messages = stream(5, 900, 20)
    world.arrive(*messages)
    work_off(engine)
    span: dict[str, Any] = {"from": START.isoformat(), "to": (START + 20 * HOUR).isoformat()}
    told = {pod: [level_of(raw) for p, at, raw in messages if p == pod and at and len(raw) > 1] for pod in range(3)}
    found = client.get("/api/v1/devices/pod-1/spread", {**span, "field": "level", "bins": 7}).json()
    assert found["values"] == sum(found["counts"]) == len(told[1]) and found["unit"] == "m"
    for low, high, count in zip(found["edges"][:-1], found["edges"][1:-1], found["counts"], strict=False):
        assert count == sum(low <= v < high for v in told[1])
    assert found["deciles"][0] == min(told[1]) and found["deciles"][-1] == max(told[1])
    among = client.get("/api/v1/history/among", {"type": "pod", "field": "level", "points": 4, **span}).json()
    assert (among["devices"], among["of"]) == (3, 4), "one has said nothing"
    width = 5 * 3600
    for part in range(4):
        means = [
            fmean(own)
            for pod in range(3)
            if (
                own := [
                    level_of(raw)
                    for p, at, raw in messages
                    if p == pod and len(raw) > 1 and part * width < at <= (part + 1) * width
                ]
            )
        ]
        if len(means) == 3:
            assert among["middle"][part] == pytest.approx(sorted(means)[1])
            assert min(means) <= among["low"][part] <= among["high"][part] <= max(means)
        else:
            assert among["middle"][part] is None
    wrong: list[tuple[str, dict[str, str], str]] = [
        ("history/among", {"type": "pod", "field": "nothing"}, "is not a field"),
        ("history/among", {"type": "pod", "field": "level", "points": "0"}, "expected 1 to 500"),
        ("devices/pod-1/spread", {"field": "level", "bins": "many"}, "expected 1 to 200"),
    ]
    for path, query, says in wrong:
        answer = client.get(f"/api/v1/{path}", {**query, **span})
        assert answer.status_code in (400, 404) and says in answer.json()["detail"]
