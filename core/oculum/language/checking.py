"""Tree to plan: names, types, units, widths. One mistake yields one problem, and checking goes on."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import NoReturn

from oculum.errors import OculumError

from ..clocks import iso_us
from ..quantities import Unit, UnitError, between, convert, describe, known_codes, parse_unit, same_scale, usual
from . import limits, tree
from .abilities import Ability
from .build import number_signed
from .expressions import (
    Called,
    Chosen,
    Combined,
    Compared,
    Constant,
    Converted,
    Ex,
    IsMissing,
    Logical,
    Named,
    Negative,
    Not,
    Powered,
    Previous,
    TimeDifference,
    TimeMoved,
    Type,
)
from .fields import FieldSpec
from .functions import ELSEWHERE, EXACT, FUNCTIONS
from .patterns import compiled
from .problems import Problem, Span, meant, nearest
from .saying import CLAUSES

UNKNOWN = Type("unknown")
UNKNOWN_UNIT = "?"  # of a setpoint whose device type is not at hand
PLAIN = parse_unit("1")
DEGREE = parse_unit("deg")
METRE = parse_unit("m")
SECOND = parse_unit("s")
KELVIN = parse_unit("K")
TRUTH = Type("truth")
MISTAKEN = {  # units that are likelier meant as others: what they are, what is meant, its code
    "C": ("coulomb", "degrees Celsius", "Cel"),
    "F": ("farad", "degrees Fahrenheit", "[degF]"),
}
WANTED = {("number",): "a number", ("truth",): "something true or false"}  # what a function takes, in words


class Halt(OculumError):
    """One expression cannot be typed; its problem is on record already."""


def type_of(spec: FieldSpec) -> Type:
    """The type that a field has in expressions."""
    if spec.kind == "number" or spec.kind == "integer":
        unit, whole = parse_unit(spec.unit or "1"), spec.kind == "integer" or spec.wide
        return Type("number", unit, spec.difference, whole=whole, wide=spec.wide)
    if spec.kind == "flag":
        return TRUTH
    return Type(spec.kind, codes=spec.codes)


@dataclass
class Scope:
    """What an expression may speak of at one place. Each kind of definition has its own, which knows more than this."""

    names: dict[str, Type] = field(default_factory=dict)
    owner: str = "this definition"
    late: set[str] = field(default_factory=set)  # names that speak of the message before
    abilities: frozenset[Ability] = frozenset()

    def other_name(self, check: Checker, node: tree.Name) -> Ex | None:
        """What is called by a name and is no field; None where there is nothing."""
        return None

    def other_names(self) -> Iterable[str]:
        """Names and functions beside fields and common functions, for who has mistyped one."""
        return ()

    def setpoint(self, check: Checker, node: tree.Setpoint) -> Ex:
        check.halt("setpoints belong to conditions and routes; a decoder does not know them", node.span)

    def of_payload(self, check: Checker, node: tree.PayloadLength | tree.ReadAt | tree.ByteRange) -> Ex:
        if isinstance(node, tree.PayloadLength):
            check.halt("`length` is the length of a payload and has a meaning in decoders only", node.span)
        check.halt(f"this {Ability.PAYLOAD.value}", node.span)

    def text(self, check: Checker, node: tree.String) -> Ex:
        return Constant(Type("text"), node.span.line, node.text)

    def call(self, check: Checker, node: tree.Call) -> Ex | None:
        """A function that only this kind has; None where it is none."""
        return None


class Checker:
    """Collects problems while expressions are typed."""

    def __init__(self, problems: Iterable[Problem] = (), poisoned: Iterable[str] = (), published: bool = False) -> None:
        self.published = published
        self.problems = list(problems)
        self.poisoned = set(poisoned)
        self.given: dict[str, int] = {}  # names that the definition gives anywhere, and the first line of each
        self.raw_names: set[str] = set()  # fields whose stored number is asked for
        self.stamp_line = 0  # the first line that speaks of the moment of the message
        self.depth = 0

    # problems ------------------------------------------------------------
    def error(self, message: str, span: Span, fix: str | None = None, over: str = "") -> None:
        """`over` is the word of the span that the fix replaces; all of the span, where it is empty."""
        if len(self.problems) < limits.ERRORS_SHOWN:
            self.problems.append(Problem(message, span, fix=fix, over=over))

    def warn(self, message: str, span: Span, fix: str | None = None, over: str = "") -> None:
        self.problems.append(Problem(message, span, "warning", fix=fix, over=over))

    def halt(self, message: str, span: Span, fix: str | None = None, over: str = "") -> NoReturn:
        self.error(message, span, fix, over)
        raise Halt

    def refuse(self, message: str, span: Span) -> None:
        """A mistake that was not told apart in earlier editions: texts published then keep what they meant."""
        if not self.published:
            self.halt(message, span)

    @property
    def failed(self) -> bool:
        return any(p.severity == "error" for p in self.problems)

    # small parts ---------------------------------------------------------
    def unit(self, code: str, span: Span) -> Unit:
        try:
            unit = parse_unit(code)
        except UnitError as error:
            other = usual(code)
            if other == "1":
                self.halt(f"`{code}` is no unit: a plain number, such as a count, has none", span)
            if other is not None:
                self.halt(f"`{code}` is written `{other}`", span, other, code)
            close = nearest(code, [word.strip("`") for word in CLAUSES]) if len(code) > 4 else None
            if close is not None:
                self.halt(f"found `{code}`: did you mean `{close}`?", span, close, code)
            tail = meant(code, known_codes())
            self.halt(
                f"{error}{tail}"
                if tail
                else f"{error} of the table; units are UCUM codes such as `Cel`, `mg/L`, `m/s2`",
                span,
            )
        if code in MISTAKEN:
            word, meant_instead, other = MISTAKEN[code]
            self.warn(f"`{code}` is the {word}; {meant_instead} are written `{other}`", span, other, code)
        return unit

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
        if not beside and isinstance(found, Constant) and found.type.kind == "code" and found.type.literal:
            self.halt(
                f"`{found.value}` in backticks is the text of a code and has a meaning beside that code only, as in"
                f' mode = `{found.value}`; a text stands in "quotes"',
                node.span,
            )
        return found

    def _coded(self, text: Constant, coded: Ex, span: Span) -> Constant:
        """The text of a code as its number."""
        texts, wanted = [t for _, t in coded.type.codes], str(text.value)
        if wanted not in texts:
            self.halt(
                f"`{wanted}` is not one of the texts of this code{meant(wanted, texts) or ': ' + ', '.join(texts)}",
                span,
            )
        return replace(text, value=float(next(n for n, t in coded.type.codes if t == wanted)))

    def _typed(self, node: tree.Expr, scope: Scope) -> Ex:
        line = node.span.line
        match node:
            case tree.Quantity():
                value = self.bounded(node.number, node.span)
                unit = self.unit(node.unit, node.unit_span or node.span) if node.unit else PLAIN
                whole = isinstance(value, int)
                digits = value if isinstance(value, int) and abs(value) > 2**53 else None
                return Constant(Type("number", unit, literal=True, whole=whole), line, float(value), digits)
            case tree.String():
                return scope.text(self, node)
            case tree.Truth():
                return Constant(TRUTH, line, node.value)
            case tree.CodeText():
                return Constant(Type("code", literal=True), line, node.text)
            case tree.Name():
                return self.name(node, scope)
            case tree.Setpoint():
                return scope.setpoint(self, node)
            case tree.PayloadLength() | tree.ByteRange() | tree.ReadAt():
                return scope.of_payload(self, node)
            case tree.Unary(sign="-"):
                inner = self.number(node.value, scope)
                return Negative(replace(inner.type, literal=inner.type.literal), line, inner)
            case tree.Unary(sign="not"):
                return Not(TRUTH, line, self.truth(node.value, scope))
            case tree.Unary():
                gone = IsMissing(TRUTH, line, self.typed(node.value, scope))
                return Not(TRUTH, line, gone) if node.sign == "is known" else gone
            case tree.Binary(sign="and" | "or"):
                return Logical(TRUTH, line, node.sign, self.truth(node.left, scope), self.truth(node.right, scope))
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
                    self.compare(node, "=", member, self.typed(option, scope, beside=True)) for option in node.options
                ]
                joined = found[0]
                for option in found[1:]:
                    joined = Logical(TRUTH, line, "or", joined, option)
                return joined
            case tree.Choice():
                rule = self.truth(node.rule, scope)
                then, otherwise = (
                    self.typed(node.then, scope, beside=True),
                    self.typed(node.otherwise, scope, beside=True),
                )
                if then.type.kind == "number" and otherwise.type.kind == "number":
                    then, otherwise = self.alike(then, otherwise, node.otherwise.span)
                elif then.type.kind != otherwise.type.kind and "unknown" not in (then.type.kind, otherwise.type.kind):
                    self.halt(
                        f"one arm is {then.type.kind}, the other {otherwise.type.kind}: both must be of one kind",
                        node.span,
                    )
                elif then.type.kind == "code":
                    then, otherwise = self._one_code(node, then, otherwise)
                gives = then.type
                if then.type.kind == "number":
                    whole = then.type.whole and otherwise.type.whole
                    wide = then.type.wide or otherwise.type.wide
                    if wide and not whole:
                        self.inexact(then if then.type.wide else otherwise, node.span)
                    gives = replace(then.type, whole=whole, wide=whole and wide)
                return Chosen(gives, line, rule, then, otherwise)
            case tree.Call():
                return self._call(node, scope)
        raise AssertionError(node)

    def name(self, node: tree.Name, scope: Scope) -> Ex:
        line = node.span.line
        if node.name not in scope.names and (family := _family(node.name, scope.names)):
            return Named(scope.names[family], line, node.name)
        if node.name in scope.names:
            return Named(replace(scope.names[node.name], late=node.name in scope.late), line, node.name)
        other = scope.other_name(self, node)
        if other is not None:
            return other
        if node.name in self.poisoned:
            raise Halt
        there = self.given.get(node.name)
        if there is not None and there == line:
            self.halt(f"`{node.name}` is what this line itself gives", node.span)
        if there is not None and there > line:
            self.halt(f"`{node.name}` is given further down, in line {there}: put that line above this one", node.span)
        if there is not None:
            self.halt(f"`{node.name}` is given in line {there}, in a block that this line is not part of", node.span)
        close = meant(node.name, [*scope.names, *scope.other_names()])
        fix = close.split("`")[1] if close else None
        self.halt(f"`{node.name}` is not a field of `{scope.owner}`{close}", node.span, fix)

    def truth(self, node: tree.Expr, scope: Scope) -> Ex:
        found = self.typed(node, scope)
        if found.type.kind not in ("truth", "unknown"):
            self.halt(f"found {shown(found.type)}, expected something true or false, such as a comparison", node.span)
        return found

    def number(self, node: tree.Expr, scope: Scope) -> Ex:
        found = self.typed(node, scope)
        if found.type.kind not in ("number", "unknown"):
            self.halt(f"found {shown(found.type)}, expected a number", node.span)
        return found

    def to_scale(self, target: Ex, value: Ex, span: Span, *, difference: bool = False) -> Ex:
        """`value` expressed in the unit of `target`."""
        if "unknown" in (target.type.kind, value.type.kind):
            return value
        want, have = target.type.unit or PLAIN, value.type.unit or PLAIN
        if value.type.literal and have.code == "1" and want.code != "1":
            number = value.value if isinstance(value, Constant) and isinstance(value.value, float) else None
            text = f"{number:g}" if number is not None else "this number"
            self.halt(
                f"{text} has no unit: write it with one, such as `{text} {want.code}`",
                span,
                f"{text} {want.code}" if number is not None else None,
                text,
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
        if isinstance(value, Constant) and isinstance(value.value, float):
            exact = convert(value.value, have, want, difference=difference)
            return replace(value, value=exact, digits=None, type=replace(value.type, unit=want, whole=False))
        kept = self.inexact(value, span)
        return Converted(replace(kept, unit=want), value.line, *between(have, want, difference=difference), value)

    def _sum(self, node: tree.Binary, scope: Scope) -> Ex:
        left, right = self.typed(node.left, scope), self.typed(node.right, scope)
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Combined(UNKNOWN, line, node.sign, left, right)
        if left.type.kind == "time":
            if right.type.kind == "time" and node.sign == "-":
                return TimeDifference(Type("number", SECOND), line, left, right)
            if right.type.kind != "number" or (right.type.unit or PLAIN).dimension != SECOND.dimension:
                self.halt(f"found {shown(right.type)}, expected a duration to move a time by", node.right.span)
            seconds = self.to_scale(Constant(Type("number", SECOND), 0, 1.0), right, node.right.span, difference=True)
            return TimeMoved(Type("time"), line, node.sign, left, seconds)
        for side, written in ((left, node.left), (right, node.right)):
            if side.type.kind != "number":
                self.halt(f"found {shown(side.type)}, expected a number", written.span)
        if temperature(left) and temperature(right):
            return self._of_temperatures(node, left, right)
        right = self.to_scale(left, right, node.right.span)
        whole, wide = self._exact(node, left, right)
        return Combined(Type("number", left.type.unit, whole=whole, wide=wide), line, node.sign, left, right)

    def _of_temperatures(self, node: tree.Binary, left: Ex, right: Ex) -> Ex:
        """A sum or a difference of temperatures: of two points on a scale, of a point and a difference, or of two
        differences.
        """
        if node.sign == "+" and not point(left) and point(right):
            left, right = right, left
        if point(left) and point(right):
            if node.sign == "+" and (scale_of(left).is_scale or scale_of(right).is_scale):
                self.halt(
                    "two temperatures cannot be added. Where one of them is a difference, its line says so with the"
                    " word `difference`; a mean is `a + (b - a) / 2`",
                    node.span,
                )
            step, difference, loose = False, node.sign == "-", node.sign == "+"
        elif node.sign == "-" and point(right):
            if left.type.difference:
                self.refuse("a temperature cannot be taken from a difference of temperatures", node.span)
            # `20 Cel - t`: the number is a point, too
            step, difference, loose = left.type.difference, True, False
        else:
            step = True
            difference, loose = left.type.difference, left.type.loose or left.type.literal
        right = self.to_scale(left, right, node.right.span, difference=step)
        whole, wide = self._exact(node, left, right)
        found = Type("number", left.type.unit, difference, loose=loose, whole=whole, wide=wide)
        return Combined(found, node.span.line, node.sign, left, right)

    def inexact(self, value: Ex, span: Span) -> Type:
        """The type of a value behind what keeps 53 bits only; warns where that loses digits."""
        if value.type.wide:
            self.warn(
                "whole numbers of more than 53 bits keep about 15 of their digits here; all digits are kept by `+ - *`"
                " with whole numbers, `mod`, `floor`, `raw` and comparisons",
                span,
            )
        return replace(value.type, whole=False, wide=False)

    def _exact(self, node: tree.Binary, left: Ex, right: Ex) -> tuple[bool, bool]:
        """Whether a sum or a product is whole, and whether it keeps all digits."""
        whole, wide = left.type.whole and right.type.whole, left.type.wide or right.type.wide
        if wide and not whole:
            self.inexact(left if left.type.wide else right, node.span)
        return whole, whole and wide

    def _product(self, node: tree.Binary, scope: Scope) -> Ex:
        left, right = self.number(node.left, scope), self.number(node.right, scope)
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Combined(UNKNOWN, line, node.sign, left, right)
        if node.sign == "/":
            for side in (left, right):
                self.inexact(side, node.span)
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
                return Combined(Type("number", PLAIN), line, node.sign, left, right)
            factor = lu.factor * ru.factor if sign == 1 else lu.factor / ru.factor
            if not dimension:
                result = Combined(Type("number", PLAIN), line, node.sign, left, right)
                return (
                    result
                    if factor == 1
                    else Converted(
                        Type("number", PLAIN), line, float(factor.numerator), 0.0, float(factor.denominator), result
                    )
                )
            unit = Unit(f"{lu.code}{'.' if sign == 1 else '/'}{ru.code}".removeprefix("1"), dimension, scale=factor)
        literal = left.type.literal and right.type.literal
        whole, wide = self._exact(node, left, right) if node.sign == "*" else (False, False)
        difference = left.type.difference or right.type.difference
        # A plain number of degrees may be meant either way.
        loose = not difference and any(
            side.type.literal or side.type.loose for side in (left, right) if temperature(side)
        )
        found = Type("number", unit, difference, literal, loose, whole=whole, wide=wide)
        return Combined(found, line, node.sign, left, right)

    def _power(self, node: tree.Power, scope: Scope) -> Ex:
        inner = self.number(node.value, scope)
        self.inexact(inner, node.span)
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
        return Powered(Type("number", unit), node.span.line, float(exponent), inner)

    def _comparison(self, node: tree.Binary, scope: Scope) -> Ex:
        return self.compare(
            node, node.sign, self.typed(node.left, scope, beside=True), self.typed(node.right, scope, beside=True)
        )

    def _one_code(self, node: tree.Choice, then: Ex, otherwise: Ex) -> tuple[Ex, Ex]:
        """Two arms of one code; the text of a code takes the code of the other arm."""
        if isinstance(then, Constant) and isinstance(otherwise, Constant):
            self.halt("both arms are texts in backticks: one of them must be a code that is read", node.span)
        if isinstance(then, Constant):
            return replace(self._coded(then, otherwise, node.then.span), type=otherwise.type), otherwise
        if isinstance(otherwise, Constant):
            return then, self._coded(otherwise, then, node.otherwise.span)
        if dict(then.type.codes) != dict(otherwise.type.codes):
            self.halt("the codes of the two arms have different texts", node.span)
        return then, otherwise

    def alike(self, first: Ex, second: Ex, span: Span) -> tuple[Ex, Ex]:
        """Two numbers on the scale of the first, both temperatures or both differences of them."""
        mixed = (point(first) and second.type.difference) or (first.type.difference and point(second))
        if mixed and temperature(first) and temperature(second):
            self.refuse(
                "one is a temperature, the other a difference of temperatures; the line of a difference says so with"
                " the word `difference`",
                span,
            )
        difference = first.type.difference or second.type.difference
        return first, self.to_scale(first, second, span, difference=difference)

    def compare(self, node: tree.Binary | tree.Membership, sign: str, left: Ex, right: Ex) -> Ex:
        line = node.span.line
        if "unknown" in (left.type.kind, right.type.kind):
            return Compared(TRUTH, line, sign, left, right)
        if left.type.kind == "number" and right.type.kind == "number":
            if left.type.literal and not right.type.literal:
                left = self.to_scale(right, left, node.span, difference=right.type.difference)
            else:
                left, right = self.alike(left, right, node.span)
            return Compared(TRUTH, line, sign, left, right)
        if left.type.kind == "time" or right.type.kind == "time":
            left, right = self._moment(left, right, node.span), self._moment(right, left, node.span)
            if left.type.kind == right.type.kind:
                return Compared(TRUTH, line, sign, left, right)
        if sign not in ("=", "!="):
            self.halt(f"{shown(left.type)} cannot be compared with {shown(right.type)} by `{sign}`", node.span)
        kinds = {left.type.kind, right.type.kind}
        if kinds == {"code"}:
            coded, text = (right, left) if left.type.literal else (left, right)
            if coded.type.literal:
                self.halt("both sides are texts in backticks: one of them must be a code that is read", node.span)
            if isinstance(text, Constant):
                text = self._coded(text, coded, node.span)
            return Compared(TRUTH, line, sign, coded, text)
        if kinds == {"code", "text"}:
            self.halt("the text of a code stands in backticks, as in mode = `normal`", node.span)
        if kinds in ({"text"}, {"truth"}):
            return Compared(TRUTH, line, sign, left, right)
        self.halt(f"{shown(left.type)} cannot be compared with {shown(right.type)}", node.span)

    def _moment(self, found: Ex, beside: Ex, span: Span) -> Ex:
        """A text that stands beside a time, as the moment that it writes."""
        if beside.type.kind != "time" or not isinstance(found, Constant) or not isinstance(found.value, str):
            return found
        try:
            moment = iso_us(found.value)
        except ValueError:
            self.halt(f'"{found.value}" is no time with its zone, such as "2026-03-02T09:10:00Z"', span)
        return Constant(Type("time", literal=True), found.line, float(moment))

    def _call(self, node: tree.Call, scope: Scope) -> Ex:
        name, line = node.function, node.span.line
        own = scope.call(self, node)
        if own is not None:
            return own
        if name == "amount":
            return self._amount(node, scope)
        function = FUNCTIONS.get(name)
        if function is None:
            elsewhere = ELSEWHERE.get(name)
            if elsewhere is not None:
                self.halt(f"`{name}` {elsewhere.value}", node.span)
            self.halt(f"`{name}` is not a function{meant(name, [*FUNCTIONS, *scope.other_names()])}", node.span)
        if function.needs is not None and function.needs not in scope.abilities:
            self.halt(f"`{name}` {function.needs.value}", node.span)
        if len(node.arguments) != len(function.takes) and not (function.many and len(node.arguments) >= 2):
            self.halt(
                f"`{name}` takes {len(function.takes)} values, found {len(node.arguments)}: {function.words}", node.span
            )
        arguments = [
            Constant(Type("text"), line, written.text)  # braces in a pattern stand for no values
            if name == "matches" and isinstance(written, tree.String)
            else self.typed(written, scope)
            for written in node.arguments
        ]
        takes = (
            function.takes if not function.many else (function.takes[0], *[function.takes[1]] * (len(arguments) - 1))
        )
        for index, (want, written) in enumerate(zip(takes, node.arguments, strict=True)):
            if arguments[index].type.kind != "unknown":
                arguments[index] = self._fitting(name, want, arguments[0], arguments[index], written.span)
        whole = all(a.type.whole for a in arguments)
        wide = any(a.type.wide for a in arguments)
        exact = wide and whole and name in EXACT
        if wide and not exact and name != "raw":
            self.inexact(next(a for a in arguments if a.type.wide), node.span)
        if name == "matches":
            self._pattern(arguments[1], node.arguments[1].span)
        gives = {
            "same": replace(arguments[0].type, literal=False, whole=whole and name in EXACT, wide=exact)
            if arguments
            else UNKNOWN,
            "plain": Type("number", PLAIN, whole=name == "raw" and whole, wide=name == "raw" and wide),
            "deg": Type("number", DEGREE),
            "m": Type("number", METRE),
            "position": Type("position"),
            "text": Type("text"),
            "truth": TRUTH,
            "time": Type("time"),
        }[function.gives]
        return Called(gives, line, name, tuple(arguments))

    def _amount(self, node: tree.Call, scope: Scope) -> Ex:
        """A quantity as a plain number of some unit, also of a scale with a zero of its own."""
        given = node.arguments
        unit = given[1] if len(given) == 2 else None
        if not isinstance(unit, tree.Quantity) or unit.unit is None or number_signed(unit.number) != 1:
            self.halt(f"`amount` takes a quantity and one of the unit: {FUNCTIONS['amount'].words}", node.span)
        value = self.number(given[0], scope)
        if value.type.kind == "unknown":
            return value
        target = Constant(Type("number", self.unit(unit.unit, unit.unit_span or unit.span), literal=True), 0, 1.0)
        scaled = self.to_scale(target, value, given[0].span, difference=value.type.difference)
        self.inexact(scaled, node.span)
        return Converted(Type("number", PLAIN), node.span.line, 1.0, 0.0, 1.0, scaled)

    def _pattern(self, found: Ex, span: Span) -> None:
        if not isinstance(found, Constant):
            self.halt("`matches` takes its pattern as a text that stands there", span)
        try:
            compiled(str(found.value))
        except ValueError as error:
            self.halt(str(error), span)

    def _fitting(self, name: str, want: str, first: Ex, found: Ex, span: Span) -> Ex:
        """An argument as a function takes it, on the scale that it is taken on."""
        kind = found.type.kind
        match want:
            case "field":
                if not isinstance(found, Named):
                    self.halt(f"`{name}` takes the name of a field", span)
                self.raw_names.add(found.name)
            case "position" | "text" | "time":
                if kind != want:
                    self.halt(f"`{name}` takes a {want}, found {shown(found.type)}", span)
            case "like":
                if kind != first.type.kind:
                    self.halt(
                        f"`{name}` takes values of one kind, found {shown(first.type)} and {shown(found.type)}", span
                    )
                if kind == "number":
                    return self.alike(first, found, span)[1]
            case "any":
                pass
            case _ if kind != "number":
                self.halt(f"`{name}` takes a number, found {shown(found.type)}", span)
            case "same":
                return self.alike(first, found, span)[1]
            case "deg":
                if not (found.type.unit or PLAIN).dimension:
                    return replace(found, type=replace(found.type, unit=DEGREE))
                return self.to_scale(Constant(Type("number", DEGREE), 0, None), found, span)
            case "plain" if (found.type.unit or PLAIN).dimension:
                self.halt(
                    f"`{name}` takes a plain number, found one in {found.type.unit.code if found.type.unit else ''}",
                    span,
                )
        return found


def scale_of(ex: Ex) -> Unit:
    return ex.type.unit or PLAIN


def temperature(ex: Ex) -> bool:
    return ex.type.kind == "number" and scale_of(ex).dimension == KELVIN.dimension


def point(ex: Ex) -> bool:
    """A temperature for sure: neither a difference, nor what may be one."""
    return not (ex.type.difference or ex.type.loose or ex.type.literal)


def _ratio(factor: Fraction) -> tuple[float, float, float]:
    return float(factor.numerator), 0.0, float(factor.denominator)


def _family(name: str, names: Mapping[str, Type]) -> str | None:
    """The family of fields that a name belongs to: `temperature_3` to `temperature_{index}`."""
    for template in names:
        if "{" in template and re.fullmatch(re.sub(r"\\\{[a-z0-9_]+\\\}", "[a-z0-9_]+", re.escape(template)), name):
            return template
    return None


def names_in(ex: Ex) -> set[str]:
    return {part.name for part in ex.walk() if isinstance(part, Named | Previous)}


def is_late(ex: Ex) -> bool:
    """Whether an expression speaks of the message before."""
    return any(part.type.late for part in ex.walk())


def shown(found: Type) -> str:
    if found.kind == "number":
        return f"a number in {found.unit.code}" if found.unit and found.unit.code != "1" else "a plain number"
    return {
        "truth": "true or false",
        "text": "a text",
        "code": "a code",
        "position": "a position",
        "time": "a time",
    }.get(found.kind, found.kind)
