"""Counts of activity, packed and not: as they are added up one by one."""

from __future__ import annotations

import random
from datetime import timedelta
from statistics import fmean, median
from typing import Any

import numpy as np
import psycopg
import pytest
from django.db import connection
from hypothesis import given
from hypothesis import strategies as st

from server.rules.health import Health
from server.store.arrays import NEVER, arrays
from server.store.summed import by_day, messages_by_hour, sum_an_hour, sums
from tests.server.world import START, World

HOUR = timedelta(hours=1)
MIDNIGHT = START.replace(hour=0, minute=0, second=0, microsecond=0)
Row = dict[str, Any]


def active(world: World, seed: int) -> list[Row]:
    """Rows of activity of three devices over three days, as the engine writes them."""
    rng = random.Random(seed)
    rows: list[Row] = []
    for pod in world.pods[:3]:
        for hour in range(72):
            if rng.random() < 0.3:
                continue
            late = rng.choice([0, rng.randint(1, 4)])
            delays: list[float] = [rng.choice([0.0, rng.uniform(-5, 90)]) for _ in range(late)]
            rows.append(
                {
                    "device": int(pod.pk),
                    "hour": MIDNIGHT + hour * HOUR,
                    "counts": [late + rng.randint(0, 3), rng.randint(0, 2), 3 * late, late, late],
                    "delays": delays,
                }
            )
    with psycopg.connect(world.url, autocommit=True) as own:
        own.cursor().executemany(
            "insert into activity (device_id, hour, messages, failed, cells, gone, delays, delay_sum, delay_min,"
            " delay_max) values (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s)",
            [
                (
                    *(r["device"], r["hour"], *r["counts"], sum(r["delays"])),
                    *(min(r["delays"], default=float("inf")), max(r["delays"], default=float("-inf"))),
                )
                for r in rows
            ],
        )
        own.execute("insert into activity_unsummed select distinct hour from activity")
        own.execute(
            "insert into engine_cursor (share, shares, id, clock) values (0, 1, 0, %s) on conflict (share) do update"
            " set clock = excluded.clock",
            (MIDNIGHT + 70.5 * HOUR,),
        )
    return rows


@pytest.mark.parametrize("seed", range(3))
def test_what_is_packed_counts_as_what_is_not(world: World, again: Any, seed: int) -> None:
    rows = active(world, seed)
    devices = np.array(sorted(int(pod.pk) for pod in world.pods[:3]), np.int64)
    first, end = MIDNIGHT + 5 * HOUR, MIDNIGHT + 71 * HOUR
    own = [r for r in rows if first <= r["hour"] < end]

    def check() -> None:
        with connection.cursor() as cursor:
            found = sums(cursor, first, end, devices)
            daily = by_day(cursor, MIDNIGHT.date(), MIDNIGHT + 72 * HOUR)
            hourly = messages_by_hour(cursor, first, end)
        for place, device in enumerate(devices.tolist()):
            mine = [r for r in own if r["device"] == device]
            delays = [d for r in mine for d in r["delays"]]
            assert found.counts[:, place].tolist() == [sum(r["counts"][k] for r in mine) for k in range(5)]
            assert found.delay_sum[place] == pytest.approx(sum(delays))
            assert found.delay_max[place] == pytest.approx(max(delays))
            row = daily.device.tolist().index(device)
            for day in range(3):
                a, b = MIDNIGHT + 24 * day * HOUR, MIDNIGHT + 24 * (day + 1) * HOUR
                heard = [r["delays"] for r in rows if r["device"] == device and a <= r["hour"] < b and r["delays"]]
                assert daily.quickest[row, day] == pytest.approx(median(map(min, heard)))
                assert daily.delay[row, day] == pytest.approx(fmean(d for delays in heard for d in delays))
        hours = {r["hour"]: 0 for r in own}
        for r in own:
            hours[r["hour"]] += r["counts"][0]
        assert hourly == hours

    check()
    for _ in range(20):
        assert sum_an_hour(again.connection)
    check()
    while sum_an_hour(again.connection):
        pass
    assert world.ask("select count(*) from activity_summed where hours = 24")[0][0] == 2, "the third is not over"
    check()
    changed = next(r for r in own if r["hour"] < MIDNIGHT + 24 * HOUR)
    changed["counts"][1] += 5
    world.ask(
        "update activity set failed = failed + 5 where device_id = %s and hour = %s returning 1",
        *(changed["device"], changed["hour"]),
    )
    world.ask("insert into activity_unsummed values (%s) returning 1", changed["hour"])
    check()
    while sum_an_hour(again.connection):
        pass
    check()


def test_columns_of_an_answer_are_arrays(world: World) -> None:
    kinds = ("int", "float", "time", "flag")
    with connection.cursor() as cursor:
        asked = (
            "select n, n / 2.0, case when n = 2 then '-infinity' else %s::timestamptz end, n = 1"
            " from unnest(%s::int[]) n"
        )
        whole, broken, at, flag = arrays(cursor, kinds, asked, (START, [1, 2]))
        none = arrays(cursor, kinds, asked, (START, []))
    assert (whole.tolist(), broken.tolist(), flag.tolist()) == ([1, 2], [0.5, 1.0], [True, False])
    assert at.tolist() == [round(START.timestamp() * 1e6), NEVER]
    assert [len(column) for column in none] == [0] * 4 and none[3].dtype == bool


numbers = st.integers(0, 20)
maybe = st.one_of(st.none(), st.integers(-9, 9))


@given(st.lists(st.tuples(numbers, numbers, maybe, maybe, maybe, st.integers(0, 3)), max_size=12))
def test_groups_add_up_and_tell_the_middle_clock(listed: list[tuple[Any, ...]]) -> None:
    def column(place: int) -> np.ndarray:
        return np.array([np.nan if row[place] is None else row[place] for row in listed], float)

    n = len(listed)
    expected = column(2)
    expected[expected <= 0] = np.nan
    counts = np.array([[row[0], row[1] % (row[0] + 1), row[1], row[0], row[0]] for row in listed]).reshape(n, 5).T
    health = Health(
        device=np.arange(n) * 3 + 5,
        devices=np.ones(n, np.int64),
        counts=counts.astype(np.int64),
        expected=expected,
        met=np.minimum(column(0), np.nan_to_num(expected)),
        delay_sum=column(1),
        delay_max=column(3),
        clock=column(4),
        alarm=column(1),
        states=np.repeat(column(0)[:, None], 4, axis=1),
    )
    groups = [[3 * k + 5 for k, row in enumerate(listed) if row[5] == group] for group in range(4)]
    told = health.grouped([*groups, [4]])  # which is nobody's number
    for place, group in enumerate(groups):
        found = told.told(place)
        own = [listed[(device - 5) // 3] for device in group]
        singles = [health[device] for device in group]
        assert (found.devices, found.messages) == (len(group), sum(row[0] for row in own))
        wanted = [s.expected for s in singles if s.expected is not None]
        assert found.expected == (pytest.approx(sum(wanted)) if wanted else None)
        clocks = [row[4] for row in own if row[4] is not None]
        assert found.clock == (pytest.approx(median(clocks)) if clocks else None)
        assert found.delay_max == max((row[3] for row in own if row[3] is not None), default=None)
        values, missing = sum(row[1] for row in own), sum(row[0] for row in own)
        assert found.complete == (pytest.approx(values / (values + missing)) if values + missing else None)
    assert told.told(4).devices == 0 and told.told(4).availability is None
