"""Who may send what: the registry as intake sees it, held in memory and renewed on notice."""

from __future__ import annotations

import hmac
import time
from dataclasses import dataclass

import psycopg

from server.intake.accounts import Account
from server.rules.keys import digest


@dataclass(frozen=True)
class Sender:
    """A credential: a device's own, or an onboarding channel's (device_id None)."""

    credential_id: int
    username: str
    device_id: int | None
    digest: bytes


@dataclass(frozen=True)
class Known:
    device_id: int
    gateway_id: int | None


@dataclass(frozen=True)
class Source:
    """From whom an arrival is: a device, or an unknown name behind a credential."""

    sender: Sender
    device_id: int | None
    via_id: int | None
    unknown: str | None

    @property
    def counted_as(self) -> object:
        """Whose rate an arrival counts in: names that are not known share that of the key behind which they speak."""
        return self.device_id if self.device_id is not None else ("key", self.sender.credential_id)


QUERY = """
select c.id, coalesce(d.name, c.onboarding), d.id, c.prefix, c.digest, c.broker_hash,
    1 + (select count(*) from fleet_device b where b.gateway_id = d.id and b.phase <> 'retired')
from fleet_credential c left join fleet_device d on d.id = c.device_id where d.phase is distinct from 'retired'
order by 2
"""


class Senders:
    """Credentials by name and by key id, devices by name. `renew` replaces all of it at once."""

    def __init__(self) -> None:
        self.known = False  # whether the registry has been read at all
        self.by_name: dict[str, Sender] = {}
        self.by_prefix: dict[str, Sender] = {}
        self.devices: dict[str, Known] = {}
        self.accounts: list[Account] = []

    def fill(self, credentials: list[tuple], devices: list[tuple]) -> None:
        by_name, by_prefix, accounts = {}, {}, []
        for credential_id, username, device_id, prefix, key_digest, hashed, weight in credentials:
            sender = Sender(credential_id, username, device_id, bytes(key_digest))
            by_name[username] = by_prefix[prefix] = sender
            accounts.append(Account(username, hashed, weight))
        self.by_name, self.by_prefix, self.accounts = by_name, by_prefix, accounts
        self.devices = {name: Known(device, gateway) for name, device, gateway in devices}
        self.known = True

    async def renew(self, connection: psycopg.AsyncConnection) -> None:
        credentials = await (await connection.execute(QUERY)).fetchall()
        devices = await (
            await connection.execute("select name, id, gateway_id from fleet_device where phase <> 'retired'")
        ).fetchall()
        self.fill(credentials, devices)

    def with_key(self, key: str) -> Sender | None:
        """The sender behind a key as HTTP presents it, compared in constant time."""
        parts = key.split("_")
        if len(parts) != 3 or parts[0] != "ocd" or len(key) > 100:
            return None
        sender = self.by_prefix.get(parts[1])
        return sender if sender is not None and hmac.compare_digest(sender.digest, digest(key)) else None

    def source(self, sender: Sender, claimed: str | None) -> Source:
        """Who is meant: the sender itself, a device assigned to it, or an unknown name kept apart under it."""
        if claimed is None or (sender.device_id is not None and claimed == sender.username):
            if sender.device_id is None:
                return Source(sender, None, None, sender.username)
            return Source(sender, sender.device_id, None, None)
        known = self.devices.get(claimed)
        if known is not None and sender.device_id is not None and known.gateway_id == sender.device_id:
            return Source(sender, known.device_id, sender.device_id, None)
        return Source(sender, None, sender.device_id, claimed)


class Rates:
    """Messages and bytes a minute, by sender, where they come by HTTP. Two half-kept minutes make a sliding one.

    The broker keeps its own (see broker/marks.c), before it acknowledges.
    """

    def __init__(self, messages: int, size: int) -> None:
        self.messages, self.size = messages, size
        self.minute = 0
        self.now: dict[object, list[int]] = {}
        self.before: dict[object, list[int]] = {}

    def allow(self, who: object, size: int) -> bool:
        clock = time.monotonic()
        minute, share = int(clock // 60), (clock % 60) / 60
        if minute != self.minute:
            self.before = self.now if minute == self.minute + 1 else {}
            self.now, self.minute = {}, minute
        current = self.now.setdefault(who, [0, 0])
        earlier = self.before.get(who, (0, 0))
        if (
            current[0] + earlier[0] * (1 - share) >= self.messages
            or current[1] + size + earlier[1] * (1 - share) > self.size
        ):
            return False
        current[0] += 1
        current[1] += size
        return True
