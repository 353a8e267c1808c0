"""A draft of a condition over the stored past: what it would have raised, and against the version in force."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from statistics import median
from typing import Any

from oculum.alarms.watched import Transition
from oculum.language.conditions.plan import PRIORITIES, ConditionPlan, Limit
from oculum.register.world import DEVICE, SITE
from server.records.definitions.models import Incident
from server.records.fleet.models import Device, DeviceType, Site
from server.rules.conditions import unit_of
from server.store.sealed import DAY_US
from server.store.times import moment
from server.trials.room import Asked, PastRoom, looked_at

MOST_ROWS = 500
MOST_SPANS = 200  # of one row
MOST_NEVER = 50
AGAIN_US = 3_600_000_000  # raised within an hour of being cleared: the alarm came back
ENDLESS = 2**62


@dataclass
class Stretch:
    """An alarm of a trial, from its raising to its clearing. priority: the highest it had."""

    raised: Transition
    cleared: Transition | None = None
    priority: str = "low"

    @property
    def begin(self) -> int:
        return self.raised.at

    @property
    def end(self) -> int:
        return max(self.cleared.at, self.raised.at) if self.cleared is not None else ENDLESS


def condition_trial(
    plan: ConditionPlan,
    type_: DeviceType,
    start: datetime,
    end: datetime,
    before: ConditionPlan | None = None,
    supposed: Mapping[str, float] | None = None,
    incidents: Sequence[Incident] = (),
) -> Iterator[dict[str, Any]]:
    """How often the draft would have been raised in [start, end), with limits as they were at each moment:
    {"done", "total"} in hundredths of the work as it goes, at last {"result"}.

    before: the version in force, to be held against, with the setpoints that there were. supposed: values of setpoints
    of the type that are tried with the draft in place of those. Nothing is written; leaving off reading it ends the
    work. Raises Refused where there is too much.
    """
    asked = [Asked({0: plan}, type_, start, end, supposed or {})]
    if before is not None:
        asked.append(Asked({0: before}, type_, start, end))
    room, *other = yield from looked_at(*asked)
    yield {"result": _Summary(room, plan, other[0] if other else None, incidents).result()}


def stretches(found: Sequence[Transition]) -> dict[int, list[Stretch]]:
    """The alarms of a trial by device or site, in the order in which they were raised."""
    by_subject: dict[int, list[Stretch]] = {}
    open_: dict[int, Stretch] = {}
    for transition in found:  # those of a device in the order of the stream
        if transition.raised:
            one = open_[transition.subject] = Stretch(transition, priority=transition.priority)
            by_subject.setdefault(transition.subject, []).append(one)
        elif transition.subject in open_:
            one = open_[transition.subject]
            if transition.what == "cleared":
                one.cleared = transition
                del open_[transition.subject]
            elif transition.what == "priority_changed":
                one.priority = max(one.priority, transition.priority, key=PRIORITIES.index)
    return by_subject


def overlapping(own: Sequence[Stretch], begin: int, end: int) -> list[Stretch]:
    """Those of one device that were open at some moment of a span, both ends within."""
    first = bisect_left(own, begin, key=lambda s: s.end)
    found = []
    for one in own[first:]:
        if one.begin > end:
            break
        found.append(one)
    return found


class _Summary:
    def __init__(
        self, room: PastRoom, plan: ConditionPlan, before: PastRoom | None, incidents: Sequence[Incident]
    ) -> None:
        self.room, self.plan, self.compares, self.incidents = room, plan, before is not None, incidents
        self.own = stretches(room.transitions(0))
        self.theirs = stretches(before.transitions(0)) if before is not None else {}
        self.subjects = room.subjects(0)
        self.until = int(room.asked.end.timestamp() * 1e6)

    def result(self) -> dict[str, Any]:
        asked, every = self.room.asked, [s for own in self.own.values() for s in own]
        days = Counter(s.begin // DAY_US for s in every)
        lasting = sorted(self.seconds(s) for s in every)
        subjects = sorted(
            {*self.own, *self.theirs},
            key=lambda s: (-len(self.own.get(s, ())), -sum(map(self.seconds, self.own.get(s, ())))),
        )
        names = self.names({*subjects, *self.subjects, *(filter(None, map(self.subject_of, self.incidents)))})
        never = sorted((names[s][1] for s in self.subjects if s not in self.own and s in names), key=str.casefold)
        own_limits = self.own_limits()
        return {
            "messages": self.room.messages(),
            "subjects": "sites" if self.plan.each_site else "devices",
            "devices": len(self.subjects),
            "own_limits": len(own_limits & set(self.subjects)),
            "raised": len(every),
            "still_open": sum(s.cleared is None for s in every),
            "devices_raised": len(self.own),
            "median_s": median(lasting) if lasting else None,
            "longest_s": lasting[-1] if lasting else None,
            "by_day": [{"day": f"{moment(d * DAY_US):%Y-%m-%d}", "count": n} for d, n in sorted(days.items())],
            "unit": unit_of(self.plan, None),
            "rows": [self.row(s, names, own_limits) for s in subjects[:MOST_ROWS] if s in names],
            "rows_in_all": len(subjects),
            "never": never[:MOST_NEVER],
            "never_in_all": len(never),
            "against": self.against() if self.compares else None,
            "incidents": [self.incident(i, names) for i in self.incidents],
            "from": asked.start,
            "to": asked.end,
        }

    def seconds(self, one: Stretch) -> float:
        return (min(one.end, self.until) - one.begin) / 1e6

    def names(self, subjects: set[int]) -> dict[int, tuple[str, str]]:
        """Name and title of devices or sites, of those that there still are."""
        model: Any = Site if self.plan.each_site else Device
        found = model.objects.filter(pk__in=subjects).values_list("pk", "name", "title")
        return {pk: (name, title) for pk, name, title in found}

    def own_limits(self) -> set[int]:
        """Devices or sites with a setpoint of their own at the end of the span, among those of the condition."""
        scope = SITE if self.plan.each_site else DEVICE
        own = self.room.asked.type.pk, self.plan.setpoints
        return {
            subject
            for type_, name, whose, subject in self.room.registry.world.limits
            if type_ == own[0] and name in own[1] and whose == scope
        }

    def limit(self, subject: int) -> float | None:
        """The limit of a device as it is at the end of the span, of the first comparison."""
        first: Limit | None = next(iter(self.plan.limits), None)
        if first is None or first.setpoint is None:
            return first.number if first is not None else None
        world, type_ = self.room.registry.world, self.room.asked.type.pk
        found = (
            world.limit_at(type_, subject, first.setpoint)
            if self.plan.each_site
            else world.limit(subject, first.setpoint)
        )
        return found

    def row(self, subject: int, names: Mapping[int, tuple[str, str]], own_limits: set[int]) -> dict[str, Any]:
        own, theirs = self.own.get(subject, []), self.theirs.get(subject, [])
        again = sum(1 for a, b in zip(own, own[1:], strict=False) if b.begin - a.end <= AGAIN_US)
        return {
            "device": names[subject][0],
            "title": names[subject][1],
            "limit": self.limit(subject),
            "own_limit": subject in own_limits,
            "raised": len(own),
            "in_alarm_s": sum(map(self.seconds, own)),
            "longest_s": max(map(self.seconds, own), default=0.0),
            "again": again,
            "spans": [self.span(s, theirs) for s in own[-MOST_SPANS:]],
            "gone": [self.bar(s) for s in theirs[-MOST_SPANS:] if not overlapping(own, s.begin, s.end)],
        }

    def bar(self, one: Stretch) -> dict[str, Any]:
        return {
            "raised_at": moment(one.begin),
            "cleared_at": moment(one.end) if one.cleared is not None else None,
            "priority": one.priority,
        }

    def span(self, one: Stretch, theirs: Sequence[Stretch]) -> dict[str, Any]:
        cause = one.raised.cause
        return self.bar(one) | {
            "value": float(cause.value) if cause.value is not None else None,
            "limit": cause.limit,
            "unit": unit_of(self.plan, cause.field),
            "message": str(cause.message) if cause.message else None,
            "against": self.state(one, theirs) if self.compares else None,
        }

    @staticmethod
    def state(one: Stretch, theirs: Sequence[Stretch]) -> str:
        met = overlapping(theirs, one.begin, one.end)
        if not met:
            return "new"
        same = len(met) == 1 and (met[0].begin, met[0].end, met[0].priority) == (one.begin, one.end, one.priority)
        return "same" if same else "changed"

    def against(self) -> dict[str, int]:
        """How the draft's alarms stand to those of the version in force."""
        states = Counter(
            self.state(one, self.theirs.get(subject, [])) for subject, own in self.own.items() for one in own
        )
        gone = sum(
            not overlapping(self.own.get(subject, []), s.begin, s.end)
            for subject, own in self.theirs.items()
            for s in own
        )
        raised = sum(map(len, self.theirs.values()))
        return {"raised": raised, "gone": gone} | {k: states[k] for k in ("new", "changed", "same")}

    def subject_of(self, incident: Incident) -> int | None:
        return incident.site_id if self.plan.each_site else incident.device_id

    def incident(self, incident: Incident, names: Mapping[int, tuple[str, str]]) -> dict[str, Any]:
        """Whether the draft was raised while an incident lasted; None where the trial does not reach over it."""
        subject = self.subject_of(incident)
        asked = self.room.asked
        within = subject is not None and incident.end >= asked.start and incident.begin < asked.end
        begin, end = (int(at.timestamp() * 1e6) for at in (incident.begin, incident.end))
        return {
            "id": incident.pk,
            "device": names.get(subject or 0, ("", ""))[0],
            "begin": incident.begin,
            "end": incident.end,
            "real": incident.real,
            "raised": bool(overlapping(self.own.get(subject or 0, []), begin, end)) if within else None,
        }
