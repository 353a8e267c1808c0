"""Messages as the decoder takes them: with their topic and headers, the constants of their device, the message
before.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
import psycopg

from oculum.batches import Payloads
from oculum.language.decoders.plan import DecoderPlan
from server.store.encoding import EPOCH_2000_US
from server.store.notices import notice

# What the inbox takes, in the order of `packed`.
COPY = (
    "copy message (received_at, device_id, unknown_id, via_id, channel, topic, headers, payload)"
    " from stdin (format binary)"
)
_NULL, _FRONT, _INT, _CHANNEL, _LENGTH = struct.pack("!i", -1), *map(struct.Struct, ("!hiq", "!ii", "!ih", "!i"))


def packed(
    received_us: int,
    device: int | None,
    unknown: int | None,
    via: int | None,
    channel: int,
    topic: str,
    headers: Mapping[str, str] | None,
    payload: bytes,
) -> bytes:
    """A message as a row of a binary COPY; received_us since 1970."""
    said = topic.encode()
    told = b"\x01" + orjson.dumps(headers) if headers else b""
    return b"".join(
        (
            _FRONT.pack(8, 8, received_us - EPOCH_2000_US),
            *(_NULL if number is None else _INT.pack(4, number) for number in (device, unknown, via)),
            _CHANNEL.pack(2, channel),
            _LENGTH.pack(len(said)),
            said,
            _LENGTH.pack(len(told)) + told if told else _NULL,
            _LENGTH.pack(len(payload)),
            payload,
        )
    )


MQTT, HTTP, LOADED, ITSELF = 1, 2, 3, 4  # channels: the ways in


def put_in(connection: psycopg.Connection[Any], device: int, channel: int, payload: bytes) -> None:
    """One message into the stream, by a way in of Oculum's own."""
    with connection.transaction():
        connection.execute("select message_day((now() at time zone 'UTC')::date + d) from generate_series(0, 1) d")
        connection.execute(
            "insert into message (received_at, device_id, channel, topic, payload)"
            " values (stream_turn(1), %s, %s, '', %s)",
            (device, channel, payload),
        )
        notice(connection, "oculum_arrival")


Constants = Mapping[int, Mapping[str, list[tuple[int, Any]]]]  # device -> name -> (valid from in µs, value), rising


def constants_at(known: Constants, device: int, moment: int) -> dict[str, Any]:
    """The constants of a device as they are at a moment."""
    found: dict[str, Any] = {}
    for name, values in known.get(device, {}).items():
        for valid_from, value in values:
            if valid_from <= moment:
                found[name] = value
    return found


def with_topic(topic: str, headers: dict[str, str] | None) -> dict[str, str]:
    """What is known beside a message, as decoders ask for it."""
    return {**headers, "topic": topic} if headers else {"topic": topic}


# The columns of a message `m` that a decoder is fed with.
FIELDS = (
    "m.id, (extract(epoch from m.received_at) * 1000000)::bigint, coalesce(m.device_id, 0), m.payload, m.topic,"
    " m.headers"
)


@dataclass
class Arrived:
    """Messages of one read, as columns, in order of arrival."""

    ids: np.ndarray
    received: np.ndarray
    device: np.ndarray
    payloads: list[bytes]
    headers: list[dict[str, str]]

    def __len__(self) -> int:
        return len(self.payloads)

    @classmethod
    def of(cls, rows: Sequence[tuple[Any, ...]]) -> Arrived:
        """Rows of `FIELDS`."""
        ids, received, device = (np.array([r[k] for r in rows], np.int64) for k in range(3))
        return cls(
            ids,
            received,
            device,
            [bytes(r[3]) for r in rows],
            [with_topic(r[4], r[5]) for r in rows],
        )

    def part(self, start: int, end: int) -> Arrived:
        return Arrived(
            self.ids[start:end],
            self.received[start:end],
            self.device[start:end],
            self.payloads[start:end],
            self.headers[start:end],
        )

    def chosen(self, rows: np.ndarray) -> Arrived:
        index = rows.tolist()
        return Arrived(
            self.ids[rows],
            self.received[rows],
            self.device[rows],
            [self.payloads[i] for i in index],
            [self.headers[i] for i in index],
        )


def feed(
    connection: psycopg.Connection[Any], plan: DecoderPlan, arrived: Arrived, known: Constants
) -> tuple[Payloads, int]:
    """The batch, and how many messages at its beginning are there only as the ones before."""
    ids, received, device, payloads, headers = (
        arrived.ids,
        arrived.received,
        arrived.device,
        arrived.payloads,
        arrived.headers,
    )
    context: list[tuple[int, int, bytes, dict[str, str]]] = []
    before: np.ndarray | None = None
    if plan.needs_before and len(payloads):
        first: dict[int, int] = {}
        for row, owner in enumerate(device.tolist()):
            first.setdefault(owner, row)
        with connection.cursor() as cursor:
            for owner, row in first.items():
                cursor.execute(
                    "select (extract(epoch from received_at) * 1000000)::bigint, payload, topic, headers from message"
                    " where device_id = %s and id < %s order by id desc limit 1",
                    (owner, int(ids[row])),
                )
                found = cursor.fetchone()
                if found is not None:
                    context.append((owner, int(found[0]), bytes(found[1]), with_topic(found[2], found[3])))
        before = np.full(len(context) + len(payloads), -1, np.int64)
        last = {owner: place for place, (owner, *_) in enumerate(context)}
        for row, owner in enumerate(device.tolist()):
            place = len(context) + row
            before[place] = last.get(owner, -1)
            last[owner] = place
    owners = [owner for owner, *_ in context] + device.tolist()
    times = np.concatenate([np.array([at for _, at, _, _ in context], np.int64), received])
    constants = (
        [constants_at(known, owner, int(at)) for owner, at in zip(owners, times.tolist(), strict=True)]
        if plan.constants
        else None
    )
    return Payloads.of(
        [*(payload for _, _, payload, _ in context), *payloads],
        times,
        [*(beside for *_, beside in context), *headers],
        constants,
        before,
    ), len(context)
