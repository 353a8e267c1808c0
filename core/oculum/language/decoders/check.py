"""Checking a decoder: structure, scopes, and what each line yields."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace

from ...quantities import UnitError, parse_unit
from .. import limits, tree
from ..build import number_signed
from ..checking import PLAIN, SECOND, TRUTH, Checker, Halt, is_late
from ..expressions import Compared, Constant, Ex, Logical, Type, ValueKind
from ..fields import FieldKind, FieldSpec
from ..kinds import Surroundings
from ..parser import read
from ..patterns import compiled
from ..printing import expression
from ..problems import DefinitionError, Problem, Span, meant, placed
from . import analysis, lines
from .commands import Commands
from .places import Counting, raw_of
from .plan import (
    ApartStep,
    At,
    ChooseStep,
    ColumnsStep,
    ConstantSpec,
    DecoderPlan,
    DeriveStep,
    DeviceStep,
    Extent,
    Framing,
    HandStep,
    LengthStep,
    MissingStep,
    OpenStep,
    OriginStep,
    PatternStep,
    ReadStep,
    RecordsStep,
    RejectStep,
    RepeatStep,
    SkipStep,
    SourceKind,
    SpanStep,
    StampStep,
    Step,
    ValueStep,
    WhenStep,
)
from .reads import DOCUMENTS, STORED, Frame, disagreement, has
from .scope import DecoderScope
from .syntax import SYNTAX
from .tables import share

Others = Callable[[str], DecoderPlan | None]  # a published decoder by its name


class _Decoders(Commands):
    def __init__(self, checker: Checker, declared: Mapping[str, FieldSpec], others: Others | None) -> None:
        self.check = checker
        self.declared = declared
        self.others = others
        self.spans: dict[str, Span] = {}
        self.statements = 0
        self.readings = 0
        self.repeats = 0
        self.fields: dict[str, FieldSpec] = {}
        self.constants = []
        self.commands = []
        self.handed = False
        self.before = False
        self.untold = {}
        self.tables = {}
        self.wides = {}

    # blocks --------------------------------------------------------------
    def body(self, statements: tuple[lines.Statement, ...], frame: Frame) -> tuple[Step, ...]:
        steps: list[Step] = []
        for statement in statements:
            self.statements += 1
            if self.statements > limits.STATEMENTS:
                self.check.error(f"a decoder has at most {limits.STATEMENTS} lines", statement.span)
                break
            try:
                step = self.statement(statement, frame)
                if step is not None:
                    steps.append(step)
            except Halt:
                self.check.poisoned.update(name for name, _ in lines.named([statement]))
                if isinstance(statement, lines.Read | lines.Derive):
                    frame.scope.names.pop(statement.name, None)
        return tuple(steps)

    def branch(
        self,
        statements: tuple[lines.Statement, ...],
        frame: Frame,
        before: dict[str, Type],
        touched: dict[int, tuple[int, str]] | None,
    ) -> tuple[Step, ...]:
        """One arm: it sees what stood before the choice, not what its sisters gave."""
        kept = frame.scope.names
        used = frame.used
        frame.scope.names = dict(before)
        frame.used = dict(touched) if touched is not None else None
        outer, frame.conditional = frame.conditional, True
        last, columns, records = frame.last, frame.columns, frame.records
        steps = self.body(statements, frame)
        frame.conditional, frame.last, frame.columns, frame.records = outer, last, columns, records
        given = frame.scope.names
        for name, found in given.items():
            other = kept.get(name)
            if other is not None and name not in before and (wrong := disagreement(name, other, found)):
                places = [span for where, span in lines.named(statements) if where == name]
                self.check.error(wrong, places[0] if places else statements[0].span)
        frame.scope.names = {**kept, **given}
        for name, found in given.items():
            if found.kind == "code" and name in self.tables:
                frame.scope.names[name] = replace(found, codes=self.tables[name])
            elif found.kind == "number" and name in self.wides:
                frame.scope.names[name] = replace(found, wide=self.wides[name][0])
        if used is not None and frame.used is not None:
            for byte, (bits, by) in frame.used.items():
                used[byte] = (bits | used.get(byte, (0, ""))[0], by)
            frame.used = used
        else:
            frame.used = None
        return steps

    def statement(self, node: lines.Statement, frame: Frame) -> Step | None:
        check, scope, line = self.check, frame.scope, node.span.line
        if self.in_command and (step := self.in_a_command(node, frame)) is not None:
            return step
        match node:
            case lines.Read():
                return self.read(node, frame)
            case lines.Derive():
                return self.derive(node, frame)
            case lines.MissingRule():
                return self.missing_rule(node, frame)
            case lines.Reject():
                rule = self.early(check.truth(node.rule, scope), node.rule.span) if node.rule else None
                return RejectStep(line, node.failure or "malformed", node.reason, rule, node.unless)
            case lines.Stamp():
                if 0 < check.stamp_line < line and not scope.in_repeat:
                    check.refuse(
                        f"line {check.stamp_line} speaks of `stamp` already: this line must stand before it", node.span
                    )
                if self.handed:
                    check.refuse("`stamp` stands before what is handed on to other decoders", node.span)
                words = "`stamp` takes a time: the moment at which the readings were measured"
                return StampStep(line, self.kinded(node.value, frame, "time", words))
            case lines.Device():
                return DeviceStep(
                    line,
                    self.kinded(
                        node.value,
                        frame,
                        "text",
                        "`device` takes a text: the name of the device that the readings belong to",
                    ),
                )
            case lines.Length():
                self.only((*STORED, "text"), "length", node.span, frame)
                low = self.early(check.number(node.low, scope), node.low.span)
                high = (
                    self.early(check.number(node.high, scope), node.high.span)
                    if node.high
                    else None
                    if node.least
                    else low
                )
                return LengthStep(line, low, high)
            case lines.Skip():
                self.only(STORED, "skip", node.span, frame)
                frame.last = None
                count = (
                    node.count
                    if isinstance(node.count, int)
                    else self.early(check.number(node.count, scope), node.count.span)
                )
                if isinstance(count, Constant) and not (isinstance(count.value, float) and count.value >= 0):
                    check.refuse("`skip` passes over bytes forwards; a place further up is read by `byte`", node.span)
                return SkipStep(line, count, 1 if node.bits else 8)
            case lines.When():
                try:
                    rule = self.early(check.truth(node.rule, scope), node.rule.span)
                except Halt:
                    rule = None  # what stands below is looked at all the same
                before, touched = dict(scope.names), dict(frame.used) if frame.used is not None else None
                body = self.branch(node.body, frame, before, touched)
                otherwise = self.branch(node.otherwise, frame, before, touched)
                frame.last = None
                return WhenStep(line, rule, body, otherwise) if rule is not None else None
            case lines.Choose():
                return self.choose(node, frame)
            case lines.Repeat():
                return self.repeat(node, frame)
            case lines.Apart():
                frame.last = None
                word = node.word or "part"
                if not 1 <= len(word) <= 40:
                    check.halt("the word for a part has 1 to 40 characters", node.span)
                body = self.body(node.body, frame)
                return ApartStep(line, word, body, tuple(sorted(analysis.given(body))))
            case lines.Open():
                return self.open(node, frame)
            case lines.Records():
                return self.record_split(node, frame)
            case lines.Hand():
                return self.hand(node, frame)
            case lines.Constant():
                self.constant(node, frame)
                return None
            case lines.Table():
                self.table(node, frame)
                return None
            case lines.Origin():
                self.only(("registers", "coils"), "origin", node.span, frame)
                return OriginStep(line, self.early(check.number(node.value, scope), node.span))
            case lines.Columns():
                self.only(("text",), "columns", node.span, frame)
                frame.columns = True
                if not 1 <= len(node.by) <= 8:
                    check.halt("what stands between columns has 1 to 8 characters", node.span)
                return ColumnsStep(line, node.by)
            case lines.Pattern():
                self.only(("text",), "pattern", node.span, frame)
                frame.groups = tuple(
                    re.findall(r"\?P<([a-z][a-z0-9_]*)>", node.text)
                )  # where it cannot be read, that is the one mistake
                frame.groups = self.pattern(node)
                return PatternStep(line, node.text)
            case lines.Command():
                self.command(node, frame)
                return None
            case lines.Put() | lines.FrameLine():
                check.halt("this line writes: it stands in a `command`", node.span)
        raise AssertionError(node)

    def only(self, sources: tuple[str, ...], word: str, span: Span, frame: Frame) -> None:
        if frame.scope.source not in sources:
            self.check.halt(f"`{word}` belongs to {' and '.join(sources)}; this is {frame.scope.source}", span)

    def early(self, ex: Ex, span: Span) -> Ex:
        """An expression that must be known before the message before is looked at."""
        if is_late(ex):
            self.check.halt(
                "`before` can be used in `derive` and `missing` only: whether a message is good cannot depend on the"
                " one before",
                span,
            )
        return ex

    def kinded(self, node: tree.Expr, frame: Frame, kind: str, words: str) -> Ex:
        value = self.early(self.check.typed(node, frame.scope), node.span)
        if value.type.kind not in (kind, "unknown"):
            self.check.halt(words, node.span)
        return value

    # statements that are more than a line --------------------------------
    def choose(self, node: lines.Choose, frame: Frame) -> Step:
        check = self.check
        value = self.early(check.typed(node.value, frame.scope), node.value.span)
        before, touched = dict(frame.scope.names), dict(frame.used) if frame.used is not None else None
        arms: list[tuple[Ex, tuple[Step, ...]]] = []
        seen: set[str] = set()
        for arm in node.arms:
            rule: Ex | None = None
            for option in arm.options:
                key = f"{option.low}..{option.high}"
                if key in seen:
                    check.halt(f"{option.low} stands in two arms", arm.span)
                seen.add(key)
                part = self.option(node, value, option, arm.span)
                rule = part if rule is None else Logical(TRUTH, arm.span.line, "or", rule, part)
            assert rule is not None
            arms.append((rule, self.branch(arm.body, frame, before, touched)))
        otherwise = self.branch(node.otherwise, frame, before, touched)
        frame.last = None
        return ChooseStep(node.span.line, tuple(arms), otherwise)

    def option(self, node: lines.Choose, value: Ex, option: lines.Option, span: Span) -> Ex:
        check = self.check
        kind = value.type.kind
        compare = tree.Binary(span, "=", node.value, node.value)
        if option.kind == "number":
            if kind != "number":
                check.halt(f"{option.low} is a number; this chooses by a {kind}", span)
            bounds = [float(check.bounded(text, span)) for text in (option.low, option.high) if text is not None]
            constants = [Constant(replace(value.type, literal=True), span.line, b) for b in bounds]
            if len(constants) == 1:
                return Compared(TRUTH, span.line, "=", value, constants[0])
            if bounds[0] > bounds[1]:
                check.halt(f"the range goes downwards: write `{option.high} to {option.low}`", span)
            parts = tuple(
                Compared(TRUTH, span.line, sign, value, c) for sign, c in zip((">=", "<="), constants, strict=True)
            )
            return Logical(TRUTH, span.line, "and", *parts)
        literal = Constant(Type("code", literal=True) if option.kind == "code" else Type("text"), span.line, option.low)
        return check.compare(compare, "=", value, literal)

    def derive(self, node: lines.Derive, frame: Frame) -> Step:
        self.name_free(node, frame)
        value = self.running(node, frame) or self.check.typed(node.value, frame.scope)
        found = value.type
        if found.kind == "unknown":
            raise Halt
        kind: FieldKind = "flag" if found.kind == "truth" else found.kind
        unit = found.unit
        if kind == "number" and unit is not None:
            try:
                parse_unit(unit.code)
            except UnitError:
                if not any(isinstance(q, lines.Into) for q in node.qualifiers) and node.name not in self.declared:
                    self.check.halt(
                        f"the unit of `{node.name}` comes out as {unit.code}: say `into` and a unit", node.value.span
                    )
        code = unit.code if kind == "number" and unit else None
        spec = FieldSpec(node.name, kind, code, found.codes, found.wide, found.difference)
        for q in node.qualifiers:
            if not isinstance(q, lines.Within | lines.Missing | lines.Into | lines.Word | lines.Stamped):
                self.check.halt(
                    "a derived value takes `within`, `missing … when`, `into`, `stamped` and `hidden`", q.span
                )
        cleaning, spec = self.cleaning(node, spec, unit if kind == "number" else None, frame, ())
        late = is_late(value) or any(s.when is not None and is_late(s.when) for s in cleaning.sentinels)
        if late and frame.scope.in_repeat:
            self.check.halt("`before` speaks of the message before and cannot stand in a repeat", node.span)
        self.before = self.before or late
        self.emit(node.name, node.name_span, spec, frame, has(node, "hidden"), late=late, derived=True)
        return DeriveStep(node.span.line, node.name, value, spec, cleaning, has(node, "hidden"), late)

    def running(self, node: lines.Derive, frame: Frame) -> Ex | None:
        """A value that goes on from its own of the turn before, `previous(name)`; None where it does not. Its unit is
        that with which the line comes out as it went in.
        """
        scope, check = frame.scope, self.check
        if not scope.in_repeat or node.name in scope.names or node.name in scope.seen:
            return None
        if not re.search(rf"\bprevious\({re.escape(node.name)}\)", expression(node.value)):
            return None
        units = [t.unit for t in scope.names.values() if t.kind == "number" and t.unit is not None]
        said = len(check.problems)
        for unit in dict.fromkeys([PLAIN, *units]):
            scope.seen[node.name] = Type("number", unit)
            try:
                value = check.typed(node.value, scope)
            except Halt:
                value = None
            if value is not None and value.type.kind == "number" and (value.type.unit or PLAIN).code == unit.code:
                return value
            del check.problems[said:]
        del scope.seen[node.name]
        return None

    def missing_rule(self, node: lines.MissingRule, frame: Frame) -> Step:
        specs = []
        for name, span in node.names:
            spec = frame.group.get(name)
            if spec is None:
                known = list(frame.group)
                hint = "; hidden values have no reading" if name in frame.scope.names else meant(name, known)
                self.check.halt(f"`{name}` is no field given above{hint}", span)
            specs.append(spec)
        rule = self.check.truth(node.rule, frame.scope)
        return MissingStep(node.span.line, node.reason, tuple(specs), rule, is_late(rule))

    def repeat(self, node: lines.Repeat, frame: Frame) -> Step:
        check, count = self.check, node.count
        self.repeats += 1
        number = self.repeats
        self.may_repeat(node, frame)
        value = self.early(check.number(count.value, frame.scope), node.span) if count.value is not None else None
        most = count.most if count.most is not None else 64 if count.kind == "bits" else limits.REPEATS
        if not 1 <= most <= limits.REPEATS:
            check.halt(f"a repeat runs at most {limits.REPEATS} times", node.span)
        each, direction = self.each(node, frame)
        cursor = count.kind in ("end", "times", "bits")
        scope = replace(frame.scope, names=dict(frame.scope.names), inner={}, in_repeat=True, late=set(), seen={})
        for name in frame.scope.late:
            scope.names.pop(name, None)
        inner = Frame(scope, {}, records=frame.records and cursor, level=frame.level + 1)
        outer_names = set(frame.scope.names)
        # Lines inside may use a name of their own level again after another repeat.
        said = len(check.problems)
        body = self.body(node.body, inner)
        if len(check.problems) == said and (not body or cursor and not analysis.reads(body)):
            check.halt("a repeat must read something", node.span)
        foreseen = most if count.most is not None else min(most, limits.REPEATS_COUNTED)
        self.readings += foreseen * len(inner.group) if cursor else 0
        if self.readings > limits.READINGS_PER_MESSAGE:
            check.halt(
                f"a message gives at most {limits.READINGS_PER_MESSAGE} readings: bound the repeat with `up to`",
                node.span,
            )
        self.differs(node, inner, body, each)
        self.gathered(number, frame.scope, inner.scope, outer_names)
        self.keep(inner)
        carried = tuple(sorted(analysis.previous(body)))
        advance = analysis.advance(body) if cursor else None
        frame.last = None
        if frame.used is not None and cursor:
            frame.used = None
        framing = Framing(**vars(count.framing)) if count.framing else None
        if framing:
            self.framing(framing, node.span)
        return RepeatStep(
            node.span.line,
            number,
            count.kind,
            value,
            most,
            tuple(count.paths),
            count.alone,
            count.required,
            count.tag,
            count.first,
            count.last,
            framing,
            each,
            direction,
            body,
            advance,
            bool(carried),
            carried,
            tuple(inner.group.values()),
        )

    def may_repeat(self, node: lines.Repeat, frame: Frame) -> None:
        """Whether this kind of repeat may stand here."""
        check, kind, source = self.check, node.count.kind, frame.scope.source
        if frame.level >= limits.REPEAT_DEPTH:
            check.halt(f"repeats nest at most {limits.REPEAT_DEPTH} deep", node.span)
        allowed = {
            "end": STORED,
            "times": STORED,
            "bits": STORED,
            "record": STORED,
            "frames": ("bytes",),
            "list": DOCUMENTS,
            "lines": ("text",),
            "columns": ("text",),
        }[kind]
        if source not in allowed:
            check.halt(f"this repeat belongs to {' and '.join(allowed)}; this is {source}", node.span)
        if kind == "columns" and not frame.columns:
            check.halt('say first what stands between columns, as in `columns by ";"`', node.span)
        if kind == "record" and not frame.records:
            check.halt("say first how records are made, as in `records tag u8, size u8`", node.span)

    def each(self, node: lines.Repeat, frame: Frame) -> tuple[Ex | None, str]:
        """How far the time of each turn lies from that of the turn before, in seconds, and whether earlier or later."""
        if not node.each:
            return None, ""
        step = self.early(self.check.number(node.each[0], frame.scope), node.each[0].span)
        return self.check.to_scale(Constant(Type("number", SECOND), 0, 1.0), step, node.each[0].span), node.each[1]

    def differs(self, node: lines.Repeat, inner: Frame, body: tuple[Step, ...], each: Ex | None) -> None:
        """Warns where every turn gives its readings the same time and name."""
        plain = any(isinstance(step, ReadStep | ValueStep | SpanStep | DeriveStep) and not step.hidden for step in body)
        moves = (
            each is not None
            or not plain
            or any(analysis.sets_own(step) for step in body)
            or any("{" in name for name in inner.group)
        )
        if len(inner.group) and not moves:
            self.check.warn(
                "every repeat gives its readings the same time, so that only the last stays: add `each 10 min earlier`",
                node.span,
            )

    def gathered(self, number: int, scope: DecoderScope, inner: DecoderScope, outer_names: set[str]) -> None:
        """Names given inside a repeat, for what sums up over its turns."""
        for name in list(scope.inner):
            if name in inner.names and name not in outer_names and scope.inner[name][0].kind != inner.names[name].kind:
                scope.inner.pop(name)
        for name, found in {**inner.names, **{n: t for n, (t, _) in inner.inner.items()}}.items():
            if name not in outer_names and name in inner.names:
                ids = scope.inner[name][1] if name in scope.inner else frozenset()
                scope.inner[name] = (found, ids | {number})

    def framing(self, framing: Framing, span: Span) -> None:
        numbers = [n for n in (framing.start, framing.end, framing.escape, framing.xor) if n is not None]
        if any(not 0 <= n <= 255 for n in numbers):
            self.check.halt("the bytes of a frame lie between 0 and 0xFF", span)
        marks = [n for n in (framing.start, framing.end, framing.escape) if n is not None]
        if len(set(marks)) != len(marks):
            self.check.halt("start, end and escape of a frame are different bytes", span)

    def open(self, node: lines.Open, frame: Frame) -> Step:
        check = self.check
        extent, at = self.region(node.region, frame)
        encoding = node.encoding
        sources: dict[str | None, SourceKind] = {"json": "json", "cbor": "cbor", "text": "text"}
        source = sources.get(encoding, "bytes")
        if at is not None and encoding is None:
            check.halt("say how it is written, as in `open at data as base64`", node.region.span)
        if extent is not None and encoding in ("base64", "hex") and frame.scope.source in STORED:
            check.halt(f"`{encoding}` unwraps a text; these are bytes already", node.region.span)
        counting = Counting(
            node.order == "little" if node.order else frame.scope.counting.little, frame.scope.counting.first
        )
        kept, kept_source, kept_counting = frame.scope, frame.scope.source, frame.scope.counting
        frame.scope.source, frame.scope.counting = source, counting
        last, columns, groups, records, used = frame.last, frame.columns, frame.groups, frame.records, frame.used
        frame.last, frame.columns, frame.groups, frame.records, frame.used = None, False, (), False, None
        maybe_absent = "required" not in node.words and (
            at is not None or (extent is not None and extent.mode == "record")
        )
        outer, frame.conditional = frame.conditional, frame.conditional or maybe_absent
        body = self.body(node.body, frame)
        frame.conditional = outer
        kept.source, kept.counting = kept_source, kept_counting
        frame.last, frame.columns, frame.groups, frame.records, frame.used = last, columns, groups, records, used
        frame.last = None
        return OpenStep(
            node.span.line,
            extent,
            at,
            encoding,
            source,
            "malformed" if "required" in node.words else None,
            "once" in node.words,
            body,
        )

    def region(self, address: lines.Address, frame: Frame) -> tuple[Extent | None, At | None]:
        source = frame.scope.source
        match address:
            case lines.InDocument():
                self.only(DOCUMENTS, "at", address.span, frame)
                return None, At("path", address.paths[0])
            case lines.InColumn():
                self.only(("text",), "column", address.span, frame)
                if not frame.columns:
                    self.check.halt('say first what stands between columns, as in `columns by ";"`', address.span)
                return None, At("column", first=address.first, last=address.last)
            case lines.InRest() if source == "text":
                return None, At("rest")
        self.only(STORED, "a place in bytes", address.span, frame)
        return self.extent(address, frame), None

    def record_split(self, node: lines.Records, frame: Frame) -> Step:
        self.only(("bytes",), "records", node.span, frame)
        frame.records = True
        raws = []
        for storage in (node.tag, node.size):
            raw = raw_of(self.check.halt, lines.InNext(node.span, None, None), storage, frame.scope.counting, node.span)
            if raw.storage not in ("u", "varint"):
                self.check.halt("tag and size of a record are `u8`, `u16`, `u32` or `varint`", node.span)
            raws.append(raw)
        frame.used = None
        first, last = node.first, node.last
        base = frame.scope.counting.first
        if first is not None and first > 0:
            first -= base
        if node.filler is not None and not 0 <= node.filler <= 255:
            self.check.halt("a filler is a byte, 0 to 0xFF", node.span)
        return RecordsStep(node.span.line, first, last, raws[0], raws[1], node.filler, node.once)

    def hand(self, node: lines.Hand, frame: Frame) -> Step:
        check = self.check
        extent, at = self.region(node.region, frame)
        plans = []
        for name, span in node.decoders:
            found = self.others(name) if self.others else None
            if found is None:
                check.halt(f"there is no decoder `{name}` to hand this on to", span)
            if analysis.hands(found.steps):
                check.halt(f"`{name}` hands on itself; that goes one step deep only", span)
            plans.append(found)
            for spec in found.all_fields:
                self.fields.setdefault(spec.name, spec)
            for constant in found.constants:
                if all(c.name != constant.name for c in self.constants):
                    self.constants.append(constant)
        self.handed = True
        return HandStep(node.span.line, extent, at, node.encoding, tuple(plans))

    def constant(self, node: lines.Constant, frame: Frame) -> None:
        check = self.check
        if frame.level or frame.conditional:
            check.halt("constants stand at the top of a decoder", node.span)
        if node.name in frame.scope.names:
            check.halt(f"`{node.name}` stands already above", node.span)
        unit = (
            check.unit(node.unit, node.span).code if node.unit else "1" if node.kind in ("number", "integer") else None
        )
        if unit is not None and node.kind not in ("number", "integer"):
            check.halt(f"a {node.kind} has no unit", node.span)
        wants = {"number": "number", "integer": "number", "text": "text", "flag": "truth"}[node.kind]
        if node.value.kind != wants:
            check.halt(f"`{node.value.word}` is no {node.kind}", node.span)
        value: object = node.value.word
        if wants == "number":
            value = number_signed(node.value.word)
        elif wants == "truth":
            value = node.value.word == "true"
        self.constants.append(ConstantSpec(node.name, node.kind, unit, value))
        kinds: dict[str, ValueKind] = {"number": "number", "integer": "number", "text": "text", "flag": "truth"}
        kind = kinds[node.kind]
        frame.scope.names[node.name] = Type(kind, parse_unit(unit) if unit else None)

    def table(self, node: lines.Table, frame: Frame) -> None:
        check = self.check
        points = tuple((float(check.bounded(x, node.span)), float(check.bounded(y, node.span))) for x, y in node.points)
        if not 2 <= len(points) <= limits.TABLE_POINTS:
            check.halt(f"a table has 2 to {limits.TABLE_POINTS} points", node.span)
        if any(a[0] >= b[0] for a, b in zip(points, points[1:], strict=False)):
            check.halt("the first numbers of a table rise from point to point", node.span)
        if node.name in frame.scope.tables:
            check.halt(f"the table `{node.name}` stands already above", node.span)
        unit = check.unit(node.unit, node.span).code if node.unit else None
        frame.scope.tables[node.name] = (unit, points)

    def pattern(self, node: lines.Pattern) -> tuple[str, ...]:
        try:
            return tuple(compiled(node.text).groupindex)
        except ValueError as error:
            self.check.halt(str(error), node.span)

    def keep(self, frame: Frame) -> None:
        for name, spec in frame.group.items():
            known = self.fields.get(name)
            if known is not None and (known.kind, known.unit) != (spec.kind, spec.unit):
                self.check.error(
                    f"`{name}` is {known.kind} in {known.unit or 'no unit'} elsewhere: two lines of one name must"
                    f" agree",
                    self.spans.get(name, Span(1, 1, 2)),
                )
            self.fields[name] = spec


def _bytes_unread(work: _Decoders, node: lines.Decoder, frame: Frame, steps: tuple[Step, ...], tail: int) -> None:
    """Warns of bytes that no line reads, where the length is fixed and every place is."""
    if frame.used is None or any(
        isinstance(s, RepeatStep | RecordsStep | OpenStep | HandStep | SkipStep) or analysis.bodies(s) for s in steps
    ):
        return
    if any(isinstance(s, ReadStep) and any(r.place.mode == "next" for r in s.raws) for s in steps) or any(
        isinstance(s, SpanStep) for s in steps
    ):
        return
    lengths = [
        s.low.value
        for s in steps
        if isinstance(s, LengthStep)
        and s.high is s.low
        and isinstance(s.low, Constant)
        and isinstance(s.low.value, float)
    ]
    if not lengths:
        return
    tail = max(tail, 1 if any(analysis.checks_end(e) for s in steps for e in analysis.expressions(s)) else 0)
    known = set(frame.used).union(*(analysis.read_bytes(e) for s in steps for e in analysis.expressions(s)))
    unread = [b for b in range(int(lengths[-1]) - tail) if b not in known]
    if unread:
        base = frame.scope.counting.first
        shown = ", ".join(str(b + base) for b in unread[:6]) + (" and more" if len(unread) > 6 else "")
        work.check.warn(f"no line reads byte{'s' if len(unread) > 1 else ''} {shown}", node.span)


def checked(text: str, surroundings: Surroundings) -> tuple[DecoderPlan | None, list[Problem]]:
    owner = surroundings.owner
    return check_decoder(
        text, surroundings.fields.get(owner or "", {}), owner, surroundings.others, surroundings.published
    )


def check_decoder(
    text: str,
    declared: Mapping[str, FieldSpec] | None = None,
    owner: str | None = None,
    others: Others | None = None,
    published: bool = False,
) -> tuple[DecoderPlan | None, list[Problem]]:
    """A decoder's plan, or None with the errors; warnings come along either way.

    `declared` are the fields of the device type (converted to, and held against); `owner` its key,
    which the decoder's name must repeat. `others` finds the decoders that it hands on to; for `published` see
    `Surroundings`.
    """
    declared = declared or {}
    try:
        node, problems, poisoned = read(text, SYNTAX, published)
    except DefinitionError as error:
        return None, error.problems
    checker = Checker(problems, poisoned, published)
    if owner is not None and node.name != owner:
        checker.error(f"this decoder belongs to the device type `{owner}`", node.span, owner)
    if node.source in DOCUMENTS and node.order:
        checker.error(
            f"a byte order has no meaning in {node.source.upper() if node.source != 'senml' else 'SenML'}", node.span
        )
    if node.source != "senml" and (node.labels or node.records):
        checker.error("`labels` and `records required` are for SenML", node.span)
    if node.counted not in (None, 0, 1):
        checker.error("places are counted from 0 or from 1", node.span)
    for name, span in lines.named(node.body):
        checker.given.setdefault(name, span.line)
    work = _Decoders(checker, declared, others)
    scope = DecoderScope(
        owner=node.name, source=node.source, counting=Counting(node.order == "little", node.counted or 0)
    )
    frame = Frame(scope, {}, used={})
    if node.source == "senml":
        scope.names.update(dict.fromkeys(lines.PACK_NAMES, Type("text")))
    steps = work.body(node.body, frame)
    work.keep(frame)
    if not work.fields and not work.handed and not checker.failed:
        checker.error("this decoder gives no reading: add a line such as `byte 0  battery  u8 / 50  V`", node.span)
    if len(work.fields) > limits.FIELDS:
        checker.error(f"a decoder gives at most {limits.FIELDS} fields", node.span)
    tail = analysis.tail(steps)
    if not checker.failed:
        for name, (message, span) in work.untold.items():
            if not analysis.rejected(steps, name):
                checker.warn(message, span)
        _bytes_unread(work, node, frame, steps, tail)
        for stuck, taker in analysis.stuck(steps, tail):
            checker.warn(
                f"line {taker} reads up to the end of the payload: `next` stands behind it, and nothing is left here",
                Span(stuck, 1, 2),
            )
    problems = placed(checker.problems, text)
    if checker.failed:
        return None, problems
    wides = {name for name, (wide, _) in work.wides.items() if wide}
    plan = DecoderPlan(
        node.name,
        node.source,
        share(steps, work.tables, wides),
        share(tuple(work.fields.values()), work.tables, wides),
        share(tuple(frame.group.values()), work.tables, wides),
        tail,
        tuple(work.constants),
        tuple(work.commands),
        work.before,
        frozenset(checker.raw_names),
        node.labels or "unknown layout",
        node.records,
        analysis.reads_tags(steps),
    )
    return plan, problems
