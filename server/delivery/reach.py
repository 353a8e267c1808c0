"""Connections that go only where they may: an address is looked up once, judged, and then used as it was judged."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Collection

from oculum.errors import OculumError

TIMEOUT_S = 10.0
SHARED = ipaddress.ip_network("100.64.0.0/10")  # between a provider and its customers, RFC 6598


class OutOfReach(OculumError, OSError):
    """A host that must not be reached, or that there is none of."""


def may_be_reached(address: str) -> bool:
    """Whether an address belongs to the world at large: not to this machine, its network, or those between."""
    found = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(found, ipaddress.IPv6Address):
        inner = found.ipv4_mapped or found.sixtofour or (found.teredo[1] if found.teredo else None)
        if inner is not None:
            return may_be_reached(str(inner))
        if found in ipaddress.ip_network("64:ff9b::/96"):  # IPv4 behind a translator, RFC 6052
            return may_be_reached(str(ipaddress.IPv4Address(int(found) & 0xFFFFFFFF)))
    return found.is_global and not found.is_multicast and not (found.version == 4 and found in SHARED)


def connected(host: str, port: int, allowed: Collection[str], timeout: float = TIMEOUT_S) -> socket.socket:
    """A connection to a host. Raises OutOfReach or OSError.

    allowed: hosts, or host:port, that may be inside one's own network.
    """
    name = host.strip("[]").lower()
    try:
        found = socket.getaddrinfo(name, port, type=socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        raise OutOfReach(f"there is no host `{name[:80]}` ({error})") from None
    addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
    if name not in allowed and f"{name}:{port}" not in allowed:
        for address in addresses:
            if not may_be_reached(address):
                raise OutOfReach(
                    f"`{name[:80]}` is {address}, inside a network of its own; an administrator can allow the host"
                )
    last: OSError = OutOfReach(f"`{name[:80]}` has no address")
    for address in addresses[:4]:
        try:
            return socket.create_connection((address, port), timeout)
        except OSError as error:
            last = error
    raise last
