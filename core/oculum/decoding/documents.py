"""Decoding JSON: parsed by a fast library, then columns like any other payload."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import numpy as np
import orjson

from ..batches import ABSENT, Decoded, Payloads, Trace
from ..language import limits
from ..language.evaluate import evaluate
from ..language.plan import DecoderPlan, DeriveStep, DocStep, RejectStep, StampStep, Step, WhenStep
from .frame import Frame, View, scaled

_GONE = object()
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_WORDS = {dict: "an object", list: "a list", str: "a text", bool: "true or false", int: "a number", float: "a number", type(None): "null"}


def decode_json(plan: DecoderPlan, payloads: Payloads, trace: Trace | None = None) -> Decoded:
    """All messages of a batch through one JSON decoder."""
    frame = _Documents(payloads, trace)
    rows = frame.parsed()
    frame.run(plan.steps, rows)
    return frame.finish(plan.fields, np.zeros(frame.count, np.int64))


def _too_deep(raw: bytes) -> bool:
    return raw.count(b"[") + raw.count(b"{") > limits.JSON_DEPTH and _depth(raw) > limits.JSON_DEPTH


def _depth(raw: bytes) -> int:
    depth = deepest = 0
    inside = escaped = False
    for byte in raw:
        if inside:
            if escaped:
                escaped = False
            elif byte == 92:
                escaped = True
            elif byte == 34:
                inside = False
        elif byte == 34:
            inside = True
        elif byte in b"[{":
            depth += 1
            deepest = max(deepest, depth)
        elif byte in b"]}":
            depth -= 1
    return deepest


def _walk(document: Any, path: tuple[str | int, ...]) -> Any:
    for step in path:
        if isinstance(step, str):
            if not isinstance(document, dict):
                return _GONE
            document = document.get(step, _GONE)
        else:
            if not isinstance(document, list) or step >= len(document):
                return _GONE
            document = document[step]
        if document is _GONE:
            return _GONE
    return document


def shown_path(path: tuple[str | int, ...]) -> str:
    """A path as the language writes it."""
    return "".join(f"[{s}]" if isinstance(s, int) else ("." if i else "") + s for i, s in enumerate(path))


def _number(found: Any) -> float:
    if type(found) not in (int, float):
        raise ValueError
    if isinstance(found, int) and abs(found) > 2**53:
        raise OverflowError
    return float(found)


def _integer(found: Any) -> float:
    value = _number(found)
    if value != int(value):
        raise ValueError
    return value


def _flag(found: Any) -> float:
    if not isinstance(found, bool):
        raise ValueError
    return float(found)


def _text(found: Any) -> str:
    if not isinstance(found, str):
        raise ValueError
    return found.replace("\x00", "\N{SYMBOL FOR NULL}")[: limits.TEXT_CHARACTERS]


def _time(found: Any) -> int:
    if not isinstance(found, str) or len(found) > 40:
        raise ValueError
    moment = datetime.fromisoformat(found)
    if moment.tzinfo is None:
        raise ValueError
    delta = moment - _EPOCH
    return (delta.days * 86_400 + delta.seconds) * 1_000_000 + delta.microseconds


_READERS: dict[str, tuple[Callable[[Any], Any], str]] = {
    "number": (_number, "a number"),
    "integer": (_integer, "a whole number"),
    "flag": (_flag, "true or false"),
    "text": (_text, "a text"),
    "time": (_time, "a time with its zone, such as 2000-01-01T00:00:00Z"),
    "position": (_number, "a number"),
}


class _Documents(Frame):
    def __init__(self, payloads: Payloads, trace: Trace | None) -> None:
        super().__init__(payloads, trace)
        self.documents: list[Any] = [None] * self.count

    def parsed(self) -> np.ndarray:
        buffer = self.payloads.data.tobytes()
        starts, ends = self.payloads.starts.tolist(), self.payloads.ends.tolist()
        loads = orjson.loads
        for row in range(self.count):
            raw = buffer[starts[row] : ends[row]]
            if not raw.strip():
                self.fail(np.array([row]), "too short", "the payload is empty", 1, 0)
                continue
            if _too_deep(raw):
                self.fail(np.array([row]), "malformed", f"the document nests more than {limits.JSON_DEPTH} deep", 1, 0)
                continue
            try:
                document = loads(raw)
            except orjson.JSONDecodeError as error:
                self.fail(np.array([row]), "malformed", f"not JSON: {error.msg}", 1, error.pos)
                continue
            if not isinstance(document, dict | list):
                self.fail(np.array([row]), "malformed", f"found {_WORDS[type(document)]}, expected an object or a list", 1, 0)
                continue
            self.documents[row] = document
        return np.flatnonzero(self.alive)

    def run(self, steps: tuple[Step, ...], rows: np.ndarray) -> None:
        for step in steps:
            rows = self.living(rows)
            if len(rows) == 0:
                return
            match step:
                case DocStep():
                    self.read(step, rows)
                case DeriveStep():
                    self.derive(step, rows)
                case RejectStep():
                    self.reject(step, rows)
                case StampStep():
                    self.set_stamp(step, rows)
                case WhenStep():
                    found = evaluate(step.rule, View(self, rows))
                    known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
                    truth = np.broadcast_to(np.asarray(found.values, bool), (len(rows),))
                    self.run(step.body, rows[known & truth])
                    self.run(step.otherwise, rows[known & ~truth])
                case _:
                    raise AssertionError(step)

    def read(self, step: DocStep, rows: np.ndarray) -> None:
        reader, wanted = _READERS[step.spec.kind]
        count = len(rows)
        kind = step.spec.kind
        state = np.ones(count, np.int16)
        parts: list[np.ndarray] = []
        null = 0
        for path in step.paths:
            values: list[Any] = [0] * count
            documents = self.documents
            single = path[0] if len(path) == 1 and isinstance(path[0], str) else None
            for i, row in enumerate(rows.tolist()):
                document = documents[row]
                found = document.get(single, _GONE) if single is not None and type(document) is dict else _walk(document, path)
                if found is _GONE:
                    if step.required:
                        self.fail(np.array([row]), "malformed", f"`{shown_path(path)}` is not in the document", step.line)
                    state[i] = ABSENT
                    continue
                if found is None:
                    null = null or self.reason("null")
                    state[i] = null
                    continue
                if step.cleaning.sentinels and isinstance(found, str | int | float) and not isinstance(found, bool):
                    hit = next((s for s in step.cleaning.sentinels if found in s.raws), None)
                    if hit is not None:
                        state[i] = self.reason(hit.reason)
                        continue
                try:
                    values[i] = reader(found)
                except (ValueError, OverflowError) as error:
                    shown = str(found)[:40] if not isinstance(found, dict | list) else ""
                    what = _WORDS[type(found)] + (f" `{shown}`" if shown else "")
                    text = f"`{shown_path(path)}` is {what}, expected {wanted}"
                    if isinstance(error, OverflowError):
                        text = f"`{shown_path(path)}` has more than 53 bits"
                    self.fail(np.array([row]), "malformed", text, step.line)
                    state[i] = ABSENT
            parts.append(np.array(values, object if kind == "text" else np.int64 if kind == "time" else np.float64))
        if kind == "position":
            result = np.stack([scaled(p, linear) for p, linear in zip(parts, step.linears, strict=True)], axis=1)
        elif kind in ("number", "integer"):
            result = scaled(parts[0], step.linears[0]) if not step.linears[0].plain else parts[0]
        else:
            result = parts[0]
        result, state = self.clean(step.cleaning, rows, result, state, [])
        self.put(step.spec, rows, result, state)
        if self.trace is not None:
            raw = [None if _walk(self.documents[0], p) is _GONE else _walk(self.documents[0], p) for p in step.paths]
            self.note(step.line, step.name, [], raw, paths=[list(p) for p in step.paths])
