"""Checking commands: parameters and where they are written, and what follows from them."""

from __future__ import annotations

from dataclasses import replace
from typing import NoReturn, get_args

from .. import limits
from ..build import number_signed
from ..checking import Checker, Halt
from ..expressions import Type
from ..fields import FieldSpec
from ..problems import Span, meant
from ..stored import Raw
from . import lines
from .places import raw_of
from .plan import (
    CommandPlan,
    ConstantSpec,
    EachStep,
    Extent,
    FrameStep,
    Framing,
    PutStep,
    PutTextStep,
    PutValueStep,
    ReadStep,
    SpanStep,
    Step,
    ValueStep,
    WriteStep,
)
from .reads import DOCUMENTS, Frame, Reads, has
from .scope import DecoderScope

PAYLOADS = {"json": "json", "cbor": "cbor", "senml": "json", "text": "text"}  # by what the decoder reads; else bytes
LINES = (
    lines.Read
    | lines.Put
    | lines.Derive
    | lines.Reject
    | lines.When
    | lines.Choose
    | lines.Repeat
    | lines.Skip
    | lines.FrameLine
)
WRITTEN = ("start", "next", "same", "stream")


class Commands(Reads):
    """The part of a decoder's check that concerns its commands."""

    repeats: int
    constants: list[ConstantSpec]
    commands: list[CommandPlan]

    def body(self, statements: tuple[lines.Statement, ...], frame: Frame) -> tuple[Step, ...]:
        raise NotImplementedError

    def gathered(self, number: int, scope: DecoderScope, inner: DecoderScope, outer_names: set[str]) -> None:
        raise NotImplementedError

    def framing(self, framing: Framing, span: Span) -> None:
        raise NotImplementedError

    def command(self, node: lines.Command, frame: Frame) -> None:
        check = self.check
        if frame.level or frame.conditional:
            check.halt("commands stand at the end of a decoder, on its first level", node.span)
        if any(c.name == node.name for c in self.commands):
            check.halt(f"the command `{node.name}` stands already above", node.span)
        payload = node.payload or PAYLOADS.get(frame.scope.source, "bytes")
        scope = replace(
            frame.scope,
            names={c.name: frame.scope.names[c.name] for c in self.constants if c.name in frame.scope.names},
            source=payload,
            inner={},
            seen={},
            late=set(),
            writing=True,
        )
        inner = Frame(scope, {})
        spans, self.spans, self.in_command = self.spans, {}, True
        self.taken: dict[str, int] = {}
        self.paths: dict[lines.Path, int] = {}
        self.foresee(node.body, inner)
        steps = self.body(node.body, inner)
        self.spans, self.in_command = spans, False
        if any(isinstance(step, FrameStep) for step in steps[:-1]):
            check.error("`frame` is the last line of a command", node.span)
        if not steps and not check.failed:
            check.error("this command writes nothing", node.span)
        self.commands.append(CommandPlan(node.name, payload, steps))

    def foresee(self, statements: tuple[lines.Statement, ...], frame: Frame) -> None:
        """What parameters are, before any line is looked at: all of them are given at once, so that a line may speak of
        one that is written further down. Mistakes are told later.
        """
        kept, self.check = self.check, Checker([], set(), self.check.published)
        seen = replace(frame, scope=replace(frame.scope, names=dict(frame.scope.names)), maybe=set())
        self._foresee(statements, seen)
        self.check = kept
        self.spans.clear()
        frame.maybe |= seen.scope.names.keys() - frame.scope.names.keys()
        frame.scope.names, frame.scope.inner = seen.scope.names, seen.scope.inner

    def _foresee(self, statements: tuple[lines.Statement, ...], frame: Frame) -> None:
        for statement in statements:
            match statement:
                case lines.Read():
                    try:
                        self.read(statement, frame)
                    except Halt:
                        self.check.problems.clear()
                case lines.Repeat():
                    self.repeats += 1
                    outer = set(frame.scope.names)
                    inner = replace(frame, scope=replace(frame.scope, names=dict(frame.scope.names), inner={}))
                    self._foresee(statement.body, inner)
                    self.gathered(self.repeats, frame.scope, inner.scope, outer)
                    frame.scope.inner[statement.count.name] = Type("text"), frozenset({self.repeats})
                case lines.When():
                    self._foresee((*statement.body, *statement.otherwise), frame)
                case lines.Choose():
                    self._foresee(tuple(s for arm in statement.arms for s in arm.body) + statement.otherwise, frame)

    def in_a_command(self, node: lines.Statement, frame: Frame) -> Step | None:
        """A line of a command that decoders do not have; None for one that says the same in both."""
        check, line = self.check, node.span.line
        if not isinstance(node, get_args(LINES)):
            check.halt(
                "a command has parameters, lines with `=`, `derive`, `reject`, `when`, `choose`, `repeat over`, `skip`"
                " and `frame`",
                node.span,
            )
        match node:
            case lines.Read():
                return self.parameter(node, frame)
            case lines.Put():
                return self.put(node, frame)
            case lines.Derive(qualifiers=(first, *_)):
                check.refuse("a value that a command derives takes no clauses: they would do nothing", first.span)
            case lines.Reject(failure=str()):
                check.halt("a command is refused with its reason alone", node.span)
            case lines.Skip(bits=True):
                check.halt("a command leaves whole bytes empty: `skip 2 bytes`", node.span)
            case lines.Repeat():
                return self.entries(node, frame)
            case lines.FrameLine():
                if frame.scope.source != "bytes" or frame.conditional or frame.level:
                    check.halt("`frame` is the last line of a command for bytes", node.span)
                framing = Framing(**vars(node.framing))
                self.framing(framing, node.span)
                if framing.escape is None:
                    check.halt("a frame that is written needs an escape", node.span)
                return FrameStep(line, framing)
        return None

    # parameters ----------------------------------------------------------------
    def parameter(self, node: lines.Read, frame: Frame) -> WriteStep:
        check = self.check
        if node.name in self.taken:
            check.halt(f"`{node.name}` stands already in line {self.taken[node.name]}", node.name_span)
        self.taken[node.name] = node.span.line
        if "{" in node.name:
            check.halt("a parameter has a name of its own, without braces", node.name_span)
        frame.maybe.add(node.name)
        step = self.read(node, frame)
        if isinstance(node.kind, lines.PositionKind) or isinstance(node.kind, lines.Flag) and node.kind.present:
            check.halt("a parameter is a number, a flag, a code, a time or a text", node.kind.span)
        match step:
            case ReadStep():
                self.can_be_written(step.raws[0], node)
            case SpanStep():
                if not isinstance(step.extent.width, int | None) or step.extent.mode not in ("next", "rest"):
                    check.halt("a command writes a text as `next 8 bytes`, or as `rest`", node.address.span)
            case ValueStep():
                if step.places and step.places[0].mode != "path":
                    check.halt("a command writes no headers and no topics", node.address.span)
                for at in step.places:
                    self.fill(at.path, node.address.span, frame)
        assert isinstance(step, ReadStep | SpanStep | ValueStep)
        choices = next((q.texts for q in node.qualifiers if isinstance(q, lines.OneOf)), ())
        default = self.default(node, step.spec)
        if choices and default is not None and default not in choices:
            check.halt(f'"{default}" is none of the texts of `one of`{meant(str(default), choices)}', node.span)
        if default is not None and has(node, "optional"):
            check.halt("a parameter with a default is never left out: `optional` would do nothing", node.span)
        return WriteStep(
            node.span.line,
            node.name,
            step.spec,
            step,
            step.cleaning.low,
            step.cleaning.high,
            default,
            has(node, "optional"),
            has(node, "nearest") or check.published,
            choices,
            self.sizes(node, step),
        )

    def can_be_written(self, raw: Raw, node: lines.Read | lines.Put) -> None:
        wanted = (*WRITTEN, "rest") if raw.storage == "unsigned" else WRITTEN
        if raw.place.mode not in wanted:
            span = node.address.span if node.address is not None else node.span
            self.check.halt("a command writes at `next`, `same`, `byte 3` and by bits", span)

    def fill(self, path: lines.Path, span: Span, frame: Frame) -> None:
        """Notes where a document is written; raises Halt where that cannot be, or something else stands."""
        check = self.check
        for part in path:
            if isinstance(part, lines.Keyed):
                check.halt("a command writes to names and numbers of a document: it looks for nothing in it", span)
            index = part.number if isinstance(part, lines.Index) else part
            listed = isinstance(part, lines.Index) or frame.scope.source == "json"
            if isinstance(index, int) and listed and not 0 <= index < limits.REPEATS_COUNTED:
                check.halt(f"a list in a command has 0 to {limits.REPEATS_COUNTED - 1} as places", span)
        for other, line in self.paths.items():
            short, long = sorted((other, path), key=len)
            if other == path and frame.conditional or long[: len(short)] != short:
                continue
            check.halt(f"line {line} writes there already", span)
        self.paths[path] = span.line

    def sizes(self, node: lines.Read, step: ReadStep | SpanStep | ValueStep) -> tuple[int, int] | None:
        """How many bytes a text may have."""
        if step.spec.kind != "text":
            return None
        sized = next((q for q in node.qualifiers if isinstance(q, lines.Sized)), None)
        extent = step.extent if isinstance(step, SpanStep) else Extent("rest")
        if extent.width is not None:
            assert isinstance(extent.width, int)
            if sized is not None and sized.most is not None:
                self.check.halt(
                    f"the place takes {extent.width} bytes: a text of any size stands at `rest`", sized.span
                )
            return 0 if has(node, "padded") else extent.width, extent.width
        if has(node, "padded"):
            self.check.halt("`padded` fills up to a size: say which, as in `next 8 bytes`", node.span)
        if sized is None:
            return 0, limits.TEXT_CHARACTERS
        most = sized.count if sized.most is None else sized.most
        if not 0 <= sized.count <= most <= limits.TEXT_CHARACTERS:
            self.check.halt(f"a text has 0 to {limits.TEXT_CHARACTERS} bytes, the smaller number first", sized.span)
        return sized.count, most

    def default(self, node: lines.Read, spec: FieldSpec) -> object:
        found = next((q for q in node.qualifiers if isinstance(q, lines.Default)), None)
        if found is None:
            return None
        word = found.value.word
        if spec.kind == "code":
            if word not in [text for _, text in spec.codes]:
                self.check.halt(
                    f"`{word}` is not one of the texts of this code{meant(word, [t for _, t in spec.codes])}",
                    found.span,
                )
            return word
        if spec.kind == "flag" and found.value.kind == "truth":
            return word == "true"
        if spec.kind in ("number", "integer") and found.value.kind == "number":
            return number_signed(word)
        if spec.kind in ("text", "time") and found.value.kind == "text":
            return word
        self.check.halt(f"`{word}` is no {spec.kind}", found.span)

    # what follows from parameters ----------------------------------------------
    def put(self, node: lines.Put, frame: Frame) -> Step:
        check, scope = self.check, frame.scope
        address, payload, line = node.address, scope.source, node.span.line
        if isinstance(node.storage, lines.Storage):
            if payload != "bytes":
                self.not_here("a number in bytes", payload, node)
            assert address is not None
            raw = raw_of(check.halt, address, node.storage, scope.counting, node.span, frame.last)
            self.can_be_written(raw, node)
            frame.last = raw
            value = check.typed(node.value, scope)
            return PutStep(line, raw, value if value.type.kind == "truth" else check.number(node.value, scope))
        value = check.typed(node.value, scope)
        if node.storage is None:
            if payload not in DOCUMENTS:
                self.not_here("`at`", payload, node)
            assert isinstance(address, lines.InDocument)
            if value.type.kind not in ("number", "truth", "text", "time", "unknown"):
                check.halt(
                    f"a document takes a number, a truth, a text or a time, no {value.type.kind}", node.value.span
                )
            self.fill(address.paths[0], address.span, frame)
            return PutValueStep(line, address.paths[0], value)
        if value.type.kind not in ("text", "unknown"):
            check.halt(f'`{node.storage} =` takes a text, as in `"SET {{address}}"`', node.value.span)
        size: int | None = None
        match address:
            case None | lines.InNext(width=None, bits=None):
                pass
            case lines.InNext(width=int(width), bits=None):
                size = width
            case _:
                check.halt("a text is written behind what stands already: `next text = …`", node.span)
        if payload not in ("bytes", "text") or (payload == "text" and node.storage == "hex"):
            self.not_here(f"`{node.storage} =`", payload, node)
        frame.last = None
        return PutTextStep(line, value, node.storage == "hex", size)

    def not_here(self, what: str, payload: str, node: lines.Put) -> NoReturn:
        form = {"bytes": "next u8 = 1", "text": 'text = "SET {name}"'}.get(payload, 'at cfg.mode = "eco"')
        self.check.halt(f"{what} has no place in a command as {payload}: write `{form}`", node.span)

    def entries(self, node: lines.Repeat, frame: Frame) -> Step:
        check, count = self.check, node.count
        if count.kind != "parameter":
            check.halt(
                "a command repeats over a parameter that is a list, as in `repeat over slots 1 to 8 times`", node.span
            )
        if frame.level:
            check.halt("a list of a command stands on its first level", node.span)
        if count.name in self.taken:
            check.halt(f"`{count.name}` stands already in line {self.taken[count.name]}", node.span)
        self.taken[count.name] = node.span.line
        if not 0 <= count.first <= count.last <= limits.REPEATS_COUNTED or count.last == 0:
            check.halt(f"a list has 0 to {limits.REPEATS_COUNTED} entries, the smaller number first", node.span)
        documents = frame.scope.source in DOCUMENTS
        if bool(count.paths) != documents:
            check.halt(
                "say where the list stands, as in `repeat at entries over slots 1 to 8 times`"
                if documents
                else "`at` belongs to documents: write `repeat over slots 1 to 8 times`",
                node.span,
            )
        for path in count.paths:
            self.fill(path, node.span, frame)
        outer = frame.scope.inner.get(count.name)
        number = min(outer[1]) if outer is not None else 0
        scope = replace(frame.scope, names=dict(frame.scope.names), inner={}, in_repeat=True, seen={})
        inner = Frame(scope, {}, level=frame.level + 1)
        self.foresee(node.body, inner)
        paths, self.paths = self.paths, {}
        body = self.body(node.body, inner)
        self.paths = paths
        if body and not any(isinstance(step, WriteStep) for step in body):
            check.halt("the block of a list has at least one parameter on its first level", node.span)
        path_ = count.paths[0] if count.paths else None
        frame.last = None
        return EachStep(node.span.line, number, count.name, count.first, count.last, path_, body)
