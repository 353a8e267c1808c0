"""Devices by what they have in common: type, site, gateway, firmware or another label."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from server.rules.brief import Brief
from server.rules.refusal import Refused

WAYS = ("type", "site", "gateway", "firmware")


@dataclass
class Grouped:
    """Devices of one group. key: as links name it; empty for those that have none of it."""

    key: str
    title: str
    devices: list[Brief] = field(default_factory=list)


def grouped(devices: Iterable[Brief], by: str) -> list[Grouped]:
    """Groups by title, those without any of it last. by: one of WAYS, `all`, or `label:NAME`. Raises Refused."""
    label = by.removeprefix("label:") if by.startswith("label:") else "firmware" if by == "firmware" else None
    if by not in (*WAYS, "all") and not label:
        raise Refused("invalid", f"by: found `{by[:40]}`, expected all, {', '.join(WAYS)} or label:NAME")
    found: dict[str, Grouped] = {}
    for device in devices:
        if by == "all":
            key, title = "all", "All devices"
        elif by == "type":
            key, title = device.type.key, device.type.title
        elif by == "site":
            key, title = (device.site.name, device.site.title) if device.site else ("", "no site")
        elif by == "gateway":
            key, title = (device.gateway.name, device.gateway.title) if device.gateway else ("", "no gateway")
        else:
            key = str(device.labels.get(label or "", ""))
            title = f"{label} {key}" if key else f"no {label}"
        found.setdefault(key, Grouped(key, title)).devices.append(device)
    return sorted(found.values(), key=lambda g: (not g.key, g.title))
