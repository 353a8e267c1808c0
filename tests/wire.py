"""A sender at the broker that says exactly the bytes a test wants: MQTT 5, one message at a time."""

from __future__ import annotations

import socket
import struct
from collections.abc import Iterable
from typing import Self

CONNACK, PUBACK, PUBREC, PUBCOMP = 0x20, 0x40, 0x50, 0x70


class Closed(Exception):
    """The broker has ended the connection, or refuses it."""


def text(value: str | bytes) -> bytes:
    raw = value if isinstance(value, bytes) else value.encode("utf-8", "surrogatepass")
    return struct.pack(">H", len(raw)) + raw


def size(number: int) -> bytes:
    """A variable byte integer (MQTT 5.0, 1.5.5)."""
    out = bytearray()
    while True:
        number, low = divmod(number, 128)
        out.append(low | (128 if number else 0))
        if not number:
            return bytes(out)


def packet(first: int, *parts: bytes) -> bytes:
    body = b"".join(parts)
    return bytes([first]) + size(len(body)) + body


def user_properties(pairs: Iterable[tuple[str, str]]) -> bytes:
    return b"".join(b"\x26" + text(name) + text(value) for name, value in pairs)


def connecting(name: str, key: str, client_id: str, will: tuple[str, bytes] | None = None) -> bytes:
    flags = 0xC2 | (0x04 | 0x08 if will else 0)
    parts = [text("MQTT"), bytes([5, flags, 0, 60, 0]), text(client_id)]
    if will:
        parts += [b"\0", text(will[0]), text(will[1])]
    return packet(0x10, *parts, text(name), text(key))


def publishing(topic: str, payload: bytes, qos: int = 1, properties: bytes = b"", number: int = 1) -> bytes:
    head = text(topic) + (struct.pack(">H", number) if qos else b"")
    return packet(0x30 | qos << 1, head, size(len(properties)), properties, payload)


class Wire:
    """One connection. Raises Closed when the broker does not want it."""

    def __init__(self, port: int, first: bytes) -> None:
        self.socket = socket.create_connection(("127.0.0.1", port), timeout=10)
        self.number = 0
        try:
            self.say(first)
            kind, body = self.hear()
        except BaseException:
            self.socket.close()
            raise
        if kind != CONNACK or body[1]:
            self.socket.close()
            raise Closed(f"refused with {body[1]:#x}")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.socket.close()

    def say(self, data: bytes) -> None:
        try:
            self.socket.sendall(data)
        except OSError as error:
            raise Closed(str(error)) from error

    def _read(self, count: int) -> bytes:
        found = b""
        while len(found) < count:
            try:
                more = self.socket.recv(count - len(found))
            except ConnectionError:
                more = b""
            if not more:
                raise Closed("the broker ended the connection")
            found += more
        return found

    def hear(self) -> tuple[int, bytes]:
        """The next packet: its kind and its body."""
        kind = self._read(1)[0] & 0xF0
        length = shift = 0
        while True:
            (more,) = self._read(1)
            length |= (more & 127) << shift
            shift += 7
            if more < 128:
                return kind, self._read(length)

    def publish(self, topic: str, payload: bytes, qos: int = 1, properties: bytes = b"") -> bool:
        """Whether it was acknowledged as taken; without QoS nothing is. Raises Closed."""
        self.number = self.number % 65_535 + 1
        self.say(publishing(topic, payload, qos, properties, self.number))
        if qos == 0:
            return False
        while True:
            kind, body = self.hear()
            if kind == 0xE0:
                raise Closed(f"ended with {body[:1].hex()}")
            if kind in (PUBACK, PUBREC, PUBCOMP) and int.from_bytes(body[:2], "big") == self.number:
                if len(body) > 2 and body[2] >= 0x80:
                    return False
                if kind == PUBREC:
                    self.say(packet(0x62, body[:2]))
                    continue
                return True
