"""The outbox: how fast deliveries reach a receiver, how late, and what kills of the delivering process lose or double.

The receiver is an HTTP server of its own that takes all and writes down which numbers came. A delivery that comes
twice under its own number is no fault: whoever gets it can tell. One entry told to one address under two numbers is.
"""

from __future__ import annotations

import json
import random
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
import psycopg

from server.instance.instance import ROOT, Instance

from .instance import own_database, say

ADDRESSES = 8
ENTRIES = 500
STEADY_PER_S = 10
BURST = 50
PATIENCE_S = 120.0


class Received:
    """What came: number of the delivery, address, alarm and when, one for each time."""

    def __init__(self) -> None:
        self.all: list[tuple[str, str, int, float]] = []
        received = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                now = time.time()
                received.all += [(event["id"], self.path, event["data"]["alarm"], now) for event in body]
                self.send_response(204)
                self.end_headers()

            def log_message(self, format: str, *args: Any) -> None: ...

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@contextmanager
def delivering() -> Iterator[subprocess.Popen[bytes]]:
    process = subprocess.Popen([sys.executable, "-m", "server.runner.delivery"], cwd=ROOT)
    try:
        yield process
    finally:
        process.kill()
        process.wait()


class Alarms:
    """Alarms that are raised as the engine does it: a row of the journal, and with it what is to be told."""

    def __init__(self, port: int) -> None:
        from server.records.definitions.models import Definition
        from server.records.fleet.models import Device, DeviceType
        from server.records.telling.models import Chain, Contact, Outlet, ReachedHost
        from server.rules.publishing import publish

        kind = DeviceType.objects.create(key="pod", title="Pod", cadence_s=60)
        self.device = Device.objects.create(name="pod-1", title="Pod 1", type=kind)
        publish(
            Definition.objects.create(kind="decoder", name="pod", type=kind),
            "decoder pod for bytes, big endian\n  byte 0  level  u16 / 10  m\n",
            None,
        )
        self.condition = Definition.objects.create(kind="condition", name="level is high", type=kind)
        text = 'condition "level is high" priority high\n  on pod\n  raise when level > 5 m\n'
        self.version = publish(self.condition, text, None)
        ReachedHost.objects.create(host=f"127.0.0.1:{port}")
        url = f"http://127.0.0.1:{port}"
        outlet = Outlet.objects.create(name="out", kind="webhook", settings={"url": url}, per_hour=2_000_000_000)
        contacts = [
            Contact.objects.create(name=f"c{i}", addresses=[{"outlet": outlet.pk, "to": f"{url}/{i}"}]).pk
            for i in range(ADDRESSES)
        ]
        Chain.objects.create(name="all", steps=[{"after_s": 0, "contacts": contacts}], tells=["raised"])
        self.raised_at: dict[int, float] = {}

    def raised(self, count: int) -> None:
        from django.db import transaction

        from server.records.alarms.models import Alarm, JournalEntry

        now = datetime.now(UTC)
        with transaction.atomic():
            made = Alarm.objects.bulk_create(
                Alarm(
                    condition=self.condition,
                    version=self.version,
                    device=self.device,
                    priority="high",
                    text="Pod 1 level is 6 m",
                    raised_at=now,
                    cleared_at=now,
                )
                for _ in range(count)
            )
            JournalEntry.objects.bulk_create(
                JournalEntry(alarm=alarm, what="raised", priority="high", at=now, learned_at=now) for alarm in made
            )
        self.raised_at |= {alarm.pk: time.time() for alarm in made}


def all_told(instance: Instance) -> None:
    """Waits until nothing is to be told."""
    until = time.monotonic() + PATIENCE_S
    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        while time.monotonic() < until:
            row = connection.execute(
                "select (select count(*) from telling_news)"
                " + (select count(*) from telling_delivery where state = 'waiting')"
            ).fetchone()
            if row is not None and row[0] == 0:
                return
            time.sleep(0.02)
    raise RuntimeError(f"deliveries still wait after {PATIENCE_S:.0f} s")


def measure(seconds: float) -> dict[str, Any]:
    """figures: deliveries_per_s (a heap worked off), delay_p50_ms and delay_p99_ms (from the entry in the journal to
    the receiver, steady), kills, lost, again (twice under one number), doubled_beyond_numbers.
    """
    received, random_ = Received(), random.Random(1)
    with own_database() as instance:
        alarms = Alarms(received.port)
        say(f"{ENTRIES} alarms to {ADDRESSES} addresses at once")
        alarms.raised(ENTRIES)
        with delivering():
            all_told(instance)
            came = np.array([at for *_, at in received.all])
            per_second = (len(came) - 1) / (came.max() - came.min())
            say(f"{STEADY_PER_S} alarms a second for {seconds:.0f} s")
            first = len(received.all)
            until = time.monotonic() + seconds
            while time.monotonic() < until:
                alarms.raised(1)
                time.sleep(1 / STEADY_PER_S)
            all_told(instance)
            delays = np.array([at - alarms.raised_at[alarm] for _, _, alarm, at in received.all[first:]]) * 1000
        say(f"the process killed again and again for {seconds:.0f} s")
        kills = 0
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            with delivering():
                begun = len(received.all)
                alarms.raised(BURST)
                while len(received.all) == begun:
                    time.sleep(0.01)
                life = time.monotonic() + random_.uniform(0, 0.5)
                while time.monotonic() < life:
                    alarms.raised(1)
                    time.sleep(0.01)
            kills += 1
        with delivering():
            all_told(instance)
    times = Counter(number for number, *_ in received.all)
    numbers: dict[tuple[str, int], set[str]] = {}
    for number, path, alarm, _ in received.all:
        numbers.setdefault((path, alarm), set()).add(number)
    figures = {
        "deliveries_per_s": float(per_second),
        "delay_p50_ms": float(np.percentile(delays, 50)),
        "delay_p99_ms": float(np.percentile(delays, 99)),
        "deliveries": len(alarms.raised_at) * ADDRESSES,
        "kills": kills,
        "lost": len(alarms.raised_at) * ADDRESSES - len(numbers),
        "again": sum(n - 1 for n in times.values()),
        "doubled_beyond_numbers": sum(len(own) - 1 for own in numbers.values()),
    }
    return {"figures": figures, "ratios": {"lost_of_all": figures["lost"] / figures["deliveries"]}}
