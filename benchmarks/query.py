"""Questions to a fleet of ten thousand devices with thirty days of readings, as the screens and the API ask them."""

from __future__ import annotations

import os
import random
import shutil
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import psycopg

from .instance import own_database, say

DEVICES, DAYS, FIELDS, SITES = 10_000, 30, 8, 40
READINGS = int(os.environ.get("OCULUM_BENCH_READINGS", "100000000"))
KEPT = Path("/var/tmp/oculum-bench-query")  # made once: about ten gigabytes


def fill(connection: psycopg.Connection[Any], start: datetime, turns: int, cadence_s: float) -> None:
    """Rows as the engine writes them, in the order of time. One device in twenty falls silent for a while."""
    from server.store.sealed import Sealer
    from server.store.summed import sum_an_hour

    fields = [{"name": f"v{n}", "kind": "number", "unit": "V"} for n in range(FIELDS)]
    c = connection
    c.execute(
        "insert into layout (id, fields, digest) values (1, %s::jsonb, '\\x00')", (psycopg.types.json.Jsonb(fields),)
    )
    c.execute(
        "select message_day((%s::timestamptz at time zone 'UTC')::date + d) from generate_series(0, %s) d",
        (start, DAYS + 1),
    )
    values = {"turns": turns, "start": start, "cadence": cadence_s, "devices": DEVICES}
    c.execute(
        "create temp table moment as select d.id as device, t * %(devices)s + d.id as number, %(start)s::timestamptz +"
        " make_interval(secs => t * %(cadence)s + (d.id %% 1000) * 0.5) as at from generate_series(0, %(turns)s - 1) t,"
        " fleet_device d where not (d.id %% 20 = 0 and t between d.id %% 1000 and d.id %% 1000 + 20) order by t, d.id",
        values,
    )
    say("messages")
    c.execute(
        "insert into message (id, received_at, device_id, channel, payload) select number, at + interval '1 s', device,"
        " 3, '\\x0102030405060708' from moment order by number"
    )
    # All of them count as worked off: else sealing would wait for the engine.
    c.execute("insert into engine_cursor (share, shares, id, clock) select 0, 1, max(number), %s from moment", (start,))
    say("readings")
    c.execute("create index on moment (at)")
    for day in range(-1, DAYS + 1):  # as in life: a day is written, and one that is over is sealed
        first = start.replace(hour=0, minute=0, second=0) + timedelta(days=day)
        c.execute(
            "insert into reading_row select device, at, 1, 1, number, at + interval '1 s', array[round(5 * sin(number *"
            " 0.001)::numeric, 2), round((number %% 977) * 0.37, 2), 2.25, 20 + device %% 7, round(random()::numeric *"
            " 100, 1), number / 1000, random(), 7]::float8[], null, null from moment where at >= %s and at < %s order"
            " by number",
            (first, first + timedelta(days=1)),
        )
        c.execute("update engine_cursor set clock = %s", (first + timedelta(days=1),))
        sealer = Sealer()
        while sealer.step(c):
            pass
        c.execute("vacuum reading_row")
        say(f"  {day + 2} of {DAYS + 2} days")
    say("what goes with them")
    c.execute(
        f"insert into activity select device, date_trunc('hour', at, 'UTC'), count(*), 0, {FIELDS} * count(*), 0,"
        " count(*), count(*), 1, 1 from moment group by 1, 2"
    )
    c.execute(
        "insert into latest select device, max(number), max(at) + interval '1 s', count(*), false,"
        " (select json_object_agg('v' || n, json_build_array(n, 0, max(number), 0)) from generate_series(0, 7) n)"
        " from moment group by device"
    )
    c.execute(
        "with gap as (select device, at as since, lead(at) over w as until, first_value(at) over w as first from moment"
        " window w as (partition by device order by at)),"
        " broken as (select * from gap where until - since > make_interval(secs => 3 * %(cadence)s))"
        " insert into device_stretch select device, first, since +"
        " make_interval(secs => 1.5 * %(cadence)s), 0 from broken union all"
        " select device, since + make_interval(secs => 1.5 * %(cadence)s), since + make_interval(secs => 3 *"
        " %(cadence)s), 1 from broken union all"
        " select device, since + make_interval(secs => 3 * %(cadence)s), until, 2 from broken",
        values,
    )
    c.execute(
        "insert into device_stands select device, coalesce((select max(until) from device_stretch s where s.device_id ="
        " device), min(at)), 0 from moment group by device"
    )
    c.execute("drop table moment")
    c.execute("insert into activity_unsummed select distinct hour from activity")
    c.execute("update engine_cursor set clock = %s", (start + timedelta(days=DAYS),))
    while sum_an_hour(c):
        pass
    rows = ("message", "reading_row", "reading_sealed", "latest", "activity", "activity_summed")
    for table in (*rows, "device_stretch", "device_stands"):
        c.execute(f"vacuum analyze {table}")


# What screens ask for, over the last day if nothing else is said.
ANSWERS = {
    "watch_answer": "watch",
    "watch_30d_answer": "watch?days=30",
    "bands_answer": "watch/bands?by=site",
    "health_answer": "watch/health?by=site",
    "health_of_devices_answer": "watch/health",
    "devices_answer": "devices",
    "devices_by_figure_answer": "devices?order=availability",
    "rhythm_answer": "watch/rhythm",
    "device_answer": "devices/meter-00005",
    "map_answer": "map",
    "lookback_30d_answer": "lookback?days=30",
}


def answering(path: str, end: datetime) -> Callable[[], object]:
    """Asks for a path of the API as an administrator; `days` in it: how long the lookback is."""
    from rest_framework.test import APIClient

    from server.records.people.models import ROLES, Person

    client = APIClient(HTTP_HOST="127.0.0.1")
    person, _ = Person.objects.get_or_create(username="bench", defaults={"role": ROLES[-1]})
    client.force_authenticate(person)
    path, _, asked = path.partition("?")
    query = dict(pair.split("=") for pair in asked.split("&") if pair)
    start = end - timedelta(days=int(query.pop("days", "1")))

    def ask() -> object:
        answer = client.get(f"/api/v1/{path}", {**query, "from": start.isoformat(), "to": end.isoformat()})
        if answer.status_code != 200:
            raise RuntimeError(f"{path}: {answer.status_code} {answer.content[:200]!r}")
        return answer.content

    return ask


def timed(turns: int, work: Callable[[], object]) -> list[float]:
    """Milliseconds, after one that does not count."""
    work()
    found = []
    for _ in range(turns):
        began = time.perf_counter()
        work()
        found.append((time.perf_counter() - began) * 1000)
    return found


def sealing(url: str, devices: list[int]) -> float:
    """Readings sealed in a second: a day of some devices is opened and sealed again."""
    from server.store.sealed import DAY_US, EPOCH, Sealer, open_for
    from server.store.turns import writers_turn

    with psycopg.connect(url, autocommit=True) as own:
        (day,) = own.execute("select min(day) from reading_sealed").fetchone() or (None,)
        with own.transaction():
            writers_turn(own)
            open_for(own, np.array(devices), np.full(len(devices), (day - EPOCH).days * DAY_US))
        (rows,) = own.execute(
            "select count(*) from reading_row where at < (%s::date + 1)::timestamp at time zone 'UTC'", (day,)
        ).fetchone() or (0,)
        sealer = Sealer()
        began = time.perf_counter()
        while sealer.step(own):
            pass
        took = time.perf_counter() - began
        own.execute("vacuum reading_row")
        return float(rows) * FIELDS / took


def measure(seconds: float) -> dict[str, Any]:
    """Fills the database the first time. `seconds` is not used: each question is asked some times."""
    turns = READINGS // FIELDS // DEVICES
    cadence_s = DAYS * 86_400 / turns
    if KEPT.exists() and not (KEPT / "filled").exists():
        shutil.rmtree(KEPT)
    with own_database(KEPT) as instance:
        from django.db import connection

        from oculum.history.summing import summed
        from server.api.overview.views import series
        from server.instance.memory import settle
        from server.records.fleet.models import Device, DeviceType, Site
        from server.rules.health import figures
        from server.rules.registering import registry_changed
        from server.rules.states import device_states
        from server.store.series import read_series
        from server.store.values import newest

        mark = KEPT / "filled"
        if mark.exists():
            end = datetime.fromisoformat(mark.read_text().split()[0])
            start = end - timedelta(days=DAYS)
        else:
            end = datetime.now(UTC).replace(microsecond=0)
            start = end - timedelta(days=DAYS)
            say(f"storing {turns * DEVICES * FIELDS:,} readings of {DEVICES:,} devices, once")
            fields = [{"name": f"v{n}", "kind": "number", "unit": "V"} for n in range(FIELDS)]
            type_ = DeviceType.objects.create(key="meter", title="Meters", fields=fields, cadence_s=round(cadence_s))
            sites = [Site.objects.create(name=f"place-{n}", title=f"Place {n}") for n in range(SITES)]
            Device.objects.bulk_create(
                [
                    Device(name=f"meter-{i:05}", title=f"Meter {i}", type=type_, site=sites[i % SITES])
                    for i in range(DEVICES)
                ]
            )
            Device.objects.update(registered_at=start)
            registry_changed()
            with psycopg.connect(instance.database_url(), autocommit=True) as own:
                fill(own, start, turns, cadence_s)
            mark.write_text(f"{end.isoformat()} {READINGS}")
        devices = list(Device.objects.select_related("type").order_by("pk"))
        settle()
        rng = random.Random(7)

        def plain(query: str, *values: Any) -> list[Any]:
            with connection.cursor() as cursor:
                cursor.execute(query, values)
                return cursor.fetchall()

        def of_500() -> object:
            own = [d.pk for d in rng.sample(devices, 500)]
            first = end - timedelta(days=1)
            with connection.cursor() as cursor:
                found, _ = read_series(cursor, own, ["v0"], first, end, 2_000_000)
            step = 86_400_000_000 // 300
            begin = round(first.timestamp() * 1e6) + 1
            return [
                summed(at, value, begin, step, 300, "mean", begin + 300 * step, None) for at, value in found.values()
            ]

        def every_newest() -> object:
            with connection.cursor() as cursor:
                return newest(cursor)

        def health() -> object:
            with connection.cursor() as cursor:
                return figures(cursor, start, end)

        def any_moment() -> datetime:
            return start + timedelta(seconds=rng.uniform(8 * 86_400, 29 * 86_400))

        day = end - timedelta(days=1)
        asked: dict[str, tuple[int, Callable[[], object], Callable[[], object]]] = {
            "device_30d": (
                30,
                lambda: series(rng.choice(devices), ["v0"], start, end, 1200),
                lambda: plain(
                    "select at, nums[1] from reading_row where device_id = %s and at > %s and at <= %s order by at",
                    rng.choice(devices).pk, start, end,
                ),
            ),
            "field_500_24h": (
                8,
                of_500,
                lambda: plain(
                    "select device_id, floor(extract(epoch from at - %s) / 288)::int, avg(nums[1]) from reading_row"
                    " where device_id = any(%s) and at > %s and at <= %s group by 1, 2",
                    day, [d.pk for d in rng.sample(devices, 500)], day, end,
                ),
            ),
            "newest_10000": (
                8,
                every_newest,
                lambda: plain(
                    "select d.id, r.at, r.nums from fleet_device d, lateral (select at, nums from reading_row where"
                    " device_id = d.id order by at desc limit 1) r"
                ),
            ),
            "past_moment": (
                8,
                lambda: device_states(any_moment(), True),
                lambda: plain(
                    "select d.id, m.received_at from fleet_device d, lateral (select received_at from message where"
                    " device_id = d.id and received_at <= %s order by received_at desc limit 1) m",
                    any_moment(),
                ),
            ),
            "health_30d": (
                5,
                health,
                lambda: plain(
                    "select device_id, count(*) from message where received_at >= %s and received_at < %s group by 1",
                    start, end,
                ),
            ),
        }  # fmt: skip
        told: dict[str, float] = {}
        ratios: dict[str, float] = {}
        for name, (times, ours, theirs) in asked.items():
            say(name)
            mine, other = timed(times, ours), timed(max(times // 3, 2), theirs)
            told[f"{name}_p50_ms"], told[f"{name}_p95_ms"] = (float(np.percentile(mine, p)) for p in (50, 95))
            ratios[f"{name}_to_plain"] = float(np.median(mine) / np.median(other))
        for name, path in ANSWERS.items():
            say(name)
            mine = timed(6, answering(path, end))
            told[f"{name}_p50_ms"], told[f"{name}_p95_ms"] = (float(np.percentile(mine, p)) for p in (50, 95))
        say("sealing")
        told["sealed_readings_per_s"] = sealing(instance.database_url(), [d.pk for d in devices[:1500]])
        ((size, rows),) = plain(
            "select pg_total_relation_size('reading_row') + pg_total_relation_size('reading_sealed'),"
            " (select sum(messages) from activity)"
        )
        told["bytes_per_reading"] = size / (float(rows) * FIELDS)
        told["readings"] = float(rows) * FIELDS
        # What a device of the demo's cadence (a message in ten minutes, eight values) takes in a year, times 10,000.
        told["year_of_10000_devices_gb"] = size / float(rows) * 6 * 24 * 365 * DEVICES / 1e9
        return {"figures": told, "ratios": ratios}
