"""Transitions to alarms and their journal."""

from __future__ import annotations

import re
from typing import Any

import psycopg

from oculum.alarms.evaluate import Transition
from oculum.language.plan import ConditionPlan
from oculum.quantities import measured

from .registry import Registry
from .store import moment


def write_transitions(
    connection: psycopg.Connection, registry: Registry, transitions: list[tuple[int, Transition]]
) -> list[int]:
    """Raises and clears alarms, with an entry in the journal each. Returns the alarms concerned."""
    touched: list[int] = []
    for definition_id, transition in sorted(transitions, key=lambda t: (t[1].at, t[0], t[1].device)):
        condition = registry.conditions[definition_id]
        plan, cause = condition.plan, transition.cause
        unit = next((item.unit for item in plan.limits if item.field == cause.field), None) or ""
        if transition.raised:
            row = connection.execute(
                "insert into alarms_alarm (condition_id, version_id, device_id, priority, text, field, value,"
                ' "limit", unit, raised_at, message_id, message_received_at)'
                " values (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s) on conflict (condition_id, device_id) where"
                " cleared_at is null do nothing returning id",
                (
                    definition_id,
                    condition.version_id,
                    transition.device,
                    plan.priority,
                    said(plan, registry, transition),
                    cause.field or "",
                    cause.value,
                    cause.limit,
                    "" if unit == "1" else unit,
                    moment(transition.at),
                    cause.message,
                    moment(cause.arrival),
                ),
            ).fetchone()
        else:
            row = connection.execute(
                "update alarms_alarm set cleared_at = %s where condition_id = %s and device_id = %s and cleared_at is"
                " null returning id",
                (moment(transition.at), definition_id, transition.device),
            ).fetchone()
        if row is None:
            continue
        touched.append(row[0])
        connection.execute(
            'insert into alarms_journalentry (alarm_id, what, at, learned_at, note, value, "limit", message_id,'
            " message_received_at, version_id)"
            " values (%s, %s, %s, %s, '', %s, %s, %s, %s, %s)",
            (
                row[0],
                "raised" if transition.raised else "cleared",
                moment(transition.at),
                moment(transition.learned),
                cause.value,
                cause.limit,
                cause.message,
                moment(cause.arrival),
                condition.version_id,
            ),
        )
    return touched


def clear_retired(connection: psycopg.Connection, definition_id: int, at: int) -> list[int]:
    """Clears what is open of a condition that is taken out of force. Returns the alarms concerned."""
    rows = connection.execute(
        "update alarms_alarm set cleared_at = greatest(raised_at, %s) where condition_id = %s and cleared_at is null"
        " returning id, cleared_at",
        (moment(at), definition_id),
    ).fetchall()
    with connection.cursor() as cursor:
        cursor.executemany(
            "insert into alarms_journalentry (alarm_id, what, at, learned_at, note) values (%s, 'cleared', %s, %s,"
            " 'the condition was retired')",
            [(i, t, t) for i, t in rows],
        )
    return [row[0] for row in rows]


def _number(value: Any, unit: str | None) -> str:
    if value is None:
        return "no value"
    return measured(f"{value:.6g}", unit)


def said(plan: ConditionPlan, registry: Registry, transition: Transition) -> str:
    """The sentence of an alarm: the condition's own, else device, value and limit, or its name where it has none."""
    device = registry.devices.get(transition.device)
    cause = transition.cause
    unit = next((item.unit for item in plan.limits if item.field == cause.field), None)

    if plan.say is None:
        title = device.title if device else "?"
        if cause.limit is None or cause.value is None:
            return f"{title}: {plan.name}"[:300]
        field = (cause.field or "").replace("_", " ")
        return f"{title}: {field} {_number(cause.value, unit)}, limit {_number(cause.limit, unit)}"[:300]

    def word(match: re.Match[str]) -> str:
        name = match.group(1)
        if name == "device":
            return device.title if device else "?"
        if name == "site":
            return registry.site_titles.get(device.site_id or 0, "no site") if device else "?"
        if name == "type":
            return plan.device_type
        if name == "limit":
            return _number(cause.limit, unit)
        if name == "value" or name == cause.field:
            return _number(cause.value, unit)
        if name.startswith("setpoint "):
            return _number(registry.limit(transition.device, name.removeprefix("setpoint ").strip()), unit)
        return name

    return re.sub(r"\{([^}]*)\}", word, plan.say)[:300]
