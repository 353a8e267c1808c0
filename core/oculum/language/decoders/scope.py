"""What an expression may speak of at one place in a decoder."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from ...checks import NAMES as CHECKS
from ...quantities import parse_unit
from .. import tree
from ..abilities import Ability
from ..build import number_signed
from ..checking import PLAIN, TRUTH, WANTED, Checker, Scope, names_in, shown
from ..expressions import (
    Aggregate,
    Before,
    Builtin,
    CheckSum,
    Constant,
    Ex,
    Interpolated,
    Length,
    Previous,
    Stored,
    Template,
    Type,
)
from ..functions import AGGREGATES, BUILTINS, EARLIER
from . import lines
from .places import Counting, raw_of

BYTES = ("bytes", "registers")


@dataclass
class DecoderScope(Scope):
    """Fields given so far, the payload, repeats, tables."""

    source: str = "bytes"
    counting: Counting = Counting()
    inner: dict[str, tuple[Type, frozenset[int]]] = field(default_factory=dict)  # names inside repeats above, and which
    in_repeat: bool = False
    writing: bool = False  # in a command
    seen: dict[str, Type] = field(default_factory=dict)  # all names given so far in this repeat, in other arms too
    tables: dict[str, tuple[str | None, tuple[tuple[float, float], ...]]] = field(default_factory=dict)
    abilities: frozenset[Ability] = frozenset({Ability.PAYLOAD, Ability.BEFORE, Ability.REPEATS})

    def other_names(self) -> Iterable[str]:
        return [*BUILTINS, *CHECKS, *self.tables, *AGGREGATES, *EARLIER]

    def other_name(self, check: Checker, node: tree.Name) -> Ex | None:
        if node.name in BUILTINS:
            return self._builtin(check, node)
        if node.name in self.inner and node.name not in check.poisoned:
            check.halt(
                f"`{node.name}` stands in a repeat and has many values: take one of them, as in `max_of({node.name})`",
                node.span,
            )
        return None

    def of_payload(self, check: Checker, node: tree.PayloadLength | tree.ReadAt | tree.ByteRange) -> Ex:
        match node:
            case tree.PayloadLength():
                return Length(Type("number", PLAIN, whole=True), node.span.line)
            case tree.ByteRange():
                check.halt("a range of bytes stands in a check only, as in `crc16_modbus(bytes 0 to -3)`", node.span)
            case tree.ReadAt():
                return self._read_at(check, node)

    def call(self, check: Checker, node: tree.Call) -> Ex | None:
        name = node.function
        if name in CHECKS:
            return self._check(check, node)
        if name in AGGREGATES:
            return self._aggregate(check, node)
        if name in EARLIER:
            return self._earlier(check, node)
        if name not in self.tables:
            return None
        unit, points = self.tables[name]
        if len(node.arguments) != 1:
            check.halt(f"the table `{name}` takes one number", node.span)
        value = check.number(node.arguments[0], self)
        return Interpolated(Type("number", parse_unit(unit or "1")), node.span.line, points, value)

    def _builtin(self, check: Checker, node: tree.Name) -> Ex:
        name = node.name
        if self.writing and name != "index":
            check.halt(f"`{name}` speaks of a message that arrives; a command is written", node.span)
        if name in ("left", "bits_left") and self.source not in BYTES:
            check.halt(f"`{name}` counts bytes; this is {self.source}", node.span)
        if name == "index" and not self.in_repeat:
            check.halt("`index` counts repeats and has a meaning inside one only", node.span)
        if name == "stamp" and not self.in_repeat:
            check.stamp_line = check.stamp_line or node.span.line
        found = Type("time") if name in ("received", "stamp") else Type("number", PLAIN, whole=True)
        return Builtin(found, node.span.line, name)

    def text(self, check: Checker, node: tree.String) -> Ex:
        """A text; `{name}` in it stands for a value."""
        pieces = re.split(r"\{([^{}]*)\}", node.text)
        if len(pieces) == 1:
            return Constant(Type("text"), node.span.line, node.text)
        arguments = []
        for piece in pieces[1::2]:
            match = re.fullmatch(r"([a-z][a-z0-9_]*)(?::((?:0[1-9][0-9]?)?(?:\.[0-9])?[xX]?))?", piece)
            if not match or match[2] == "" or "." in (match[2] or "") and (match[2] or "")[-1] in "xX":
                check.halt(
                    f"`{{{piece}}}` is no name: write `{{serial}}`, `{{serial:05}}` for five digits, `{{level:.2}}` for"
                    " two decimals, `{serial:04X}` for hexadecimal digits",
                    node.span,
                )
            argument = check.name(tree.Name(node.span, match[1]), self)
            if match[2] and not match[2].isdigit() and argument.type.kind not in ("number", "unknown"):
                check.halt(f"`{{{piece}}}` writes a number; `{match[1]}` is a {argument.type.kind}", node.span)
            arguments.append(argument)
        forms = tuple(piece.partition(":")[2] for piece in pieces[1::2])
        return Template(Type("text"), node.span.line, tuple(pieces[::2]), forms, tuple(arguments))

    def _read_at(self, check: Checker, node: tree.ReadAt) -> Ex:
        if self.source not in BYTES:
            check.halt("bytes are read in decoders for bytes only", node.span)
        if self.writing:
            check.refuse(
                "a command writes and has no bytes to read; a check may go over what is written so far", node.span
            )
        address: lines.Address = lines.InBytes(node.span, node.first, node.last, node.bits)
        if node.register:
            address = lines.InRegister(node.span, node.first, None, None)
        raw = raw_of(check.halt, address, lines.Storage(node.storage, node.order, node.words), self.counting, node.span)
        whole = not raw.floating
        return Stored(Type("number", PLAIN, whole=whole, wide=whole and raw.bits > 53), node.span.line, raw)

    def _check(self, check: Checker, node: tree.Call) -> Ex:
        """A check over bytes: `crc16_modbus(bytes 0 to -3)`, or `crc(bytes 0 to -3, 16, 0x1021, 0xFFFF, false, 0)`."""
        name = node.function
        if self.source not in (*BYTES, "text"):
            check.halt(f"`{name}` reads bytes; it stands in decoders for bytes only", node.span)
        span, *rest = node.arguments or (None,)
        if not isinstance(span, tree.ByteRange) or (name != "crc" and rest):
            check.halt(f"`{name}` takes a range of bytes, as in `{name}(bytes 0 to -3)`", node.span)
        parameters: tuple[int, ...] = ()
        if name == "crc":
            if len(rest) != 5:
                check.halt(
                    "`crc` takes a range, width, polynomial, start, whether reflected, and what is XORed at the end:"
                    " `crc(bytes 0 to -3, 16, 0x1021, 0xFFFF, false, 0)`",
                    node.span,
                )
            found = [
                int(e.value)
                if isinstance(e, tree.Truth)
                else int(number_signed(e.number))
                if isinstance(e, tree.Quantity) and not e.unit
                else -1
                for e in rest
            ]
            if found[0] not in (8, 16, 24, 32) or not all(0 <= f < 2 ** found[0] for f in found[1:]):
                check.halt("`crc` takes a width of 8, 16, 24 or 32 bits and numbers that fit into it", node.span)
            parameters = tuple(found)
        first, last = span.first, span.last
        if span.so_far and self.source not in BYTES:
            check.halt("what is read so far is known of bytes; say which, as in `bytes 0 to -3`", span.span)
        if span.so_far and self.writing:
            span, last = replace(span, so_far=False), -1
        elif span.registers:
            if self.source != "registers" or last < first:
                check.halt("a range of registers goes upwards and stands in decoders for registers", span.span)
        else:
            base = self.counting.first
            first, last = (p - base if p > 0 else p for p in (first, last))
        until = check.number(span.until, self) if span.until is not None else None
        if until is not None and self.writing:
            check.halt("what a command checks ends at a byte that is known", span.span)
        whole = Type("number", PLAIN, whole=True)
        base = self.counting.first
        return CheckSum(whole, node.span.line, name, first, last, span.registers, parameters, until, base, span.so_far)

    def _aggregate(self, check: Checker, node: tree.Call) -> Ex:
        name, line = node.function, node.span.line
        ranked = name in ("at_max_of", "at_min_of")
        wanted = 2 if name == "join_of" or ranked else 1
        if len(node.arguments) != wanted:
            check.halt(f"`{name}` takes {wanted} value{'s' if wanted > 1 else ''}: {AGGREGATES[name]}", node.span)
        within = replace(
            self, names={**self.names, **{n: t for n, (t, _) in self.inner.items()}}, in_repeat=True, inner={}
        )
        value = check.typed(node.arguments[0], within)
        by = check.number(node.arguments[0], within) if ranked else None
        if ranked:
            value = check.typed(node.arguments[1], within)
        repeats: frozenset[int] | None = None
        for used in (*names_in(value), *(names_in(by) if by is not None else ())):
            if used in self.inner:
                repeats = self.inner[used][1] if repeats is None else repeats & self.inner[used][1]
        if repeats is None or not repeats:
            check.halt(f"`{name}` speaks of lines inside one repeat above: {AGGREGATES[name]}", node.span)
        kind = value.type.kind
        wants = {
            "sum_of": ("number",),
            "mean_of": ("number",),
            "min_of": ("number",),
            "max_of": ("number",),
            "any_of": ("truth",),
            "all_of": ("truth",),
            "join_of": ("text",),
        }.get(name)
        if wants and kind not in (*wants, "unknown"):
            check.halt(
                f"`{name}` takes {WANTED.get(wants, 'a text')}, found {shown(value.type)}",
                node.arguments[0].span,
            )
        joint = ""
        if name == "join_of":
            mark = node.arguments[1]
            if not isinstance(mark, tree.String):
                check.halt('`join_of` takes what stands between as a text, as in `join_of(word, ",")`', node.span)
            joint = mark.text
        gives = (
            Type("number", PLAIN, whole=True)
            if name in ("count_of", "different_of")
            else TRUTH
            if name in ("any_of", "all_of")
            else replace(check.inexact(value, node.span) if kind == "number" else value.type, literal=False)
        )
        return Aggregate(gives, line, name, tuple(sorted(repeats)), joint, value, by)

    def _earlier(self, check: Checker, node: tree.Call) -> Ex:
        name = node.function
        if self.writing:
            check.halt(f"`{name}` speaks of what arrived before; a command is written", node.span)
        if len(node.arguments) != 1:
            check.halt(f"`{name}` takes one field: {EARLIER[name]}", node.span)
        argument, scope = node.arguments[0], self
        if not isinstance(argument, tree.Name) or (argument.name in BUILTINS and argument.name not in self.names):
            check.halt(f"`{name}` takes the name of a field", argument.span)
        if name == "previous" and argument.name not in self.names and argument.name in self.seen:
            scope = replace(self, names={**self.names, argument.name: self.seen[argument.name]})
        found = check.name(argument, scope)
        if name == "previous":
            if not self.in_repeat:
                check.halt("`previous` stands inside a repeat; the message before is `before`", node.span)
            return Previous(found.type, node.span.line, argument.name)
        if self.in_repeat:
            check.halt("`before` speaks of the message before and cannot stand in a repeat", node.span)
        if found.type.late:
            check.halt(f"`{argument.name}` itself speaks of the message before", argument.span)
        return Before(replace(found.type, late=True), node.span.line, argument.name)
