"""How devices have been over a span: figures with formulas (docs/health.md), for one or by what they have in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import numpy as np

from oculum.history.stretches import NAMES, shares
from oculum.language.routes.check import SITE
from server.store.activity import sums
from server.store.stretches import read_stretches
from server.store.times import us
from server.store.unheard import unheard, within


@dataclass
class Figures:
    """Of a device, or of several. Shares from 0 to 1, None where nothing can be said; times in seconds.

    met: messages of those expected. states: time spent in each. delay: from measured to received. clock: how far
    ahead a device's clock is.
    """

    devices: int = 1
    messages: int = 0
    expected: float | None = None
    met: float = 0.0
    failed: int = 0
    cells: int = 0
    gone: int = 0
    delays: int = 0
    delay_sum: float = 0.0
    delay_max: float | None = None
    clock: float | None = None
    alarm_s: float = 0.0
    states: dict[str, float] = field(default_factory=dict)

    @property
    def availability(self) -> float | None:
        return self.met / self.expected if self.expected else None

    @property
    def decoded(self) -> float | None:
        return 1 - self.failed / self.messages if self.messages else None

    @property
    def complete(self) -> float | None:
        return self.cells / (self.cells + self.gone) if self.cells + self.gone else None

    @property
    def delay(self) -> float | None:
        return self.delay_sum / self.delays if self.delays else None


def together(found: Sequence[Figures]) -> Figures:
    """Of several devices: what is counted is added up, of clocks the median is told."""
    whole = Figures(sum(f.devices for f in found))
    for one in found:
        whole.messages += one.messages
        whole.met += one.met
        whole.failed += one.failed
        whole.cells, whole.gone = whole.cells + one.cells, whole.gone + one.gone
        whole.delays, whole.delay_sum = whole.delays + one.delays, whole.delay_sum + one.delay_sum
        whole.alarm_s += one.alarm_s
        for name, spent in one.states.items():
            whole.states[name] = whole.states.get(name, 0.0) + spent
    expected = [f.expected for f in found if f.expected]
    whole.expected = sum(expected) if expected else None
    clocks = [f.clock for f in found if f.clock is not None]
    whole.clock = float(np.median(clocks)) if clocks else None
    latest = [f.delay_max for f in found if f.delay_max is not None]
    whole.delay_max = max(latest, default=None)
    return whole


def in_service(cursor: Any, only: Sequence[int] | None = None) -> dict[int, tuple[float | None, datetime]]:
    """Cadence and registration of devices in service, by device; sites are none."""
    cursor.execute(
        "select d.id, coalesce(d.cadence_s, t.cadence_s), d.registered_at from fleet_device d join fleet_devicetype t"
        " on t.id = d.type_id where d.phase = 'in service' and t.key <> %s and (%s::int[] is null or d.id = any(%s))"
        " order by d.id",
        (SITE, only, only),
    )
    return {device: (cadence, registered) for device, cadence, registered in cursor.fetchall()}


def figures(cursor: Any, start: datetime, end: datetime, only: Sequence[int] | None = None) -> dict[int, Figures]:
    """Of each device in service over a span; messages are counted by whole hours of arrival."""
    devices = in_service(cursor, only)
    first = start.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    deaf = unheard(cursor, first, end)
    numbers = np.array(list(devices), np.int64)
    stretches = read_stretches(cursor, first, end, None if only is None else list(devices))
    spent = (shares(stretches, numbers, us(first), us(end) - us(first), 1)[:, 0] / 1e6).tolist()
    # What stands before the span does not matter for when they are known since.
    known = _known_since(cursor, [device for device, (_, registered) in devices.items() if registered > first])
    counted = sums(cursor, first, end, numbers)
    columns = (*counted.counts.tolist(), counted.delay_sum.tolist(), counted.delay_max.tolist())
    found: dict[int, Figures] = {}
    for row, (device, (cadence, registered)) in enumerate(devices.items()):
        one = found[device] = Figures()
        one.states = dict(zip(NAMES, spent[row], strict=True))
        since = max(first, min(registered, known.get(device, registered)))
        listened = (end - since).total_seconds() - (within(deaf, since, end) if deaf else 0.0) if since < end else 0.0
        one.expected = listened / cadence if cadence and listened > 0 else None
        one.messages, one.failed, one.cells, one.gone = (columns[k][row] for k in range(4))
        one.met = min(one.messages, one.expected or 0.0)
        if counted.tells[row]:  # where a payload has no time of its own, nothing is late
            one.delays, one.delay_sum, one.delay_max = (columns[k][row] for k in range(4, 7))
            one.clock = float(counted.clock[row])
    cursor.execute(
        "select device_id, raised_at, coalesce(cleared_at, %s) from alarms_alarm where device_id is not null and"
        " (%s::int[] is null or device_id = any(%s)) and raised_at < %s and coalesce(cleared_at, %s) > %s and not"
        " suppressed order by 1, 2",
        (end, only, only, end, end, first),
    )
    until: dict[int, datetime] = {}
    for device, raised, cleared in cursor.fetchall():  # those at once count once
        if device not in found:
            continue
        begun = max(raised, first, until.get(device, first))
        over = min(cleared, end)
        if over > begun:
            found[device].alarm_s += (over - begun).total_seconds()
            until[device] = over
    return found


def _known_since(cursor: Any, devices: list[int]) -> dict[int, datetime]:
    """When devices were first heard."""
    if not devices:
        return {}
    cursor.execute(
        "select device_id, min(since) from (select device_id, since from device_stretch union all select device_id,"
        " since from device_stands) s where device_id = any(%s) group by 1",
        (devices,),
    )
    return dict(cursor.fetchall())
