"""What a stored message is decoded with besides its payload."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.db import connection

from server.records.fleet.models import Constant
from server.store.messages import with_topic
from server.store.rows import json_of


@dataclass(frozen=True)
class Beside:
    """Headers with the topic, the device's constants at its arrival, the payload of the message before."""

    headers: dict[str, str] = field(default_factory=dict)
    constants: dict[str, Any] = field(default_factory=dict)
    previous: bytes | None = None


def beside(message_id: int) -> Beside:
    """Of a message; empty where it is not kept any more."""
    with connection.cursor() as cursor:
        cursor.execute("select device_id, received_at, topic, headers from message where id = %s", (message_id,))
        row = cursor.fetchone()
        if row is None:
            return Beside()
        device, received_at, topic, headers = row
        cursor.execute(
            "select payload from message where device_id = %s and id < %s and received_at <= %s and received_at > %s"
            " - interval '8 days' order by received_at desc, id desc limit 1",
            (device, message_id, received_at, received_at),
        )
        before = cursor.fetchone()
    constants: dict[str, Any] = {}
    for constant in Constant.objects.filter(device_id=device, valid_from__lte=received_at).order_by("valid_from"):
        constants[constant.name] = constant.value
    return Beside(
        with_topic(topic, json_of(headers) if headers is not None else None),
        constants,
        bytes(before[0]) if before else None,
    )
