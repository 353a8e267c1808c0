"""Checking a decoder: places, widths, scales, and what each line yields."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from fractions import Fraction

from ..quantities import Unit, UnitError, describe, parse_unit
from . import limits, tree
from .checker import SECOND, Checker, Halt, Scope, type_of
from .parser import parse
from .places import raw_of
from .plan import (
    Cleaning,
    DecoderPlan,
    DeriveStep,
    DocStep,
    Ex,
    FieldSpec,
    LengthStep,
    Linear,
    Place,
    Raw,
    ReadStep,
    RejectStep,
    RepeatStep,
    Sentinel,
    SkipStep,
    StampStep,
    Step,
    WhenStep,
)  # fmt: skip
from .problems import DefinitionError, Problem, Span

LARGEST = 2**62
PLAIN_LINEAR = Linear(1, 0, 1)


@dataclass
class _Frame:
    """What is known at one point of the text."""

    scope: Scope
    little: bool
    group: dict[str, FieldSpec]
    in_repeat: bool = False
    last: Raw | None = None
    statements: list[int] = field(default_factory=lambda: [0])


def linear_of(checker: Checker, scales: tuple[tree.Scale, ...], span: Span) -> Linear:
    """The scale of a line as whole numbers. Raises Halt after recording a problem."""
    a, b = Fraction(1), Fraction(0)
    for scale in scales:
        value = checker.fraction(scale.number, span)
        if scale.sign == "*":
            a, b = a * value, b * value
        elif scale.sign == "/":
            if value == 0:
                checker.halt("a scale cannot divide by 0", span)
            a, b = a / value, b / value
        else:
            b = b + value if scale.sign == "+" else b - value
    if a == 0:
        checker.halt("a scale of 0 loses the value", span)
    c = math.lcm(a.denominator, b.denominator)
    found = Linear(int(a * c), int(b * c), c)
    if max(abs(found.a), abs(found.b), found.c) > LARGEST:
        checker.halt("the scale has too many digits", span)
    return found


def epoch_us(text: str, checker: Checker, span: Span) -> int:
    """Microseconds since 1970 of a date or moment in UTC. Raises Halt after recording a problem."""
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        checker.halt(f'"{text}" is no date: write it as "2000-01-01" or "2000-01-01T00:00:00Z"', span)
    moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment
    return round((moment - datetime(1970, 1, 1, tzinfo=UTC)).total_seconds()) * 1_000_000


class _Decoders:
    def __init__(self, checker: Checker, declared: Mapping[str, FieldSpec], source: str) -> None:
        self.check = checker
        self.declared = declared
        self.source = source
        self.repeats: list[tuple[FieldSpec, ...]] = []
        self.readings = 0
        self.spans: dict[str, Span] = {}

    # statements ----------------------------------------------------------
    def body(self, statements: tuple[tree.Statement, ...], frame: _Frame) -> tuple[Step, ...]:
        steps: list[Step] = []
        for statement in statements:
            frame.statements[0] += 1
            if frame.statements[0] > limits.STATEMENTS:
                self.check.error(f"a decoder has at most {limits.STATEMENTS} lines", statement.span)
                break
            try:
                steps.append(self.statement(statement, frame))
            except Halt:
                if isinstance(statement, tree.Read | tree.Derive):
                    self.check.poisoned.add(statement.name)
                    frame.scope.names.pop(statement.name, None)
        return tuple(steps)

    def statement(self, node: tree.Statement, frame: _Frame) -> Step:
        check, scope, line = self.check, frame.scope, node.span.line
        match node:
            case tree.Read():
                return self.read(node, frame)
            case tree.Derive():
                return self.derive(node, frame)
            case tree.Reject():
                return RejectStep(line, node.failure or "malformed", node.reason, check._truth(node.rule, scope), node.unless)
            case tree.Stamp():
                value = check.typed(node.value, scope)
                if value.type.kind not in ("time", "unknown"):
                    check.halt("`stamp` takes a time: the moment at which the readings were measured", node.span)
                return StampStep(line, value)
            case tree.Length():
                self.only("bytes", "length", node.span)
                high = check._number(node.high, scope) if node.high else None
                return LengthStep(line, check._number(node.low, scope), high)
            case tree.Skip():
                self.only("bytes", "skip", node.span)
                frame.last = None
                return SkipStep(line, node.count)
            case tree.When():
                rule = check._truth(node.rule, scope)
                last = frame.last
                body = self.body(node.body, frame)
                frame.last = last
                otherwise = self.body(node.otherwise, frame)
                frame.last = None
                return WhenStep(line, rule, body, otherwise)
            case tree.Repeat():
                return self.repeat(node, frame)
        raise AssertionError(node)

    def only(self, source: str, word: str, span: Span) -> None:
        if self.source != source:
            self.check.halt(f"`{word}` belongs to decoders for {source}", span)

    def repeat(self, node: tree.Repeat, frame: _Frame) -> Step:
        check = self.check
        self.only("bytes", "repeat", node.span)
        if frame.in_repeat:
            check.halt("a repeat cannot stand in another one", node.span)
        times = check._number(node.times, frame.scope) if node.times else None
        most = node.most or limits.REPEATS
        if not 1 <= most <= limits.REPEATS:
            check.halt(f"a repeat runs at most {limits.REPEATS} times", node.span)
        each = 0
        if node.each:
            amount, unit, direction = node.each
            each = check.duration_us(amount, unit, node.span) * (-1 if direction == "earlier" else 1)
        inner = _Frame(replace_scope(frame.scope), frame.little, {}, True, None, frame.statements)
        body = self.body(node.body, inner)
        self.readings += most * len(inner.group)
        if self.readings > limits.READINGS_PER_MESSAGE:
            check.halt(f"a message gives at most {limits.READINGS_PER_MESSAGE} readings: bound the repeat with `up to`", node.span)
        if len(inner.group) and each == 0:
            check.warn("every repeat gives its readings the same time, so that only the last stays: add `each 10 min earlier`", node.span)
        if not any(isinstance(step, ReadStep | SkipStep | WhenStep) for step in body):
            check.halt("a repeat must read something", node.span)
        fields = tuple(inner.group.values())
        self.repeats.append(fields)
        frame.last = None
        return RepeatStep(node.span.line, times, most, each, body, fields)

    # lines that give fields ----------------------------------------------
    def name_free(self, node: tree.Read | tree.Derive, frame: _Frame) -> None:
        earlier = frame.group.get(node.name)
        if node.name in frame.scope.names and earlier is None:
            self.check.halt(f"`{node.name}` stands already in line {self.spans[node.name].line if node.name in self.spans else '?'}", node.name_span)
        self.spans.setdefault(node.name, node.name_span)

    def emit(self, node: tree.Read | tree.Derive, spec: FieldSpec, frame: _Frame, hidden: bool) -> None:
        earlier = frame.group.get(spec.name)
        if earlier is not None and (earlier.kind, earlier.unit, earlier.wide) != (spec.kind, spec.unit, spec.wide):
            self.check.halt(f"`{spec.name}` is {earlier.kind} in {earlier.unit or 'no unit'} above: two lines of one name must agree", node.name_span)
        if not hidden:
            frame.group[spec.name] = spec
            if len(frame.group) > limits.FIELDS:
                self.check.halt(f"a decoder gives at most {limits.FIELDS} fields", node.name_span)
        frame.scope.names[spec.name] = type_of(spec)

    def cleaning(self, qualifiers: tuple[tree.Qualifier, ...], spec: FieldSpec, unit: Unit | None, frame: _Frame, raws: tuple[Raw, ...]) -> tuple[Cleaning, FieldSpec, bool, bool]:
        check = self.check
        sentinels: list[Sentinel] = []
        low = high = None
        into: tree.Into | None = None
        hidden = required = False
        numeric = spec.kind in ("number", "integer")
        for q in qualifiers:
            match q:
                case tree.Within():
                    if not numeric:
                        check.halt(f"`within` is for numbers; `{spec.name}` is a {spec.kind}", q.span)
                    low, high = float(check.bounded(q.low, q.span)), float(check.bounded(q.high, q.span))
                    if low > high:
                        check.halt(f"the range goes downwards: write `within {q.high} to {q.low}`", q.span, f"within {q.high} to {q.low}")
                case tree.Missing(when=None):
                    for raw, word in zip(q.raws, q.raw_words, strict=True):
                        self.fits(raw, word, raws, q.span)
                    sentinels.append(Sentinel(q.reason, self.signed(q.raws, raws), None))
                case tree.Missing():
                    assert q.when is not None
                    sentinels.append(Sentinel(q.reason, (), check._truth(q.when, frame.scope)))
                case tree.Into():
                    into = q
                case tree.Word(word="hidden"):
                    hidden = True
                case tree.Word():
                    required = True
                    self.only("json", "required", q.span)
        final = spec.unit
        declared = self.declared.get(spec.name)
        if numeric and unit is not None:
            if into:
                final = check.unit(into.unit, into.span).code
            elif declared is not None and declared.unit and not hidden:
                final = declared.unit
            target = parse_unit(final or "1")
            if target.dimension != unit.dimension:
                source = "declared in" if not into else "to be given in"
                span = into.span if into else (qualifiers[0].span if qualifiers else self.spans[spec.name])
                check.halt(f"`{spec.name}` is {source} {target.code} ({describe(target.dimension)}); `{unit.code}` is {describe(unit.dimension)}", span)
            convert = None
            if (target.factor, target.offset) != (unit.factor, unit.offset):
                convert = (unit.factor / target.factor, (unit.offset - target.offset) / target.factor)
                if not into:
                    low, high = (None if x is None else x * convert[0] + convert[1] for x in (low, high))
                    check.warn(f"`{spec.name}` is declared in {target.code}: values in {unit.code} are converted", self.spans[spec.name])
            spec = replace(spec, unit=final, wide=spec.wide and convert is None)
            return Cleaning(tuple(sentinels), low, high, convert), spec, hidden, required
        if declared is not None and not hidden and not compatible(declared.kind, spec.kind):
            check.halt(f"`{spec.name}` is declared as {declared.kind}, this line gives {spec.kind}", self.spans[spec.name])
        return Cleaning(tuple(sentinels), low, high, None), spec, hidden, required

    def fits(self, raw: object, word: str, raws: tuple[Raw, ...], span: Span) -> None:
        if not raws:
            return
        if isinstance(raw, str):
            self.check.halt(f'found "{raw}": a mark in bytes is a number, such as 0xFFFF', span)
        for place in raws:
            if place.storage == "f":
                continue
            low = -(2 ** (place.bits - 1)) if place.storage == "i" else 0
            if not isinstance(raw, int) or not low <= raw < 2**place.bits:
                self.check.halt(f"{word} does not fit into {place.bits} bits", span)

    @staticmethod
    def signed(marks: tuple[str | int | float, ...], raws: tuple[Raw, ...]) -> tuple[object, ...]:
        """Marks as the storage reads them: 0x8000 of an i16 is -32768."""
        if not raws or raws[0].storage != "i":
            return marks
        half, whole = 2 ** (raws[0].bits - 1), 2 ** raws[0].bits
        return tuple(mark - whole if isinstance(mark, int) and mark >= half else mark for mark in marks)

    def read(self, node: tree.Read, frame: _Frame) -> Step:
        self.name_free(node, frame)
        if isinstance(node.address, tree.InDocument):
            return self.read_document(node, node.address, frame)
        self.only("bytes", {"InBytes": "byte", "InNext": "next", "InSame": "same"}[type(node.address).__name__], node.address.span)
        check, kind, address = self.check, node.kind, node.address
        unit = check.unit(node.unit, node.unit_span or node.span) if node.unit else None
        linears: tuple[Linear, ...] = (PLAIN_LINEAR,)
        clock = None
        span = kind.span
        match kind:
            case tree.Stored():
                raws: tuple[Raw, ...] = (raw_of(check.halt, address, kind.storage, self.little(kind.order, frame), span, frame.last),)
                linears = (linear_of(check, kind.scales, span),)
                whole = raws[0].storage != "f" and linears[0].c == 1
                unit = unit or parse_unit("1")
                wide = whole and raws[0].bits > 53 and linears[0].plain
                spec = FieldSpec(node.name, "integer" if whole and unit.code == "1" else "number", unit.code, (), wide)
            case tree.Flag():
                bits = getattr(address, "bits", None)
                if bits is None or bits.high != bits.low:
                    check.halt("a flag is one bit: say which, as in `byte 0 bit 7`", span)
                raws = (raw_of(check.halt, address, "u1", frame.little, span, frame.last),)
                spec = FieldSpec(node.name, "flag")
            case tree.Codes():
                bits = getattr(address, "bits", None)
                storage = kind.storage or (f"u{bits.high - bits.low + 1}" if bits else "u8")
                if storage[0] != "u":
                    check.halt("a code is stored unsigned", span)
                raws = (raw_of(check.halt, address, storage, self.little(kind.order, frame), span, frame.last),)
                numbers = [n for n, _ in kind.texts]
                if len(set(numbers)) != len(numbers):
                    check.halt("a number stands twice in this code", span)
                for n in numbers:
                    if n >= 2 ** raws[0].bits:
                        check.halt(f"{n} does not fit into {raws[0].bits} bits", span)
                spec = FieldSpec(node.name, "code", None, kind.texts)
            case tree.PositionKind():
                parts = [p for p, _ in kind.parts]
                if "number" in parts:
                    check.halt("in bytes a position says how it is stored, as in `position i32 / 1e7, i32 / 1e7`", span)
                first = raw_of(check.halt, address, parts[0], frame.little, span, frame.last)
                place = first.place
                following = Place("next", 0, int(parts[1][1:]) // 8) if place.mode == "next" else Place(place.mode, place.offset + place.width, int(parts[1][1:]) // 8)
                if int(parts[1][1:]) % 8 or getattr(address, "bits", None):
                    check.halt("a position takes whole bytes", span)
                raws = (first, Raw(following, frame.little, parts[1][0], int(parts[1][1:]), 0))
                linears = tuple(linear_of(check, scales, span) for _, scales in kind.parts)
                spec = FieldSpec(node.name, "position")
            case tree.Clock():
                raws = (raw_of(check.halt, address, kind.storage, self.little(kind.order, frame), span, frame.last),)
                found = check.unit(kind.unit, span)
                if found.dimension != SECOND.dimension:
                    check.halt(f"a time counts seconds or the like; `{kind.unit}` is {describe(found.dimension)}", span)
                clock = (found.factor, epoch_us(kind.since, check, span))
                spec = FieldSpec(node.name, "time")
            case _:
                check.halt(f"`{kind.word}` is a kind of documents; in bytes say how it is stored, such as `u16`", span)
        if node.unit and spec.kind not in ("number", "integer"):
            check.halt(f"a {spec.kind} has no unit", node.unit_span or node.span)
        cleaning, spec, hidden, _ = self.cleaning(node.qualifiers, spec, unit, frame, raws)
        frame.last = raws[-1]
        self.emit(node, spec, frame, hidden)
        return ReadStep(node.span.line, node.name, raws, linears, spec, cleaning, hidden, clock)

    def little(self, order: str | None, frame: _Frame) -> bool:
        return frame.little if order is None else order == "little"

    def read_document(self, node: tree.Read, address: tree.InDocument, frame: _Frame) -> Step:
        check, kind = self.check, node.kind
        self.only("json", "at", address.span)
        unit = check.unit(node.unit, node.unit_span or node.span) if node.unit else None
        linears: tuple[Linear, ...] = (PLAIN_LINEAR,)
        wanted = 1
        match kind:
            case tree.Plain(word="number" | "integer"):
                unit = unit or parse_unit("1")
                linears = (linear_of(check, kind.scales, kind.span),)
                spec = FieldSpec(node.name, kind.word, unit.code)
            case tree.Plain(word="text"):
                spec = FieldSpec(node.name, "text")
            case tree.Plain():
                spec = FieldSpec(node.name, "time")
            case tree.Flag():
                spec = FieldSpec(node.name, "flag")
            case tree.PositionKind():
                wanted = 2
                if any(part != "number" for part, _ in kind.parts):
                    check.halt("in a document a position is `position number, number`", kind.span)
                linears = tuple(linear_of(check, scales, kind.span) for _, scales in kind.parts)
                spec = FieldSpec(node.name, "position")
            case _:
                check.halt("a storage of bytes stands in a document: write `number`, `integer`, `flag`, `text` or `time iso`", kind.span)
        if len(address.paths) != wanted:
            check.halt("a position has two paths, `at lat, lon`; everything else has one", address.span)
        if node.unit and spec.kind not in ("number", "integer"):
            check.halt(f"a {spec.kind} has no unit", node.unit_span or node.span)
        cleaning, spec, hidden, required = self.cleaning(node.qualifiers, spec, unit, frame, ())
        self.emit(node, spec, frame, hidden)
        return DocStep(node.span.line, node.name, address.paths, linears, spec, cleaning, hidden, required)

    def derive(self, node: tree.Derive, frame: _Frame) -> Step:
        self.name_free(node, frame)
        value = self.check.typed(node.value, frame.scope)
        found = value.type
        if found.kind == "unknown":
            raise Halt
        kind = {"truth": "flag"}.get(found.kind, found.kind)
        unit = found.unit
        if kind == "number" and unit is not None:
            try:
                parse_unit(unit.code)
            except UnitError:
                if not any(isinstance(q, tree.Into) for q in node.qualifiers) and node.name not in self.declared:
                    self.check.halt(f"the unit of `{node.name}` comes out as {unit.code}: say `into` and a unit", node.value.span)
        spec = FieldSpec(node.name, kind, unit.code if kind == "number" and unit else None, found.codes)
        cleaning, spec, hidden, _ = self.cleaning(node.qualifiers, spec, unit if kind == "number" else None, frame, ())
        self.emit(node, spec, frame, hidden)
        return DeriveStep(node.span.line, node.name, value, spec, cleaning, hidden)


def compatible(declared: str, found: str) -> bool:
    """Whether a field declared as one kind may be given as another."""
    return declared == found or {declared, found} <= {"number", "integer"}


def replace_scope(scope: Scope) -> Scope:
    return Scope(dict(scope.names), scope.setpoints, scope.source, scope.owner)


def _tail(steps: tuple[Step, ...]) -> int:
    """Bytes at the end that are read from there: outside of `to end`."""
    longest = 0

    def of(ex: Ex) -> int:
        own = 0
        if ex.op == "read" and ex.value.place.mode == "end":
            own = -ex.value.place.offset
        return max([own, *(of(argument) for argument in ex.args)])

    for step in steps:
        match step:
            case RejectStep():
                longest = max(longest, of(step.rule))
            case DeriveStep():
                longest = max(longest, of(step.value))
            case ReadStep():
                for raw in step.raws:
                    if raw.place.mode == "end":
                        longest = max(longest, -raw.place.offset)
            case WhenStep():
                longest = max(longest, of(step.rule), _tail(step.body), _tail(step.otherwise))
            case _:
                pass
    return longest


def check_decoder(text: str, declared: Mapping[str, FieldSpec] | None = None, owner: str | None = None) -> tuple[DecoderPlan | None, list[Problem]]:
    """A decoder's plan, or None with the errors; warnings come along either way.

    `declared` are the fields of the device type (converted to, and held against); `owner` its key,
    which the decoder's name must repeat.
    """
    declared = declared or {}
    try:
        node, problems, poisoned = parse(text)
    except DefinitionError as error:
        return None, error.problems
    if not isinstance(node, tree.Decoder):
        return None, [Problem("found a condition, expected a decoder", node.span)]
    checker = Checker(problems, poisoned)
    if owner is not None and node.name != owner:
        checker.error(f"this decoder belongs to the device type `{owner}`", node.span, owner)
    if node.source == "json" and node.order:
        checker.error("a byte order has no meaning in JSON", node.span)
    work = _Decoders(checker, declared, node.source)
    frame = _Frame(Scope({}, None, node.source, node.name), node.order == "little", {})
    steps = work.body(node.body, frame)
    if not frame.group and not work.repeats and not checker.failed:
        checker.error("this decoder gives no reading: add a line such as `byte 0  battery  u8 / 50  V`", node.span)
    names = list(frame.group) + [spec.name for group in work.repeats for spec in group]
    if len(names) > limits.FIELDS:
        checker.error(f"a decoder gives at most {limits.FIELDS} fields", node.span)
    problems = sorted(checker.problems, key=lambda p: (p.span.line, p.span.column))
    if checker.failed:
        return None, problems
    return DecoderPlan(node.name, node.source, steps, tuple(frame.group.values()), tuple(work.repeats), _tail(steps)), problems
