"""A small fleet for tests, and what one asks of the database about it."""

from __future__ import annotations

import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
from django.db import connection

from oculum.history.stretches import NAMES
from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType, Site
from server.records.people.models import Person
from server.rules.publishing import publish
from server.rules.registering import give_key, registry_changed, set_setpoint
from server.store.stretches import make_anew, read_stretches

DECODER = """decoder pod for bytes, big endian
  byte 0  level  u16 / 10  m  within 0 to 6000  missing "open" raw 0xFFFF
  byte 2  temp   i16 / 10  Cel
  reject "odd mark" as unknown layout when temp > 900 Cel
"""
CONDITION = """condition "level is high" priority high
  on pod
  raise when level > setpoint level_max deadband 1 m held 60 s
  say "{device} stands at {value}"
"""
GATEWAY = """decoder pod for bytes, big endian
  repeat to end
    next  number  u8  hidden
    device "pod-{number}"
    next  level  u16 / 10  m
"""
MADE = [
    *("reading_row", "refused", "latest", "activity", "alarms_journalentry", "alarms_alarm", "engine_memory"),
    *("device_stretch", "device_stands", "device_unmade", "activity_summed", "activity_unsummed"),
    *("route_activity", "reading_out"),
]
# Recent enough for every retention, and the same all through a run.
START = (datetime.now(UTC) - timedelta(days=3)).replace(hour=12, minute=0, second=0, microsecond=0)


def payload(level: float, temp: float = 12.0) -> bytes:
    return struct.pack(">Hh", round(level * 10), round(temp * 10))


OWN = threading.local()


def own_connection(url: str) -> psycopg.Connection:
    """The tests' own, opened once by each thread: to open one takes as long as ten questions."""
    kept: dict[str, psycopg.Connection] = OWN.__dict__
    found = kept.get(url)
    if found is None or found.closed:
        found = kept[url] = psycopg.connect(url, autocommit=True, prepare_threshold=None)
    return found


class World:
    def __init__(self, instance: Any) -> None:
        self.instance = instance
        self.url = instance.database_url()
        self.site = Site.objects.create(name="reach", title="The Reach", zone="Etc/GMT+2")
        self.type = DeviceType.objects.create(
            key="pod", title="Pod", cadence_s=60, setpoints=[{"name": "level_max", "unit": "m", "value": 5.0}]
        )
        self.gate_type = DeviceType.objects.create(key="gate", title="Gate", is_gateway=True)
        set_setpoint(self.type, "level_max", 5.0, None)
        self.gateway = Device.objects.create(name="gate-1", title="Gate 1", type=self.gate_type, site=self.site)
        self.pods = [
            Device.objects.create(
                name=f"pod-{i}",
                title=f"Pod {i}",
                type=self.type,
                site=self.site,
                gateway=self.gateway if i == 3 else None,
            )
            for i in range(4)
        ]
        self.keys = {d.name: give_key(d) for d in [self.gateway, *self.pods[:3]]}
        registry_changed(accounts=True)

    def person(self, role: str) -> Person:
        person = Person(username=role, role=role)
        person.set_password("a long password of words")
        person.save()
        return person

    def decoder(self, text: str = DECODER) -> Definition:
        definition, _ = Definition.objects.get_or_create(kind="decoder", name="pod", type=self.type)
        publish(definition, text, None)
        return definition

    def condition(self, text: str = CONDITION) -> Definition:
        definition, _ = Definition.objects.get_or_create(kind="condition", name=text.split('"')[1], type=self.type)
        publish(definition, text, None)
        return definition

    def route(self, text: str, person: Person | None = None) -> Definition:
        definition, _ = Definition.objects.get_or_create(kind="route", name=text.split('"')[1], type=self.type)
        publish(definition, text, person)
        return definition

    def arrive(self, *messages: tuple[int, float, bytes]) -> None:
        """(pod, seconds after START, payload), into the inbox in this order."""
        with self.transaction() as own, own.cursor() as cursor:
            cursor.executemany(
                "insert into message (received_at, device_id, channel, payload) values (%s, %s, 3, %s)",
                [(START + timedelta(seconds=at), self.pods[pod].pk, data) for pod, at, data in messages],
            )

    def ask(self, query: str, *values: Any) -> list[tuple]:
        return own_connection(self.url).execute(query, values).fetchall()

    @contextmanager
    def transaction(self) -> Iterator[psycopg.Connection]:
        """Committed in the end, over the connection that the tests share."""
        own = own_connection(self.url)
        with own.transaction():
            yield own

    def forget(self) -> None:
        """The stream is kept, and nothing of what was made of it."""
        with self.transaction() as connection:
            for table in (*MADE, "replaced_reading", "engine_cursor"):
                connection.execute(f"delete from {table}")

    def states(self) -> list[tuple]:
        """Device, state, from and to in seconds after START, one row for as long as it lasts."""
        with connection.cursor() as cursor:
            found = read_stretches(cursor, START - timedelta(days=3), START + timedelta(days=30))
        rows: list[tuple] = []
        for d, a, b, s in zip(
            *(c.tolist() for c in (found.device, found.since, found.until, found.state)), strict=True
        ):
            since, until = (t / 1e6 - START.timestamp() for t in (a, b))
            if rows and rows[-1][:2] == (d, NAMES[s]) and rows[-1][3] == since:
                since = rows.pop()[2]
            rows.append((d, NAMES[s], since, until))
        return rows

    def everything(self) -> dict[str, list[tuple]]:
        """All that the engine has made, without numbers that depend on the order of work."""
        return {
            "readings": self.ask(
                "select device_id, at, nums, texts, missing, message_id from reading_row order by 1, 2, 3"
            ),
            "refused": self.ask("select message_id, device_id, code, reason, line, byte from refused order by 1"),
            "latest": self.ask(
                "select device_id, message_id, received_at, messages, failed, fields from latest order by 1"
            ),
            "routes": self.ask(
                "select definition_id, line, hour, seen, took, failed from route_activity order by 1, 2, 3"
            ),
            "sent": self.ask("select outlet_id, body from reading_out order by body->>'message', body->>'at', id"),
            "activity": self.ask("select * from activity order by 1, 2"),
            "states": self.states(),
            "journal": self.ask(
                'select condition_id, device_id, site_id, what, j.at, learned_at, j.value, j."limit", j.message_id'
                " from alarms_journalentry j join alarms_alarm a on a.id = j.alarm_id order by 5, 1, 2, 3, 4"
            ),
        }


def decode_again(again: Any, engine: Any, most: int = 10_000) -> None:
    """All jobs to their end, and what the engine makes of it."""
    while again.step(most):
        pass
    work_off(engine)
    while make_anew(again.connection):
        pass


def work_off(engine: Any, limit: int = 20_000) -> None:
    while engine.step(limit):
        pass


def spans_of(trial: dict[str, Any]) -> list[dict[str, Any]]:
    """The alarms of a trial's result, each with its device."""
    return [{"device": row["device"], **span} for row in trial["rows"] for span in row["spans"]]
