"""Tree to plan: names, types, units, widths. One mistake yields one problem, and checking goes on."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import NoReturn

from oculum.errors import OculumError

from ..decoding.checksums import NAMES as CHECKS
from ..quantities import Unit, UnitError, between, convert, describe, known_codes, parse_unit, same_scale
from . import limits, tree
from .build import number_signed
from .functions import AGGREGATES, BUILTINS, FUNCTIONS
from .places import Counting, raw_of
from .plan import Ex, FieldSpec, Type
from .problems import Problem, Span, meant

UNKNOWN = Type("unknown")
UNKNOWN_UNIT = "?"  # of a setpoint whose device type is not at hand
PLAIN = parse_unit("1")
DEGREE = parse_unit("deg")
METRE = parse_unit("m")
SECOND = parse_unit("s")
TRUTH = Type("truth")
WANTED = {("number",): "a number", ("truth",): "something true or false"}  # what a function takes, in words


class Halt(OculumError):
    """One expression cannot be typed; its problem is on record already."""


def type_of(spec: FieldSpec) -> Type:
    """The type that a field has in expressions."""
    if spec.kind == "number" or spec.kind == "integer":
        return Type("number", parse_unit(spec.unit or "1"))
    if spec.kind == "flag":
        return TRUTH
    return Type(spec.kind, codes=spec.codes)


@dataclass
class Scope:
    """What an expression may speak of."""

    names: dict[str, Type] = field(default_factory=dict)
    setpoints: Mapping[str, str] | None = None  # name -> unit; None: not allowed here
    source: str | None = None  # bytes, json and the like inside a decoder
    owner: str = "this decoder"
    counting: Counting = Counting()
    inner: dict[str, tuple[Type, frozenset[int]]] = field(default_factory=dict)  # names inside repeats above, and which
    late: set[str] = field(default_factory=set)  # names that speak of the message before
    in_repeat: bool = False
    seen: dict[str, Type] = field(default_factory=dict)  # all names given so far in this repeat, in other arms too
    tables: dict[str, tuple[str | None, tuple[tuple[float, float], ...]]] = field(default_factory=dict)


class Checker:
    """Collects problems while expressions are typed."""

    def __init__(self, problems: Iterable[Problem] = (), poisoned: Iterable[str] = ()) -> None:
        self.problems = list(problems)
        self.poisoned = set(poisoned)
        self.raw_names: set[str] = set()  # fields whose stored number is asked for
        self.depth = 0

    # problems ------------------------------------------------------------
    def error(self, message: str, span: Span, fix: str | None = None) -> None:
        if len(self.problems) < limits.ERRORS_SHOWN:
            self.problems.append(Problem(message, span, fix=fix))

    def warn(self, message: str, span: Span, fix: str | None = None) -> None:
        self.problems.append(Problem(message, span, "warning", fix=fix))

    def halt(self, message: str, span: Span, fix: str | None = None) -> NoReturn:
        self.error(message, span, fix)
        raise Halt

    @property
    def failed(self) -> bool:
        return any(p.severity == "error" for p in self.problems)

    # small parts ---------------------------------------------------------
    def unit(self, code: str, span: Span) -> Unit:
        try:
            return parse_unit(code)
        except UnitError as error:
            tail = meant(code, known_codes())
            self.halt(
                f"{error}{tail}"
                if tail
                else f"{error} of the table; units are UCUM codes such as `Cel`, `mg/L`, `m/s2`",
                span,
            )

    def bounded(self, text: str, span: Span) -> int | float:
        digits = text.lstrip("-")
        if len(digits) > limits.NUMBER_DIGITS + 2:
            self.halt(f"a number has at most {limits.NUMBER_DIGITS} digits", span)
        value = number_signed(text)
        if isinstance(value, float) and value and not 10**-limits.EXPONENT < abs(value) < 10**limits.EXPONENT:
            self.halt(f"a number lies between 1e-{limits.EXPONENT} and 1e{limits.EXPONENT}", span)
        return value

    def fraction(self, text: str, span: Span) -> Fraction:
        self.bounded(text, span)
        if text.lstrip("-").lower().startswith(("0x", "0b")):
            return Fraction(int(number_signed(text)))
        return Fraction(text)

    def duration_us(self, amount: str, unit: str, span: Span) -> int:
        found = self.unit(unit, span)
        if found.dimension != SECOND.dimension:
            self.halt(f"`{amount} {unit}` is no duration: `{unit}` is {describe(found.dimension)}", span)
        micro = round(self.fraction(amount, span) * found.factor * 1_000_000)
        if not 0 <= micro <= limits.DURATION_DAYS * 86_400_000_000:
            self.halt(f"a duration is at most {limits.DURATION_DAYS} d", span)
        return micro

    # expressions ---------------------------------------------------------
    def typed(self, node: tree.Expr, scope: Scope, *, beside: bool = False) -> Ex:
        """The typed expression.

        Raises Halt after recording a problem. `beside`: whether a code may stand beside it, which gives a code text its
        number.
        """
        self.depth += 1
        try:
            if self.depth > limits.EXPRESSION_DEPTH * 2:
                self.halt(f"expressions nest at most {limits.EXPRESSION_DEPTH} deep", node.span)
            found = self._typed(node, scope)
        finally:
            self.depth -= 1
        if not beside and found.type.kind == "code" and found.type.literal:
            self.halt(
                f"`{found.value}` in backticks is the text of a code and has a meaning beside that code only, as in"
                f' mode = `{found.value}`; a text stands in "quotes"',
                node.span,
            )
        return found

    def _coded(self, text: Ex, coded: Ex, span: Span) -> Ex:
        """The text of a code as its number."""
        texts = [t for _, t in coded.type.codes]
        if text.value not in texts:
            self.halt(
                f"`{text.value}` is not one of the texts of this"
                f" code{meant(text.value, texts) or ': ' + ', '.join(texts)}",
                span,
            )
        return replace(text, value=float(next(n for n, t in coded.type.codes if t == text.value)))

    def _typed(self, node: tree.Expr, scope: Scope) -> Ex:
        line = node.span.line
        match node:
            case tree.Quantity():
                value = self.bounded(node.number, node.span)
                unit = self.unit(node.unit, node.unit_span or node.span) if node.unit else PLAIN
                return Ex("constant", (), Type("number", unit, literal=True), float(value), line)
            case tree.String():
                return self._text(node, scope)
            case tree.Truth():
                return Ex("constant", (), TRUTH, node.value, line)
            case tree.CodeText():
                return Ex("constant", (), Type("code", literal=True), node.text, line)
            case tree.Name():
                return self._name(node, scope)
            case tree.Setpoint():
                return self._setpoint(node, scope)
            case tree.PayloadLength():
                if scope.source is None:
                    self.halt("`length` is the length of a payload and has a meaning in decoders only", node.span)
                return Ex("length", (), Type("number", PLAIN), None, line)
            case tree.ByteRange():
                self.halt("a range of bytes stands in a check only, as in `crc16_modbus(bytes 0 to -3)`", node.span)
            case tree.ReadAt():
                return self._read_at(node, scope)
            case tree.Unary(sign="-"):
                inner = self._number(node.value, scope)
                return Ex("negative", (inner,), replace(inner.type, literal=inner.type.literal), None, line)
            case tree.Unary(sign="not"):
                return Ex("not", (self._truth(node.value, scope),), TRUTH, None, line)
            case tree.Unary():
                inner = self.typed(node.value, scope)
                return Ex("missing", (inner,), TRUTH, None, line)
            case tree.Binary(sign="and" | "or"):
                return Ex(node.sign, (self._truth(node.left, scope), self._truth(node.right, scope)), TRUTH, None, line)
            case tree.Binary(sign="+" | "-"):
                return self._sum(node, scope)
            case tree.Binary(sign="*" | "/"):
                return self._product(node, scope)
            case tree.Binary():
                return self._comparison(node, scope)
            case tree.Power():
                return self._power(node, scope)
            case tree.Membership():
                member = self.typed(node.value, scope, beside=True)
                found = [
                    self._compare(node, "=", member, self.typed(option, scope, beside=True)) for option in node.options
                ]
                joined = found[0]
                for option in found[1:]:
                    joined = Ex("or", (joined, option), TRUTH, None, line)
                return joined
            case tree.Choice():
                rule = self._truth(node.rule, scope)
                then, otherwise = (
                    self.typed(node.then, scope, beside=True),
                    self.typed(node.otherwise, scope, beside=True),
                )
                if then.type.kind == "number" and otherwise.type.kind == "number":
                    otherwise = self._to_scale_of(then, otherwise, node.otherwise.span)
                elif then.type.kind != otherwise.type.kind and "unknown" not in (then.type.kind, otherwise.type.kind):
                    self.halt(
                        f"one arm is {then.type.kind}, the other {otherwise.type.kind}: both must be of one kind",
                        node.span,
                    )
                elif then.type.kind == "code":
                    then, otherwise = self._one_code(node, then, otherwise)
                return Ex("choice", (rule, then, otherwise), then.type, None, line)
            case tree.Call():
                return self._call(node, scope)
        raise AssertionError(node)

    def _name(self, node: tree.Name, scope: Scope) -> Ex:
        line = node.span.line
        if node.name not in scope.names and (family := _family(node.name, scope.names)):
            return Ex("name", (), scope.names[family], node.name, line)
        if node.name in scope.names:
            return Ex("name", (), replace(scope.names[node.name], late=node.name in scope.late), node.name, line)
        if scope.source is not None and node.name in BUILTINS:
            return self._builtin(node, scope)
        if node.name in self.poisoned:
            raise Halt
        if node.name in scope.inner:
            self.halt(
                f"`{node.name}` stands in a repeat and has many values: take one of them, as in `max_of({node.name})`",
                node.span,
            )
        close = meant(node.name, [*scope.names, *(BUILTINS if scope.source else ())])
        fix = close.split("`")[1] if close else None
        self.halt(f"`{node.name}` is not a field of `{scope.owner}`{close}", node.span, fix)

    def _builtin(self, node: tree.Name, scope: Scope) -> Ex:
        name = node.name
        if name in ("left", "bits_left") and scope.source not in ("bytes", "registers"):
            self.halt(f"`{name}` counts bytes; this is {scope.source}", node.span)
        if name == "index" and not scope.in_repeat:
            self.halt("`index` counts repeats and has a meaning inside one only", node.span)
        found = Type("time") if name in ("received", "stamp") else Type("number", PLAIN)
        return Ex("builtin", (), found, name, node.span.line)

    def _text(self, node: tree.String, scope: Scope) -> Ex:
        """A text; inside a decoder `{name}` in it stands for a value."""
        pieces = re.split(r"\{([^{}]*)\}", node.text) if scope.source is not None else [node.text]
        if len(pieces) == 1:
            return Ex("constant", (), Type("text"), node.text, node.span.line)
        arguments = []
        for piece in pieces[1::2]:
            match = re.fullmatch(r"([a-z][a-z0-9_]*)(?::0([1-9]))?", piece)
            if not match:
                self.halt(
                    f"`{{{piece}}}` is no name: write `{{serial}}`, or `{{serial:05}}` for five digits", node.span
                )
            arguments.append(self._name(tree.Name(node.span, match[1]), scope))
        widths = tuple(int(piece.split(":0")[1]) if ":" in piece else 0 for piece in pieces[1::2])
        return Ex("template", tuple(arguments), Type("text"), (tuple(pieces[::2]), widths), node.span.line)

    def _setpoint(self, node: tree.Setpoint, scope: Scope) -> Ex:
        if scope.setpoints is None:
            self.halt("setpoints belong to conditions; a decoder does not know them", node.span)
        if node.name not in scope.setpoints:
            self.halt(
                f"`{node.name}` is not a setpoint of `{scope.owner}`{meant(node.name, scope.setpoints)}", node.span
            )
        if scope.setpoints[node.name] == UNKNOWN_UNIT:
            return Ex("setpoint", (), UNKNOWN, node.name, node.span.line)
        return Ex("setpoint", (), Type("number", parse_unit(scope.setpoints[node.name])), node.name, node.span.line)

    def _read_at(self, node: tree.ReadAt, scope: Scope) -> Ex:
        if scope.source not in ("bytes", "registers"):
            self.halt("bytes are read in decoders for bytes only", node.span)
        address: tree.Address = tree.InBytes(node.span, node.first, node.last, node.bits)
        if node.register:
            address = tree.InRegister(node.span, node.first, None, None)
        raw = raw_of(self.halt, address, tree.Storage(node.storage, node.order), scope.counting, node.span)
        return Ex("read", (), Type("number", PLAIN), raw, node.span.line)

    def _truth(self, node: tree.Expr, scope: Scope) -> Ex:
        found = self.typed(node, scope)
        if found.type.kind not in ("truth", "unknown"):
            self.halt(f"found {_shown(found.type)}, expected something true or false, such as a comparison", node.span)
        return found

    def _number(self, node: tree.Expr, scope: Scope) -> Ex:
        found = self.typed(node, scope)
        if found.type.kind not in ("number", "unknown"):
            self.halt(f"found {_shown(found.type)}, expected a number", node.span)
        return found

    def _to_scale_of(self, target: Ex, value: Ex, span: Span, *, difference: bool = False) -> Ex:
        """`value` expressed in the unit of `target`."""
        if "unknown" in (target.type.kind, value.type.kind):
            return value
        want, have = target.type.unit or PLAIN, value.type.unit or PLAIN
        if value.type.literal and have.code == "1" and want.code != "1":
            text = f"{value.value:g}" if isinstance(value.value, float) else "this number"
            self.halt(
                f"{text} has no unit: write it with one, such as `{text} {want.code}`",
                span,
                f"{text} {want.code}" if value.value is not None else None,
            )
        if want.dimension != have.dimension:
            if target.type.literal and want.code == "1":
                self.halt(
                    f"a number without a unit stands against {describe(have.dimension)} in {have.code}: give it a unit",
                    span,
                )
            self.halt(
                f"`{have.code}` is {describe(have.dimension)}, but `{want.code}` is {describe(want.dimension)}", span
            )
        if same_scale(have, want):
            return replace(value, type=replace(value.type, unit=want))
        if value.op == "constant":
            exact = convert(value.value, have, want, difference=difference)
            return replace(value, value=exact, type=replace(value.type, unit=want))
        return Ex(
            "convert", (value,), replace(value.type, unit=want), between(have, want, difference=difference), value.line
        )

    def _sum(self, node: tree.Binary, scope: Scope) -> Ex:
        left, right = self.typed(node.left, scope), self.typed(node.right, scope)
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Ex(node.sign, (left, right), UNKNOWN, None, line)
        if left.type.kind == "time":
            if right.type.kind == "time" and node.sign == "-":
                return Ex("time difference", (left, right), Type("number", SECOND), None, line)
            if right.type.kind != "number" or (right.type.unit or PLAIN).dimension != SECOND.dimension:
                self.halt(f"found {_shown(right.type)}, expected a duration to move a time by", node.right.span)
            seconds = self._to_scale_of(
                Ex("constant", (), Type("number", SECOND), 1.0), right, node.right.span, difference=True
            )
            return Ex("time " + node.sign, (left, seconds), Type("time"), None, line)
        for side, written in ((left, node.left), (right, node.right)):
            if side.type.kind != "number":
                self.halt(f"found {_shown(side.type)}, expected a number", written.span)
        scale = bool((left.type.unit or PLAIN).is_scale or (right.type.unit or PLAIN).is_scale)
        right_is_step = scale and (
            right.type.difference or right.type.literal or (left.type.difference and node.sign == "-")
        )
        if scale and node.sign == "+" and not right_is_step:
            if left.type.difference or left.type.literal:
                left, right = right, left
                right_is_step = True
            else:
                self.halt("two temperatures cannot be added: one of them must be a difference", node.span)
        right = self._to_scale_of(left, right, node.right.span, difference=right_is_step)
        difference = scale and (left.type.difference if right_is_step else node.sign == "-")
        return Ex(node.sign, (left, right), Type("number", left.type.unit, difference), None, line)

    def _product(self, node: tree.Binary, scope: Scope) -> Ex:
        left, right = self._number(node.left, scope), self._number(node.right, scope)
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Ex(node.sign, (left, right), UNKNOWN, None, line)
        lu, ru = left.type.unit or PLAIN, right.type.unit or PLAIN
        if ru.code == "1":
            unit = lu
        elif lu.code == "1" and node.sign == "*":
            unit = ru
        else:
            for side, span in ((left, node.left.span), (right, node.right.span)):
                if (side.type.unit or PLAIN).is_scale and not side.type.difference:
                    self.halt(
                        "a temperature on a scale with its own zero cannot be multiplied or divided; a difference can",
                        span,
                    )
            sign = 1 if node.sign == "*" else -1
            dims = dict(lu.dimension)
            for base, exponent in ru.dimension:
                dims[base] = dims.get(base, 0) + sign * exponent
            dimension = tuple(sorted((b, e) for b, e in dims.items() if e))
            if not dimension and sign == -1 and lu.code == ru.code:
                return Ex(node.sign, (left, right), Type("number", PLAIN), None, line)
            factor = lu.factor * ru.factor if sign == 1 else lu.factor / ru.factor
            if not dimension:
                result = Ex(node.sign, (left, right), Type("number", PLAIN), None, line)
                return (
                    result
                    if factor == 1
                    else Ex(
                        "convert",
                        (result,),
                        Type("number", PLAIN),
                        (float(factor.numerator), 0.0, float(factor.denominator)),
                        line,
                    )
                )
            unit = Unit(f"{lu.code}{'.' if sign == 1 else '/'}{ru.code}".removeprefix("1"), dimension, scale=factor)
        literal = left.type.literal and right.type.literal
        return Ex(
            node.sign,
            (left, right),
            Type("number", unit, left.type.difference or right.type.difference, literal),
            None,
            line,
        )

    def _power(self, node: tree.Power, scope: Scope) -> Ex:
        inner = self._number(node.value, scope)
        exponent = number_signed(node.exponent)
        if abs(exponent) > limits.POWER:
            self.halt(f"a power is at most {limits.POWER}", node.span)
        unit = inner.type.unit or PLAIN
        if unit.dimension:
            if exponent != int(exponent):
                self.halt("a quantity with a unit takes whole powers only", node.span)
            unit = Unit(
                f"({unit.code})^{exponent}",
                tuple((b, e * int(exponent)) for b, e in unit.dimension),
                scale=unit.factor ** int(exponent),
            )
        return Ex("power", (inner,), Type("number", unit), float(exponent), node.span.line)

    def _comparison(self, node: tree.Binary, scope: Scope) -> Ex:
        return self._compare(
            node, node.sign, self.typed(node.left, scope, beside=True), self.typed(node.right, scope, beside=True)
        )

    def _one_code(self, node: tree.Choice, then: Ex, otherwise: Ex) -> tuple[Ex, Ex]:
        """Two arms of one code; the text of a code takes the code of the other arm."""
        if then.type.literal and otherwise.type.literal:
            self.halt("both arms are texts in backticks: one of them must be a code that is read", node.span)
        if then.type.literal:
            return replace(self._coded(then, otherwise, node.then.span), type=otherwise.type), otherwise
        if otherwise.type.literal:
            return then, self._coded(otherwise, then, node.otherwise.span)
        if dict(then.type.codes) != dict(otherwise.type.codes):
            self.halt("the codes of the two arms have different texts", node.span)
        return then, otherwise

    def _compare(self, node: tree.Binary | tree.Membership, sign: str, left: Ex, right: Ex) -> Ex:
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Ex(sign, (left, right), TRUTH, None, line)
        if left.type.kind == "number" and right.type.kind == "number":
            if left.type.literal and not right.type.literal:
                left = self._to_scale_of(right, left, node.span)
            else:
                if (
                    left.type.unit
                    and left.type.unit.is_scale
                    and left.type.difference != right.type.difference
                    and not right.type.literal
                ):
                    self.halt("one side is a temperature, the other a difference of temperatures", node.span)
                right = self._to_scale_of(left, right, node.span, difference=left.type.difference)
            return Ex(sign, (left, right), TRUTH, None, line)
        if sign not in ("=", "!="):
            self.halt(f"{_shown(left.type)} cannot be compared with {_shown(right.type)} by `{sign}`", node.span)
        kinds = {left.type.kind, right.type.kind}
        if kinds == {"code"}:
            coded, text = (right, left) if left.type.literal else (left, right)
            if coded.type.literal:
                self.halt("both sides are texts in backticks: one of them must be a code that is read", node.span)
            if text.type.literal:
                text = self._coded(text, coded, node.span)
            return Ex(sign, (coded, text), TRUTH, None, line)
        if kinds == {"code", "text"}:
            self.halt("the text of a code stands in backticks, as in mode = `normal`", node.span)
        if kinds in ({"text"}, {"truth"}):
            return Ex(sign, (left, right), TRUTH, None, line)
        self.halt(f"{_shown(left.type)} cannot be compared with {_shown(right.type)}", node.span)

    def _call(self, node: tree.Call, scope: Scope) -> Ex:
        name, line = node.function, node.span.line
        if name in CHECKS:
            return self._check(node, scope)
        if name in AGGREGATES and scope.source is not None:
            return self._aggregate(node, scope)
        if name in scope.tables:
            unit, points = scope.tables[name]
            if len(node.arguments) != 1:
                self.halt(f"the table `{name}` takes one number", node.span)
            return Ex(
                "table",
                (self._number(node.arguments[0], scope),),
                Type("number", parse_unit(unit or "1")),
                points,
                line,
            )
        function = FUNCTIONS.get(name)
        if function is None:
            self.halt(
                f"`{name}` is not a"
                f" function{meant(name, [*FUNCTIONS, *CHECKS, *scope.tables, *(AGGREGATES if scope.source else ())])}",
                node.span,
            )
        if len(node.arguments) != len(function.takes) and not (function.many and len(node.arguments) >= 2):
            self.halt(
                f"`{name}` takes {len(function.takes)} values, found {len(node.arguments)}: {function.words}", node.span
            )
        if name in ("before", "previous"):
            return self._earlier(node, scope)
        arguments = [self.typed(argument, scope) for argument in node.arguments]
        takes = (
            function.takes if not function.many else (function.takes[0], *[function.takes[1]] * (len(arguments) - 1))
        )
        for index, (want, written) in enumerate(zip(takes, node.arguments, strict=True)):
            found = arguments[index]
            if found.type.kind == "unknown":
                continue
            if want == "field":
                if found.op != "name":
                    self.halt(f"`{name}` takes the name of a field", written.span)
                self.raw_names.add(str(found.value))
            elif want in ("position", "text", "time"):
                if found.type.kind != want:
                    self.halt(f"`{name}` takes a {want}, found {_shown(found.type)}", written.span)
            elif want == "any":
                continue
            elif want == "like":
                if found.type.kind != arguments[0].type.kind:
                    self.halt(
                        f"`{name}` takes values of one kind, found {_shown(arguments[0].type)} and"
                        f" {_shown(found.type)}",
                        written.span,
                    )
                if found.type.kind == "number":
                    arguments[index] = self._to_scale_of(arguments[0], found, written.span)
            elif found.type.kind != "number":
                self.halt(f"`{name}` takes a number, found {_shown(found.type)}", written.span)
            elif want == "same":
                arguments[index] = self._to_scale_of(arguments[0], found, written.span)
            elif want == "deg":
                if not (found.type.unit or PLAIN).dimension:
                    arguments[index] = replace(found, type=replace(found.type, unit=DEGREE))
                else:
                    arguments[index] = self._to_scale_of(
                        Ex("constant", (), Type("number", DEGREE)), found, written.span
                    )
            elif want == "plain" and (found.type.unit or PLAIN).dimension:
                self.halt(
                    f"`{name}` takes a plain number, found one in {found.type.unit.code if found.type.unit else ''}",
                    written.span,
                )
        gives = {
            "same": replace(arguments[0].type, literal=False) if arguments else UNKNOWN,
            "plain": Type("number", PLAIN),
            "deg": Type("number", DEGREE),
            "m": Type("number", METRE),
            "position": Type("position"),
            "text": Type("text"),
            "truth": TRUTH,
            "time": Type("time"),
        }[function.gives]
        return Ex("call", tuple(arguments), gives, name, line)

    def _check(self, node: tree.Call, scope: Scope) -> Ex:
        """A check over bytes: `crc16_modbus(bytes 0 to -3)`, or `crc(bytes 0 to -3, 16, 0x1021, 0xFFFF, false, 0)`."""
        name = node.function
        if scope.source not in ("bytes", "registers", "text"):
            self.halt(f"`{name}` reads bytes; it stands in decoders for bytes only", node.span)
        span, *rest = node.arguments or (None,)
        if not isinstance(span, tree.ByteRange) or (name != "crc" and rest):
            self.halt(f"`{name}` takes a range of bytes, as in `{name}(bytes 0 to -3)`", node.span)
        parameters: tuple[int, ...] = ()
        if name == "crc":
            if len(rest) != 5:
                self.halt(
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
                self.halt("`crc` takes a width of 8, 16, 24 or 32 bits and numbers that fit into it", node.span)
            parameters = tuple(found)
        first, last = span.first, span.last
        if span.registers:
            if scope.source != "registers" or last < first:
                self.halt("a range of registers goes upwards and stands in decoders for registers", span.span)
        else:
            base = scope.counting.first
            first, last = (p - base if p > 0 else p for p in (first, last))
        return Ex("check", (), Type("number", PLAIN), (name, first, last, span.registers, parameters), node.span.line)

    def _aggregate(self, node: tree.Call, scope: Scope) -> Ex:
        name, line = node.function, node.span.line
        wanted = 2 if name == "join_of" else 1
        if len(node.arguments) != wanted:
            self.halt(f"`{name}` takes {wanted} value{'s' if wanted > 1 else ''}: {AGGREGATES[name]}", node.span)
        within = replace(
            scope, names={**scope.names, **{n: t for n, (t, _) in scope.inner.items()}}, in_repeat=True, inner={}
        )
        value = self.typed(node.arguments[0], within)
        repeats: frozenset[int] | None = None
        for used in _names_in(value):
            if used in scope.inner:
                repeats = scope.inner[used][1] if repeats is None else repeats & scope.inner[used][1]
        if repeats is None or not repeats:
            self.halt(f"`{name}` speaks of lines inside one repeat above: {AGGREGATES[name]}", node.span)
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
            self.halt(
                f"`{name}` takes {WANTED.get(wants, 'a text')}, found {_shown(value.type)}",
                node.arguments[0].span,
            )
        joint = ""
        if name == "join_of":
            mark = node.arguments[1]
            if not isinstance(mark, tree.String):
                self.halt('`join_of` takes what stands between as a text, as in `join_of(word, ",")`', node.span)
            joint = mark.text
        gives = (
            Type("number", PLAIN)
            if name == "count_of"
            else TRUTH
            if name in ("any_of", "all_of")
            else replace(value.type, literal=False)
        )
        return Ex("aggregate", (value,), gives, (name, tuple(sorted(repeats)), joint), line)

    def _earlier(self, node: tree.Call, scope: Scope) -> Ex:
        name = node.function
        argument = node.arguments[0]
        if scope.source is None:
            self.halt(f"`{name}` stands in decoders only", node.span)
        if not isinstance(argument, tree.Name) or (argument.name in BUILTINS and argument.name not in scope.names):
            self.halt(f"`{name}` takes the name of a field", argument.span)
        if name == "previous" and argument.name not in scope.names and argument.name in scope.seen:
            scope = replace(scope, names={**scope.names, argument.name: scope.seen[argument.name]})
        found = self._name(argument, scope)
        if name == "previous":
            if not scope.in_repeat:
                self.halt("`previous` stands inside a repeat; the message before is `before`", node.span)
            return Ex("previous", (), found.type, argument.name, node.span.line)
        if scope.in_repeat:
            self.halt("`before` speaks of the message before and cannot stand in a repeat", node.span)
        if found.type.late:
            self.halt(f"`{argument.name}` itself speaks of the message before", argument.span)
        return Ex("before", (), replace(found.type, late=True), argument.name, node.span.line)


def _family(name: str, names: Mapping[str, Type]) -> str | None:
    """The family of fields that a name belongs to: `temperature_3` to `temperature_{index}`."""
    for template in names:
        if "{" in template and re.fullmatch(re.sub(r"\\\{[a-z0-9_]+\\\}", "[a-z0-9_]+", re.escape(template)), name):
            return template
    return None


def _names_in(ex: Ex) -> set[str]:
    own = {ex.value} if ex.op in ("name", "previous") else set()
    return own.union(*(_names_in(a) for a in ex.args))


def is_late(ex: Ex) -> bool:
    """Whether an expression speaks of the message before."""
    return ex.type.late or any(is_late(a) for a in ex.args)


def _shown(found: Type) -> str:
    if found.kind == "number":
        return f"a number in {found.unit.code}" if found.unit and found.unit.code != "1" else "a plain number"
    return {
        "truth": "true or false",
        "text": "a text",
        "code": "a code",
        "position": "a position",
        "time": "a time",
    }.get(found.kind, found.kind)
