"""Values of documents, columns of text and headers: found one by one, checked, and turned into columns."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

import cbor2
import numpy as np

from ..arrays import objects
from ..batches import ABSENT, PRESENT
from ..clocks import isos_us
from ..language import limits
from ..language.decoders.plan import At, Sentinel, ValueStep
from .finding import find, is_nothing, shown, stands, stretches, whereabouts
from .forms import KINDS, WIDE, Unfit, calendar, calendar_values, reader, trimmed
from .level import NO_TEXT, Level, coded
from .numbers import scaled
from .skeletons import NUMBER, WHOLE
from .skeletons import Column as Read
from .sources import BEYOND_NULL, FORMS, GONE, WORDS, WRONG, Measured, bare
from .units import WORDED, measured
from .walker import Walker


@dataclass
class _Taken:
    """What a line finds in the rows of a batch: a state each, which are words for a value, and what is wrong.

    state: int16 (n,); worded: bool (n,); failed: row, code and sentence; calendars: the numbers of a written time.
    """

    state: np.ndarray
    worded: np.ndarray
    failed: list[tuple[int, str, str]] = field(default_factory=list)
    calendars: dict[int, dict[str, int]] = field(default_factory=dict)
    raws: list[Any] = field(default_factory=list)


def read(walker: Walker, level: Level, step: ValueStep, rows: np.ndarray) -> None:
    """One line that reads from documents, columns or headers."""
    batch = walker.batch
    taken = _Taken(np.ones(len(rows), np.int16), np.zeros(len(rows), bool))
    marks = [(raw, s) for s in step.cleaning.sentinels for raw in s.raws]
    take = _Taking(walker, step, marks, taken)
    result = _result(step, [take.all_of(level, at, rows) for at in step.places])
    for i, code, text in taken.failed:
        if level.alive[rows[i]]:
            level.fail(rows[i : i + 1], code, text, step.line)
    if taken.calendars:
        result, bad = calendar_values(walker, level, step, rows, taken.calendars, result)
        for i in bad:
            level.fail(rows[i : i + 1], "malformed", f"{shown(step.places[0])} is not in the calendar", step.line)
    state, worded = taken.state, taken.worded
    if taken.failed or not level.alive[rows].all():
        kept = level.alive[rows]
        rows, result, state, worded = rows[kept], result[kept], state[kept], worded[kept]
    if not len(rows):
        return
    if step.spec.kind == "code":
        result, known = coded(result, step)
        if not known.all():
            state = np.where(known | (state != PRESENT), state, batch.reason(NO_TEXT)).astype(np.int16)
    if worded.any() and step.cleaning.unit_by is not None:
        state = np.where(worded, WORDED, state).astype(np.int16)
    raws = (
        [result]
        if step.form == "number"
        and any(raw != raw or raw in (np.inf, -np.inf) for raw, _ in marks if isinstance(raw, float))
        else []
    )
    result, state = walker.clean(level, step, rows, result, state, raws, False)
    if len(state) != len(rows):
        rows = rows[level.alive[rows]]
    level.put(step.spec, rows, result, state)
    if not step.hidden:
        level.given.setdefault(step.name, step.spec)
    if step.cleaning.stamped is not None:
        walker.stamp_field(level, step.name, step.cleaning.stamped, rows)
    if batch.trace is not None:
        _note(walker, level, step, rows, taken.raws)


class _Taking:
    """Values of one line as its documents have them, turned into what its column holds."""

    def __init__(self, walker: Walker, step: ValueStep, marks: list[tuple[Any, Sentinel]], taken: _Taken) -> None:
        self.walker, self.step, self.marks, self.taken = walker, step, marks, taken
        self.words = dict(step.words)
        # texts that stand for a missing value, and the state that each gives
        self.texts = {
            raw: walker.batch.reason(mark.reason)
            for raw, mark in reversed(marks)
            if isinstance(raw, str) and not raw.startswith("\x00") and mark.fate == "missing"
        }
        self.convert = reader(step) if step.form not in ("calendar", "form", "tag") else None

        self.plain = step.form in ("number", "integer") and not (step.written or step.after or step.words)
        self.plain = self.plain and all(isinstance(raw, str) for raw, _ in marks)

    def all_of(self, level: Level, at: At, rows: np.ndarray) -> np.ndarray:
        """The values at a place, one a row; what is missing, absent or wrong is noted."""
        if self.step.form in ("form", "tag"):
            return self.of(at, stands(level, at, rows))
        known = level.window.found.get(at.path) if self.plain and at.mode == "path" else None
        if isinstance(known, Read):
            return self.numbers(at, known if level.full(rows) else known.of(rows))
        return self.at(at, find(level, at, rows))

    def numbers(self, at: At, found: Read) -> np.ndarray:
        """Numbers that have been read as such; what is none is looked at by itself."""
        values: Any = found.numbers.copy()
        usual = found.kinds == WHOLE
        if self.step.form == "number":
            usual |= found.kinds == NUMBER
        for i in np.flatnonzero(~usual).tolist():
            value = found.value(i)
            code = self.texts.get(value) if isinstance(value, str) else None
            if code is None:
                self.one(at, i, value, values)
            else:
                self.taken.state[i] = code
        return values

    def of(self, at: At, found: list[Any]) -> np.ndarray:
        """In which form values come, or the numbers of their tags; absent where there is none."""
        step, state = self.step, self.taken.state
        self.taken.raws.append(bare(found[0]) if found else None)
        values: list[Any] = [None if step.form == "form" else 0] * len(found)
        for i, value in enumerate(found):
            if value is WRONG or value is GONE or value is BEYOND_NULL:
                state[i] = ABSENT
            elif step.form == "form":
                values[i] = FORMS.get(type(bare(value)), "another")
            elif type(value) is cbor2.CBORTag:
                values[i] = value.tag
            else:
                state[i] = ABSENT
            if state[i] == ABSENT and step.required is not None:
                what = "has no tag" if step.form == "tag" else "is not there"
                self.taken.failed.append((i, step.required, f"{shown(at)} {what}"))
        return np.array(values, object if step.form == "form" else np.uint64)

    def at(self, at: At, found: list[Any]) -> np.ndarray:
        step = self.step
        self.taken.raws.append(found[0] if found else None)
        unwritten = step.form == "number" and not step.written
        if unwritten and not self.marks and _all_numbers(found):
            return np.array(found, np.float64)
        as_it_is = not (self.marks or self.words or step.after or step.padded or step.size is not None)
        if as_it_is and step.form in ("text", "iso") and set(map(type, found)) == {str}:
            if step.form == "text" and _plain_texts(found):
                return objects(found)
            moments = isos_us(found) if step.form == "iso" else None
            if moments is not None:
                return moments
        values: list[Any] = [None if step.spec.kind == "text" else 0] * len(found)
        special: Any = range(len(found))
        if unwritten and all(isinstance(raw, str) for raw, _ in self.marks):
            types = list(map(type, found))
            kinds = set(types)
            if kinds == {float, str}:
                special = positions(types, str)
            else:
                special = [i for i, kind in enumerate(types) if kind is not float]
            if int in kinds:
                special = [i for i in special if types[i] is not int or abs(found[i]) > 2**53]
            values = list(found)
            for i in special:
                values[i] = 0
            if self.texts and not self.words:
                for i in special:
                    code = self.texts.get(found[i]) if types[i] is str else None
                    if code is not None:
                        self.taken.state[i] = code
                special = [i for i in special if types[i] is not str or found[i] not in self.texts]
        for i in special:
            self.one(at, i, found[i], values)
        return np.array(values, WIDE.get(step.form) or KINDS.get(step.spec.kind, np.float64))

    def one(self, at: At, i: int, value: Any, values: list[Any]) -> None:
        """The value of row i, put into `values` if there is one."""
        step, taken = self.step, self.taken
        if isinstance(value, Measured):
            try:
                value = measured(value, step)
            except Unfit as error:
                taken.failed.append((i, "malformed", f"{shown(at)}: {error}"))
                return
        if self.missing(at, i, value):
            return
        try:
            if value is WRONG:
                raise Unfit("something that holds it")
            if isinstance(value, str) and value in self.words:
                values[i] = self.words[value]
                taken.worded[i] = True
                return
            if step.after or step.padded or step.size is not None:
                value = trimmed(value, step)
            if self.convert is None:
                taken.calendars[i] = calendar(value, step)
            else:
                values[i] = self.convert(value)
        except Unfit as error:
            code = step.required if step.required is not None and value is not WRONG else "malformed"
            what = WORDS.get(type(value), "something else") if value is not WRONG else "within something else"
            detail = f" `{str(value)[:40]}`" if isinstance(value, str | int | float) else ""
            taken.failed.append((i, code, f"{shown(at)} is {what}{detail}, expected {error}"))
            taken.state[i] = ABSENT

    def missing(self, at: At, i: int, value: Any) -> bool:
        """Whether row i has no value, or one that stands for none; its state says so."""
        step, taken, batch = self.step, self.taken, self.walker.batch
        if value is GONE or value is BEYOND_NULL:
            found = _mark(self.marks, "\x00absent") or (_mark(self.marks, "\x00null") if value is BEYOND_NULL else None)
            if found is not None:
                self.stand(at, i, found, "not there")
                return True
            taken.state[i] = ABSENT
            if step.required is not None:
                taken.failed.append((i, step.required, f"{shown(at)} is not there"))
            return True
        if is_nothing(value):
            word = "null" if value is None else "undefined"
            found = _mark(self.marks, f"\x00{word}")
            if found is not None:
                self.stand(at, i, found, word)
                return True
            if step.required is not None:
                taken.failed.append((i, step.required, f"{shown(at)} is {word}"))
            taken.state[i] = batch.reason(word)
            return True
        if self.marks and isinstance(value, str | int | float) and not isinstance(value, bool):
            found = _mark(self.marks, value)
            if found is not None:
                self.stand(at, i, found, f"`{str(value)[:40]}`")
                return True
        return False

    def stand(self, at: At, i: int, mark: Sentinel, shown_as: str) -> None:
        """Row i holds a mark: missing for its reason, left out, or refused."""
        taken = self.taken
        taken.state[i] = ABSENT if mark.fate != "missing" else self.walker.batch.reason(mark.reason)
        if mark.fate == "refused":
            taken.failed.append((i, mark.failure, f"{shown(at)} is {shown_as}, which is refused"))


def _note(walker: Walker, level: Level, step: ValueStep, rows: np.ndarray, raws: list[Any]) -> None:
    """What a message that is traced shows of a line: where it stands, and as what it came."""
    for i, row in enumerate(rows.tolist()):
        raw = None
        if i == 0:
            raw = [
                None if r is GONE or r is WRONG or r is BEYOND_NULL else r.value if isinstance(r, Measured) else r
                for r in raws
            ]
        spots = [
            spot for at in step.places if at.mode == "path" and (spot := whereabouts(level, row, at.path)) is not None
        ]
        walker.note(
            level,
            row,
            step.line,
            step.name,
            stretches(level, row, step),
            raw,
            paths=[shown(at).strip("`") for at in step.places],
            spots=spots,
        )


def _all_numbers(found: list[Any]) -> bool:
    kinds = set(map(type, found))
    return bool(kinds) and (
        kinds == {float} or (kinds <= {int, float} and all(type(v) is float or abs(v) <= 2**53 for v in found))
    )


def _plain_texts(found: list[Any]) -> bool:
    return max(map(len, found)) <= limits.TEXT_CHARACTERS and "\x00" not in "".join(found)


def positions(values: list[Any], wanted: Any) -> list[int]:
    """Where a list has a value, rising."""
    found, at = [], -1
    with suppress(ValueError):
        while True:
            at = values.index(wanted, at + 1)
            found.append(at)
    return found


def _mark(marks: list[tuple[Any, Sentinel]], value: Any) -> Sentinel | None:
    return next(
        (
            sentinel
            for raw, sentinel in marks
            if type(raw) is type(value)
            and raw == value
            or (not isinstance(raw, str) and not isinstance(value, str) and raw == value)
        ),
        None,
    )


def _result(step: ValueStep, parts: list[np.ndarray]) -> np.ndarray:
    if step.spec.kind == "position":
        return np.stack([scaled(p, linear) for p, linear in zip(parts, step.linears, strict=True)], axis=1)
    if step.spec.kind in ("number", "integer", "flag"):
        return parts[0] if step.linears[0].plain else scaled(parts[0], step.linears[0])
    return parts[0]
