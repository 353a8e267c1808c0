"""Loading the demo: the fleet, its definitions, a month of messages put into the inbox.

The engine works the messages off like any others; nothing is inserted behind its back.
"""

from __future__ import annotations

import json
import os
import re
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import numpy as np
import psycopg
from django.conf import settings
from django.db import connection, transaction
from psycopg.types.json import Jsonb

from oculum.language.decoders.plan import DecoderPlan
from oculum.language.fields import FieldSpec
from server.records.definitions.models import Case, Definition, ReferenceTable
from server.records.fleet.models import Device, DeviceType, Fence, Site
from server.records.people.models import Person
from server.rules import tables
from server.rules.decoders import field_out
from server.rules.publishing import publish
from server.rules.registering import give_key, registry_changed, set_setpoint
from server.store.messages import LOADED

from . import world
from .payloads import payloads
from .people import outlets_for_readings, take_alarms, ways_of_telling
from .signals import DAY_US, SEED, Story, headers_of, now_us, plan_of, sending_times, topic_of

DAYS = min(max(int(os.environ.get("OCULUM_DEMO_DAYS") or 30), 2), 30)  # of history
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
            caretaker, attended = world.CARETAKERS.get(name, ("", ""))
            sites[name] = Site.objects.create(
                name=name,
                title=title,
                parent=sites.get(parent or ""),
                zone=world.ZONE,
                latitude=lat,
                longitude=lon,
                caretaker=caretaker,
                attended=attended,
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
                name=unit.name,
                title=unit.title,
                type=types[unit.type],
                site=sites[unit.site],
                gateway=devices.get(unit.gateway or ""),
                labels=unit.labels,
                latitude=unit.latitude,
                longitude=unit.longitude,
            )
            if unit.gateway is None:
                keys[unit.name] = give_key(devices[unit.name])
        set_setpoint(types["raft_buoy"], "oxygen_min", 4.6, None, device=devices["buoy-03"].pk)
        for name, geometry in world.FENCES.items():
            feature = {"type": "Feature", "properties": {"name": name}, "geometry": geometry}
            Fence.objects.create(name=name, feature=feature)
        registry_changed(accounts=True)
        for key, file in world.DECODERS.items():
            definition = Definition.objects.create(kind="decoder", name=key, type=types[key])
            publish(definition, (world.EXAMPLES / file).read_text(), None, "data sheet")
            _cases(definition)
            if key in world.FIELDS:
                types[key].refresh_from_db()
                types[key].fields += [field_out(FieldSpec(n, "number", u)) for n, u in world.FIELDS[key]]
                types[key].save()
        outlets_for_readings()
        read_samples = tables.read(world.SAMPLES)
        samples = ReferenceTable(name="bottle samples")
        tables.keep(samples, read_samples, None)
        samples.save()
        for file in world.ROUTES:
            text = (world.EXAMPLES / file).read_text()
            first = re.search(r"^  on (\w+)", text, re.M)[1]  # type: ignore[index]
            definition = Definition.objects.create(kind="route", name=text.split('"')[1], type=types[first])
            publish(definition, text, None, "first season")
        for file in world.CONDITIONS:
            text = (world.EXAMPLES / file).read_text()
            type_key = re.search(r"^  on (?:each site of )?(\w+)", text, re.M)[1]  # type: ignore[index]
            definition = Definition.objects.create(kind="condition", name=text.split('"')[1], type=types[type_key])
            publish(definition, text, None, "first season")
        ways_of_telling()
        settings.INSTANCE.keep_private("demo-keys.json", keys)
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


def begin() -> dict[str, str]:
    """The demo's records, where nobody is registered yet. Returns the sign-ins that were made, if any."""
    if Person.objects.exists():
        return {}
    end = now_us()
    with transaction.atomic():
        sign_ins = load_records()
        # From here on every step of the load is on record in its own transaction.
        with connection.cursor() as cursor:
            cursor.execute("create table if not exists demo_load (end_us bigint not null, next_us bigint not null)")
            cursor.execute("insert into demo_load values (%s, %s)", (end, end - DAYS * DAY_US))
    return sign_ins


def unfinished() -> bool:
    """Whether a load of the demo was begun in this database, and is not at its end."""
    with connection.cursor() as cursor:
        cursor.execute("select to_regclass('demo_load')")
        if cursor.fetchone() == (None,):
            return False
        cursor.execute("select 1 from demo_load where next_us < end_us")
        return cursor.fetchone() is not None or not (settings.INSTANCE.folder / "demo.json").exists()


def load_messages(progress: Callable[[float], None]) -> int:
    """Days of payloads into the inbox, half a day at a time, from where it was broken off.

    Returns how many messages the demo has, when all are worked off. Calls progress(share done).
    """
    with psycopg.connect(settings.INSTANCE.database_url(), autocommit=True, application_name="oculum loader") as loader:
        row = loader.execute("select end_us, next_us from demo_load").fetchone()
        assert row is not None
        end_us, next_us = row
        story = Story(end_us, SEED)
        units = world.fleet()
        ids = dict(Device.objects.values_list("name", "id"))
        plans = {key: plan_of(key) for key in world.DECODERS}
        schedule = {unit.name: sending_times(story, unit, end_us - DAYS * DAY_US, end_us) for unit in units}
        total = sum(len(times) for times in schedule.values())
        sent = sum(int((times < next_us).sum()) for times in schedule.values())
        first = (EPOCH + timedelta(microseconds=end_us - DAYS * DAY_US)).date()
        loader.execute("select message_day(%s::date + d) from generate_series(0, %s) d", (first, DAYS + 3))
        for start in range(next_us, end_us, DAY_US // 2):
            rows: list[Row] = []
            for unit in units:
                times = schedule[unit.name]
                times = times[(times >= start) & (times < start + DAY_US // 2)]
                if len(times):
                    rows += rows_of(story, unit, plans[unit.type], times, ids)
            rows.sort(key=lambda row: (row[0], row[1]))
            with loader.transaction():
                put(loader, rows)
                loader.execute("update demo_load set next_us = %s", (start + DAY_US // 2,))
            sent += len(rows)
            progress(0.25 * sent / total + 0.75 * worked_off(loader) / total)
        while not all_worked_off(loader):
            progress(0.25 + 0.75 * min(worked_off(loader) / total, 1))
            time.sleep(0.1)
        progress(1)
    take_alarms(EPOCH + timedelta(microseconds=end_us))
    # Not before: who is registered and not heard is silent.
    Device.objects.update(registered_at=EPOCH + timedelta(microseconds=end_us - DAYS * DAY_US))
    registry_changed()
    (settings.INSTANCE.folder / "demo.json").write_text(json.dumps({"end_us": end_us}))
    return total


# received, device, via, topic, headers, payload
Row = tuple[int, int, int | None, str, Jsonb | None, bytes]


def rows_of(story: Story, unit: world.Unit, plan: DecoderPlan, times: np.ndarray, ids: dict[str, int]) -> list[Row]:
    """What one device sends at these times (int64, µs)."""
    via = ids[unit.gateway] if unit.gateway else None
    delay = 1_200_000 if unit.gateway else 300_000
    topic, told = topic_of(unit), headers_of(unit)
    headers = Jsonb(told) if told else None
    made = payloads(story, unit, plan, times)
    return [
        (at + delay, ids[unit.name], via, topic, headers, payload)
        for at, payload in zip(times.tolist(), made, strict=True)
    ]


def put(loader: psycopg.Connection, rows: list[Row]) -> None:
    """Messages into the stream, with the stamps of the past."""
    columns = "received_at, device_id, via_id, channel, topic, headers, payload"
    with loader.cursor() as cursor:
        with cursor.copy(f"copy message ({columns}) from stdin (format binary)") as copy:
            copy.set_types(["timestamptz", "int4", "int4", "int2", "text", "jsonb", "bytea"])
            for received, device, via, topic, headers, payload in rows:
                at = EPOCH + timedelta(microseconds=received)
                copy.write_row((at, device, via, LOADED, topic, headers, payload))
        cursor.execute("select pg_notify('oculum_arrival', '')")


def worked_off(loader: psycopg.Connection) -> int:
    row = loader.execute("select coalesce(sum(messages), 0) from engine_cursor").fetchone()
    return int(row[0]) if row else 0


def all_worked_off(loader: psycopg.Connection) -> bool:
    row = loader.execute(
        "select not exists (select 1 from message where id > (select coalesce(min(id), 0) from engine_cursor))"
    ).fetchone()
    return bool(row and row[0])
