"""Stored messages once more: a trial of a draft beside the version in force, and decoding a span again."""

from __future__ import annotations

import os
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import psycopg

from .instance import own_database, say

EXAMPLE = Path(__file__).resolve().parent.parent / "examples" / "sheets" / "raft_buoy_1.ocu"
PAYLOAD = bytes.fromhex("10047187fc34a024ba164cabc0e698e05801d683d1")
MESSAGES = int(os.environ.get("OCULUM_BENCH_MESSAGES", "100000"))
DEVICES = 100


def measure(seconds: float) -> dict[str, Any]:
    """100,000 stored messages of a hundred buoys; `seconds` is not used: each is measured once, whole."""
    with own_database() as instance:
        from django.utils import timezone

        from server.again.worker import Again
        from server.engine.worker import Engine
        from server.records.again.models import DecodeAgain
        from server.records.definitions.models import Definition
        from server.records.fleet.models import Device, DeviceType
        from server.rules.plans import decoder_plan
        from server.rules.publishing import publish
        from server.rules.registering import registry_changed
        from server.trials.past import PastSpan, decoder_trial

        text = EXAMPLE.read_text()
        type_ = DeviceType.objects.create(key="raft_buoy_1", title="Buoys")
        devices = [Device.objects.create(name=f"buoy-{i:03}", title=f"Buoy {i}", type=type_) for i in range(DEVICES)]
        registry_changed()
        definition = Definition.objects.create(kind="decoder", name="raft_buoy_1", type=type_)
        publish(definition, text, None)
        say(f"storing {MESSAGES:,} messages")
        end = timezone.now()
        with psycopg.connect(instance.database_url()) as connection:
            connection.execute("select message_day((now() at time zone 'UTC')::date + d) from generate_series(-8, 1) d")
            connection.execute(
                "insert into message (received_at, device_id, channel, payload)"
                " select %s - make_interval(secs => (%s - n) * 6), (%s::int[])[1 + n %% %s], 1, %s from"
                " generate_series(0, %s) n",
                (end, MESSAGES, [d.pk for d in devices], DEVICES, PAYLOAD, MESSAGES - 1),
            )
        engine = Engine(instance.database_url())
        say("decoding them for the first time")
        began = time.perf_counter()
        while engine.step():
            pass
        first = MESSAGES / (time.perf_counter() - began)
        definition.refresh_from_db()
        assert definition.live is not None
        live = decoder_plan(definition.live.text, definition.live.fields)
        draft = decoder_plan(text.replace("u8 / 100 + 2", "u8 / 50"), definition.live.fields)
        assert live is not None and draft is not None
        say("a trial over all of them")
        began = time.perf_counter()
        result: dict[str, Any] = {}
        for step in decoder_trial(draft, live, PastSpan(type_.pk, MESSAGES)):
            result = step.get("result", result)
        trial_s = time.perf_counter() - began
        assert result["messages"] == result["decoded"] == MESSAGES
        assert {f["field"]: f["differ"] for f in result["fields"] if f["differ"]} == {"battery": MESSAGES}
        publish(definition, text.replace("u8 / 100 + 2", "u8 / 50"), None)
        while engine.step():
            pass
        say("decoding all of them again")
        DecodeAgain.objects.create(type=type_, start=end - timedelta(days=9), end=end + timedelta(days=1))
        began = time.perf_counter()
        again = Again(instance.database_url())
        while again.step():
            pass
        again.close()
        while engine.step():
            pass
        apply_s = time.perf_counter() - began
        with psycopg.connect(instance.database_url()) as connection:
            counts = connection.execute(
                "select (select count(*) from reading_row), (select count(distinct version_id) from reading_row),"
                " (select count(*) from replaced_reading)"
            ).fetchone()
        assert counts is not None and counts == (MESSAGES, 1, MESSAGES), counts
        return {
            "figures": {
                "messages": MESSAGES,
                "trial_s": trial_s,
                "trial_messages_per_s": MESSAGES / trial_s,
                "apply_s": apply_s,
                "apply_messages_per_s": MESSAGES / apply_s,
                "first_messages_per_s": first,
            },
            "ratios": {"apply_to_first": (MESSAGES / apply_s) / first},
        }
