"""Drafts over the stored past: the same code as live, reading the store and writing nothing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from django.conf import settings
from django.db import connection

from oculum.batches import FIRST_REASON, PRESENT, Column, Decoded, Group, Payloads, Trace
from oculum.decoding.sources import plain_document
from oculum.history.events import plain
from oculum.language.decoders.analysis import untaken
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.fields import FieldSpec
from oculum.pipeline import decode_batch, owned
from server.rules.registry import Registry
from server.store.messages import FIELDS, Arrived, feed
from server.store.register import constants_of, register_at
from server.store.times import moment


def explain(
    plan: DecoderPlan,
    payload: bytes,
    received_us: int,
    headers: Mapping[str, str] | None = None,
    constants: Mapping[str, Any] | None = None,
    previous: bytes | None = None,
) -> dict[str, Any]:
    """One message through a decoder, with the bits or the place of every value."""
    rows = [payload] if previous is None else [previous, payload]
    trace = Trace(row=len(rows) - 1)
    before = np.array([-1, 0][: len(rows)], np.int64)
    batch = Payloads.of(
        rows, [received_us] * len(rows), [headers or {}] * len(rows), [constants or {}] * len(rows), before
    )
    decoded = decode_batch(plan, batch, 0, trace, len(rows) - 1)
    turns: Counter[str] = Counter()
    marks = []
    for m in trace.marks:
        marks.append(
            {
                "line": m["line"],
                "field": m["name"],
                "turn": turns[m["name"]],
                "places": m["places"],
                "raw": _raw(m["raw"]),
                "paths": m.get("paths", []),
                "spots": m.get("spots", []),
            }
        )
        turns[m["name"]] += 1
    marks += [
        {"line": m["line"], "field": "", "turn": 0, "places": m["places"], "raw": None, "paths": [], "spots": []}
        for m in trace.looked
    ]
    error = None
    if decoded.failure[0] >= 0:
        failure = decoded.failures[decoded.failure[0]]
        error = {
            "code": failure.code,
            "message": failure.message,
            "line": failure.line,
            "byte": int(decoded.byte[0]) if decoded.byte[0] >= 0 else None,
        }
    parts = [
        {
            "part": p.name,
            "device": p.device,
            "error": p.failure.code,
            "message": p.failure.message,
            "line": p.failure.line,
        }
        for p in decoded.parts
    ]
    return {
        "values": readings(decoded, 0),
        "marks": marks,
        "error": error,
        "unread": int(decoded.unread[0]),
        "tail": plan.tail,
        "checked": error is None and bool(trace.checked),
        "untaken": sorted(untaken(plan.steps, trace.lines)),
        "parts": parts,
        "received_at": moment(received_us),
        "document": plain_document(plan.source, payload),
    }


def _raw(raw: Any) -> Any:
    if raw is None:
        return None
    return [
        str(r)
        if isinstance(r, int) and abs(r) > 2**53
        else r
        if isinstance(r, int | float | str | bool) or r is None
        else str(r)[:80]
        for r in raw
    ]


def readings(decoded: Decoded, row: int, names: Mapping[int, str] | None = None) -> list[dict[str, Any]]:
    """The readings of one message as plain values. names: of devices, to tell whose each is."""
    found: list[dict[str, Any]] = []
    for group in decoded.groups:
        for i in np.flatnonzero(group.rows == row).tolist():
            for spec in group.fields:
                column = group.columns[spec.name]
                state = int(column.state[i])
                if state == 0:
                    continue
                value = plain(column.values[i]) if state == PRESENT else None
                found.append(
                    {
                        "field": spec.name,
                        "kind": spec.kind,
                        "unit": spec.unit,
                        "value": str(value) if isinstance(value, int) and abs(value) > 2**53 else value,
                        "text": dict(spec.codes).get(int(value)) if spec.kind == "code" and value is not None else None,
                        "missing": decoded.reasons[state - FIRST_REASON] if state >= FIRST_REASON else None,
                        "at": moment(int(group.at[i])),
                        "device": _whose(group, i, names),
                    }
                )
    return found


def _whose(group: Group, i: int, names: Mapping[int, str] | None) -> str | None:
    if names is not None and group.owner is not None:
        return names.get(int(group.owner[i]))
    return str(group.device[i]) if group.device is not None else None


CHUNK = 10_000
SAMPLES = 4_000
BINS = 15


@dataclass
class PastSpan:
    """Stored messages of a type: the last `limit`, or all received in [start, end), of some devices or of all."""

    type_id: int
    limit: int = 5_000
    start: datetime | None = None
    end: datetime | None = None
    devices: list[int] | None = None


def messages(own: psycopg.Connection[Any], span: PastSpan) -> Iterator[Arrived]:
    """Stored messages in portions, the newest portion first, each in order of arrival."""
    with own.cursor("trial", binary=True) as cursor:
        cursor.execute(
            f"select {FIELDS} from message m"
            " where m.device_id = any(select id from fleet_device where type_id = %s and (%s::int[] is null or id ="
            " any(%s)))"
            " and (%s::timestamptz is null or m.received_at >= %s) and (%s::timestamptz is null or m.received_at <"
            " %s) order by m.received_at desc, m.id desc limit %s",
            (span.type_id, span.devices, span.devices, span.start, span.start, span.end, span.end, span.limit),
        )
        while rows := cursor.fetchmany(CHUNK):
            yield Arrived.of(rows[::-1])


def same_length(type_id: int, device: str | None, length: int, most: int = 60) -> list[bytes]:
    """The last payloads of a type, or of one device, that have so many bytes; oldest first."""
    with connection.cursor() as cursor:
        cursor.execute(
            "select m.payload from message m where m.device_id = any(select id from fleet_device where type_id = %s"
            " and (%s::text is null or name = %s))"
            " and m.received_at > now() - interval '31 days' and length(m.payload) = %s order by m.received_at desc"
            " limit %s",
            (type_id, device, device, length, most),
        )
        return [bytes(r[0]) for r in cursor.fetchall()][::-1]


CURVE_MESSAGES, CURVE_POINTS, CURVES = 60, 400, 64


def curves(plan: DecoderPlan, device: int, name: str, until: datetime) -> dict[str, Any]:
    """The numbers of a draft over the last messages of a device: by field times (s) and values, null where missing.

    What the messages say of other devices is left out.
    """
    with psycopg.connect(settings.INSTANCE.database_url(), application_name="oculum curves") as own:
        rows = own.execute(
            f"select {FIELDS} from message m where m.device_id = %s and m.received_at <= %s and m.received_at > %s -"
            f" interval '31 days' order by m.received_at desc, m.id desc limit %s",
            (device, until, until, CURVE_MESSAGES),
        ).fetchall()
        if not rows:
            return {"messages": 0, "decoded": 0, "fields": []}
        arrived = Arrived.of(rows[::-1])
        batch, context = feed(own, plan, arrived, {device: constants_of(own, device)})
    decoded = decode_batch(plan, batch, 0, None, context)
    for group in decoded.groups:
        if group.device is not None:
            group.owner = np.array(
                [device if named in (None, name) else 0 for named in group.device.tolist()], np.int64
            )
    found: list[dict[str, Any]] = []
    for field_name, (spec, keys, column) in _by_field(decoded, arrived.device).items():
        own_rows = np.flatnonzero(keys["o"] == device)
        if spec.kind not in ("number", "integer") or not len(own_rows) or len(found) == CURVES:
            continue
        order = own_rows[np.argsort(keys["a"][own_rows], kind="stable")[-CURVE_POINTS:]]
        values = [
            float(v) if s == PRESENT else None
            for v, s in zip(column.values[order].tolist(), column.state[order].tolist(), strict=True)
        ]
        found.append({"field": field_name, "unit": spec.unit, "t": (keys["a"][order] / 1e6).tolist(), "v": values})
    return {"messages": len(rows), "decoded": int(decoded.good.sum()), "fields": found}


@dataclass
class Compared:
    """One field over a trial: how many values, how many differ from before and by how much."""

    kind: str
    unit: str | None
    values: int = 0
    missing: int = 0
    before: int = 0
    both: int = 0
    differ: int = 0
    low: float | None = None
    high: float | None = None
    steps: list[np.ndarray] = field(default_factory=list)

    def as_dict(self, name: str, compared: bool) -> dict[str, Any]:
        steps = np.concatenate(self.steps) if self.steps else np.zeros(0)
        found: dict[str, Any] = {
            "field": name,
            "kind": self.kind,
            "unit": self.unit,
            "values": self.values,
            "missing": self.missing,
            "differ": self.differ if compared else None,
            "state": "same"
            if not compared or bool(self.before) == bool(self.values or self.missing)
            else "lost"
            if self.before
            else "new",
            "low": self.low,
            "high": self.high,
            "distribution": None,
        }
        if len(steps):
            counts, edges = np.histogram(steps, BINS)
            found["distribution"] = {
                "low": float(edges[0]),
                "high": float(edges[-1]),
                "middle": float(np.median(steps)),
                "counts": counts.tolist(),
            }
        return found


@dataclass
class Tally:
    """What messages have come to, portion by portion."""

    done: int = 0
    good: int = 0
    good_before: int = 0
    parts: int = 0
    fields: dict[str, Compared] = field(default_factory=dict)
    reasons: Counter[tuple[str, str, int]] = field(default_factory=Counter)
    examples: dict[tuple[str, str, int], str] = field(default_factory=dict)

    def count(self, decoded: Decoded, ids: np.ndarray) -> None:
        """A decoded batch of messages `ids` (int64 (n,)): the good ones, and why the others are refused."""
        self.done += len(ids)
        self.good += int(decoded.good.sum())
        self.parts += len({p.row for p in decoded.parts})
        for row in np.flatnonzero(~decoded.good).tolist():
            failure = decoded.failures[decoded.failure[row]]
            self.refuse(failure.code, failure.message, failure.line, int(ids[row]))

    def refuse(self, code: str, message: str, line: int, example: int) -> None:
        self.reasons[code, message, line] += 1
        self.examples[code, message, line] = str(example)

    def result(self, compared: bool = True) -> dict[str, Any]:
        rows = [found.as_dict(name, compared) for name, found in self.fields.items()]
        return {
            "messages": self.done,
            "decoded": self.good,
            "failed": self.done - self.good,
            "partly": self.parts,
            "decoded_before": self.good_before if compared else None,
            "reasons": [
                {"code": c, "message": m, "line": line, "count": n, "example": self.examples[c, m, line]}
                for (c, m, line), n in self.reasons.most_common(20)
            ],
            "fields": sorted(rows, key=lambda r: (-(r["differ"] or 0), r["field"])),
        }


def decoder_trial(plan: DecoderPlan, before: DecoderPlan | None, span: PastSpan) -> Iterator[dict[str, Any]]:
    """The draft over stored messages, beside the published version: {"done", "total"} as it goes, at last {"result"}.

    Nothing is written. Leaving off reading it ends the work.
    """
    registry = Registry()
    tally = Tally()
    first = last = None
    with (
        psycopg.connect(settings.INSTANCE.database_url(), application_name="oculum trial") as own,
        psycopg.connect(settings.INSTANCE.database_url()) as beside,
    ):
        own.execute("set local statement_timeout = '60s'")
        registry.take(register_at(beside))

        def decoded(by: DecoderPlan, arrived: Arrived) -> Decoded:
            batch, context = feed(beside, by, arrived, registry.constants)
            found = decode_batch(by, batch, 0, None, context)
            owned(found, arrived.device, registry.owner)
            return found

        row = beside.execute(
            "select count(*) from (select 1 from message m where m.device_id = any(select id from fleet_device where"
            " type_id = %s and (%s::int[] is null or id = any(%s)))"
            " and (%s::timestamptz is null or m.received_at >= %s) and (%s::timestamptz is null or m.received_at <"
            " %s) limit %s) x",
            (span.type_id, span.devices, span.devices, span.start, span.start, span.end, span.end, span.limit),
        ).fetchone()
        total = int(row[0]) if row else 0
        yield {"done": 0, "total": total}
        for arrived in messages(own, span):
            now = decoded(plan, arrived)
            old = decoded(before, arrived) if before is not None else None
            tally.count(now, arrived.ids)
            tally.good_before += int(old.good.sum()) if old is not None else 0
            compare(tally.fields, now, old, arrived.device)
            first, last = int(arrived.received[0]), last if last is not None else int(arrived.received[-1])
            yield {"done": tally.done, "total": max(total, tally.done)}
    yield {
        "result": tally.result(before is not None)
        | {"from": moment(first) if first is not None else None, "to": moment(last) if last is not None else None}
    }


def _by_field(decoded: Decoded, device: np.ndarray) -> dict[str, tuple[FieldSpec, np.ndarray, Column]]:
    """Each field's values over all groups, by device, message and time."""
    found: dict[str, list[tuple[FieldSpec, np.ndarray, Column]]] = {}
    for group in decoded.groups:
        owner = group.owner if group.owner is not None else device[group.rows]
        keys = np.empty(len(group.rows), [("o", np.int64), ("r", np.int64), ("a", np.int64)])
        keys["o"], keys["r"], keys["a"] = owner, group.rows, group.at
        for spec in group.fields:
            found.setdefault(spec.name, []).append((spec, keys, group.columns[spec.name]))
    joined = {}
    for name, parts in found.items():
        spec, keys, column = parts[0]
        if len(parts) > 1:
            keys = np.concatenate([k for _, k, _ in parts])
            column = Column(
                np.concatenate([c.values for _, _, c in parts]), np.concatenate([c.state for _, _, c in parts])
            )
        there = column.state != 0
        joined[name] = (spec, keys, column) if there.all() else (spec, keys[there], column.taken(np.flatnonzero(there)))
    return joined


def compare(fields: dict[str, Compared], now: Decoded, old: Decoded | None, device: np.ndarray) -> None:
    """Adds a portion to the comparison, field by field."""
    mine, theirs = _by_field(now, device), _by_field(old, device) if old is not None else {}
    for name in [*mine, *(n for n in theirs if n not in mine)]:
        spec = (mine.get(name) or theirs[name])[0]
        entry = fields.setdefault(name, Compared(spec.kind, spec.unit))
        if name in mine:
            _, keys, column = mine[name]
            here = column.state == PRESENT
            entry.values += int(here.sum())
            entry.missing += int((~here).sum())
            if column.values.dtype == np.float64 and column.values.ndim == 1 and here.any():
                low, high = float(column.values[here].min()), float(column.values[here].max())
                entry.low, entry.high = (
                    low if entry.low is None else min(entry.low, low),
                    high if entry.high is None else max(entry.high, high),
                )
        if name in theirs:
            entry.before += len(theirs[name][1])
        if name not in mine or name not in theirs:
            entry.differ += len(theirs[name][1]) if old is not None and name in theirs else 0
            continue
        _differences(entry, mine[name], theirs[name])


def _differences(
    entry: Compared, mine: tuple[FieldSpec, np.ndarray, Column], theirs: tuple[FieldSpec, np.ndarray, Column]
) -> None:
    (_, keys, column), (_, old_keys, old_column) = mine, theirs
    lost = 0
    if len(keys) == len(old_keys) and np.array_equal(keys, old_keys):
        a, b = column, old_column
    else:
        _, left, right = np.intersect1d(keys, old_keys, return_indices=True)
        lost = len(old_keys) - len(right)
        a, b = column.taken(left), old_column.taken(right)
    entry.both += len(a.state)
    here, there = a.state == PRESENT, b.state == PRESENT
    same: Any = np.asarray(a.values == b.values)
    if same.ndim == 2:
        same = same.all(axis=1)
    changed = (here != there) | (here & there & ~same)
    entry.differ += int(changed.sum()) + lost
    if a.values.dtype == np.float64 and a.values.ndim == 1 and b.values.dtype == np.float64:
        steps = (a.values - b.values)[here & there & ~same]
        if len(steps) and sum(map(len, entry.steps)) < SAMPLES:
            entry.steps.append(steps[:SAMPLES])
