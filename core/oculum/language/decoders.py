"""Checking a decoder: structure, scopes, and what each line yields."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace

import re2

from ..quantities import UnitError, parse_unit
from . import analysis, limits, tree
from .build import number_signed
from .checker import SECOND, TRUTH, Checker, Halt, Scope, is_late
from .parser import parse
from .places import Counting, raw_of
from .plan import (
    ApartStep,
    At,
    ChooseStep,
    ColumnsStep,
    CommandPlan,
    ConstantSpec,
    DecoderPlan,
    DeriveStep,
    DeviceStep,
    Ex,
    Extent,
    FieldKind,
    FieldSpec,
    FrameStep,
    Framing,
    HandStep,
    LengthStep,
    MissingStep,
    OpenStep,
    OriginStep,
    PatternStep,
    PutStep,
    ReadStep,
    RecordsStep,
    RejectStep,
    RepeatStep,
    SkipStep,
    SourceKind,
    SpanStep,
    StampStep,
    Step,
    Type,
    ValueKind,
    ValueStep,
    WhenStep,
)
from .problems import DefinitionError, Problem, Span, meant
from .reads import DOCUMENTS, STORED, Frame, Reads, has

Others = Callable[[str], DecoderPlan | None]  # a published decoder by its name


class _Decoders(Reads):
    def __init__(self, checker: Checker, declared: Mapping[str, FieldSpec], others: Others | None) -> None:
        self.check = checker
        self.declared = declared
        self.others = others
        self.spans: dict[str, Span] = {}
        self.statements = 0
        self.readings = 0
        self.repeats = 0
        self.fields: dict[str, FieldSpec] = {}
        self.constants: list[ConstantSpec] = []
        self.commands: list[CommandPlan] = []
        self.handed = False
        self.before = False
        self.untold = {}

    # blocks --------------------------------------------------------------
    def body(self, statements: tuple[tree.Statement, ...], frame: Frame) -> tuple[Step, ...]:
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
                if isinstance(statement, tree.Read | tree.Derive):
                    self.check.poisoned.add(statement.name)
                    frame.scope.names.pop(statement.name, None)
        return tuple(steps)

    def branch(
        self,
        statements: tuple[tree.Statement, ...],
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
            if (
                other is not None
                and name not in before
                and (other.kind, other.unit and other.unit.code) != (found.kind, found.unit and found.unit.code)
            ):
                self.check.error(
                    f"`{name}` is {other.kind} in {other.unit.code if other.unit else 'no unit'} above: two lines of"
                    f" one name must agree",
                    self.spans.get(name, statements[0].span),
                )
        frame.scope.names = {**kept, **given}
        if used is not None and frame.used is not None:
            for byte, (bits, by) in frame.used.items():
                used[byte] = (bits | used.get(byte, (0, ""))[0], by)
            frame.used = used
        else:
            frame.used = None
        return steps

    def statement(self, node: tree.Statement, frame: Frame) -> Step | None:
        check, scope, line = self.check, frame.scope, node.span.line
        match node:
            case tree.Read():
                return self.read(node, frame)
            case tree.Derive():
                return self.derive(node, frame)
            case tree.MissingRule():
                return self.missing_rule(node, frame)
            case tree.Reject():
                rule = self.early(check._truth(node.rule, scope), node.rule.span) if node.rule else None
                return RejectStep(line, node.failure or "malformed", node.reason, rule, node.unless)
            case tree.Stamp():
                return StampStep(
                    line,
                    self.kinded(
                        node.value,
                        frame,
                        "time",
                        "`stamp` takes a time: the moment at which the readings were measured",
                    ),
                )
            case tree.Device():
                return DeviceStep(
                    line,
                    self.kinded(
                        node.value,
                        frame,
                        "text",
                        "`device` takes a text: the name of the device that the readings belong to",
                    ),
                )
            case tree.Length():
                self.only((*STORED, "text"), "length", node.span, frame)
                low = self.early(check._number(node.low, scope), node.low.span)
                high = (
                    self.early(check._number(node.high, scope), node.high.span)
                    if node.high
                    else None
                    if node.least
                    else low
                )
                return LengthStep(line, low, high)
            case tree.Skip():
                self.only(STORED, "skip", node.span, frame)
                frame.last = None
                count = (
                    node.count
                    if isinstance(node.count, int)
                    else self.early(check._number(node.count, scope), node.count.span)
                )
                return SkipStep(line, count, 1 if node.bits else 8)
            case tree.When():
                rule = self.early(check._truth(node.rule, scope), node.rule.span)
                before, touched = dict(scope.names), dict(frame.used) if frame.used is not None else None
                body = self.branch(node.body, frame, before, touched)
                otherwise = self.branch(node.otherwise, frame, before, touched)
                frame.last = None
                return WhenStep(line, rule, body, otherwise)
            case tree.Choose():
                return self.choose(node, frame)
            case tree.Repeat():
                return self.repeat(node, frame)
            case tree.Apart():
                frame.last = None
                word = node.word or "part"
                if not 1 <= len(word) <= 40:
                    check.halt("the word for a part has 1 to 40 characters", node.span)
                body = self.body(node.body, frame)
                return ApartStep(line, word, body, tuple(sorted(analysis.given(body))))
            case tree.Open():
                return self.open(node, frame)
            case tree.Records():
                return self.record_split(node, frame)
            case tree.Hand():
                return self.hand(node, frame)
            case tree.Constant():
                self.constant(node, frame)
                return None
            case tree.Table():
                self.table(node, frame)
                return None
            case tree.Origin():
                self.only(("registers", "coils"), "origin", node.span, frame)
                return OriginStep(line, self.early(check._number(node.value, scope), node.span))
            case tree.Columns():
                self.only(("text",), "columns", node.span, frame)
                frame.columns = True
                if not 1 <= len(node.by) <= 8:
                    check.halt("what stands between columns has 1 to 8 characters", node.span)
                return ColumnsStep(line, node.by)
            case tree.Pattern():
                self.only(("text",), "pattern", node.span, frame)
                frame.groups = tuple(
                    re.findall(r"\?P<([a-z][a-z0-9_]*)>", node.text)
                )  # where it cannot be read, that is the one mistake
                frame.groups = self.pattern(node)
                return PatternStep(line, node.text)
            case tree.Command():
                self.command(node, frame)
                return None
            case tree.Put() | tree.FrameLine():
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
    def choose(self, node: tree.Choose, frame: Frame) -> Step:
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
                rule = part if rule is None else Ex("or", (rule, part), TRUTH, None, arm.span.line)
            assert rule is not None
            arms.append((rule, self.branch(arm.body, frame, before, touched)))
        otherwise = self.branch(node.otherwise, frame, before, touched)
        frame.last = None
        return ChooseStep(node.span.line, tuple(arms), otherwise)

    def option(self, node: tree.Choose, value: Ex, option: tree.Option, span: Span) -> Ex:
        check = self.check
        kind = value.type.kind
        compare = tree.Binary(span, "=", node.value, node.value)
        if option.kind == "number":
            if kind != "number":
                check.halt(f"{option.low} is a number; this chooses by a {kind}", span)
            bounds = [float(check.bounded(text, span)) for text in (option.low, option.high) if text is not None]
            constants = [Ex("constant", (), replace(value.type, literal=True), b, span.line) for b in bounds]
            if len(constants) == 1:
                return Ex("=", (value, constants[0]), TRUTH, None, span.line)
            if bounds[0] > bounds[1]:
                check.halt(f"the range goes downwards: write `{option.high} to {option.low}`", span)
            parts = tuple(
                Ex(sign, (value, c), TRUTH, None, span.line) for sign, c in zip((">=", "<="), constants, strict=True)
            )
            return Ex("and", parts, TRUTH, None, span.line)
        literal = Ex(
            "constant", (), Type("code", literal=True) if option.kind == "code" else Type("text"), option.low, span.line
        )
        return check._compare(compare, "=", value, literal)

    def derive(self, node: tree.Derive, frame: Frame) -> Step:
        self.name_free(node, frame)
        value = self.check.typed(node.value, frame.scope)
        found = value.type
        if found.kind == "unknown":
            raise Halt
        kind: FieldKind = "flag" if found.kind == "truth" else found.kind
        unit = found.unit
        if kind == "number" and unit is not None:
            try:
                parse_unit(unit.code)
            except UnitError:
                if not any(isinstance(q, tree.Into) for q in node.qualifiers) and node.name not in self.declared:
                    self.check.halt(
                        f"the unit of `{node.name}` comes out as {unit.code}: say `into` and a unit", node.value.span
                    )
        spec = FieldSpec(node.name, kind, unit.code if kind == "number" and unit else None, found.codes)
        for q in node.qualifiers:
            if not isinstance(q, tree.Within | tree.Missing | tree.Into | tree.Word | tree.Stamped):
                self.check.halt(
                    "a derived value takes `within`, `missing … when`, `into`, `stamped` and `hidden`", q.span
                )
        cleaning, spec = self.cleaning(node, spec, unit if kind == "number" else None, frame, ())
        late = is_late(value) or any(s.when is not None and is_late(s.when) for s in cleaning.sentinels)
        if late and frame.scope.in_repeat:
            self.check.halt("`before` speaks of the message before and cannot stand in a repeat", node.span)
        self.before = self.before or late
        self.emit(node.name, node.name_span, spec, frame, has(node, "hidden"), late)
        return DeriveStep(node.span.line, node.name, value, spec, cleaning, has(node, "hidden"), late)

    def missing_rule(self, node: tree.MissingRule, frame: Frame) -> Step:
        specs = []
        for name, span in node.names:
            spec = frame.group.get(name)
            if spec is None:
                known = list(frame.group)
                hint = "; hidden values have no reading" if name in frame.scope.names else meant(name, known)
                self.check.halt(f"`{name}` is no field given above{hint}", span)
            specs.append(spec)
        rule = self.check._truth(node.rule, frame.scope)
        return MissingStep(node.span.line, node.reason, tuple(specs), rule, is_late(rule))

    def repeat(self, node: tree.Repeat, frame: Frame) -> Step:
        check, count = self.check, node.count
        source = frame.scope.source or ""
        self.repeats += 1
        number = self.repeats
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
        }[count.kind]
        if source not in allowed:
            check.halt(f"this repeat belongs to {' and '.join(allowed)}; this is {source}", node.span)
        if count.kind == "columns" and not frame.columns:
            check.halt('say first what stands between columns, as in `columns by ";"`', node.span)
        if count.kind == "record" and not frame.records:
            check.halt("say first how records are made, as in `records tag u8, size u8`", node.span)
        value = self.early(check._number(count.value, frame.scope), node.span) if count.value is not None else None
        most = count.most if count.most is not None else 64 if count.kind == "bits" else limits.REPEATS
        if not 1 <= most <= limits.REPEATS:
            check.halt(f"a repeat runs at most {limits.REPEATS} times", node.span)
        each = None
        direction = ""
        if node.each:
            each = self.early(check._number(node.each[0], frame.scope), node.each[0].span)
            each = check._to_scale_of(Ex("constant", (), Type("number", SECOND), 1.0), each, node.each[0].span)
            direction = node.each[1]
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
        self.readings += most * len(inner.group) if cursor else 0
        if self.readings > limits.READINGS_PER_MESSAGE:
            check.halt(
                f"a message gives at most {limits.READINGS_PER_MESSAGE} readings: bound the repeat with `up to`",
                node.span,
            )
        plain = any(isinstance(step, ReadStep | ValueStep | SpanStep | DeriveStep) and not step.hidden for step in body)
        moves = (
            each is not None
            or not plain
            or any(analysis.sets_own(step) for step in body)
            or any("{" in name for name in inner.group)
        )
        if len(inner.group) and not moves:
            check.warn(
                "every repeat gives its readings the same time, so that only the last stays: add `each 10 min earlier`",
                node.span,
            )
        for name in list(frame.scope.inner):
            if (
                name in inner.scope.names
                and name not in outer_names
                and (frame.scope.inner[name][0].kind != inner.scope.names[name].kind)
            ):
                frame.scope.inner.pop(name)
        for name, found in {**inner.scope.names, **{n: t for n, (t, _) in inner.scope.inner.items()}}.items():
            if name not in outer_names and name in inner.scope.names:
                ids = frame.scope.inner[name][1] if name in frame.scope.inner else frozenset()
                frame.scope.inner[name] = (found, ids | {number})
        self.keep(inner)
        carried = tuple(sorted(analysis.previous(body)))
        advance = analysis.advance(body) if cursor else None
        frame.last = None
        if frame.used is not None and cursor:
            frame.used = None
        framing = Framing(**vars(count.framing)) if count.framing else None
        if framing:
            self.framing(framing, node.span)
        paths = tuple(count.paths)
        return RepeatStep(
            node.span.line,
            number,
            count.kind,
            value,
            most,
            paths,
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

    def framing(self, framing: Framing, span: Span) -> None:
        numbers = [n for n in (framing.start, framing.end, framing.escape, framing.xor) if n is not None]
        if any(not 0 <= n <= 255 for n in numbers):
            self.check.halt("the bytes of a frame lie between 0 and 0xFF", span)
        marks = [n for n in (framing.start, framing.end, framing.escape) if n is not None]
        if len(set(marks)) != len(marks):
            self.check.halt("start, end and escape of a frame are different bytes", span)

    def open(self, node: tree.Open, frame: Frame) -> Step:
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

    def region(self, address: tree.Address, frame: Frame) -> tuple[Extent | None, At | None]:
        source = frame.scope.source
        match address:
            case tree.InDocument():
                self.only(DOCUMENTS, "at", address.span, frame)
                return None, At("path", address.paths[0])
            case tree.InColumn():
                self.only(("text",), "column", address.span, frame)
                if not frame.columns:
                    self.check.halt('say first what stands between columns, as in `columns by ";"`', address.span)
                return None, At("column", first=address.first, last=address.last)
            case tree.InRest() if source == "text":
                return None, At("rest")
        self.only(STORED, "a place in bytes", address.span, frame)
        return self.extent(address, frame), None

    def record_split(self, node: tree.Records, frame: Frame) -> Step:
        self.only(("bytes",), "records", node.span, frame)
        frame.records = True
        raws = []
        for storage in (node.tag, node.size):
            raw = raw_of(self.check.halt, tree.InNext(node.span, None, None), storage, frame.scope.counting, node.span)
            if raw.storage not in ("u", "varint"):
                self.check.halt("tag and size of a record are `u8`, `u16`, `u32` or `varint`", node.span)
            raws.append(raw)
        frame.used = None
        first, last = node.first, node.last
        base = frame.scope.counting.first
        if first is not None and first > 0:
            first -= base
        return RecordsStep(node.span.line, first, last, raws[0], raws[1], node.once)

    def hand(self, node: tree.Hand, frame: Frame) -> Step:
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

    def constant(self, node: tree.Constant, frame: Frame) -> None:
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

    def table(self, node: tree.Table, frame: Frame) -> None:
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

    def pattern(self, node: tree.Pattern) -> tuple[str, ...]:
        if len(node.text) > limits.PATTERN_CHARACTERS:
            self.check.halt(f"a pattern has at most {limits.PATTERN_CHARACTERS} characters", node.span)
        options = re2.Options()
        options.log_errors = False
        options.max_mem = limits.PATTERN_MEMORY
        try:
            found = re2.compile(node.text, options)
        except re2.error as error:
            detail = (
                error.args[0].decode(errors="replace")
                if error.args and isinstance(error.args[0], bytes)
                else str(error)
            )
            self.check.halt(f"the pattern cannot be read: {detail}", node.span)
        return tuple(found.groupindex)

    def command(self, node: tree.Command, frame: Frame) -> None:
        check = self.check
        if frame.level or frame.conditional or frame.scope.source not in ("bytes", "registers"):
            check.halt("commands stand at the end of a decoder for bytes or registers, on its first level", node.span)
        if any(c.name == node.name for c in self.commands):
            check.halt(f"the command `{node.name}` stands already above", node.span)
        constants = {c.name: frame.scope.names[c.name] for c in self.constants if c.name in frame.scope.names}
        scope = replace(frame.scope, names=dict(constants), source="bytes", inner={}, late=set(), tables={})
        inner = Frame(scope, {})
        spans, self.spans, self.in_command = self.spans, {}, True
        steps: list[Step] = []
        for statement in node.body:
            try:
                match statement:
                    case tree.Read():
                        step = self.read(statement, inner)
                        if not isinstance(step, ReadStep) or step.raws[0].storage in ("unsigned",):
                            check.halt("a parameter is written as a number, a flag, a code or a time", statement.span)
                        steps.append(step)
                    case tree.Put():
                        raw = raw_of(
                            check.halt, statement.address, statement.storage, scope.counting, statement.span, inner.last
                        )
                        inner.last = raw
                        steps.append(PutStep(statement.span.line, raw, check._number(statement.value, scope)))
                    case tree.Derive():
                        step = self.derive(statement, inner)
                        steps.append(step)
                    case tree.FrameLine():
                        framing = Framing(**vars(statement.framing))
                        self.framing(framing, statement.span)
                        if framing.escape is None:
                            check.halt("a frame that is written needs an escape", statement.span)
                        steps.append(FrameStep(statement.span.line, framing))
                    case _:
                        check.halt("a command has lines that write, `derive` and `frame`", statement.span)
            except Halt:
                if isinstance(statement, tree.Read | tree.Derive):
                    check.poisoned.add(statement.name)
        self.spans, self.in_command = spans, False
        if any(isinstance(step, FrameStep) for step in steps[:-1]):
            check.error("`frame` is the last line of a command", node.span)
        self.commands.append(CommandPlan(node.name, "bytes", tuple(steps)))

    def keep(self, frame: Frame) -> None:
        for name, spec in frame.group.items():
            known = self.fields.get(name)
            if known is not None and (known.kind, known.unit, known.wide) != (spec.kind, spec.unit, spec.wide):
                self.check.error(
                    f"`{name}` is {known.kind} in {known.unit or 'no unit'} elsewhere: two lines of one name must"
                    f" agree",
                    self.spans.get(name, Span(1, 1, 2)),
                )
            self.fields[name] = spec


def _bytes_unread(work: _Decoders, node: tree.Decoder, frame: Frame, steps: tuple[Step, ...], tail: int) -> None:
    """Warns of bytes that no line reads, where the length is fixed and every place is."""
    if frame.used is None or any(
        isinstance(s, RepeatStep | RecordsStep | OpenStep | HandStep | SkipStep) or analysis.bodies(s) for s in steps
    ):
        return
    if any(isinstance(s, ReadStep) and any(r.place.mode == "next" for r in s.raws) for s in steps) or any(
        isinstance(s, SpanStep) for s in steps
    ):
        return
    lengths = [s.low.value for s in steps if isinstance(s, LengthStep) and s.high is s.low and s.low.op == "constant"]
    if not lengths:
        return
    tail = max(tail, 1 if any(analysis.checks_end(e) for s in steps for e in analysis.expressions(s)) else 0)
    unread = [
        b
        for b in range(int(lengths[-1]) - tail)
        if b not in frame.used and not any(b == analysis.read_byte(e) for s in steps for e in analysis.expressions(s))
    ]
    if unread:
        base = frame.scope.counting.first
        shown = ", ".join(str(b + base) for b in unread[:6]) + (" and more" if len(unread) > 6 else "")
        work.check.warn(f"no line reads byte{'s' if len(unread) > 1 else ''} {shown}", node.span)


def check_decoder(
    text: str, declared: Mapping[str, FieldSpec] | None = None, owner: str | None = None, others: Others | None = None
) -> tuple[DecoderPlan | None, list[Problem]]:
    """A decoder's plan, or None with the errors; warnings come along either way.

    `declared` are the fields of the device type (converted to, and held against); `owner` its key,
    which the decoder's name must repeat. `others` finds the decoders that it hands on to.
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
    if node.source in DOCUMENTS and node.order:
        checker.error(
            f"a byte order has no meaning in {node.source.upper() if node.source != 'senml' else 'SenML'}", node.span
        )
    if node.counted not in (None, 0, 1):
        checker.error("places are counted from 0 or from 1", node.span)
    work = _Decoders(checker, declared, others)
    scope = Scope({}, None, node.source, node.name, Counting(node.order == "little", node.counted or 0))
    frame = Frame(scope, {}, used={})
    if node.source == "senml":
        scope.names.update(dict.fromkeys(tree.PACK_NAMES, Type("text")))
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
    problems = sorted(checker.problems, key=lambda p: (p.span.line, p.span.column))
    if checker.failed:
        return None, problems
    plan = DecoderPlan(
        node.name,
        node.source,
        steps,
        tuple(work.fields.values()),
        tuple(frame.group.values()),
        tail,
        tuple(work.constants),
        tuple(work.commands),
        work.before,
        frozenset(checker.raw_names),
    )
    return plan, problems
