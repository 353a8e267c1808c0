"""A slow, obvious engine for conditions of every kind, written from the rules of the guide alone.

It goes through the minutes one after the other, keeps plain lists, and shares no code with the arrays: windows are
lists, fences are plain geometry, silences are looked for among sorted arrivals. Times are whole minutes.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

Truth = bool | None
Rule = Callable[["Around"], Truth]


@dataclass(frozen=True)
class Message:
    """arrival, device, and readings: measured minute to values by field (None for missing)."""

    arrival: int
    device: str
    readings: tuple[tuple[int, tuple[tuple[str, Any], ...]], ...]


@dataclass(frozen=True)
class Device:
    name: str
    cadence: int
    gateway: str | None = None
    registered: int = 0
    limits: tuple[tuple[str, float], ...] = ()


@dataclass(frozen=True)
class Step:
    priority: str
    rule: Rule
    still: Rule | None = None
    held: int = 0


@dataclass(frozen=True)
class Slow:
    """A condition as a person would explain it.

    fields: whose readings make it look; fix: positions that count make it look. silence: limit in minutes, of a field
    or of messages; messages: the width of a window of arrivals. every, hours: minutes of the day.
    """

    name: str
    steps: tuple[Step, ...]
    clear: Rule | None = None
    clear_held: int = 0
    fields: tuple[str, ...] = ()
    fix: bool = False
    silence: tuple[str | None, Callable[[Fleet, str], int | None]] | None = None
    messages: int = 0
    every: int = 0
    hours: tuple[int, int] | None = None
    explained: bool = False
    members: bool = False


@dataclass
class Fleet:
    """All that has been heard so far."""

    devices: dict[str, Device]
    downtime: list[tuple[int, int]] = field(default_factory=list)
    past: dict[tuple[str, str], dict[int, Any]] = field(default_factory=dict)  # every value by measured minute
    newest: dict[tuple[str, str], tuple[int, Any]] = field(default_factory=dict)
    arrivals: dict[str, list[int]] = field(default_factory=dict)
    of_field: dict[tuple[str, str], list[int]] = field(default_factory=dict)
    fixes: dict[str, list[tuple[int, tuple[float, float]]]] = field(default_factory=dict)
    restarted: dict[tuple[str, str], int] = field(default_factory=dict)  # silences that a gateway's return began anew
    quiet: dict[tuple[str, str], bool] = field(default_factory=dict)  # silences that have lasted, by condition


@dataclass
class Around:
    """What a rule sees: the fleet, the device, and the minute that is looked at."""

    fleet: Fleet
    device: str
    now: int
    clock: int

    def value(self, name: str) -> Any:
        found = self.fleet.newest.get((self.device, name))
        return found[1] if found else None

    def limit(self, name: str) -> float | None:
        return dict(self.fleet.devices[self.device].limits).get(name)

    def window(self, name: str, width: int) -> list[tuple[int, Any]]:
        """Readings measured in (now - width, now]."""
        known = self.fleet.past.get((self.device, name), {})
        return sorted((at, v) for at, v in known.items() if self.now - width < at <= self.now)

    def older(self, name: str, upto: int) -> tuple[int, Any] | None:
        known = self.fleet.past.get((self.device, name), {})
        before = sorted((at, v) for at, v in known.items() if at <= upto)
        return before[-1] if before else None

    def staircase(self, name: str, width: int) -> list[tuple[float, Any]] | None:
        """Spans of the window with the value that stood there; the value before is carried in."""
        begin = self.now - width
        carried = self.older(name, begin)
        inside = self.window(name, width)
        points = ([(begin, carried[1])] if carried else []) + inside
        if not points:
            return None
        ends = [at for at, _ in points[1:]] + [self.now]
        return [(end - at, v) for (at, v), end in zip(points, ends, strict=True)]

    def heard(self, width: int) -> int | None:
        device = self.fleet.devices[self.device]
        if self.clock - device.registered < width:
            return None
        if any(a < self.clock and b > self.clock - width for a, b in self.fleet.downtime):
            return None
        return sum(self.clock - width < at <= self.clock for at in self.fleet.arrivals.get(self.device, []))

    def silent(self, condition: str) -> bool:
        return self.fleet.quiet.get((condition, self.device), False)

    def fix(self) -> tuple[float, float] | None:
        found = self.fleet.fixes.get(self.device, [])
        return found[-1][1] if found else None


def both(*parts: Truth) -> Truth:
    if any(p is False for p in parts):
        return False
    return None if any(p is None for p in parts) else True


def either(*parts: Truth) -> Truth:
    if any(p is True for p in parts):
        return True
    return None if any(p is None for p in parts) else False


def over(value: float | None, limit: float | None) -> Truth:
    return None if value is None or limit is None else value > limit


def under(value: float | None, limit: float | None) -> Truth:
    return None if value is None or limit is None else value < limit


def mean(values: list[float]) -> float | None:
    return sum(values) / len(values) if values else None


def deviation(values: list[float]) -> float | None:
    if len(values) < 2:
        return None
    middle = sum(values) / len(values)
    return math.sqrt(sum((v - middle) ** 2 for v in values) / (len(values) - 1))


def percentile(values: list[float], p: float) -> float | None:
    if len(values) < 5:
        return None
    ordered = sorted(values)
    place = p / 100 * (len(ordered) - 1)
    below = math.floor(place)
    above = min(below + 1, len(ordered) - 1)
    return ordered[below] + (place - below) * (ordered[above] - ordered[below])


def slope(points: list[tuple[int, float]]) -> float | None:
    """A minute."""
    if len(points) < 3:
        return None
    x, y = mean([float(a) for a, _ in points]), mean([v for _, v in points])
    assert x is not None and y is not None
    under_ = sum((a - x) ** 2 for a, _ in points)
    return sum((a - x) * (v - y) for a, v in points) / under_ if under_ else None


def in_polygon(lat: float, lon: float, ring: list[tuple[float, float]]) -> bool:
    """By counting the edges that a ray to the east crosses. ring: (longitude, latitude)."""
    inside = False
    for (x1, y1), (x2, y2) in zip(ring, ring[1:] + ring[:1], strict=True):
        if (y1 > lat) != (y2 > lat) and lon < (x2 - x1) * (lat - y1) / (y2 - y1) + x1:
            inside = not inside
    return inside


# the clock ----------------------------------------------------------------------------
@dataclass
class State:
    """One condition on one device."""

    level: int = -1
    since: dict[int, int] = field(default_factory=dict)
    holds: set[int] = field(default_factory=set)
    ending: int | None = None
    held_back: bool = False


Told = tuple[int, str, str, str, str]  # minute, device, condition, what, priority


def due_at(last: int, limit: int, downtime: list[tuple[int, int]]) -> int:
    """Minute by minute: a silence lasts while somebody listens."""
    now, lasted = last, 0
    while lasted < limit:
        if not any(a <= now < b for a, b in downtime):
            lasted += 1
        now += 1
    return now


def play(
    devices: dict[str, Device],
    conditions: list[Slow],
    messages: list[Message],
    until: int,
    downtime: list[tuple[int, int]],
    unusable: Callable[[tuple[float, float]], bool],
) -> list[Told]:
    fleet = Fleet(devices, downtime)
    states = {(c.name, d): State() for c in conditions for d in devices}
    out: list[Told] = []
    quiet = fleet.quiet
    explained: dict[tuple[str, str], bool] = {}

    def fire(condition: Slow, device: str, before: int) -> None:
        """Delays that were due before a minute, the earliest first."""
        state = states[condition.name, device]
        while True:
            due = [
                (s + condition.steps[k].held, k)
                for k, s in state.since.items()
                if k not in state.holds and s + condition.steps[k].held < before
            ]
            if state.ending is not None and state.ending + condition.clear_held < before:
                due.append((state.ending + condition.clear_held, len(condition.steps)))
            if not due:
                return
            at, k = min(due)
            if k == len(condition.steps):
                out.append((at, device, condition.name, "cleared", condition.steps[state.level].priority))
                state.level, state.ending = -1, None
                continue
            state.holds.add(k)
            state.ending = None
            stand(condition, device, at)

    def stand(condition: Slow, device: str, at: int) -> None:
        """The alarm stands at the highest step that holds."""
        state = states[condition.name, device]
        top = max(state.holds)
        what = "raised" if state.level < 0 else "priority_changed" if top != state.level else ""
        state.level = top
        if what:
            out.append((at, device, condition.name, what, condition.steps[top].priority))

    def active(condition: Slow, clock: int) -> bool:
        if condition.hours is None:
            return True
        begin, end = condition.hours
        minute = clock % 1440
        return begin <= minute < end if begin < end else minute >= begin or minute < end

    def look(condition: Slow, device: str, at: int, clock: int) -> None:
        if not active(condition, clock):
            return
        state = states[condition.name, device]
        around = Around(fleet, device, at, clock)
        rules = [step.rule(around) for step in condition.steps]
        stills = [
            (step.still(around) if step.still is not None else rule)
            for step, rule in zip(condition.steps, rules, strict=True)
        ]
        for k, rule in enumerate(rules):
            gone = rule is False if condition.clear is not None else stills[k] is False
            if k in state.holds:
                if rule is not True and gone:
                    state.holds.discard(k)
                    state.since.pop(k, None)
            elif rule is True:
                state.since.setdefault(k, at)
                if condition.steps[k].held == 0:
                    state.holds.add(k)
            elif rule is False:
                state.since.pop(k, None)
        back = condition.explained and explained.get((condition.name, device)) and any(r is True for r in rules)
        if back and state.level < 0:
            if not state.held_back:
                top = max(k for k, r in enumerate(rules) if r is True)
                out.append((at, device, condition.name, "suppressed", condition.steps[top].priority))
            state.held_back = True
            state.since.clear()
            state.holds.clear()
            return
        if not any(r is True for r in rules):
            state.held_back = False
        if state.holds:
            state.ending = None
            stand(condition, device, at)
            return
        if state.level < 0:
            return
        if condition.clear is not None:
            good = condition.clear(around)
        else:
            good = False if any(s is True for s in stills) else None if any(s is None for s in stills) else True
        if any(r is True for r in rules) or good is False:
            state.ending = None
        elif good is True and state.ending is None:
            state.ending = at
            if condition.clear_held == 0:
                out.append((at, device, condition.name, "cleared", condition.steps[state.level].priority))
                state.level, state.ending = -1, None

    def last_heard(condition: Slow, device: str) -> int:
        assert condition.silence is not None
        of, _ = condition.silence
        heard = fleet.arrivals.get(device, []) if of is None else fleet.of_field.get((device, of), [])
        begun = heard[-1] if heard else devices[device].registered
        return max(begun, fleet.restarted.get((condition.name, device), begun))

    def gate_silent(device: str) -> bool:
        gate = devices[device].gateway
        return gate is not None and any(
            c.explained and states[c.name, gate].level >= 0 for c in conditions if (c.name, gate) in states
        )

    def arrive(message: Message) -> None:
        device, clock = message.device, message.arrival
        first = True
        fleet.arrivals.setdefault(device, []).append(clock)
        returned = [c for c in conditions if c.explained and states[c.name, device].level >= 0]
        for condition in conditions:
            if condition.silence and (condition.silence[0] is None):
                quiet[condition.name, device] = explained[condition.name, device] = False
        readings = sorted(message.readings)
        looked = False
        for at, values in readings:
            for condition in conditions:
                fire(condition, device, max(clock, at) if first else at)
            first = False
            fresh: set[str] = set()
            fixed = False
            for name, value in values:
                if value is None:
                    continue
                fleet.past.setdefault((device, name), {})[at] = value
                old = fleet.newest.get((device, name))
                fleet.of_field.setdefault((device, name), []).append(clock)
                for condition in conditions:
                    if condition.silence and condition.silence[0] == name:
                        quiet[condition.name, device] = False
                if old is None or at >= old[0]:
                    fleet.newest[device, name] = (at, value)
                    fresh.add(name)
                    if isinstance(value, tuple) and not unusable(value):
                        fleet.fixes.setdefault(device, []).append((at, value))
                        fixed = True
            for condition in conditions:
                own = bool(fresh & set(condition.fields)) or (condition.fix and fixed)
                if own and not condition.every:
                    look(condition, device, at, clock)
            looked = True
        if not looked:
            for condition in conditions:
                fire(condition, device, clock)
        for condition in conditions:  # an arrival by itself
            if condition.every:
                continue
            names = {name for _, values in readings for name, v in values if v is not None}
            of_field = condition.silence and condition.silence[0] in names
            if condition.messages or (condition.silence and condition.silence[0] is None) or of_field:
                fire(condition, device, clock)
                look(condition, device, clock, clock)
        for condition in returned:
            if states[condition.name, device].level < 0:
                for other in devices:
                    if devices[other].gateway == device:
                        for c in conditions:
                            if (
                                c.explained
                                and c.silence
                                and not (quiet.get((c.name, other)) and not explained.get((c.name, other)))
                            ):
                                fleet.restarted[c.name, other] = clock
                                quiet[c.name, other] = explained[c.name, other] = False

    waiting = sorted(messages, key=lambda m: m.arrival)
    order = sorted(devices, key=lambda d: devices[d].gateway is not None)
    for clock in range(min([0, *(d.registered for d in devices.values())]), until + 1):
        while waiting and waiting[0].arrival == clock:
            arrive(waiting.pop(0))
        for device in order:
            for condition in conditions:
                looks = 0
                if condition.silence is not None and not quiet.get((condition.name, device)):
                    limit = condition.silence[1](fleet, device)
                    last = last_heard(condition, device)
                    if limit is not None and clock == due_at(last, limit, downtime):
                        quiet[condition.name, device] = True
                        explained[condition.name, device] = condition.explained and gate_silent(device)
                        looks += not condition.every
                if condition.messages and not condition.every:
                    left = [a + condition.messages for a in fleet.arrivals.get(device, [])]
                    looks += clock in left
                if condition.every and clock >= 0 and clock % condition.every == 0:
                    looks += 1
                if condition.hours and clock >= 0 and clock % 1440 == condition.hours[0]:
                    looks += 1
                if condition.hours and clock % 1440 == condition.hours[1]:
                    state = states[condition.name, device]
                    fire(condition, device, clock)
                    if state.level >= 0:
                        out.append((clock, device, condition.name, "cleared", condition.steps[state.level].priority))
                    states[condition.name, device] = State()
                    continue
                if looks:
                    fire(condition, device, clock)
                    look(condition, device, clock, clock)
                fire(condition, device, clock + 1)
    return sorted(out)
