"""Conditions on sites against a slow evaluation: each minute anew, from lists of what each member said."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_conditions import moment, quickly
from tests.often import examples

ABOVE = {"sound": ("sound",), "reach": ("reach", "sound"), "quay": ("quay", "sound")}
MEMBERS = {"a": "reach", "b": "reach", "c": "quay", "d": "sound"}
CADENCE = {"a": 10, "b": 10, "c": 6, "d": 20}
SILENT_AFTER = 15
Known = list[float]


@dataclass(frozen=True)
class Message:
    arrival: int
    device: str
    at: int
    value: float | None


@dataclass
class State:
    """The machine of one site: since when the rule holds, and whether it stands."""

    since: int | None = None
    raised: bool = False


@dataclass(frozen=True)
class Rule:
    """A value out of the values of members, what it must exceed, and how long."""

    text: str
    of: Callable[[Known], float]
    limit: float
    held: int = 0
    age: int | None = None
    silence: bool = False


def share(values: Known) -> float:
    return sum(v > 3 for v in values) / len(values)


RULES = [
    Rule("share_of(x > 3 V) > 40 %", share, 0.4),
    Rule("share_of(x > 3 V) > 40 % held 10 min", share, 0.4, held=10),
    Rule("max_of(x) > 3 V", max, 3),
    Rule("min_of(x, 12 min) > 2 V", min, 2, age=12),
    Rule("mean_of(x, 25 min) > 2.5 V held 4 min", lambda v: sum(v) / len(v), 2.5, held=4, age=25),
    Rule("sum_of(x) > 5 V", sum, 5),
    Rule("count_of(x > 3 V) > 1", lambda v: sum(x > 3 for x in v), 1),
    Rule("count_of(silent(15 min)) > 1", sum, 1, silence=True),
    Rule("share_of(silent(15 min)) > 30 % held 5 min", lambda v: sum(v) / len(v), 0.3, held=5, silence=True),
]


@dataclass
class Slow:
    rule: Rule
    newest: dict[str, tuple[int, float]] = field(default_factory=dict)
    last: dict[str, int] = field(default_factory=lambda: dict.fromkeys(MEMBERS, 0))
    quiet: set[str] = field(default_factory=set)
    states: dict[str, State] = field(default_factory=lambda: {site: State() for site in ABOVE})
    out: list[tuple[int, str, str, str, str]] = field(default_factory=list)

    def due(self, before: int) -> None:
        for site, state in self.states.items():
            if state.since is not None and not state.raised and state.since + self.rule.held < before:
                state.raised = True
                self.out.append((state.since + self.rule.held, site, "c", "raised", "high"))

    def look(self, touched: set[str], at: int) -> None:
        for site in {site for device in touched for site in ABOVE[MEMBERS[device]]}:
            own = [device for device in MEMBERS if site in ABOVE[MEMBERS[device]]]
            if self.rule.silence:
                values = [float(device in self.quiet) for device in own]
            else:
                age = {d: self.rule.age if self.rule.age is not None else 3 * CADENCE[d] for d in own}
                heard = [(d, self.newest[d]) for d in own if d in self.newest]
                values = [value for d, (measured, value) in heard if at - measured <= age[d]]
            state = self.states[site]
            if not values:
                continue
            if self.rule.of(values) > self.rule.limit:
                state.since = at if state.since is None else state.since
                if not state.raised and not self.rule.held:
                    state.raised = True
                    self.out.append((at, site, "c", "raised", "high"))
            else:
                if state.raised:
                    self.out.append((at, site, "c", "cleared", "high"))
                state.since, state.raised = None, False

    def play(self, messages: list[Message], until: int) -> list[tuple[int, str, str, str, str]]:
        for clock in range(until + 1):
            arrived = [m for m in messages if m.arrival == clock]
            for at in sorted({m.at for m in arrived}) if not self.rule.silence else [clock] * bool(arrived):
                self.due(clock)
                touched = set()
                for m in arrived:
                    if self.rule.silence:
                        self.last[m.device] = clock
                        self.quiet.discard(m.device)
                        touched.add(m.device)
                    elif m.at == at and m.value is not None and at >= self.newest.get(m.device, (at, 0))[0]:
                        self.newest[m.device] = (at, m.value)
                        touched.add(m.device)
                self.look(touched, at)
            silent = {d for d in MEMBERS if clock == self.last[d] + SILENT_AFTER} if self.rule.silence else set()
            if silent:
                self.due(clock)
                self.quiet |= silent
                self.look(silent, clock)
        self.due(until + 1)
        return sorted(self.out)


@st.composite
def worlds(draw: Any) -> tuple[list[Message], int]:
    """Messages of four members, several at a time and some measured before; at most one of a device at a time."""
    messages: list[Message] = []
    clock = 0
    for _ in range(draw(st.integers(1, 25))):
        clock += draw(st.sampled_from([0, 0, 1, 2, 3, 5, 6, 10, 15, 20, 31]))
        device = draw(st.sampled_from(list(MEMBERS)))
        if any((m.arrival, m.device) == (clock, device) for m in messages):
            clock += 1
        back = draw(st.sampled_from([0, 0, 0, 0, 1, 4, 12]))
        messages.append(
            Message(clock, device, clock - back, draw(st.sampled_from([None, 0.0, 1.5, 2.5, 3.0, 3.5, 4.0])))
        )
    return messages, clock + draw(st.sampled_from([0, 7, 30, 90]))


def files_of(rule: Rule, messages: list[Message]) -> dict[str, str]:
    rows = [f"{m.device},x,{moment(m.at)},{moment(m.arrival)},{'' if m.value is None else m.value}" for m in messages]
    listed = [f"{d},thing,{site},{CADENCE[d] * 60},{moment(0)}" for d, site in MEMBERS.items()]
    return {
        "types.csv": "type,gateway\nthing,no\n",
        "fields.csv": "type,field,kind,unit\nthing,x,number,V\n",
        "sites.csv": "site,parent,zone\nsound,,UTC\nreach,sound,UTC\nquay,sound,UTC\n",
        "devices.csv": "\n".join(["device,type,site,cadence_s,registered_at", *listed]) + "\n",
        "readings.csv": "\n".join(["device,field,measured_at,received_at,value", *rows]) + "\n",
        "c.ocu": f'condition "c" priority high\n  on each site of thing\n  raise when {rule.text}\n',
    }


@pytest.mark.parametrize("rule", RULES, ids=[rule.text for rule in RULES])
@settings(max_examples=examples(25), deadline=None)
@given(world=worlds(), cuts=st.lists(st.integers(1, 24), max_size=6))
def test_a_site_is_judged_by_what_its_members_said_last(rule: Rule, world: Any, cuts: list[int]) -> None:
    messages, until = world
    wanted = Slow(rule).play(messages, until)
    files = files_of(rule, messages)
    instants = [k for k in range(1, len(messages)) if messages[k].arrival != messages[k - 1].arrival]
    assert quickly(files, [], until) == wanted
    assert quickly(files, [cut for cut in cuts if cut in instants], until) == wanted
    assert quickly(files, instants, until) == wanted
