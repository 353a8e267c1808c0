"""Values of documents, columns of text and headers: found one by one, checked, and turned into columns."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from functools import lru_cache
from operator import itemgetter
from typing import Any

import cbor2
import numpy as np

from oculum.errors import OculumError

from ..arrays import objects
from ..batches import ABSENT, PRESENT
from ..clocks import iso_us, isos_us, parse_written, pattern_parts
from ..language import limits
from ..language.decoders.lines import Index, Keyed
from ..language.decoders.plan import At, RepeatStep, Sentinel, UnitChoice, ValueStep
from ..quantities import UnitError, between, parse_unit, same_scale, usual
from .level import NO_TEXT, Level, coded
from .numbers import scaled
from .skeletons import NUMBER, WHOLE
from .skeletons import Column as Read
from .sources import BEYOND_NULL, FORMS, GONE, WORDS, WRONG, Measured, Placed, bare, placed
from .view import View
from .walker import Walker

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_NUMBER = re.compile(r"[+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d{1,3})?")
_WRITTEN = {
    "": _NUMBER,
    "decimal comma": re.compile(r"[+-]?\d+(?:,\d+)?"),
    "decimal comma or point": re.compile(r"[+-]?\d+(?:[.,]\d+)?"),
    "decimal comma grouped": re.compile(r"[+-]?(?:\d+|\d{1,3}(?:\.\d{3})+)(?:,\d+)?"),
}


class Unfit(OculumError, ValueError):
    """A value of another kind than its line says; the message says what was expected."""


# finding ---------------------------------------------------------------------
def is_nothing(value: Any) -> bool:
    """Whether a document says that there is none: null, or the undefined of CBOR."""
    return value is None or value is cbor2.undefined


def walk(document: Any, path: tuple[Any, ...]) -> Any:
    """What stands at a path, GONE, or WRONG where the path leads through a value that holds nothing."""
    for step in path:
        document = bare(document)
        if isinstance(document, dict):
            if isinstance(step, Index):
                return WRONG
            if isinstance(step, Keyed):
                return WRONG
            found = document.get(step, GONE)
            if found is GONE and isinstance(step, int):
                found = document.get(str(step), GONE)
            document = found
        elif isinstance(document, list):
            if isinstance(step, Index):
                document = document[step.number] if step.number < len(document) else GONE
            elif isinstance(step, Keyed):
                document = next(
                    (
                        e
                        for e in map(bare, document)
                        if isinstance(e, dict) and type(e.get(step.key)) is not bool and e.get(step.key) == step.value
                    ),
                    GONE,
                )
            else:
                return WRONG
        elif is_nothing(document):
            return BEYOND_NULL
        elif isinstance(document, Measured) and step == "sum":
            document = (
                Measured(document.sum, "number", f"{document.unit}.s" if document.unit else None, None)
                if document.sum is not None
                else GONE
            )
        else:
            return WRONG
        if document is GONE:
            return GONE
    return document


def shown_path(path: tuple[Any, ...]) -> str:
    """A path as the language writes it."""
    text = ""
    for step in path:
        if isinstance(step, Index):
            text += f"[{step.number}]"
        elif isinstance(step, Keyed):
            text += f"[{step.key} = {step.word}]"
        else:
            text += ("." if text else "") + str(step)
    return text or "."


def shown(at: At) -> str:
    match at.mode:
        case "path":
            return f"`{shown_path(at.path)}`"
        case "column":
            return f"column {at.first}" if at.last is None else f"columns {at.first} to {at.last}"
        case "group":
            return f"group {at.name}"
        case "header":
            return f"header {at.name}"
        case "topic":
            return f"level {at.first} of the topic"
    return "the text"


def find(level: Level, at: At, rows: np.ndarray) -> list[Any]:
    """What stands at a place for each of the rows, or GONE."""
    found = _stands(level, at, rows)
    return list(map(bare, found)) if level.batch.tags else found


def _stands(level: Level, at: At, rows: np.ndarray) -> list[Any]:
    """What stands at a place, with its tags."""
    window = level.window
    if at.mode == "path":
        path = at.path
        if path in window.found:
            known = window.found[path]
            if isinstance(known, Read):
                return known.listed if level.full(rows) else known.of(rows).listed
            return known if level.full(rows) else [known[row] for row in rows.tolist()]
        docs = window.docs or []
        if not path:
            return [next(iter(doc.values())) if window.named else doc for doc in (docs[row] for row in rows.tolist())]
        if all(isinstance(step, str) for step in path):
            return _keys(level, docs, path, rows)
        return [walk(docs[row], path) for row in rows.tolist()]
    if at.mode == "column":
        found: list[Any] = []
        columns = window.columns or []
        for row in rows.tolist():
            own = columns[row]
            low = at.first - 1 if at.first > 0 else len(own) + at.first
            if at.last is None:
                found.append(own[low] if 0 <= low < len(own) else GONE)
            else:
                high = at.last if at.last > 0 else len(own) + at.last + 1
                text: Any = window.separator.join(own[low:high]) if 0 <= low < len(own) else GONE
                found.append(placed(text, own[low].at) if text is not GONE and isinstance(own[low], Placed) else text)
        return found
    if at.mode == "group":
        groups = window.groups or []
        return [GONE if (value := groups[row].get(at.name)) is None else value for row in rows.tolist()]
    if at.mode == "rest":
        docs = window.docs or []
        return [docs[row] for row in rows.tolist()]
    headers = level.batch.payloads.headers
    found = []
    for message in level.message(rows).tolist():
        own_headers = headers[message] if headers is not None else {}
        if at.mode == "header":
            found.append(own_headers.get(at.name, GONE))
        else:
            parts = own_headers.get("topic", "").split("/")
            found.append(parts[at.first - 1] if 0 < at.first <= len(parts) and parts[at.first - 1] else GONE)
    return found


def _keys(level: Level, docs: list[Any], path: tuple[Any, ...], rows: np.ndarray) -> list[Any]:
    """What stands at a path of keys; the beginnings of paths are kept, as many lines share them."""
    if not level.full(rows):
        own = [docs[row] for row in rows.tolist()]
        for key in path:
            own = [doc.get(key, GONE) if type(doc) is dict else _beyond(doc, key) for doc in own]
        return own
    known = level.window.found
    found = docs
    for depth, key in enumerate(path, 1):
        part = path[:depth]
        if part not in known:
            known[part] = _key(found, key)
        found = known[part]
    return found


def _key(docs: list[Any], key: str) -> list[Any]:
    try:
        return list(map(itemgetter(key), docs))
    except (KeyError, TypeError):
        return [doc.get(key, GONE) if type(doc) is dict else _beyond(doc, key) for doc in docs]


def _beyond(document: Any, key: str) -> Any:
    if document is GONE or document is BEYOND_NULL or document is WRONG:
        return document
    return walk(document, (key,))


LONG = "a number of at most 53 bits: `u64` and `i64` keep all digits"
WIDE: dict[str, Any] = {"u64": np.uint64, "i64": np.int64}
KINDS: dict[str, Any] = {"text": object, "time": np.int64}


# kinds -----------------------------------------------------------------------
def _number(found: Any) -> float:
    if type(found) in (int, float):
        if isinstance(found, int) and abs(found) > 2**53:
            raise Unfit(LONG)
        return float(found)
    if isinstance(found, Decimal | Fraction):
        return float(found)
    raise Unfit("a number")


def _integer(found: Any) -> float:
    try:
        value = _number(found)
    except Unfit as error:
        raise Unfit("a whole number" if str(error) == "a number" else str(error)) from None
    if not np.isfinite(value) or value != int(value):
        raise Unfit("a whole number")
    if abs(value) > 2**53:  # digits are lost: a parser gives more than 64 bits as a float
        raise Unfit(LONG)
    return value


def _wide(found: Any, form: str) -> int:
    """A whole number with all its digits, also where it stands as a text."""
    if isinstance(found, str) and re.fullmatch(r"-?[0-9]{1,20}", found):
        found = int(found)
    low, high = (0, 2**64) if form == "u64" else (-(2**63), 2**63)
    if type(found) is not int or not low <= found < high:
        raise Unfit(f"a whole number of {low} to {high - 1}")
    return found


def _flag(found: Any) -> float:
    if not isinstance(found, bool):
        raise Unfit("true or false")
    return float(found)


def _text(found: Any) -> str:
    if not isinstance(found, str):
        raise Unfit("a text")
    return found.replace("\x00", "\N{SYMBOL FOR NULL}")[: limits.TEXT_CHARACTERS]


def _hex(found: Any) -> str:
    if isinstance(found, bytes):
        return found[: limits.TEXT_CHARACTERS // 2].hex()
    raise Unfit("bytes")


def _iso(found: Any) -> int:
    if not isinstance(found, str) or len(found) > 40:
        raise Unfit("a time with its zone, such as 2000-01-01T00:00:00Z")
    try:
        return iso_us(found)
    except ValueError:
        raise Unfit("a time with its zone, such as 2000-01-01T00:00:00Z") from None


def _tagged(found: Any) -> int:
    if not isinstance(found, datetime):
        raise Unfit("a time (CBOR tag 0 or 1)")
    moment = found if found.tzinfo is not None else found.replace(tzinfo=UTC)
    return (moment - _EPOCH) // timedelta(microseconds=1)


def _digits(text: Any, step: ValueStep) -> str:
    if not isinstance(text, str) or len(text) > 40 or not text.isascii() or not _WRITTEN[step.comma].fullmatch(text):
        raise Unfit(f"a number with a {step.comma}" if step.comma else "a number")
    return (text.replace(".", "") if step.comma.endswith("grouped") else text).replace(",", ".")


def _hex_integer(found: Any) -> float:
    if not isinstance(found, str) or not 1 <= len(found) <= 13 or not re.fullmatch(r"[0-9A-Fa-f]+", found):
        raise Unfit("a number in hexadecimal digits")
    return float(int(found, 16))


def _either(found: Any, step: ValueStep) -> float:
    """A number, or one that is written as text."""
    if isinstance(found, str):
        value = float(_digits(found, step))
        return _integer(value) if step.form == "integer" else value
    return _integer(found) if step.form == "integer" else _number(found)


def reader(step: ValueStep) -> Callable[[Any], Any]:
    """Turns one value of a document into what its column holds. It raises Unfit."""
    clock = step.clock
    if step.either:
        return lambda found: _either(found, step)
    if step.form == "number":
        return (lambda found: float(_digits(found, step))) if step.written else _number
    if step.form == "integer":
        return (lambda found: _integer(float(_digits(found, step)))) if step.written else _integer
    if step.form in WIDE:
        return lambda found: _wide(found, step.form)
    if step.form == "clock" and clock is not None:
        seconds, epoch, _ = clock

        def moment(found: Any) -> int:
            value = float(_digits(found, step)) if step.written else _number(found)
            if not abs(value * seconds) < 1e12:
                raise Unfit("a time within bounds")
            if isinstance(found, int) and (seconds * 1e6).is_integer():
                return epoch + found * int(seconds * 1e6)
            return epoch + round(value * seconds * 1e6)

        return moment
    if step.form == "flag" and step.written:
        return lambda found: (
            {"true": 1.0, "false": 0.0}[found] if found in ("true", "false") else _unfit("true or false")
        )
    return {"hex integer": _hex_integer, "flag": _flag, "text": _text, "hex": _hex, "iso": _iso, "tagged": _tagged}[
        step.form
    ]


def _unfit(wanted: str) -> Any:
    raise Unfit(wanted)


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
        result, bad = _calendar_values(walker, level, step, rows, taken.calendars, result)
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
        state = np.where(worded, _WORDED, state).astype(np.int16)
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
            return self.of(at, _stands(level, at, rows))
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
                value = _measured(value, step)
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
                value = _trimmed(value, step)
            if self.convert is None:
                taken.calendars[i] = _calendar(value, step)
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
            _stretches(level, row, step),
            raw,
            paths=[shown(at).strip("`") for at in step.places],
            spots=spots,
        )


def _stretches(level: Level, row: int, step: ValueStep) -> list[dict[str, Any]]:
    """The bytes of a text that a line takes, for a message that is traced."""
    places = []
    for at in step.places:
        found = find(level, at, np.array([row]))[0] if at.mode in ("column", "group", "rest") else None
        if isinstance(found, Placed) and found:
            places.append(
                {
                    "first": found.at,
                    "last": found.at + len(found.encode()) - 1,
                    "high": 7,
                    "low": 0,
                    "whole": True,
                    "little": False,
                }
            )
    return places


_WORDED = -7  # a value that a word stands for, in the final unit already


def whereabouts(level: Level, row: int, path: tuple[Any, ...]) -> list[Any] | None:
    """A path from the top of the document: keys as texts, places in lists as numbers. None where it cannot be told."""
    steps: list[Any] = [
        step.number
        if isinstance(step, Index)
        else f"{step.key} = {step.word}"
        if isinstance(step, Keyed)
        else str(step)
        for step in path
    ]
    current: Level | None = level
    while current is not None and current.parent is not None and current.up is not None:
        if current.list_path is None or current.index is None:
            return None
        outer = [step.number if isinstance(step, Index) else str(step) for step in current.list_path]
        above = int(current.up[row])
        whole = (
            walk((current.parent.window.docs or [None])[above], current.list_path)
            if current.parent.window.docs
            else None
        )
        whole = bare(whole)
        steps = [*outer, *([int(current.index[row]) - 1] if isinstance(whole, list) else []), *steps]
        row, current = above, current.parent
    return steps


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


def _trimmed(value: Any, step: ValueStep) -> Any:
    if step.after:
        if not isinstance(value, str) or not value.startswith(step.after):
            raise Unfit(f'a text that begins with "{step.after}"')
        value = value[len(step.after) :]
    if step.size is not None:
        have = (
            len(value)
            if isinstance(value, bytes)
            else len(value) / 2
            if isinstance(value, str) and step.form == "hex integer"
            else len(value.encode())
            if isinstance(value, str)
            else -1
        )
        if have != step.size:
            raise Unfit(f"{step.size} bytes")
    if step.padded and isinstance(value, str | bytes):
        value = value.rstrip(" \x00") if isinstance(value, str) else value.rstrip(b" \x00")
    return value


def _measured(record: Measured, step: ValueStep) -> Any:
    """The value of a SenML record in the unit that its line says."""
    wants = {
        "number": "number",
        "integer": "number",
        "u64": "number",
        "i64": "number",
        "text": "text",
        "flag": "flag",
        "hex": "data",
    }.get(step.form, "")
    if record.value is None or (not step.places[0].path and not _fits(record, step, wants)):
        return GONE
    if record.kind != wants:
        raise Unfit(f"found {record.kind or 'no value'}, expected {wants or 'another kind'}")
    if wants == "number" and step.cleaning.unit_by is None:
        if step.unit is not None and record.unit is None:
            raise Unfit(f"the record has no unit, expected `{step.unit}`")
        if step.unit is not None and record.unit != step.unit and not _same_unit(record.unit or "", step.unit):
            raise Unfit(f"found the unit `{record.unit}`, expected `{step.unit}`")
    return record.value


def _fits(record: Measured, step: ValueStep, wants: str) -> bool:
    """Whether a line that takes records of any name takes this one: by its kind, and by its unit."""
    if record.kind != wants:
        return False
    choice, unit = step.cleaning.unit_by, record.unit or ""
    if wants != "number" or (choice is None and step.unit is None):
        return True
    if choice is None:
        return unit == step.unit or _same_unit(unit, step.unit or "")
    if any(option == unit for option, *_ in choice.arms):
        return True
    return choice.written is not None and from_unit(unit, choice.written, choice.difference) is not None


def _same_unit(found: str, wanted: str) -> bool:
    try:
        a, b = parse_unit(found), parse_unit(wanted)
    except UnitError:
        return False
    return a.dimension == b.dimension and same_scale(a, b)


def _result(step: ValueStep, parts: list[np.ndarray]) -> np.ndarray:
    if step.spec.kind == "position":
        return np.stack([scaled(p, linear) for p, linear in zip(parts, step.linears, strict=True)], axis=1)
    if step.spec.kind in ("number", "integer", "flag"):
        return parts[0] if step.linears[0].plain else scaled(parts[0], step.linears[0])
    return parts[0]


def _calendar(value: Any, step: ValueStep) -> dict[str, int]:
    assert step.calendar is not None
    found = parse_written(value, step.calendar.pattern) if isinstance(value, str) and value.isascii() else None
    if found is None:
        raise Unfit(f"a time written as {step.calendar.pattern}")
    return found


def _calendar_values(
    walker: Walker,
    level: Level,
    step: ValueStep,
    rows: np.ndarray,
    found: dict[int, dict[str, int]],
    result: np.ndarray,
) -> tuple[np.ndarray, list[int]]:
    assert step.calendar is not None
    index = np.array(list(found), np.int64)
    letters = [letter for letter, width in pattern_parts(step.calendar.pattern) if width]
    parts = {letter: np.array([found[i][letter] for i in found], np.int64) for letter in letters}
    if ("Y", 2) in pattern_parts(step.calendar.pattern):
        parts["short"] = np.ones(len(index), np.int64)
    moments, good = walker.calendar(level, step.calendar, parts, rows[index])
    result = result.copy()
    result[index] = moments
    return result, index[~good].tolist()


def by_unit(
    level: Level, name: str, choice: UnitChoice, rows: np.ndarray, result: np.ndarray, state: np.ndarray
) -> tuple[np.ndarray, np.ndarray | None]:
    """Values by the unit that another value chooses. Rows with an unknown one fail; a word needs none."""
    chooser = View(level, rows).column(choice.name)
    options = np.broadcast_to(chooser.values, (len(rows),))
    known = np.broadcast_to(np.asarray(chooser.known, bool), (len(rows),))
    worded = state == _WORDED
    open_ = (state == PRESENT) & ~worded
    converted = result.copy()
    sent = np.full(level.count, -1, np.int16) if choice.sent and name not in level.sent else None
    if sent is not None:
        level.sent[name] = choice, sent
    for arm, (option, linear, (a, b, c)) in enumerate(choice.arms):
        hit = open_ & known & np.asarray(options == option, bool)
        if hit.any():
            converted[hit] = (scaled(result[hit], linear) * a + b) / c
            open_ &= ~hit
            if choice.sent:
                level.sent[name][1][rows[hit]] = arm
    if choice.written is not None:
        for option in {text for text in options[open_ & known].tolist() if isinstance(text, str)}:
            conversion = from_unit(option, choice.written, choice.difference)
            if conversion is not None:
                hit = open_ & known & np.asarray(options == option, bool)
                converted[hit] = (result[hit] * conversion[0] + conversion[1]) / conversion[2]
                open_ &= ~hit
    if worded.any():
        state[worded] = PRESENT
    if not open_.any():
        return converted, None
    for row, option in zip(rows[open_].tolist(), options[open_].tolist(), strict=True):
        said = "none" if option is None else f"`{option:g}`" if isinstance(option, float) else f"`{str(option)[:40]}`"
        level.fail(
            np.array([row]),
            "malformed",
            f"found {said} as the unit, expected {', '.join(str(a[0]) for a in choice.arms)}"
            + (f", or a unit that is converted into {choice.written}" if choice.written else ""),
            0,
        )
    return converted, open_


@lru_cache(maxsize=1024)
def from_unit(text: str, target: str, difference: bool) -> tuple[float, float, float] | None:
    """How values in the unit that a text names, as UCUM or as it is usually spelt, come into another: (value * a + b) /
    c; None where they do not.
    """
    wanted = parse_unit(target)
    for code in (text, usual(text)):
        try:
            found = parse_unit(code) if code else None
        except UnitError:
            continue
        if found is not None and found.dimension == wanted.dimension:
            return between(found, wanted, difference=difference)
    return None


# lists and envelopes -----------------------------------------------------------
def lists(walker: Walker, level: Level, step: RepeatStep, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray, list[Any]]:
    """The elements of a list of every row: rows that have it, the row of each element, the elements."""
    columns = [find(level, At("path", path), rows) for path in step.paths]
    up: list[int] = []
    docs: list[Any] = []
    ran: list[int] = []
    words = " and ".join(f"`{shown_path(path)}`" for path in step.paths)
    for i, row in enumerate(rows.tolist()):
        own = [column[i] for column in columns]
        if any(value is GONE or value is BEYOND_NULL or is_nothing(value) for value in own):
            if step.required:
                level.fail(np.array([row]), "malformed", f"{words} is not there", step.line)
            continue
        if step.alone:
            own = [value if isinstance(value, list) else [value] for value in own]
        if not all(isinstance(value, list) for value in own):
            found = WORDS.get(type(own[0]), "something else") if own[0] is not WRONG else "within something else"
            level.fail(np.array([row]), "malformed", f"{words} is {found}, expected a list", step.line)
            continue
        if any(len(value) != len(own[0]) for value in own):
            level.fail(np.array([row]), "malformed", f"{words} have different lengths", step.line)
            continue
        ran.append(row)
        elements = own[0] if len(own) == 1 else [list(e) for e in zip(*own, strict=True)]
        up.extend([row] * len(elements))
        docs.extend(elements)
    return np.array(ran, np.int64), np.array(up, np.int64), docs


def texts(
    walker: Walker, level: Level, at: At, rows: np.ndarray, line: int, required: str | None
) -> tuple[np.ndarray, list[bytes]]:
    """Texts, or bytes, that hold a document of their own."""
    kept: list[int] = []
    pieces: list[bytes] = []
    for row, value in zip(rows.tolist(), find(level, at, rows), strict=True):
        if isinstance(value, Measured):
            value = value.value
        if value is GONE or value is BEYOND_NULL or is_nothing(value):
            if required is not None:
                level.fail(np.array([row]), required, f"{shown(at)} is not there", line)
        elif isinstance(value, str | bytes):
            kept.append(row)
            pieces.append(value.encode() if isinstance(value, str) else value)
        else:
            level.fail(
                np.array([row]),
                "malformed",
                f"{shown(at)} is {WORDS.get(type(value), 'something else')}, expected a text",
                line,
            )
    return np.array(kept, np.int64), pieces


def encoded(
    walker: Walker, level: Level, at: At, encoding: str, rows: np.ndarray, line: int, required: str | None
) -> tuple[np.ndarray, list[bytes]]:
    """Bytes that are written as text: base64 (either alphabet, padded or not) or hexadecimal."""
    rows, found = texts(walker, level, at, rows, line, required)
    kept: list[int] = []
    pieces: list[bytes] = []
    for row, text in zip(rows.tolist(), found, strict=True):
        try:
            pieces.append(unwrap(text, encoding))
            kept.append(row)
        except ValueError:
            level.fail(np.array([row]), "malformed", f"{shown(at)} is no {encoding}", line)
    return np.array(kept, np.int64), pieces


def unwrap(text: bytes, encoding: str) -> bytes:
    """Bytes out of their writing: base64 of either alphabet, with all its `=` or none; hexadecimal digits, perhaps with
    a blank between two bytes. Raises ValueError.
    """
    if encoding == "hex":
        if not re.fullmatch(rb"(?:[0-9A-Fa-f]{2}(?: ?[0-9A-Fa-f]{2})*)?", text):
            raise ValueError
        return binascii.unhexlify(text.replace(b" ", b""))
    if encoding == "base64":
        bare = text.rstrip(b"=")
        marks = len(text) - len(bare)
        if len(bare) % 4 == 1 or marks not in (0, -len(bare) % 4):
            raise ValueError
        if not re.fullmatch(rb"[A-Za-z0-9+/]*|[A-Za-z0-9_-]*", bare):
            raise ValueError
        bare = bare.replace(b"-", b"+").replace(b"_", b"/")
        return base64.b64decode(bare + b"=" * (-len(bare) % 4))
    return text
