"""The state of a batch while a decoder walks over it: live rows, columns, failures, times."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..batches import ABSENT, FIRST_REASON, PRESENT, Column, Decoded, Failure, Group, Payloads, Trace
from ..language.evaluate import Val, evaluate
from ..language.plan import Cleaning, DeriveStep, Ex, FieldSpec, Linear, RejectStep, StampStep

DEPENDS = "depends on a missing value"
NO_TEXT = "code without a text"
NOT_FINITE = "not a number"


def blank(spec: FieldSpec, count: int) -> Column:
    """A column of `count` rows with nothing in it."""
    state = np.zeros(count, np.int16)
    if spec.kind == "position":
        return Column(np.zeros((count, 2)), state)
    if spec.kind == "text":
        return Column(np.full(count, None, object), state)
    if spec.kind == "time":
        return Column(np.zeros(count, np.int64), state)
    if spec.wide:
        return Column(np.zeros(count, np.uint64), state)
    return Column(np.zeros(count), state)


class Frame:
    """One batch. `rows` (int64) always names live rows; a failed row is passed over from then on."""

    def __init__(self, payloads: Payloads, trace: Trace | None) -> None:
        self.payloads = payloads
        self.count = len(payloads)
        self.trace = trace
        self.alive = np.ones(self.count, bool)
        self.deaths = 0
        self.failure = np.full(self.count, -1, np.int32)
        self.byte = np.full(self.count, -1, np.int32)
        self.failures: list[Failure] = []
        self.reasons: list[str] = []
        self.columns: dict[str, Column] = {}
        self.raws: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self.stamp = payloads.received_us.copy()
        self.groups: list[Group] = []

    def view(self, rows: np.ndarray) -> View:
        """What expressions see of `rows`."""
        return View(self, rows)

    # failing and reasons
    def fail(self, rows: np.ndarray, code: str, message: str, line: int, byte: Any = -1) -> None:
        if len(rows) == 0:
            return
        self.failures.append(Failure(code, message, line))
        self.failure[rows] = len(self.failures) - 1
        self.byte[rows] = byte
        self.alive[rows] = False
        self.deaths += len(rows)

    def reason(self, text: str) -> int:
        if text not in self.reasons:
            self.reasons.append(text)
        return FIRST_REASON + self.reasons.index(text)

    def living(self, rows: np.ndarray) -> np.ndarray:
        return rows[self.alive[rows]] if self.deaths else rows

    # columns
    def put(self, spec: FieldSpec, rows: np.ndarray, values: np.ndarray, state: np.ndarray) -> None:
        if len(rows) == self.count and spec.name not in self.columns:
            self.columns[spec.name] = Column(values, state)
            return
        column = self.columns.get(spec.name)
        if column is None:
            column = self.columns[spec.name] = blank(spec, self.count)
            if values.dtype != column.values.dtype:
                column.values = column.values.astype(values.dtype)
        elif not column.values.flags.writeable:
            column.values = column.values.copy()
        column.values[rows] = values
        column.state[rows] = state

    def clean(self, cleaning: Cleaning, rows: np.ndarray, values: np.ndarray, state: np.ndarray, raws: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
        """Marks, conversion, range: the values with their states."""
        for sentinel in cleaning.sentinels:
            hit = np.zeros(len(rows), bool)
            if sentinel.when is not None:
                found = evaluate(sentinel.when, self.view(rows))
                hit |= np.logical_and(found.values, found.known)
            for mark in sentinel.raws:
                for raw in raws:
                    hit |= np.asarray(raw == mark, bool)
            state = np.where(hit & (state != ABSENT) & (state < FIRST_REASON), self.reason(sentinel.reason), state) if hit.any() else state
        if values.dtype == np.float64 and values.ndim == 1:
            bad = ~np.isfinite(values)
            if bad.any():
                state = np.where(bad & (state == PRESENT), self.reason(NOT_FINITE), state)
                values = np.where(bad, 0.0, values)
        if cleaning.convert is not None:
            values = values * cleaning.convert[0] + cleaning.convert[1]
        if cleaning.low is not None and cleaning.high is not None:
            out = ((values < cleaning.low) | (values > cleaning.high)) & (state == PRESENT)
            if out.any():
                state = np.where(out, self.reason(f"outside {cleaning.low:g} to {cleaning.high:g}"), state)
        return values, state.astype(np.int16)

    # steps shared by bytes and documents
    def derive(self, step: DeriveStep, rows: np.ndarray) -> None:
        found = evaluate(step.value, self.view(rows))
        values = found.values
        if step.spec.kind == "text":
            values = np.broadcast_to(np.asarray(values, object), (len(rows),)).copy()
        elif step.spec.kind == "time":
            values = np.broadcast_to(np.asarray(values, np.int64), (len(rows),)).copy()
        elif step.spec.kind == "position":
            values = np.broadcast_to(np.asarray(values, float), (len(rows), 2)).copy()
        else:
            values = np.broadcast_to(np.asarray(values, float), (len(rows),)).copy()
        known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
        state = np.where(known, PRESENT, self.reason(DEPENDS) if not known.all() else PRESENT).astype(np.int16)
        values, state = self.clean(step.cleaning, rows, values, state, [])
        self.put(step.spec, rows, values, state)
        self.note(step.line, step.name, [], None)

    def reject(self, step: RejectStep, rows: np.ndarray) -> None:
        found = evaluate(step.rule, self.view(rows))
        bad = np.logical_not(found.values) if step.unless else np.asarray(found.values, bool)
        hit = np.broadcast_to(np.logical_and(bad, found.known), (len(rows),))
        self.fail(rows[hit], step.failure, step.reason, step.line)

    def set_stamp(self, step: StampStep, rows: np.ndarray) -> None:
        found = evaluate(step.value, self.view(rows))
        known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
        self.stamp[rows] = np.where(known, found.values, self.payloads.received_us[rows])

    def note(self, line: int, name: str, places: list[dict[str, int]], raw: Any, **more: Any) -> None:
        if self.trace is not None:
            self.trace.marks.append({"line": line, "name": name, "places": places, "raw": raw, **more})

    def finish(self, fields: tuple[FieldSpec, ...], unread: np.ndarray) -> Decoded:
        rows = np.flatnonzero(self.alive)
        columns = {spec.name: (self.columns[spec.name] if len(rows) == self.count else self.columns[spec.name].taken(rows)) for spec in fields if spec.name in self.columns}
        for spec in fields:
            if spec.name not in columns:
                columns[spec.name] = blank(spec, len(rows))
        groups = [Group(fields, rows, self.stamp[rows], columns)] if fields else []
        for group in self.groups:
            keep = self.alive[group.rows]
            at = group.at + self.stamp[group.rows]
            if keep.all():
                groups.append(Group(group.fields, group.rows, at, group.columns))
            else:
                kept = np.flatnonzero(keep)
                groups.append(Group(group.fields, group.rows[kept], at[kept], {n: c.taken(kept) for n, c in group.columns.items()}))
        return Decoded(groups, self.failures, self.failure, self.byte, self.reasons, np.where(self.alive, unread, 0))


class View:
    """Names of expressions, for some rows of a frame."""

    def __init__(self, frame: Frame, rows: np.ndarray) -> None:
        self.frame, self.rows = frame, rows
        self.full = len(rows) == frame.count

    def column(self, name: str) -> Val:
        column = self.frame.columns.get(name)
        if column is None:
            return Val(0.0, False)
        if self.full:
            return Val(column.values, column.state == PRESENT)
        return Val(column.values[self.rows], column.state[self.rows] == PRESENT)

    def raw(self, name: str) -> Val:
        found = self.frame.raws.get(name)
        if found is None:
            return self.column(name)
        return Val(found[0][self.rows], found[1][self.rows])

    def setpoint(self, name: str) -> Val:
        raise AssertionError("a decoder has no setpoints")

    def payload(self, ex: Ex) -> Val:
        raise AssertionError("a document has no bytes")


def scaled(raw: np.ndarray, linear: Linear) -> np.ndarray:
    """(raw * a + b) / c in float64; exact but for one rounding while raw * a stays below 2^53."""
    values = raw.astype(np.float64)
    if linear.a != 1:
        values = values * float(linear.a)
    if linear.b:
        values = values + float(linear.b)
    if linear.c != 1:
        values = values / float(linear.c)
    return values
