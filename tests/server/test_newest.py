"""Newest values of the whole fleet: what has not changed is not read again, and what has is never missed."""

from __future__ import annotations

from typing import Any

import pytest
from django.db import connection

from server.store import values
from tests.server.world import World, payload, work_off


def both() -> tuple[values.Found, values.Found]:
    """As it is kept, and as it is read anew."""
    with connection.cursor() as cursor:
        return values.newest(cursor), values.newest(cursor, range(100_000)[: values.FEW])


def test_what_is_kept_is_what_is_stored(world: World, engine: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    world.decoder()
    kept, stored = both()
    assert kept == stored == {}
    world.arrive(*[(pod, pod, payload(3)) for pod in range(4)])
    work_off(engine)
    kept, stored = both()
    assert kept == stored and len(kept) == 4

    read: list[int] = []
    plain = values._read

    def noted(cursor: Any, devices: Any) -> Any:
        read.extend(devices)
        return plain(cursor, devices)

    monkeypatch.setattr(values, "_read", noted)
    with connection.cursor() as cursor:
        assert values.newest(cursor) == kept
    assert read == [], "nothing has changed"
    world.arrive((1, 10, payload(4)))
    work_off(engine)
    with connection.cursor() as cursor:
        again = values.newest(cursor)
    assert read == [world.pods[1].pk]
    assert again[world.pods[1].pk][1]["level"][0] == 4.0
    assert {device: again[device] for device in again if device != read[0]} == {
        device: kept[device] for device in kept if device != read[0]
    }

    # What a message gave is taken back, and a device is gone: neither stays as it was kept.
    with connection.cursor() as cursor:
        cursor.execute("update latest set fields = '{}' where device_id = %s", [world.pods[2].pk])
        cursor.execute("delete from latest where device_id = %s", [world.pods[3].pk])
        found = values.newest(cursor)
        assert found[world.pods[2].pk][1] == {} and world.pods[3].pk not in found
        monkeypatch.setattr(values, "FEW", 0)
        assert values.newest(cursor, [world.pods[0].pk, 99_999]) == {world.pods[0].pk: found[world.pods[0].pk]}
