"""Transitions to alarms and their journal."""

from __future__ import annotations

import re
from typing import Any

import psycopg

from oculum.alarms.watched import Transition, Watched
from oculum.language.conditions.plan import ConditionPlan
from oculum.quantities import measured
from server.rules.conditions import unit_of
from server.rules.registry import Registry
from server.store.times import moment

ENTRY = (
    'insert into alarms_journalentry (alarm_id, what, priority, at, learned_at, note, value, "limit", message_id,'
    " message_received_at, version_id) values (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)"
)


def write_transitions(
    connection: psycopg.Connection[Any], registry: Registry, transitions: list[Transition]
) -> list[int]:
    """What happens to alarms, with an entry in the journal each. Returns the alarms concerned."""
    touched: list[int] = []
    for transition in sorted(transitions, key=lambda t: (t.at, t.key, t.subject)):
        watched = registry.conditions.get(transition.key)
        alarm = _written(connection, registry, watched, transition)
        if alarm is None:
            continue
        touched.append(alarm)
        cause = transition.cause
        connection.execute(
            ENTRY,
            (
                alarm,
                transition.what.replace("_", " "),
                transition.priority if transition.what == "priority_changed" else "",
                moment(transition.at),
                moment(transition.learned),
                transition.reason[:1000],
                cause.value,
                cause.limit,
                cause.message or None,
                moment(cause.arrival) if cause.arrival else None,
                watched.version if watched is not None else None,
            ),
        )
    return touched


def _written(
    connection: psycopg.Connection[Any], registry: Registry, watched: Watched | None, transition: Transition
) -> int | None:
    """The alarm that a transition is of; None where there is none, or it is so already."""
    column = "site_id" if transition.on_site else "device_id"
    if transition.what in ("raised", "suppressed"):
        if watched is None:
            return None
        cause, plan = transition.cause, watched.plan
        unit = unit_of(plan, transition.cause.field) or ""
        over = moment(transition.at) if transition.what == "suppressed" else None
        row = connection.execute(
            f"insert into alarms_alarm (condition_id, version_id, {column}, priority, text, field, value,"
            ' "limit", unit, raised_at, cleared_at, suppressed, message_id, message_received_at)'
            " values (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)"
            f" on conflict (condition_id, {column}) where cleared_at is null do nothing returning id",
            (
                abs(watched.key),
                watched.version,
                transition.subject,
                transition.priority,
                said(plan, registry, transition),
                cause.field or "",
                cause.value,
                cause.limit,
                "" if unit == "1" else unit,
                moment(transition.at),
                over,
                over is not None,
                cause.message or None,
                moment(cause.arrival) if cause.message else None,
            ),
        ).fetchone()
    else:
        change = "cleared_at = greatest(raised_at, %s)" if transition.what == "cleared" else "priority = %s"
        value = moment(transition.at) if transition.what == "cleared" else transition.priority
        row = connection.execute(
            f"update alarms_alarm set {change} where condition_id = %s and {column} = %s and cleared_at is null"
            " returning id",
            (value, abs(transition.key), transition.subject),
        ).fetchone()
    return row[0] if row is not None else None


def _number(value: Any, unit: str | None) -> str:
    if value is None:
        return "no value"
    return measured(f"{value:.4g}" if abs(value) < 10_000 else f"{value:.6g}", unit)


def said(plan: ConditionPlan, registry: Registry, transition: Transition) -> str:
    """The sentence of an alarm: the condition's own, else device, value and limit, or its name where it has none."""
    device = registry.devices.get(transition.subject) if not transition.on_site else None
    site = transition.subject if transition.on_site else device.site_id if device else None
    place = registry.site_titles.get(site or 0, "no site")
    title = place if transition.on_site else device.title if device else "?"
    cause, unit = transition.cause, unit_of(plan, transition.cause.field)

    if plan.say is None:
        if cause.limit is None or cause.value is None:
            return f"{title}: {plan.name}"[:300]
        field = (cause.field or plan.name).replace("_", " ")
        return f"{title}: {field} {_number(cause.value, unit)}, limit {_number(cause.limit, unit)}"[:300]

    def limit(name: str) -> float | None:
        if transition.on_site:
            type_ = registry.conditions[transition.key].type
            return registry.world.limit_at(type_, transition.subject, name)
        return registry.world.limit(transition.subject, name)

    def word(match: re.Match[str]) -> str:
        name = match.group(1)
        words = {"device": title, "site": place, "type": plan.device_type, "priority": transition.priority}
        if name in words:
            return words[name]
        if name == "limit":
            return _number(cause.limit, unit)
        if name == "value" or name == cause.field:
            return _number(cause.value, unit)
        if name.startswith("setpoint "):
            return _number(limit(name.removeprefix("setpoint ").strip()), unit)
        return name

    return re.sub(r"\{([^}]*)\}", word, plan.say)[:300]
