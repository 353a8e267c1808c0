"""The way back: values to payloads, by the same text that decodes them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import orjson

from oculum.errors import OculumError

from ..batches import ABSENT, FIRST_REASON, PRESENT, Column
from ..language.decoders.plan import (
    DecoderPlan,
    DeriveStep,
    LengthStep,
    Linear,
    ReadStep,
    RejectStep,
    SkipStep,
    StampStep,
    Step,
    ValueStep,
    WhenStep,
)
from ..language.evaluate import Val, evaluate
from ..language.expressions import CheckSum, Compared, Ex, Stored
from .checksums import check
from .numbers import PAD


class EncodeError(OculumError, ValueError):
    """Values that cannot be put into a payload; the message says which and why."""


class _Values:
    """Columns by name, as expressions see them."""

    def __init__(self, columns: Mapping[str, Column], rows: np.ndarray) -> None:
        self.columns, self.rows = columns, rows

    def column(self, name: str) -> Val:
        if name not in self.columns:
            return Val(0.0, False)
        column = self.columns[name]
        return Val(column.values[self.rows], column.state[self.rows] == PRESENT)

    def raw(self, name: str) -> Val:
        return self.column(name)

    def setpoint(self, name: str) -> Val:
        raise EncodeError("a decoder has no setpoints")

    def special(self, ex: Ex) -> Val:
        return Val(0, False)


def encode(plan: DecoderPlan, columns: Mapping[str, Column], reasons: list[str], count: int) -> list[bytes]:
    """`count` payloads that decode to `columns`.

    columns: by field name, hidden ones included; a state of 2 and up means missing for
    reasons[state - 2] and is written as the mark with that reason. Raises EncodeError for a value
    that does not fit, a reason without a mark, a repeat, or a line that cannot be turned round.
    """
    if plan.source == "json":
        return _encode_json(plan, columns, reasons, count)
    work = _Bytes(plan, columns, reasons, count)
    work.run(plan.steps, np.arange(count))
    return work.payloads()


def _unscaled(values: np.ndarray, linear: Linear) -> np.ndarray:
    return (values * float(linear.c) - float(linear.b)) / float(linear.a)


class _Bytes:
    def __init__(self, plan: DecoderPlan, columns: Mapping[str, Column], reasons: list[str], count: int) -> None:
        self.plan, self.columns, self.reasons, self.count = plan, dict(columns), reasons, count
        self.out = np.zeros((count, 64), np.uint8)
        self.cursor = np.zeros(count, np.int64)
        self.end = np.zeros(count, np.int64)
        self.last = np.zeros(count, np.int64)
        self.checks: list[tuple[CheckSum, Stored]] = []

    def run(self, steps: tuple[Step, ...], rows: np.ndarray) -> None:
        for step in steps:
            if len(rows) == 0:
                return
            match step:
                case ReadStep():
                    self.write(step, rows)
                case DeriveStep():
                    found = evaluate(step.value, _Values(self.columns, np.arange(self.count)))
                    values = (
                        np.broadcast_to(np.asarray(found.values), (self.count,))
                        if step.spec.kind != "position"
                        else found.values
                    )
                    self.columns.setdefault(
                        step.name,
                        Column(values, np.broadcast_to(np.asarray(found.known), (self.count,)).astype(np.int16)),
                    )
                case RejectStep():
                    if step.rule is not None and any(
                        isinstance(part, CheckSum) and part.until is not None for part in step.rule.walk()
                    ):
                        raise EncodeError(
                            f"line {step.line} checks as far as the message says and cannot be written back"
                        )
                    match step.rule if step.unless else None:
                        case Compared(sign="=", left=CheckSum() as checking, right=Stored() as place):
                            self.checks.append((checking, place))
                        case Compared(sign="=", left=Stored() as place, right=CheckSum() as checking):
                            self.checks.append((checking, place))
                case SkipStep():
                    self.cursor[rows] += int(step.count) * step.unit_bits // 8  # type: ignore[arg-type]
                    self.end[rows] = np.maximum(self.end[rows], self.cursor[rows])
                case WhenStep():
                    found = evaluate(step.rule, _Values(self.columns, rows))
                    known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
                    truth = np.broadcast_to(np.asarray(found.values, bool), (len(rows),))
                    last = self.last.copy()
                    self.run(step.body, rows[known & truth])
                    self.last = last
                    self.run(step.otherwise, rows[known & ~truth])
                case LengthStep() | StampStep():
                    pass
                case _:
                    raise EncodeError(f"line {step.line} cannot be written back")

    def write(self, step: ReadStep, rows: np.ndarray) -> None:
        column = self.columns.get(step.name)
        if column is None:
            raise EncodeError(f"`{step.name}` is not given")
        values, state = column.values[rows], column.state[rows]
        if step.cleaning.convert is not None:
            a, b, c = step.cleaning.convert
            values = (values * c - b) / a
        if (state == ABSENT).any():
            raise EncodeError(f"`{step.name}` is not given for every message")
        for part, raw in enumerate(step.raws):
            own = values[:, part] if step.spec.kind == "position" else values
            if step.clock is not None:
                own = (own - step.clock[1]) / (step.clock[0] * 1e6)
            exact = (
                own if step.spec.wide else _unscaled(own.astype(float), step.linears[min(part, len(step.linears) - 1)])
            )
            for reason in np.unique(state[state >= FIRST_REASON]):
                text = self.reasons[reason - FIRST_REASON]
                mark = next((s.raws[0] for s in step.cleaning.sentinels if s.reason == text and s.raws), None)
                if mark is None:
                    raise EncodeError(f"`{step.name}` has no mark for “{text}”")
                exact = np.where(state == reason, mark, exact)
            self.put(step, raw, exact, rows)

    def put(self, step: ReadStep, raw: Any, exact: np.ndarray, rows: np.ndarray) -> None:
        width = raw.place.width
        if raw.storage == "f":
            bits = exact.astype(f">f{width}").view(f">u{width}").astype(np.uint64)
        else:
            whole = exact if exact.dtype.kind in "iu" else np.copysign(np.floor(np.abs(exact) + 0.5), exact)
            low, high = (
                (-(2 ** (raw.bits - 1)), 2 ** (raw.bits - 1) - 1) if raw.storage == "i" else (0, 2**raw.bits - 1)
            )
            if (whole < low).any() or (whole > high).any():
                worst = whole[(whole < low) | (whole > high)][0]
                raise EncodeError(
                    f"`{step.name}` would be stored as {worst:g}, which does not fit into {raw.bits} bits"
                )
            bits = whole.astype(np.uint64) if raw.storage == "u" else whole.astype(np.int64).view(np.uint64)
            bits = (bits & np.uint64((1 << raw.bits) - 1)) << np.uint64(raw.shift)
        place = raw.place
        if place.mode == "end":
            raise EncodeError(f"line {step.line}: a value counted from the end cannot be written back")
        begin = {"start": np.full(len(rows), place.offset), "next": self.cursor[rows], "same": self.last[rows]}[
            place.mode
        ]
        need = int(begin.max(initial=0)) + width
        while self.out.shape[1] < need + 8:
            self.out = np.concatenate([self.out, np.zeros_like(self.out)], axis=1)
        for k in range(width):
            shift = 8 * k if raw.little else 8 * (width - 1 - k)
            byte = ((bits >> np.uint64(shift)) & np.uint64(0xFF)).astype(np.uint8)
            self.out[rows, begin + k] |= byte
        if place.mode != "same":
            self.cursor[rows] = begin + width
        self.end[rows] = np.maximum(self.end[rows], begin + width)
        self.last[rows] = begin

    def payloads(self) -> list[bytes]:
        lengths = self.end + self.plan.tail
        for checking, place in self.checks:
            first, last, raw = checking.first, checking.last, place.raw
            stride = self.out.shape[1]
            base = np.arange(self.count) * stride
            begin = base + (first if first >= 0 else lengths + first)
            end = base + (last if last >= 0 else lengths + last) + 1
            flat = np.concatenate([self.out.ravel(), np.zeros(PAD, np.uint8)])
            total = check(checking.name, flat, begin, end - begin, checking.parameters).astype(np.uint64)
            at = raw.place.offset if raw.place.offset >= 0 else lengths + raw.place.offset
            for k in range(raw.place.width):
                shift = 8 * k if raw.little else 8 * (raw.place.width - 1 - k)
                self.out[np.arange(self.count), at + k] = ((total >> np.uint64(shift)) & np.uint64(0xFF)).astype(
                    np.uint8
                )
        return [row[:length].tobytes() for row, length in zip(self.out, lengths.tolist(), strict=True)]


def _encode_json(plan: DecoderPlan, columns: Mapping[str, Column], reasons: list[str], count: int) -> list[bytes]:
    documents: list[dict[str, Any]] = [{} for _ in range(count)]
    for step in _doc_steps(plan.steps):
        column = columns.get(step.name)
        if column is None:
            continue
        values = column.values
        if step.cleaning.convert is not None:
            a, b, c = step.cleaning.convert
            values = (values * c - b) / a
        for part, path in enumerate([at.path for at in step.places if at.mode == "path"]):
            own = values[:, part] if step.spec.kind == "position" else values
            if step.spec.kind in ("number", "integer", "position"):
                own = np.round(_unscaled(own.astype(float), step.linears[min(part, len(step.linears) - 1)]), 9)
            marks = [
                next((s.raws[0] for s in step.cleaning.sentinels if s.reason == reason and s.raws), None)
                for reason in reasons
            ]
            for document, value, state in zip(documents, own.tolist(), column.state.tolist(), strict=True):
                if state == ABSENT:
                    continue
                if state >= FIRST_REASON:
                    value = marks[state - FIRST_REASON]
                elif step.spec.kind == "flag":
                    value = bool(value)
                elif step.spec.kind == "time":
                    value = str(np.datetime64(value, "us")) + "Z"
                elif isinstance(value, float) and value.is_integer():
                    value = int(value)
                _place(document, path, value)
    return [orjson.dumps(document) for document in documents]


def _place(document: Any, path: tuple[str | int, ...], value: Any) -> None:
    for step, following in zip(path, path[1:], strict=False):
        empty: Any = [] if isinstance(following, int) else {}
        if isinstance(step, int):
            while len(document) <= step:
                document.append(empty)
            document = document[step]
        else:
            document = document.setdefault(step, empty)
    last = path[-1]
    if isinstance(last, int):
        while len(document) <= last:
            document.append(None)
    document[last] = value


def _doc_steps(steps: tuple[Step, ...]) -> list[ValueStep]:
    found: list[ValueStep] = []
    for step in steps:
        if isinstance(step, ValueStep):
            found.append(step)
        elif isinstance(step, WhenStep):
            found += _doc_steps(step.body) + _doc_steps(step.otherwise)
    return found
