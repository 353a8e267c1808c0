"""A trial of a condition: thirty days of a thousand devices that report every ten minutes."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg

from .instance import own_database, say

DEVICES, DAYS, CADENCE_S = 1_000, 30, 600
FIELDS = 8
RULES = {
    "seconds": "v0 > 4.5 V deadband 0.5 V held 20 min",
    "window_seconds": "mean(v0, 6 h) > 0.5 V",
    "silence_seconds": "silent(30 min)",
}


def measure(seconds: float) -> dict[str, Any]:
    """4,320,000 stored rows of eight values; `seconds` is not used: each trial is measured once, whole."""
    with own_database() as instance:
        from server.records.fleet.models import Device, DeviceType
        from server.rules.publishing import check
        from server.rules.registering import registry_changed
        from server.store.columns import days, pieces
        from server.store.rows import specs
        from server.store.sealed import Sealer
        from server.trials.conditions import condition_trial

        fields = [{"name": f"v{n}", "kind": "number", "unit": "V"} for n in range(FIELDS)]
        type_ = DeviceType.objects.create(key="meter", title="Meters", fields=fields, cadence_s=CADENCE_S)
        Device.objects.bulk_create(
            [Device(name=f"meter-{i:04}", title=f"Meter {i}", type=type_) for i in range(DEVICES)]
        )
        registry_changed()
        end = datetime.now(UTC).replace(microsecond=0)
        start = end - timedelta(days=DAYS)
        say(f"storing {DEVICES * DAYS * 86_400 // CADENCE_S:,} readings")
        with psycopg.connect(instance.database_url(), autocommit=True) as connection:
            connection.execute(
                "insert into layout (id, fields, digest) values (1, %s::jsonb, '\\x00')",
                (psycopg.types.json.Jsonb(fields),),
            )
            connection.execute(
                "insert into reading_row select d.id, moment, 1, 1, t * %(devices)s + d.place, moment + interval '1 s',"
                " array[5 * sin(t * 0.01 + d.place), 1, 2, 3, 4, 5, 6, 7]::float8[], null, null from"
                " generate_series(0, %(turns)s - 1) t, lateral (select id, row_number() over (order by id) place from"
                " fleet_device) d, lateral (select %(start)s::timestamptz + make_interval(secs => t * %(cadence)s +"
                " d.place * 0.5) moment) m order by t, d.place",
                {
                    "devices": DEVICES,
                    "turns": DAYS * 86_400 // CADENCE_S,
                    "start": start,
                    "cadence": CADENCE_S,
                },
            )
            connection.execute("vacuum analyze reading_row")
            say("sealing what is over, as in life")
            connection.execute("insert into engine_cursor (share, shares, id, clock) values (0, 1, 0, %s)", (end,))
            sealer, began = Sealer(), time.perf_counter()
            while sealer.step(connection):
                pass
            found = {"sealing_seconds": time.perf_counter() - began}
            connection.execute("vacuum analyze reading_row")
            connection.execute("vacuum analyze reading_sealed")
            rows = connection.execute("select sum(rows) from reading_sealed").fetchone()
            assert rows is not None
            found["sealed_rows"] = float(rows[0])
        say("reading them only")
        began = time.perf_counter()
        some = tuple(specs(fields[:1]).values())
        read = pieces(instance.database_url(), type_.pk, start, end, some, False)
        found["readings"] = sum(len(piece.readings) for piece in read)
        found["read_only_seconds"] = time.perf_counter() - began
        for name, rule in RULES.items():
            say(rule)
            text = f'condition "tried" priority low\n  on meter\n  raise when {rule}\n'
            plan, problems = check("condition", text, type_)
            assert plan is not None, problems
            days.forget()
            began = time.perf_counter()
            *_, step = condition_trial(plan, type_, start, end)  # type: ignore[arg-type]
            found[name] = time.perf_counter() - began
            say(f"{step['result']['raised']:,} raised")
        say("once more, as while a limit is dragged")
        began = time.perf_counter()
        *_, step = condition_trial(plan, type_, start, end)  # type: ignore[arg-type]
        found["again_seconds"] = time.perf_counter() - began
        return {"figures": found, "ratios": {"reading_of_whole": found["read_only_seconds"] / found["seconds"]}}
