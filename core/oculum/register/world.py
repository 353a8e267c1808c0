"""What conditions go by besides readings: devices, sites, limits, fences, and when nobody listened."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from .fences import Area

DEVICE, SITE, TYPE = "device", "site", "type"


@dataclass(frozen=True)
class Device:
    """One device as the register has it. Times in µs; cadence 0 where none is given; home: latitude, longitude."""

    id: int
    name: str
    type: int
    site: int | None = None
    labels: Mapping[str, str] = field(default_factory=dict)
    gateway: int | None = None
    cadence: int = 0
    registered: int = 0
    home: tuple[float, float] | None = None
    in_service: bool = True


@dataclass(frozen=True)
class Site:
    id: int
    name: str
    parent: int | None = None
    zone: str = "UTC"


ALWAYS = 2**62  # µs: the end of what goes on; sums with a time stay within 64 bits
LONG_PAST_US = 400 * 86_400_000_000


@dataclass
class World:
    """The register as it is at one place of the stream. Whoever changes it tells the room what was touched.

    cadences: of types, µs. limits: by type, name, scope (device, site, type) and the scope's number (0 for a type).
    downtime: spans in which nothing was listened to, rising. site_type: the type whose devices are the sites
    themselves, 0 where there is none.
    """

    devices: dict[int, Device] = field(default_factory=dict)
    sites: dict[int, Site] = field(default_factory=dict)
    cadences: dict[int, int] = field(default_factory=dict)
    limits: dict[tuple[int, str, str, int], float] = field(default_factory=dict)
    fences: dict[str, Area] = field(default_factory=dict)
    downtime: list[tuple[int, int]] = field(default_factory=list)
    site_type: int = 0

    def unheard(self, since: int, until: int | None) -> None:
        """A span in which nothing was listened to, µs; without an end while it lasts. Spans long past are dropped."""
        spans = {a: b for a, b in self.downtime if b > since - LONG_PAST_US}
        if until is not None or spans.get(since, ALWAYS) == ALWAYS:
            spans[since] = ALWAYS if until is None else until
        self.downtime = sorted(spans.items())

    def above(self, site: int | None) -> Iterator[Site]:
        """A site and those it lies in, the nearest first. A ring among them has an end."""
        seen = set()
        while site is not None and site not in seen and site in self.sites:
            seen.add(site)
            yield self.sites[site]
            site = self.sites[site].parent

    def limit(self, device: int, name: str) -> float | None:
        """A setpoint's value in force: the device's own, else its nearest site's, else the type's."""
        found = self.devices.get(device)
        if found is None:
            return None
        value = self.limits.get((found.type, name, DEVICE, device))
        return value if value is not None else self.limit_at(found.type, found.site, name)

    def limit_at(self, type_: int, site: int | None, name: str) -> float | None:
        """A setpoint's value for a type at a site: the nearest site's, else the type's."""
        for place in self.above(site):
            value = self.limits.get((type_, name, SITE, place.id))
            if value is not None:
                return value
        return self.limits.get((type_, name, TYPE, 0))

    def zone(self, site: int | None) -> str:
        found = next(self.above(site), None)
        return found.zone if found is not None else "UTC"

    def cadence(self, device: Device) -> int:
        """µs; 0 where none is known."""
        return device.cadence or self.cadences.get(device.type, 0)

    def at_or_below(self, site: int | None, name: str) -> bool:
        return any(place.name == name for place in self.above(site))

    def own_devices(self) -> dict[int, int]:
        """The device that a site's own readings belong to, by site."""
        found = {}
        for device in self.devices.values():
            if device.type == self.site_type and device.site is not None:
                found[device.site] = device.id
        return found

    def depth(self, device: Device) -> int:
        """How many gateways a device speaks through."""
        count, seen = 0, {device.id}
        gateway = device.gateway
        while gateway is not None and gateway not in seen and gateway in self.devices:
            seen.add(gateway)
            count += 1
            gateway = self.devices[gateway].gateway
        return count


def matches(labels: Mapping[str, str], wanted: tuple[tuple[str, str, str], ...]) -> bool:
    """Whether labels are as wanted: name, sign (= or !=), text."""
    return all((labels.get(name) == text) == (sign == "=") for name, sign, text in wanted)
