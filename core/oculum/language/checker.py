"""Tree to plan: names, types, units, widths. One mistake yields one problem, and checking goes on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import NoReturn

from ..decoding.checksums import NAMES as CHECKS
from ..quantities import Unit, UnitError, convert, describe, known_codes, parse_unit
from . import limits, tree
from .functions import FUNCTIONS
from .parser import number_signed
from .places import raw_of
from .plan import Ex, FieldSpec, Type
from .problems import Problem, Span, meant

UNKNOWN = Type("unknown")
PLAIN = parse_unit("1")
DEGREE = parse_unit("deg")
METRE = parse_unit("m")
SECOND = parse_unit("s")
TRUTH = Type("truth")


class Halt(Exception):
    """One expression cannot be typed; its problem is on record already."""


def type_of(spec: FieldSpec) -> Type:
    """The type that a field has in expressions."""
    if spec.kind in ("number", "integer"):
        return Type("number", parse_unit(spec.unit or "1"))
    if spec.kind == "flag":
        return TRUTH
    return Type({"code": "code", "text": "text", "position": "position", "time": "time"}[spec.kind], codes=spec.codes)


@dataclass
class Scope:
    """What an expression may speak of."""

    names: dict[str, Type] = field(default_factory=dict)
    setpoints: Mapping[str, str] | None = None  # name -> unit; None: not allowed here
    source: str | None = None  # bytes or json inside a decoder
    owner: str = "this decoder"


class Checker:
    """Collects problems while expressions are typed."""

    def __init__(self, problems: Iterable[Problem] = (), poisoned: Iterable[str] = ()) -> None:
        self.problems = list(problems)
        self.poisoned = set(poisoned)
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
            self.halt(f"{error}{tail}" if tail else f"{error} of the table; units are UCUM codes such as `Cel`, `mg/L`, `m/s2`", span)

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
        micro = round(self.fraction(amount, span) * Fraction(found.factor) * 1_000_000)
        if not 0 <= micro <= limits.DURATION_DAYS * 86_400_000_000:
            self.halt(f"a duration is at most {limits.DURATION_DAYS} d", span)
        return micro

    # expressions ---------------------------------------------------------
    def typed(self, node: tree.Expr, scope: Scope) -> Ex:
        """The typed expression. Raises Halt after recording a problem."""
        self.depth += 1
        try:
            if self.depth > limits.EXPRESSION_DEPTH * 2:
                self.halt(f"expressions nest at most {limits.EXPRESSION_DEPTH} deep", node.span)
            return self._typed(node, scope)
        finally:
            self.depth -= 1

    def _typed(self, node: tree.Expr, scope: Scope) -> Ex:
        line = node.span.line
        match node:
            case tree.Quantity():
                value = self.bounded(node.number, node.span)
                unit = self.unit(node.unit, node.unit_span or node.span) if node.unit else PLAIN
                return Ex("constant", (), Type("number", unit, literal=True), float(value), line)
            case tree.String():
                return Ex("constant", (), Type("text"), node.text, line)
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
                member = self.typed(node.value, scope)
                found = [self._compare(node, "=", member, self.typed(option, scope)) for option in node.options]
                joined = found[0]
                for option in found[1:]:
                    joined = Ex("or", (joined, option), TRUTH, None, line)
                return joined
            case tree.Choice():
                rule = self._truth(node.rule, scope)
                then, otherwise = self.typed(node.then, scope), self.typed(node.otherwise, scope)
                if then.type.kind == "number" and otherwise.type.kind == "number":
                    otherwise = self._to_scale_of(then, otherwise, node.otherwise.span)
                elif then.type.kind != otherwise.type.kind and "unknown" not in (then.type.kind, otherwise.type.kind):
                    self.halt(f"one arm is {then.type.kind}, the other {otherwise.type.kind}: both must be of one kind", node.span)
                return Ex("choice", (rule, then, otherwise), then.type, None, line)
            case tree.Call():
                return self._call(node, scope)
        raise AssertionError(node)

    def _name(self, node: tree.Name, scope: Scope) -> Ex:
        if node.name in scope.names:
            return Ex("name", (), scope.names[node.name], node.name, node.span.line)
        if node.name in self.poisoned:
            raise Halt
        close = meant(node.name, scope.names)
        fix = close.split("`")[1] if close else None
        self.halt(f"`{node.name}` is not a field of `{scope.owner}`{close}", node.span, fix)

    def _setpoint(self, node: tree.Setpoint, scope: Scope) -> Ex:
        if scope.setpoints is None:
            self.halt("setpoints belong to conditions; a decoder does not know them", node.span)
        if node.name not in scope.setpoints:
            self.halt(f"`{node.name}` is not a setpoint of `{scope.owner}`{meant(node.name, scope.setpoints)}", node.span)
        return Ex("setpoint", (), Type("number", parse_unit(scope.setpoints[node.name])), node.name, node.span.line)

    def _read_at(self, node: tree.ReadAt, scope: Scope) -> Ex:
        if scope.source != "bytes":
            self.halt("bytes are read in decoders for bytes only", node.span)
        address = tree.InBytes(node.span, node.first, node.last, node.bits)
        raw = raw_of(self.halt, address, node.storage, node.order == "little", node.span)
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
            self.halt(f"{text} has no unit: write it with one, such as `{text} {want.code}`", span, f"{text} {want.code}" if value.value is not None else None)
        if want.dimension != have.dimension:
            if target.type.literal and want.code == "1":
                self.halt(f"a number without a unit stands against {describe(have.dimension)} in {have.code}: give it a unit", span)
            self.halt(f"`{have.code}` is {describe(have.dimension)}, but `{want.code}` is {describe(want.dimension)}", span)
        if have.factor == want.factor and have.offset == want.offset:
            return replace(value, type=replace(value.type, unit=want))
        factor, offset = have.factor / want.factor, 0.0 if difference else (have.offset - want.offset) / want.factor
        if value.op == "constant":
            exact = convert(value.value, have, want, difference=difference)
            return replace(value, value=exact, type=replace(value.type, unit=want))
        return Ex("convert", (value,), replace(value.type, unit=want), (factor, offset), value.line)

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
            seconds = self._to_scale_of(Ex("constant", (), Type("number", SECOND), 1.0), right, node.right.span, difference=True)
            return Ex("time " + node.sign, (left, seconds), Type("time"), None, line)
        for side, written in ((left, node.left), (right, node.right)):
            if side.type.kind != "number":
                self.halt(f"found {_shown(side.type)}, expected a number", written.span)
        scale = bool((left.type.unit or PLAIN).is_scale or (right.type.unit or PLAIN).is_scale)
        right_is_step = scale and (right.type.difference or right.type.literal or (left.type.difference and node.sign == "-"))
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
                    self.halt("a temperature on a scale with its own zero cannot be multiplied or divided; a difference can", span)
            sign = 1 if node.sign == "*" else -1
            dims = dict(lu.dimension)
            for base, exponent in ru.dimension:
                dims[base] = dims.get(base, 0) + sign * exponent
            dimension = tuple(sorted((b, e) for b, e in dims.items() if e))
            factor = lu.factor * ru.factor if sign == 1 else lu.factor / ru.factor
            if not dimension:
                result = Ex(node.sign, (left, right), Type("number", PLAIN), None, line)
                return result if factor == 1 else Ex("convert", (result,), Type("number", PLAIN), (factor, 0.0), line)
            unit = Unit(f"{lu.code}{'.' if sign == 1 else '/'}{ru.code}".removeprefix("1"), dimension, factor)
        literal = left.type.literal and right.type.literal
        return Ex(node.sign, (left, right), Type("number", unit, left.type.difference or right.type.difference, literal), None, line)

    def _power(self, node: tree.Power, scope: Scope) -> Ex:
        inner = self._number(node.value, scope)
        exponent = number_signed(node.exponent)
        if abs(exponent) > limits.POWER:
            self.halt(f"a power is at most {limits.POWER}", node.span)
        unit = inner.type.unit or PLAIN
        if unit.dimension:
            if exponent != int(exponent):
                self.halt("a quantity with a unit takes whole powers only", node.span)
            unit = Unit(f"({unit.code})^{exponent}", tuple((b, e * int(exponent)) for b, e in unit.dimension), unit.factor ** int(exponent))
        return Ex("power", (inner,), Type("number", unit), float(exponent), node.span.line)

    def _comparison(self, node: tree.Binary, scope: Scope) -> Ex:
        return self._compare(node, node.sign, self.typed(node.left, scope), self.typed(node.right, scope))

    def _compare(self, node: tree.Binary | tree.Membership, sign: str, left: Ex, right: Ex) -> Ex:
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Ex(sign, (left, right), TRUTH, None, line)
        if left.type.kind == "number" and right.type.kind == "number":
            if left.type.literal and not right.type.literal:
                left = self._to_scale_of(right, left, node.span)
            else:
                if left.type.unit and left.type.unit.is_scale and left.type.difference != right.type.difference and not right.type.literal:
                    self.halt("one side is a temperature, the other a difference of temperatures", node.span)
                right = self._to_scale_of(left, right, node.span, difference=left.type.difference)
            return Ex(sign, (left, right), TRUTH, None, line)
        if sign not in ("=", "!="):
            self.halt(f"{_shown(left.type)} cannot be compared with {_shown(right.type)} by `{sign}`", node.span)
        kinds = {left.type.kind, right.type.kind}
        if kinds == {"code"}:
            coded, text = (right, left) if left.type.literal else (left, right)
            texts = [t for _, t in coded.type.codes]
            if text.type.literal and text.value not in texts:
                self.halt(f"`{text.value}` is not one of the texts of this code{meant(text.value, texts) or ': ' + ', '.join(texts)}", node.span)
            if text.type.literal:
                text = replace(text, value=float(next(n for n, t in coded.type.codes if t == text.value)))
            return Ex(sign, (coded, text), TRUTH, None, line)
        if kinds == {"code", "text"}:
            self.halt("the text of a code stands in backticks, as in mode = `normal`", node.span)
        if kinds in ({"text"}, {"truth"}):
            return Ex(sign, (left, right), TRUTH, None, line)
        self.halt(f"{_shown(left.type)} cannot be compared with {_shown(right.type)}", node.span)

    def _call(self, node: tree.Call, scope: Scope) -> Ex:
        name, line = node.function, node.span.line
        if name in CHECKS:
            if scope.source != "bytes":
                self.halt(f"`{name}` reads bytes; it stands in decoders for bytes only", node.span)
            if len(node.arguments) != 1 or not isinstance(node.arguments[0], tree.ByteRange):
                self.halt(f"`{name}` takes a range of bytes, as in `{name}(bytes 0 to -3)`", node.span)
            span = node.arguments[0]
            return Ex("check", (), Type("number", PLAIN), (name, span.first, span.last), line)
        function = FUNCTIONS.get(name)
        if function is None:
            self.halt(f"`{name}` is not a function{meant(name, [*FUNCTIONS, *CHECKS])}", node.span)
        if len(node.arguments) != len(function.takes) and not (function.many and len(node.arguments) >= 2):
            self.halt(f"`{name}` takes {len(function.takes)} values, found {len(node.arguments)}: {function.words}", node.span)
        arguments = [self.typed(argument, scope) for argument in node.arguments]
        takes = function.takes if not function.many else (function.takes[0], *["same"] * (len(arguments) - 1))
        for index, (want, written) in enumerate(zip(takes, node.arguments, strict=True)):
            found = arguments[index]
            if found.type.kind == "unknown":
                continue
            if want == "field":
                if found.op != "name":
                    self.halt(f"`{name}` takes the name of a field", written.span)
            elif want == "position":
                if found.type.kind != "position":
                    self.halt(f"`{name}` takes a position, found {_shown(found.type)}", written.span)
            elif found.type.kind != "number":
                self.halt(f"`{name}` takes a number, found {_shown(found.type)}", written.span)
            elif want == "same":
                arguments[index] = self._to_scale_of(arguments[0], found, written.span)
            elif want == "deg":
                if not (found.type.unit or PLAIN).dimension:
                    arguments[index] = replace(found, type=replace(found.type, unit=DEGREE))
                else:
                    arguments[index] = self._to_scale_of(Ex("constant", (), Type("number", DEGREE)), found, written.span)
            elif want == "plain" and (found.type.unit or PLAIN).dimension:
                self.halt(f"`{name}` takes a plain number, found one in {found.type.unit.code if found.type.unit else ''}", written.span)
        gives = {
            "same": replace(arguments[0].type, literal=False) if arguments else UNKNOWN,
            "plain": Type("number", PLAIN),
            "deg": Type("number", DEGREE),
            "m": Type("number", METRE),
            "position": Type("position"),
        }[function.gives]
        return Ex("call", tuple(arguments), gives, name, line)


def _shown(found: Type) -> str:
    if found.kind == "number":
        return f"a number in {found.unit.code}" if found.unit and found.unit.code != "1" else "a plain number"
    return {"truth": "true or false", "text": "a text", "code": "a code", "position": "a position", "time": "a time"}.get(found.kind, found.kind)
