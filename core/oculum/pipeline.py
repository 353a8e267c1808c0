"""One batch of one device type: decoded, put in order, held against its conditions.

The same call runs live, in trials and when history is decoded again; what it is given as state and
what is done with its result make the difference.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from .alarms.evaluate import DeviceState, Transition, evaluate_condition
from .batches import Column, Decoded, Failure, Group, Payloads, Trace
from .decoding.decode import decode
from .history.events import Events, Newest, build_events, newest_after
from .language.plan import ConditionPlan, DecoderPlan

FUTURE_US = 5 * 60 * 1_000_000


@dataclass(frozen=True)
class WatchedCondition:
    """A condition in force: its plan, which devices it watches, its limits, and its states."""

    key: int
    plan: ConditionPlan
    selected: Callable[[int], bool]
    setpoint: Callable[[int, str], float | None]
    states: dict[int, DeviceState]


@dataclass
class Effects:
    """What a batch does: columns, the newest values after it, alarm transitions by condition."""

    decoded: Decoded
    events: Events
    newest: dict[tuple[int, str], tuple[Newest, int]] = field(default_factory=dict)
    transitions: list[tuple[int, Transition]] = field(default_factory=list)


def decode_batch(plan: DecoderPlan, payloads: Payloads, oldest_us: int, trace: Trace | None = None) -> Decoded:
    """Decoded messages; one whose times lie too far before or after its arrival is refused.

    oldest_us: measured times before this moment are older than what is kept.
    """
    decoded = decode(plan, payloads, trace)
    groups: list[Group] = []
    bad = np.zeros(len(payloads), bool)
    for group in decoded.groups:
        ahead = group.at > payloads.received_us[group.rows] + FUTURE_US
        behind = group.at < oldest_us
        for mask, text in ((ahead, "measured more than 5 min after it arrived"), (behind & ~ahead, "measured before the time that is kept")):
            rows = np.unique(group.rows[mask])
            rows = rows[decoded.failure[rows] < 0]
            if len(rows):
                decoded.failures.append(Failure("time", text, 0))
                decoded.failure[rows] = len(decoded.failures) - 1
                bad[rows] = True
    if bad.any():
        for group in decoded.groups:
            keep = np.flatnonzero(~bad[group.rows])
            columns: dict[str, Column] = {name: column.taken(keep) for name, column in group.columns.items()}
            groups.append(Group(group.fields, group.rows[keep], group.at[keep], columns))
        decoded.groups = groups
    return decoded


def process(
    plan: DecoderPlan,
    payloads: Payloads,
    device: np.ndarray,
    arrival: np.ndarray,
    newest: Mapping[tuple[int, str], Newest],
    conditions: list[WatchedCondition],
    until: int,
    oldest_us: int,
    ids: np.ndarray,
) -> Effects:
    """A batch through decoder and conditions.

    device, arrival, ids: int64 (n,), the messages in order of arrival. until: see `evaluate_condition`.
    """
    decoded = decode_batch(plan, payloads, oldest_us)
    events = build_events(decoded, device, arrival, newest, ids)
    effects = Effects(decoded, events, newest_after(events))
    for condition in conditions:
        found = evaluate_condition(condition.plan, events, newest, condition.setpoint, condition.selected, condition.states, until)
        effects.transitions += [(condition.key, transition) for transition in found]
    return effects
