"""Loading the demo: the fleet, its definitions, thirty days of messages put into the inbox.

The engine works the messages off like any others; nothing is inserted behind its back.
"""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import psycopg
from django.conf import settings
from django.db import transaction
from psycopg.types.json import Jsonb

from oculum.language.plan import FieldSpec
from server.access.models import Person
from server.definitions.models import Case, Definition
from server.definitions.publishing import plain, publish
from server.fleet.models import Device, DeviceType, Site
from server.fleet.registering import give_key, registry_changed, set_setpoint
from server.intake.inbox import LOADED

from . import world
from .payloads import payloads
from .signals import DAY_US, SEED, Story, headers_of, plan_of, sending_times, topic_of

DAYS = 30
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def load_records() -> dict[str, str]:
    """Sites, types, devices, people, definitions. Returns the sign-ins, passwords random."""
    passwords: dict[str, str] = {}
    keys: dict[str, str] = {}
    with transaction.atomic():
        for name, title, role in world.PEOPLE:
            person = Person(username=name, first_name=title, role=role, zone=world.ZONE)
            passwords[name] = "-".join(secrets.token_hex(2) for _ in range(4))
            person.set_password(passwords[name])
            person.save()
        sites: dict[str, Site] = {}
        for name, title, parent, lat, lon in world.SITES:
            sites[name] = Site.objects.create(
                name=name, title=title, parent=sites.get(parent or ""), zone=world.ZONE, latitude=lat, longitude=lon
            )
        types: dict[str, DeviceType] = {}
        for key, title, cadence, is_gateway, setpoints in world.TYPES:
            types[key] = DeviceType.objects.create(
                key=key,
                title=title,
                cadence_s=cadence,
                is_gateway=is_gateway,
                setpoints=[{"name": n, "unit": u, "value": v} for n, u, v in setpoints],
            )
            for name, _, value in setpoints:
                set_setpoint(types[key], name, value, None)
        devices: dict[str, Device] = {}
        for unit in world.fleet():
            devices[unit.name] = Device.objects.create(
                name=unit.name, title=unit.title, type=types[unit.type], site=sites[unit.site], gateway=devices.get(unit.gateway or ""),
                labels=unit.labels, latitude=unit.latitude, longitude=unit.longitude,
            )  # fmt: skip
            if unit.gateway is None:
                keys[unit.name] = give_key(devices[unit.name])
        Device.objects.update(registered_at=datetime.now(UTC) - timedelta(days=DAYS))
        set_setpoint(types["raft_buoy"], "oxygen_min", 4.6, None, device=devices["buoy-03"].pk)
        registry_changed(accounts=True)
        for key, file in world.DECODERS.items():
            definition = Definition.objects.create(kind="decoder", name=key, type=types[key])
            publish(definition, (world.EXAMPLES / file).read_text(), None, "data sheet")
            _cases(definition)
            if key in world.FIELDS:
                types[key].refresh_from_db()
                types[key].fields += [plain(FieldSpec(n, "number", u)) for n, u in world.FIELDS[key]]
                types[key].save()
        for file in world.CONDITIONS:
            text = (world.EXAMPLES / file).read_text()
            type_key = text.split("\n  on ")[1].split()[0]
            definition = Definition.objects.create(kind="condition", name=text.split('"')[1], type=types[type_key])
            publish(definition, text, None, "first season")
    settings.INSTANCE.keep_private("demo-keys.json", keys)
    settings.INSTANCE.keep_private("sign-in.json", passwords)
    return passwords


def _cases(definition: Definition) -> None:
    """The messages that the data sheet itself works out, with what must come out of them."""
    path = world.EXAMPLES / "cases" / f"{definition.name}.jsonl"
    for line in path.read_text().splitlines() if path.exists() else []:
        case = json.loads(line)
        payload = bytes.fromhex(case["payload_hex"]) if "payload_hex" in case else case["payload_text"].encode()
        received = datetime.fromisoformat(case["received_at"])
        Case.objects.create(
            definition=definition,
            name=case["name"],
            payload=payload,
            received_at=received,
            headers=case.get("headers", {}),
            expect=case["expect"],
        )


def load_messages(end_us: int, progress: Callable[[int, int, int], None]) -> int:
    """Thirty days of payloads into the inbox, a day at a time. Calls progress(built, sent, total)."""
    story = Story(end_us, SEED)
    units = world.fleet()
    ids = dict(Device.objects.values_list("name", "id"))
    plans = {key: plan_of(key) for key in world.DECODERS}
    schedule = {unit.name: sending_times(story, unit, end_us - DAYS * DAY_US, end_us) for unit in units}
    total = sum(len(times) for times in schedule.values())
    sent = 0
    with psycopg.connect(
        settings.INSTANCE.database_url(), autocommit=True, application_name="oculum loader"
    ) as connection:
        first = (EPOCH + timedelta(microseconds=end_us - DAYS * DAY_US)).date()
        connection.execute("select message_day(%s::date + d) from generate_series(0, %s) d", (first, DAYS + 3))
        step = DAY_US // 2
        for start in range(end_us - DAYS * DAY_US, end_us, step):
            rows: list[tuple[int, int, int | None, str, Jsonb | None, bytes]] = []
            for unit in units:
                times = schedule[unit.name]
                times = times[(times >= start) & (times < start + step)]
                if not len(times):
                    continue
                via = ids[unit.gateway] if unit.gateway else None
                delay = 1_200_000 if unit.gateway else 300_000
                device = ids[unit.name]
                topic = topic_of(unit)
                told = headers_of(unit)
                headers = Jsonb(told) if told else None
                rows += [
                    (at + delay, device, via, topic, headers, payload)
                    for at, payload in zip(times.tolist(), payloads(story, unit, plans[unit.type], times), strict=True)
                ]
            rows.sort(key=lambda row: (row[0], row[1]))
            with connection.transaction(), connection.cursor() as cursor:
                with cursor.copy(
                    "copy message (part, received_at, device_id, via_id, channel, topic, headers, payload) from stdin (format binary)"
                ) as copy:
                    copy.set_types(["int2", "timestamptz", "int4", "int4", "int2", "text", "jsonb", "bytea"])
                    for received, device, via, topic, headers, payload in rows:
                        copy.write_row(
                            (0, EPOCH + timedelta(microseconds=received), device, via, LOADED, topic, headers, payload)
                        )
                cursor.execute("select pg_notify('oculum_arrival', '')")
            sent += len(rows)
            progress(sent, worked_off(connection), total)
        while (done := worked_off(connection)) < sent:
            progress(sent, done, total)
            time.sleep(0.1)
        progress(sent, done, total)
    return total


def worked_off(connection: psycopg.Connection) -> int:
    row = connection.execute("select coalesce(sum(messages), 0) from engine_cursor").fetchone()
    return int(row[0]) if row else 0
