"""Drafts over the stored past: the same code as live, reading the store and writing nothing."""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from typing import Any

import numpy as np
from django.db import connection

from oculum.alarms.evaluate import DeviceState, Transition, evaluate_condition
from oculum.batches import FIRST_REASON, PRESENT, Column, Decoded, Group, Payloads, Trace
from oculum.history.events import build_events, plain
from oculum.language.plan import ConditionPlan, DecoderPlan
from oculum.pipeline import decode_batch
from server.definitions.plans import specs
from server.engine.registry import Registry, matches
from server.engine.store import moment
from server.fleet.models import DeviceType
from server.history.states import json_of


def explain(plan: DecoderPlan, payload: bytes, received_us: int) -> dict[str, Any]:
    """One message through a decoder, with the bits or the place of every value."""
    trace = Trace()
    decoded = decode_batch(plan, Payloads.of([payload], [received_us]), 0, trace)
    values = readings(decoded, 0)
    by_name: dict[str, int] = {}
    marks = []
    for mark in trace.marks:
        turn = by_name.get(mark["name"], 0)
        by_name[mark["name"]] = turn + 1
        paths = mark.get("paths", [])
        marks.append({"line": mark["line"], "field": mark["name"], "turn": turn, "places": mark["places"], "raw": _raw(mark["raw"]), "paths": paths})
    error = None
    if decoded.failure[0] >= 0:
        failure = decoded.failures[decoded.failure[0]]
        error = {"code": failure.code, "message": failure.message, "line": failure.line, "byte": int(decoded.byte[0]) if decoded.byte[0] >= 0 else None}
    return {"values": values, "marks": marks, "error": error, "unread": int(decoded.unread[0]), "tail": plan.tail}


def _raw(raw: Any) -> Any:
    if raw is None:
        return None
    return [str(r) if isinstance(r, int) and abs(r) > 2**53 else r if isinstance(r, int | float | str | bool) or r is None else str(r)[:80] for r in raw]


def readings(decoded: Decoded, row: int) -> list[dict[str, Any]]:
    """The readings of one message as plain values."""
    found: list[dict[str, Any]] = []
    for group in decoded.groups:
        for i in np.flatnonzero(group.rows == row).tolist():
            for spec in group.fields:
                column = group.columns[spec.name]
                state = int(column.state[i])
                if state == 0:
                    continue
                value = plain(column.values[i]) if state == PRESENT else None
                found.append({
                    "field": spec.name, "kind": spec.kind, "unit": spec.unit, "value": str(value) if isinstance(value, int) and abs(value) > 2**53 else value,
                    "text": dict(spec.codes).get(int(value)) if spec.kind == "code" and value is not None else None,
                    "missing": decoded.reasons[state - FIRST_REASON] if state >= FIRST_REASON else None, "at": moment(int(group.at[i])),
                })  # fmt: skip
    return found


def stored(type_: DeviceType, limit: int, device: str | None = None) -> tuple[np.ndarray, list[bytes], np.ndarray]:
    """The last messages of a type: ids, payloads, times of arrival, oldest first."""
    with connection.cursor() as cursor:
        cursor.execute("set local statement_timeout = '20s'")
        cursor.execute(
            "select m.id, m.payload, (extract(epoch from m.received_at) * 1000000)::bigint from fleet_device d join lateral"
            " (select * from message where device_id = d.id order by received_at desc limit %(each)s) m on true"
            " where d.type_id = %(type)s and (%(device)s::text is null or d.name = %(device)s) order by m.received_at desc limit %(limit)s",
            {"type": type_.pk, "limit": limit, "each": limit if device else 2 * limit // max(type_.devices.count(), 1) + 20, "device": device},
        )
        rows = cursor.fetchall()[::-1]
    return np.array([r[0] for r in rows], np.int64), [bytes(r[1]) for r in rows], np.array([r[2] for r in rows], np.int64)


def decoder_trial(plan: DecoderPlan, before: DecoderPlan | None, type_: DeviceType, limit: int) -> dict[str, Any]:
    """The draft over the last stored messages, beside the published version."""
    ids, payloads, received = stored(type_, limit)
    batch = Payloads.of(payloads, received)
    now = decode_batch(plan, batch, 0)
    old = decode_batch(before, batch, 0) if before else None
    counts: Counter[tuple[str, str, int]] = Counter()
    examples: dict[tuple[str, str, int], str] = {}
    for row in np.flatnonzero(~now.good).tolist():
        failure = now.failures[now.failure[row]]
        key = (failure.code, failure.message, failure.line)
        counts[key] += 1
        examples[key] = str(ids[row])
    return {
        "messages": len(ids),
        "decoded": int(now.good.sum()),
        "failed": int((~now.good).sum()),
        "decoded_before": int(old.good.sum()) if old else None,
        "reasons": [{"code": c, "message": m, "line": line, "count": n, "example": examples[c, m, line]} for (c, m, line), n in counts.most_common(20)],
        "fields": compare(now, old),
        "from": moment(int(received[0])) if len(ids) else None,
        "to": moment(int(received[-1])) if len(ids) else None,
    }


def _by_key(decoded: Decoded) -> dict[str, tuple[np.ndarray, Column]]:
    """Each field's values over all groups, keyed by row and time."""
    found: dict[str, list[tuple[np.ndarray, Column]]] = {}
    for group in decoded.groups:
        keys = np.stack([group.rows, group.at], axis=1)
        for spec in group.fields:
            found.setdefault(spec.name, []).append((keys, group.columns[spec.name]))
    return {name: (np.concatenate([k for k, _ in parts]), Column(np.concatenate([c.values for _, c in parts]), np.concatenate([c.state for _, c in parts]))) for name, parts in found.items()}


def compare(now: Decoded, old: Decoded | None) -> list[dict[str, Any]]:
    """Field by field: how many values, how many missing, how many differ from before."""
    mine, theirs = _by_key(now), _by_key(old) if old else {}
    rows = []
    for name in [*mine, *(n for n in theirs if n not in mine)]:
        row: dict[str, Any] = {"field": name, "values": 0, "missing": 0, "differ": None, "state": "same", "low": None, "high": None}
        if name in mine:
            column = mine[name][1]
            here = column.state == PRESENT
            row["values"], row["missing"] = int(here.sum()), int((column.state >= FIRST_REASON).sum())
            if column.values.dtype == np.float64 and column.values.ndim == 1 and here.any():
                row["low"], row["high"] = float(column.values[here].min()), float(column.values[here].max())
        if old is not None:
            row["state"] = "new" if name not in theirs else "lost" if name not in mine else "same"
            if name in mine and name in theirs:
                a = {tuple(k): (int(s), v) for k, s, v in zip(mine[name][0].tolist(), mine[name][1].state, mine[name][1].values.tolist(), strict=True)}
                b = {tuple(k): (int(s), v) for k, s, v in zip(theirs[name][0].tolist(), theirs[name][1].state, theirs[name][1].values.tolist(), strict=True)}
                row["differ"] = sum(1 for k, (s, v) in a.items() if k in b and ((s == PRESENT) != (b[k][0] == PRESENT) or (s == PRESENT and v != b[k][1])))
        rows.append(row)
    return rows


def stored_readings(type_: DeviceType, start: datetime, end: datetime) -> tuple[Decoded, np.ndarray, np.ndarray, np.ndarray]:
    """Readings measured and received in [start, end): as a decoded batch, with device, arrival and message id by row."""
    from server.engine.rows import is_text

    with connection.cursor() as cursor:
        cursor.execute("set local statement_timeout = '60s'")
        cursor.execute("select id, fields from layout")
        layouts = {i: tuple(specs(f).values()) for i, f in ((i, json_of(f)) for i, f in cursor.fetchall())}
        cursor.execute(
            "select r.layout_id, r.device_id, (extract(epoch from r.at) * 1000000)::bigint, (extract(epoch from r.received_at) * 1000000)::bigint, r.message_id, r.nums, r.texts"
            " from fleet_device d join reading_row r on r.device_id = d.id where d.type_id = %s and r.at >= %s and r.received_at < %s",
            (type_.pk, start, end),
        )
        rows = cursor.fetchall()
    rows.sort(key=lambda r: (r[3], r[4]))
    messages = np.array([r[4] for r in rows], np.int64)
    # Rows of one message stand together; they share one row of the batch.
    fresh = np.ones(len(rows), bool)
    fresh[1:] = messages[1:] != messages[:-1]
    batch_row = np.cumsum(fresh) - 1
    groups: list[Group] = []
    layout_of = np.array([r[0] for r in rows], np.int64)
    at = np.array([r[2] for r in rows], np.int64)
    for layout in np.unique(layout_of).tolist():
        index = np.flatnonzero(layout_of == layout)
        fields = layouts[layout]
        width = len(rows[index[0]][5])
        nums = np.array([[np.nan if v is None else v for v in rows[i][5]] for i in index], float).reshape(len(index), width)
        columns: dict[str, Column] = {}
        slot = text = 0
        for spec in fields:
            if is_text(spec):
                values = np.array([(rows[i][6] or [None] * 99)[text] for i in index], object)
                columns[spec.name] = Column(values, np.array([v is not None for v in values], np.int16))
                text += 1
            elif spec.kind == "position":
                there = ~np.isnan(nums[:, slot])
                columns[spec.name] = Column(np.nan_to_num(nums[:, slot : slot + 2]), there.astype(np.int16))
                slot += 2
            else:
                there = ~np.isnan(nums[:, slot])
                columns[spec.name] = Column(np.nan_to_num(nums[:, slot]), there.astype(np.int16))
                slot += 1
        groups.append(Group(fields, batch_row[index], at[index], columns))
    heads = np.flatnonzero(fresh)
    device = np.array([rows[i][1] for i in heads], np.int64)
    arrival = np.maximum.accumulate(np.array([rows[i][3] for i in heads], np.int64)) if len(heads) else np.zeros(0, np.int64)
    none = np.full(len(heads), -1, np.int32)
    return Decoded(groups, [], none, none, [], np.zeros(len(heads), np.int64)), device, arrival, messages[heads]


def condition_trial(plan: ConditionPlan, type_: DeviceType, start: datetime, end: datetime) -> dict[str, Any]:
    """How often the draft would have been raised in [start, end), with today's limits and labels."""
    from django.conf import settings
    from psycopg import connect

    decoded, device, arrival, ids = stored_readings(type_, start, end)
    events = build_events(decoded, device, arrival, {}, ids)
    registry = Registry()
    with connect(settings.INSTANCE.database_url()) as own:
        registry.load_devices(own)
        for kind, body in own.execute("select kind, body from control_event where kind = 'setpoint' order by txid, id").fetchall():
            registry.apply(own, kind, body)
    chosen = {d.id for d in registry.devices.values() if d.type_id == type_.pk and matches(d.labels, plan.labels)}
    states: dict[int, DeviceState] = {}
    found = evaluate_condition(plan, events, {}, registry.limit, chosen.__contains__, states, int(end.timestamp() * 1e6))
    return summary(found, registry, len(chosen), len(ids), start, end)


def summary(found: list[Transition], registry: Registry, devices: int, messages: int, start: datetime, end: datetime) -> dict[str, Any]:
    raised = [t for t in found if t.raised]
    spans: list[dict[str, Any]] = []
    opened: dict[int, Transition] = {}
    for transition in sorted(found, key=lambda t: (t.at, not t.raised)):
        if transition.raised:
            opened[transition.device] = transition
        elif transition.device in opened:
            spans.append(_span(opened.pop(transition.device), transition, registry))
    spans += [_span(t, None, registry) for t in opened.values()]
    per_device = Counter(registry.devices[t.device].name for t in raised)
    days = Counter(moment(t.at).strftime("%Y-%m-%d") for t in raised)
    return {
        "messages": messages, "devices": devices, "raised": len(raised), "still_open": len(opened), "devices_raised": len(per_device),
        "by_device": [{"device": d, "count": n} for d, n in per_device.most_common(10)],
        "by_day": [{"day": d, "count": n} for d, n in sorted(days.items())],
        "spans": sorted(spans, key=lambda s: s["raised_at"], reverse=True)[:200], "from": start, "to": end,
    }  # fmt: skip


def _span(raised: Transition, cleared: Transition | None, registry: Registry) -> dict[str, Any]:
    return {
        "device": registry.devices[raised.device].name, "raised_at": moment(raised.at), "cleared_at": moment(cleared.at) if cleared else None,
        "value": raised.cause.value, "limit": raised.cause.limit,
    }  # fmt: skip
