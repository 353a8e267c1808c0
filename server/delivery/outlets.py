"""Mail, webhooks and MQTT: one message out, or why not. Each raises OSError, ValueError or what its library raises."""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import http.client
import json
import smtplib
import socket
import ssl
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any
from urllib.parse import urlsplit

from django.utils import timezone

from oculum.errors import OculumError
from server.delivery.reach import TIMEOUT_S, connected

ANSWER_BYTES = 2000
MQTT_REFUSALS = {
    1: "it does not speak MQTT 3.1.1",
    2: "it does not take the name of the client",
    3: "it is not available",
    4: "wrong user name or password",
    5: "not authorised",
}
NAMES = ("host", "port", "security", "user", "sender")


class NotTaken(OculumError, OSError):
    """The other side did not take a message; the text says what it said."""


@dataclass(frozen=True)
class Message:
    """numbers: of the deliveries in it, the first one for all. events: as CloudEvents data. bodies: number and JSON of
    each, where the outlet has a template of its own for them.
    """

    numbers: tuple[int, ...]
    subject: str
    text: str
    events: tuple[Mapping[str, Any], ...]
    bodies: tuple[tuple[int, str], ...] = ()


@dataclass(frozen=True)
class Sent:
    """What went out and what came back, as far as a person may see it."""

    request: str
    answer: str


def said(error: smtplib.SMTPException) -> str:
    if isinstance(error, smtplib.SMTPResponseException):
        answer = error.smtp_error
        return f"{error.smtp_code} {answer.decode(errors='replace') if isinstance(answer, bytes) else answer}"[:250]
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return "; ".join(f"{code} {text!r}" for code, text in error.recipients.values())[:250]
    return str(error)[:250]


class _Mailer(smtplib.SMTP):
    """SMTP over a connection that was judged."""

    def __init__(self, settings: Mapping[str, Any], allowed: Collection[str]) -> None:
        self.settings, self.allowed = settings, allowed
        super().__init__(timeout=TIMEOUT_S)
        self._host = settings["host"]
        code, said = self.connect(settings["host"], int(settings["port"]))
        if code != 220:
            self.close()
            raise smtplib.SMTPConnectError(code, said)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:  # type: ignore[override]
        plain = connected(host, port, self.allowed, timeout)
        if self.settings.get("security") == "tls":
            return ssl.create_default_context().wrap_socket(plain, server_hostname=host)
        return plain


def mail(settings: Mapping[str, Any], secret: str, to: str, message: Message, allowed: Collection[str]) -> Sent:
    letter = EmailMessage()
    letter["Subject"], letter["From"], letter["To"] = message.subject, settings["sender"], Address(addr_spec=to)
    letter["Date"] = format_datetime(timezone.now())
    letter["Message-ID"] = make_msgid(str(message.numbers[0]), "oculum.invalid")
    letter["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's holiday answers it
    letter["Oculum-Delivery"] = ", ".join(map(str, message.numbers))
    letter.set_content(message.text)
    with _Mailer(settings, allowed) as mailer:
        if settings.get("security") == "starttls":
            mailer.starttls(context=ssl.create_default_context())
        if settings.get("user"):
            mailer.login(settings["user"], secret)
        mailer.send_message(letter)
    return Sent(letter.as_string()[:ANSWER_BYTES], "taken by the mail server")


def _connection(url: str, allowed: Collection[str]) -> tuple[http.client.HTTPConnection, str, str]:
    """A connection to where an address leads, the host as it stands there, and the path."""
    found = urlsplit(url)
    if found.scheme not in ("http", "https") or not found.hostname or found.username or found.password:
        raise ValueError("an address such as https://host/path is expected, without a name in it")
    port = found.port or (443 if found.scheme == "https" else 80)
    plain = connected(found.hostname, port, allowed)
    connection = http.client.HTTPConnection(found.hostname, port, timeout=TIMEOUT_S)
    if found.scheme == "https":
        plain = ssl.create_default_context().wrap_socket(plain, server_hostname=found.hostname)
    connection.sock = plain
    return connection, found.netloc, f"{found.path or '/'}{f'?{found.query}' if found.query else ''}"


def webhook(settings: Mapping[str, Any], secret: str, to: str, message: Message, allowed: Collection[str]) -> Sent:
    """A batch of CloudEvents (1.0.2, JSON batched mode), or a request for each alarm where the outlet has a template of
    its own. Signed with HMAC-SHA256 over the body.
    """
    if not message.bodies:
        batch = json.dumps(list(message.events), ensure_ascii=False)
        kind = "application/cloudevents-batch+json; charset=utf-8"
        return _posted(settings, secret, to, message.numbers[0], kind, batch.encode(), allowed)
    for number, body in message.bodies:
        sent = _posted(settings, secret, to, number, "application/json; charset=utf-8", body.encode(), allowed)
    return sent


def _posted(
    settings: Mapping[str, Any], secret: str, to: str, number: int, kind: str, body: bytes, allowed: Collection[str]
) -> Sent:
    headers = {
        **{str(name): str(value) for name, value in (settings.get("headers") or {}).items()},
        "Content-Type": kind,
        "User-Agent": "Oculum",
        "Oculum-Delivery": str(number),
    }
    if secret:
        headers["Oculum-HMAC-SHA256"] = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
    connection, host, path = _connection(to or settings["url"], allowed)
    try:
        connection.request("POST", path, body, {"Host": host, **headers})
        answer = connection.getresponse()
        said = answer.read(ANSWER_BYTES).decode(errors="replace")
    finally:
        connection.close()
    shown = "\n".join(f"{name}: {value}" for name, value in headers.items())
    request = f"POST {path}\n{shown}\n\n{body.decode()}"[:ANSWER_BYTES]
    if not 200 <= answer.status < 300:
        more = " (a redirect, which is not followed)" if 300 <= answer.status < 400 else ""
        raise NotTaken(f"answered {answer.status} {answer.reason}{more}: {said[:150]}")
    return Sent(request, f"{answer.status} {answer.reason}\n{said}")


def mqtt(settings: Mapping[str, Any], secret: str, to: str, message: Message, allowed: Collection[str]) -> Sent:
    """Each event as a CloudEvent in structured JSON mode, by MQTT 3.1.1 with QoS 1.

    A publisher of our own, of four packets: a library would look the host up once more, and go where that leads.
    """
    topic = to or settings["topic"]
    plain = connected(settings["host"], int(settings["port"]), allowed)
    with contextlib.closing(plain):
        own = plain
        if settings.get("tls"):
            own = ssl.create_default_context().wrap_socket(plain, server_hostname=settings["host"])
        own.settimeout(TIMEOUT_S)
        user = settings.get("user", "")
        flags = 0x02 | (0x80 if user else 0) | (0x40 if user and secret else 0)
        parts = [f"oculum-{message.numbers[0]}", *([user] if user else []), *([secret] if user and secret else [])]
        head = _text("MQTT") + bytes((4, flags)) + (30).to_bytes(2, "big")
        own.sendall(_packet(0x10, head + b"".join(map(_text, parts))))
        code = _answer(own, 0x20)[1]
        if code:
            said = MQTT_REFUSALS.get(code, f"code {code}")
            raise NotTaken(f"the broker did not let Oculum in: {said}")
        bodies = [json.dumps(event, ensure_ascii=False).encode() for event in message.events]
        for number, body in enumerate(bodies, start=1):
            own.sendall(_packet(0x32, _text(topic) + number.to_bytes(2, "big") + body))
            taken = int.from_bytes(_answer(own, 0x40), "big")
            if taken != number:
                raise NotTaken(f"the broker acknowledged packet {taken}, {number} was expected")
        own.sendall(_packet(0xE0, b""))
    shown = b"\n".join(bodies).decode()
    return Sent(f"PUBLISH {topic}, QoS 1\n\n{shown}"[:ANSWER_BYTES], f"{len(bodies)} acknowledged by the broker")


def _text(text: str) -> bytes:
    body = text.encode()
    return len(body).to_bytes(2, "big") + body


def _packet(kind: int, body: bytes) -> bytes:
    """A control packet: its length stands before it, seven bits a byte (MQTT 3.1.1, 2.2.3)."""
    size, length = len(body), bytearray()
    while True:
        size, seven = divmod(size, 128)
        length.append(seven | (0x80 if size else 0))
        if not size:
            return bytes((kind,)) + bytes(length) + body


def _answer(own: socket.socket, kind: int) -> bytes:
    """The two bytes of CONNACK or PUBACK. Raises NotTaken where something else comes."""
    found = b""
    while len(found) < 4:
        part = own.recv(4 - len(found))
        if not part:
            raise NotTaken("the broker closed the connection")
        found += part
    if found[0] != kind or found[1] != 2:
        raise NotTaken(f"the broker answered with a packet that was not expected ({found.hex()})")
    return found[2:]
