"""Open alarms by what they have in common, so that one cause is one line."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field

from server.records.alarms.models import PRIORITIES

LEAST = 3  # alarms that make a group
TOGETHER_S = 15 * 60.0  # from one alarm to the next of the same cause
AT_SITE_S = 5 * 60.0
LEAST_AT_SITE = 4


@dataclass(frozen=True)
class Open:
    """An alarm as far as grouping looks at it. gateways: what its device speaks through, the nearest first."""

    id: int
    condition: int
    name: str
    device: int | None
    device_title: str
    site: int | None
    site_title: str
    gateways: tuple[int, ...]
    offline: bool  # its condition is about silence
    priority: str
    raised: float  # seconds since 1970


@dataclass
class Group:
    """Alarms of one cause. kind: gateway, condition, device, site. why: how it was found, as a sentence."""

    kind: str
    title: str
    why: str
    alarms: list[Open] = field(default_factory=list)

    @property
    def key(self) -> str:
        return f"{self.kind}-{min(a.id for a in self.alarms)}"

    @property
    def priority(self) -> str:
        return min((a.priority for a in self.alarms), key=PRIORITIES.index)

    @property
    def since(self) -> float:
        return min(a.raised for a in self.alarms)


Line = Open | Group


def lines(alarms: Iterable[Open]) -> list[Line]:
    """Every alarm once: alone or in a group, the worst first, then the newest.

    Looked for in this order: what a silent gateway explains; one condition on many devices, each within a quarter of an
    hour of the one before; one device with many; different conditions at one site within minutes.
    """
    left = sorted(alarms, key=lambda a: (a.raised, a.id))
    found: list[Line] = []
    for rule in (_gateways, _conditions, _devices, _sites):
        groups = rule(left)
        taken = {a.id for group in groups for a in group.alarms}
        left = [a for a in left if a.id not in taken]
        found += groups
    found += left
    return sorted(found, key=_rank)


def _rank(line: Line) -> tuple[int, float]:
    newest = max(a.raised for a in line.alarms) if isinstance(line, Group) else line.raised
    return PRIORITIES.index(line.priority), -newest


def _gateways(alarms: list[Open]) -> list[Group]:
    """A gateway that is silent, and what is open on the devices behind it since then."""
    groups = []
    taken: set[int] = set()
    silent = [a for a in alarms if a.offline and a.device is not None]
    behind: dict[int, list[Open]] = defaultdict(list)
    for alarm in alarms:
        for gateway in alarm.gateways:
            behind[gateway].append(alarm)
    for alarm in sorted(silent, key=lambda a: len(a.gateways)):
        assert alarm.device is not None
        members = [
            m
            for m in behind.get(alarm.device, [])
            if m.id not in taken and m.raised >= alarm.raised - TOGETHER_S and (m.offline or m.raised >= alarm.raised)
        ]
        if alarm.id in taken or not members:
            continue
        group = Group(
            "gateway",
            f"{alarm.device_title} is silent",
            "these devices speak through this gateway, and their alarms came after it fell silent",
            [alarm, *members],
        )
        taken |= {m.id for m in group.alarms}
        groups.append(group)
    return groups


def _runs(alarms: list[Open], apart_s: float) -> list[list[Open]]:
    """Alarms in runs, each within so many seconds of the one before."""
    runs: list[list[Open]] = []
    for alarm in alarms:
        if runs and alarm.raised - runs[-1][-1].raised <= apart_s:
            runs[-1].append(alarm)
        else:
            runs.append([alarm])
    return runs


def _conditions(alarms: list[Open]) -> list[Group]:
    by_condition: dict[int, list[Open]] = defaultdict(list)
    for alarm in alarms:
        by_condition[alarm.condition].append(alarm)
    return [
        Group(
            "condition",
            run[0].name,
            "one condition on several devices, each within a quarter of an hour of the one before",
            run,
        )
        for own in by_condition.values()
        for run in _runs(own, TOGETHER_S)
        if len(run) >= LEAST
    ]


def _devices(alarms: list[Open]) -> list[Group]:
    by_device: dict[int, list[Open]] = defaultdict(list)
    for alarm in alarms:
        if alarm.device is not None:
            by_device[alarm.device].append(alarm)
    return [
        Group("device", own[0].device_title, "several alarms of one device", own)
        for own in by_device.values()
        if len(own) >= LEAST
    ]


def _sites(alarms: list[Open]) -> list[Group]:
    by_site: dict[int, list[Open]] = defaultdict(list)
    for alarm in alarms:
        if alarm.site is not None:
            by_site[alarm.site].append(alarm)
    return [
        Group("site", f"several at {run[0].site_title}", "different alarms at one site, minutes apart", run)
        for own in by_site.values()
        for run in _runs(own, AT_SITE_S)
        if len(run) >= LEAST_AT_SITE
    ]
