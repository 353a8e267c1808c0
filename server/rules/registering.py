"""Registering devices and giving them keys: used by the API and by the demo."""

from __future__ import annotations

import time
from typing import Any

from django.db import connection, transaction

from server.records.fleet.models import Credential, Device, DeviceType, Setpoint
from server.records.people.models import Person
from server.rules.keys import broker_hash, new_key
from server.store.notices import notice
from server.store.register import accounts_changed, accounts_known, write_event


def notice_registry(*, accounts: bool = False) -> None:
    """Tells intake, engine and broker that the registry changed, when the transaction commits."""
    with connection.cursor() as cursor:
        if accounts:
            accounts_changed(cursor)
        notice(cursor, "oculum_registry")


def control(kind: str, body: dict[str, Any], person: Person | None = None) -> None:
    """Puts a change into the stream, in order with the messages."""
    with connection.cursor() as cursor:
        write_event(cursor, kind, body, person.pk if person else None)


def registry_changed(person: Person | None = None, *, accounts: bool = False) -> None:
    control("registry", {}, person)
    notice_registry(accounts=accounts)


def give_key(device: Device | None = None, onboarding: str | None = None) -> str:
    """A fresh key for a device or an onboarding channel; an earlier one ends. Shown this once."""
    key, prefix, hashed = new_key("d")
    fields = {"prefix": prefix, "digest": hashed, "broker_hash": broker_hash(key)}
    if device is not None:
        Credential.objects.update_or_create(device=device, defaults=fields)
    else:
        Credential.objects.update_or_create(onboarding=onboarding, defaults=fields)
    return key


def wait_for_broker(seconds: float = 3.0) -> bool:
    """Whether the broker knows the accounts as they are now; waits a little for it."""
    until = time.monotonic() + seconds
    while True:
        with connection.cursor() as cursor:
            if accounts_known(cursor):
                return True
        if time.monotonic() > until:
            return False
        time.sleep(0.02)


def set_setpoint(
    type_: DeviceType,
    name: str,
    value: float | None,
    person: Person | None,
    *,
    site: int | None = None,
    device: int | None = None,
) -> None:
    """Writes a setpoint (None takes an override away) and puts the change into the stream.

    The type is locked from here to the commit, so that what stands in the tables last is what comes last in the stream.
    """
    place: dict[str, Any] = {"type": type_, "name": name, "site_id": site, "device_id": device}
    with transaction.atomic():
        locked = DeviceType.objects.select_for_update().get(pk=type_.pk)
        if site is None and device is None:
            locked.setpoints = [s | {"value": value} if s["name"] == name else s for s in locked.setpoints]
            locked.revise()
            type_.setpoints, type_.revision = locked.setpoints, locked.revision
        elif value is None:
            Setpoint.objects.filter(**place).delete()
        else:
            Setpoint.objects.update_or_create(**place, defaults={"value": value})
        control("setpoint", {"type": type_.pk, "name": name, "site": site, "device": device, "value": value}, person)


def remove_setpoint(type_: DeviceType, name: str, person: Person | None) -> None:
    """Takes a setpoint and its overrides out of force, in the tables and in the stream. The type is locked."""
    for override in Setpoint.objects.filter(type=type_, name=name):
        set_setpoint(type_, name, None, person, site=override.site_id, device=override.device_id)
    control("setpoint", {"type": type_.pk, "name": name, "site": None, "device": None, "value": None}, person)
