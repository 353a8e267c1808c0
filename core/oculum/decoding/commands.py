"""Commands: parameters to bytes, documents and texts by the lines of the definition, exactly, and back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np

from ..arrays import objects
from ..batches import Decoded, Payloads
from ..clocks import iso
from ..language.decoders.plan import (
    ChooseStep,
    CommandPlan,
    ConstantSpec,
    DecoderPlan,
    DeriveStep,
    EachStep,
    FrameStep,
    Framing,
    PutStep,
    PutTextStep,
    PutValueStep,
    ReadStep,
    RejectStep,
    SkipStep,
    SpanStep,
    Step,
    ValueStep,
    WhenStep,
    WriteStep,
    parameters,
)
from ..language.evaluate import Val, evaluate
from ..language.expressions import Aggregate, Builtin, CheckSum, Ex, Interpolated, Length, Template
from .checksums import check
from .decode import decode
from .numbers import PAD
from .parameters import Parameter, exact, given
from .view import aggregate, at_highest, filled, interpolated
from .writing import Bytes, CommandError, Document, plain_number

__all__ = ["CommandError", "decode_command", "encode_command", "exact"]

Out = Bytes | Document


class _Given:
    """Parameters and constants as expressions see them: those of the command, or of one entry of a list."""

    def __init__(self, values: Mapping[str, Any], parameters_: Mapping[str, Parameter], outer: _Given | None) -> None:
        self.values = dict(values)
        self.parameters = dict(parameters_)
        self.outer = outer
        self.lists: dict[int, list[_Given]] = {} if outer is None else outer.lists
        self.index = 1
        self.listed = ""  # the name of the list that this is an entry of
        self.given: Mapping[str, Any] = {}
        self.out: Out = Bytes()

    def find(self, name: str) -> Any:
        if name in self.parameters:
            return self.parameters[name].seen
        if name in self.values:
            return self.values[name]
        return None if self.outer is None else self.outer.find(name)

    def column(self, name: str) -> Val:
        if name == self.listed:
            return Val("", True)
        found = self.find(name)
        if found is None:
            return Val(0.0, False)
        return Val(found if isinstance(found, str | bool | int) else float(found), True)

    def raw(self, name: str) -> Val:
        if name not in self.parameters:
            return Val(0.0, False) if self.outer is None else self.outer.raw(name)
        stored = self.parameters[name].stored
        return Val(float(stored), True) if isinstance(stored, Fraction | int | float) else Val(0.0, False)

    def setpoint(self, name: str) -> Val:
        raise CommandError("wrong kind", "a command knows no setpoints")

    def special(self, ex: Ex) -> Val:
        match ex:
            case CheckSum():
                return Val(self._check(ex), True)
            case Length():
                return Val(float(len(self.out.payload())), True)
            case Template():
                found = filled(ex, [evaluate(part, self) for part in ex.values], 1)
                return Val(found.values[0], bool(np.all(found.known)))
            case Interpolated():
                found = interpolated(ex, evaluate(ex.value, self))
                return Val(float(found.values), found.state == 1)
            case Builtin(name="index"):
                return Val(float(self.index), True)
            case Aggregate():
                return self._aggregate(ex)
        raise CommandError("wrong kind", f"line {ex.line} speaks of something that a command does not know")

    def _check(self, ex: CheckSum) -> int:
        written = self.out.payload()
        low = ex.first if ex.first >= 0 else len(written) + ex.first
        high = (ex.last if ex.last >= 0 else len(written) + ex.last) + 1
        if not 0 <= low <= high <= len(written):
            raise CommandError("wrong kind", f"line {ex.line}: the check reaches beyond what is written so far")
        data = np.frombuffer(written + bytes(PAD), np.uint8)
        return int(check(ex.name, data, np.array([low]), high - low, ex.parameters)[0])

    def _aggregate(self, ex: Aggregate) -> Val:
        found = [evaluate(ex.value, entry) for number in ex.repeats for entry in self.lists.get(number, [])]
        truth = ex.value.type.kind == "truth"
        values = [part.values for part in found]
        column = np.array(values, bool) if truth else objects(values)
        if ex.value.type.kind in ("number", "time", "code"):
            column = np.array(values, float)
        state = np.array([int(part.known) for part in found], np.int16)
        zero = np.zeros(len(found), np.int64)
        if ex.by is not None:
            ranks = [evaluate(ex.by, entry) for number in ex.repeats for entry in self.lists.get(number, [])]
            sign = 1 if ex.function == "at_max_of" else -1
            rank = np.array([sign * float(part.values) if part.known else np.nan for part in ranks])
            result, known = at_highest(zero, rank, column, state, 1)
            return Val(result[0], bool(known[0] == 1))
        result, known = aggregate(ex.function, zero, column, state, 1, ex.joint, truth)
        return Val(result[0], bool(known[0] == 1))


def constants_of(specs: tuple[ConstantSpec, ...], known: Mapping[str, Any]) -> dict[str, Any]:
    return {spec.name: known.get(spec.name, spec.default) for spec in specs}


def encode_command(
    plan: DecoderPlan, name: str, values: Mapping[str, Any], constants: Mapping[str, Any] | None = None
) -> bytes:
    """The payload of one command.

    values: parameters by name; numbers as numbers or as text, flags as truth values, codes by their text, times as ISO
    8601 texts, lists as lists of such mappings, or of plain values where an entry has one parameter. None stands for
    what is not given. What lies between two steps is refused, unless the line says `nearest`: then it goes to the
    nearer one, half away from zero. Ranges are judged before. Raises CommandError.
    """
    command = plan.command(name)
    if command is None:
        known = ", ".join(c.name for c in plan.commands) or "none"
        raise CommandError("unknown command", f"`{plan.name}` has no command `{name}`; it has {known}")
    everything = _Given(constants_of(plan.constants, constants or {}), {}, None)
    _read(everything, command.parameters, values, f"`{name}`")
    work = _Writing(everything, command.payload)
    work.run(command.steps)
    work.all_used(values)
    return work.out.payload()


def _read(into: _Given, wanted: tuple[WriteStep | EachStep, ...], values: Mapping[str, Any], whose: str) -> None:
    """Holds what is given against the lines of the parameters."""
    names = [step.name for step in wanted]
    for name in values:
        if name not in names:
            takes = ", ".join(sorted(names)) or "none"
            raise CommandError("unknown parameter", f"`{str(name)[:40]}` is no parameter of {whose}; it takes {takes}")
    constants = into.values if into.outer is None else into.outer.values
    for step in wanted:
        value = values.get(step.name)
        if isinstance(step, EachStep):
            into.lists[step.number] = _entries(into, step, value)
            continue
        value = step.default if value is None else value
        if value is not None:
            into.parameters[step.name] = given(step, value, constants)


def _entries(outer: _Given, step: EachStep, value: Any) -> list[_Given]:
    value = [] if value is None else value
    if not isinstance(value, list | tuple):
        raise CommandError("wrong kind", f"`{step.name}` is a list, found {str(value)[:40]}")
    if not step.low <= len(value) <= step.high:
        wanted = f"{step.low}" if step.low == step.high else f"{step.low} to {step.high}"
        raise CommandError("out of range", f"`{step.name}` has {len(value)} entries; {wanted} are allowed")
    own = parameters(step.body)
    found = []
    for number, entry in enumerate(value, 1):
        if not isinstance(entry, Mapping):
            if len(own) != 1:
                names = ", ".join(each.name for each in own)
                raise CommandError("wrong kind", f"entry {number} of `{step.name}` gives {names} by name")
            entry = {own[0].name: entry}
        inner = _Given({}, {}, outer)
        inner.index, inner.listed = number, step.name
        try:
            _read(inner, own, entry, f"`{step.name}`")
        except CommandError as error:
            raise CommandError(error.code, f"entry {number} of `{step.name}`: {error}") from None
        inner.given = entry
        found.append(inner)
    return found


class _Writing:
    """The lines of a command, one after the other."""

    def __init__(self, names: _Given, form: str, out: Out | None = None) -> None:
        self.names, self.form = names, form
        self.out: Out = (Document(form) if form in ("json", "cbor") else Bytes()) if out is None else out
        names.out = self.out
        self.used: set[str] = set()

    def run(self, steps: tuple[Step, ...]) -> None:
        for step in steps:
            match step:
                case WriteStep():
                    self.parameter(step)
                case PutStep():
                    self.number(step)
                case PutTextStep():
                    self.text(step)
                case PutValueStep():
                    assert isinstance(self.out, Document)
                    self.out.put(step.path, self.document_value(step))
                case DeriveStep():
                    found = evaluate(step.value, self.names)
                    self.names.values[step.name] = _one(found.values) if found.known else None
                case RejectStep():
                    self.reject(step)
                case SkipStep():
                    self.skip(step)
                case WhenStep():
                    found = evaluate(step.rule, self.names)
                    self.run(step.body if found.known and found.values else step.otherwise)
                case ChooseStep():
                    self.run(next((b for rule, b in step.arms if self.holds(rule)), step.otherwise))
                case EachStep():
                    self.entries(step)
                case FrameStep():
                    assert isinstance(self.out, Bytes)
                    self.out.out[:] = framed(self.out.payload(), step.framing)
                case _:
                    raise AssertionError(step)

    def holds(self, rule: Ex) -> bool:
        found = evaluate(rule, self.names)
        return bool(found.known and found.values)

    def parameter(self, step: WriteStep) -> None:
        self.used.add(step.name)
        found = self.names.parameters.get(step.name)
        if found is None:
            if step.optional:
                return
            raise CommandError("missing parameter", f"`{step.name}` is not given")
        match step.into, self.out:
            case ReadStep(raws=(raw, *_)), Bytes() as out:
                out.number(raw, found.stored)
            case SpanStep() as span, Bytes() as out:
                out.run(found.stored, span.extent.width if isinstance(span.extent.width, int) else None)
            case ValueStep(places=(at,)), Document() as out:
                out.put(at.path, found.stored)

    def known(self, step: PutStep | PutTextStep | PutValueStep) -> Any:
        found = evaluate(step.value, self.names)
        if not found.known:
            raise CommandError("missing parameter", f"line {step.line} needs a value that is not known")
        return _one(found.values)

    def number(self, step: PutStep) -> None:
        assert isinstance(self.out, Bytes)
        self.out.number(step.raw, Fraction(self.known(step)))

    def text(self, step: PutTextStep) -> None:
        assert isinstance(self.out, Bytes)
        text = str(self.known(step))
        try:
            content = bytes.fromhex(text) if step.hexadecimal else text.encode()
        except ValueError:
            raise CommandError("wrong kind", f'line {step.line}: "{text[:40]}" is no hexadecimal digits') from None
        if step.size is not None and len(content) != step.size:
            raise CommandError(
                "out of range", f"line {step.line}: {step.size} bytes are to be written, there are {len(content)}"
            )
        self.out.run(content, None)

    def document_value(self, step: PutValueStep) -> Any:
        value = self.known(step)
        if step.value.type.kind == "time":
            return iso(int(value))
        return value if isinstance(value, bool | str) else plain_number(Fraction(value))

    def reject(self, step: RejectStep) -> None:
        if step.rule is not None:
            found = evaluate(step.rule, self.names)
            if bool(found.known and found.values) is step.unless or (not found.known and not step.unless):
                return
        raise CommandError("rejected", step.reason)

    def skip(self, step: SkipStep) -> None:
        assert isinstance(self.out, Bytes)
        count = step.count if isinstance(step.count, int) else int(evaluate(step.count, self.names).values)
        self.out.run(bytes(max(count, 0)), None)

    def entries(self, step: EachStep) -> None:
        self.used.add(step.name)
        made = []
        for entry in self.names.lists.get(step.number, []):
            out = Document(self.form) if isinstance(self.out, Document) else self.out
            work = _Writing(entry, self.form, out)
            work.run(step.body)
            work.all_used(entry.given)
            if isinstance(out, Document):
                made.append({} if out.root is None else out.root)
        if isinstance(self.out, Document) and step.path is not None:
            self.out.put(step.path, made)

    def all_used(self, values: Mapping[str, Any]) -> None:
        """Refuses what was given and has gone nowhere: whoever gave it would take it for sent."""
        for name, value in values.items():
            if value is not None and name not in self.used:
                raise CommandError("not used", f"`{name}` has no part in this command, as the others are given")


def _one(value: Any) -> Any:
    return value.item() if isinstance(value, np.ndarray | np.generic) else value


def framed(content: bytes, framing: Framing) -> bytes:
    """`content` between its marks, with what would be a mark escaped."""
    marks = {framing.start, framing.end, framing.escape}
    body = bytearray()
    for byte in content:
        if framing.escape is not None and byte in marks:
            body += bytes([framing.escape, byte ^ (framing.xor or 0)])
        else:
            body.append(byte)
    return bytes([framing.start, *body, framing.end])


def unframed(payload: bytes, framing: Framing) -> bytes:
    out = bytearray()
    turned = False
    for byte in payload[1:-1]:
        if byte == framing.escape and not turned:
            turned = True
            continue
        out.append(byte ^ (framing.xor or 0) if turned else byte)
        turned = False
    return bytes(out)


def decoder_of(plan: DecoderPlan, command: CommandPlan) -> DecoderPlan:
    """A decoder that reads a command back: its parameters are the fields. Raises CommandError for one whose lines do
    not stand one after the other.
    """
    steps: list[Step] = []
    fields = []
    for step in command.steps:
        match step:
            case WriteStep(optional=False, into=into) if not isinstance(into, ValueStep) or into.places:
                steps.append(replace(into, hidden=False, cleaning=replace(into.cleaning, low=None, high=None)))
                fields.append(step.spec)
            case PutStep(raw=raw) if raw.place.mode == "next" and raw.place.width:
                steps.append(SkipStep(step.line, raw.place.width, 8))
            case SkipStep():
                steps.append(step)
            case PutStep() | PutValueStep() | DeriveStep() | RejectStep() | FrameStep():
                pass
            case _:
                raise CommandError("wrong kind", f"line {step.line} of `{command.name}` cannot be read back")
    return DecoderPlan(
        f"{plan.name}_{command.name}", command.payload, tuple(steps), tuple(fields), tuple(fields), 0, plan.constants
    )


def decode_command(plan: DecoderPlan, name: str, payload: bytes, constants: Mapping[str, Any] | None = None) -> Decoded:
    """What a written command says: a batch of one. Raises CommandError for a name that is none."""
    command = plan.command(name)
    if command is None:
        raise CommandError("unknown command", f"`{plan.name}` has no command `{name}`")
    last = command.steps[-1] if command.steps else None
    if isinstance(last, FrameStep):
        payload = unframed(payload, last.framing)
    return decode(decoder_of(plan, command), Payloads.of([payload], [0], None, [constants or {}]))
