"""Checking a condition against the fields and setpoints of its device type."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import replace
from typing import TypeVar

from ...quantities import Unit, between, describe, parse_unit, same_scale
from .. import tree
from ..checking import METRE, Checker, Halt, type_of
from ..expressions import (
    AtFence,
    Builtin,
    Combined,
    Compared,
    Constant,
    Converted,
    Ex,
    Logical,
    MessageCount,
    Named,
    Negative,
    Not,
    OfMembers,
    SetpointValue,
    Silent,
    Type,
)
from ..fields import FieldSpec
from ..hours import hours_of
from ..kinds import Surroundings
from ..parser import read
from ..printing import expression
from ..problems import DefinitionError, Problem, Span, meant, placed
from . import clauses
from .plan import PRIORITIES, ConditionPlan, Limit, Step
from .scope import DEVICE, SITE, ConditionScope
from .syntax import SYNTAX

SAY_WORDS = ("device", "site", "value", "limit", "type", "priority")
Types = Mapping[str, tuple[Mapping[str, FieldSpec], Mapping[str, str]]]
Clause = TypeVar("Clause", bound=tree.Node)
SECOND_US = 1_000_000


def checked(text: str, surroundings: Surroundings) -> tuple[ConditionPlan | None, list[Problem]]:
    types = {key: (fields, surroundings.setpoints.get(key, {})) for key, fields in surroundings.fields.items()}
    return check_condition(text, types, surroundings.fences, surroundings.sites, surroundings.published)


def check_condition(
    text: str,
    types: Types,
    fences: Collection[str] | None = None,
    sites: Collection[str] | None = None,
    published: bool = False,
) -> tuple[ConditionPlan | None, list[Problem]]:
    """A condition's plan, or None with the errors.

    `types` maps the key of a device type to its fields and to its setpoints (name to unit code); fences and sites are
    the names that there are, None where that is not known; for `published` see `Surroundings`.
    """
    try:
        node, problems, poisoned = read(text, SYNTAX, published)
    except DefinitionError as error:
        return None, error.problems
    work = _Conditions(Checker(problems, poisoned, published), node, types, fences, sites)
    try:
        plan = work.plan()
    except Halt:
        plan = None
    problems = placed(work.check.problems, text)
    return (None if work.check.failed else plan), problems


class _Conditions:
    def __init__(
        self,
        check: Checker,
        node: clauses.Condition,
        types: Types,
        fences: Collection[str] | None,
        sites: Collection[str] | None,
    ) -> None:
        self.check, self.node, self.types, self.fences, self.sites = check, node, types, fences, sites

    def one(self, wanted: type[Clause], word: str) -> Clause | None:
        found = [clause for clause in self.node.clauses if isinstance(clause, wanted)]
        for extra in found[1:]:
            self.check.error(f"`{word}` stands twice; one is enough", extra.span)
        return found[0] if found else None

    def plan(self) -> ConditionPlan:
        check, node = self.check, self.node
        on = self.one(clauses.On, "on")
        raising = [clause for clause in node.clauses if isinstance(clause, clauses.Raise)]
        clearing = self.one(clauses.Clear, "clear")
        say = self.one(clauses.Say, "say")
        if not 1 <= len(node.name) <= 120:
            check.error("a condition's name has 1 to 120 characters", node.span)
        if (on is None or not raising) and check.failed:
            raise Halt  # the clause may stand in a line that could not be read
        if on is None:
            check.halt("`on` is missing: say which device type, as in `on raft_buoy`", node.span)
        if on.device_type not in self.types:
            check.halt(f"`{on.device_type}` is not a device type{meant(on.device_type, self.types)}", on.span)
        if on.site is not None and self.sites is not None and on.site not in self.sites:
            check.error(f"there is no site “{on.site}”{meant(on.site, self.sites)}", on.span)
        fields, setpoints = self.types[on.device_type]
        scope = ConditionScope(
            {name: type_of(spec) for name, spec in fields.items()},
            on.device_type,
            setpoints=setpoints,
            fences=self.fences,
            abilities=SITE if on.each_site else DEVICE,
        )
        if not raising:
            check.halt("`raise when` is missing", node.span)
        steps = self.steps(raising, scope, clearing)
        clear, clear_held = self.clear(clearing, scope, steps)
        rules = [step.rule for step in steps] + ([clear] if clear is not None else [])
        used = _used(rules)
        if on.each_site:
            self.of_members_only(rules, raising[0].span)
        elif not used[0] and not any(_timed(rule) for rule in rules):
            check.error("the rule speaks of no field, so that no reading could ever raise it", raising[0].span)
        self.say(say, fields, setpoints)
        return ConditionPlan(
            node.name,
            node.priority,
            on.device_type,
            on.labels,
            steps,
            clear,
            clear_held,
            say.template if say is not None else None,
            *used[:2],
            on.site,
            on.each_site,
            self.fixes(fields),
            self.every(),
            hours_of(check, node.clauses),
            used[2],
            any(isinstance(part, Silent) and part.field is None for rule in rules for part in rule.walk()),
        )

    # rules -----------------------------------------------------------------------------
    def steps(
        self, raising: list[clauses.Raise], scope: ConditionScope, clearing: clauses.Clear | None
    ) -> tuple[Step, ...]:
        found: list[tuple[Step, clauses.Raise]] = []
        for written in raising:
            priority = written.priority or self.node.priority
            if any(step.priority == priority for step, _ in found):
                self.check.error(f"the alarm is raised as `{priority}` by another line already", written.span)
                continue
            try:
                found.append((self.step(written, priority, scope, clearing), written))
            except Halt:
                continue
        if not found:
            raise Halt
        found.sort(key=lambda pair: PRIORITIES.index(pair[0].priority))
        for (lower, _), (higher, written) in zip(found, found[1:], strict=False):
            self.in_order(lower, higher, written.span)
        return tuple(step for step, _ in found)

    def step(
        self, written: clauses.Raise, priority: str, scope: ConditionScope, clearing: clauses.Clear | None
    ) -> Step:
        check = self.check
        rule = check.truth(written.rule, scope)
        held = self.held(written.held)
        still, band = rule, 0.0
        if written.deadband:
            if clearing is not None and clearing.rule is not None:
                check.error("a condition with a rule of its own for clearing takes no deadband", written.deadband.span)
            amount = float(check.bounded(written.deadband.number, written.deadband.span))
            if amount < 0:
                check.halt("a deadband is 0 or more", written.deadband.span)
            still = _widened(rule, amount, check, written.deadband)
            band = amount * (parse_unit(written.deadband.unit).factor if written.deadband.unit else 1)
        return Step(priority, rule, still, held, tuple(_limits(rule, written.rule)), float(band))

    def held(self, written: clauses.Held | None) -> int:
        return self.check.duration_us(written.number, written.unit, written.span) if written else 0

    def clear(
        self, written: clauses.Clear | None, scope: ConditionScope, steps: tuple[Step, ...]
    ) -> tuple[Ex | None, int]:
        if written is None:
            return None, 0
        held = self.held(written.held)
        if written.rule is None:
            return None, held
        rule = self.check.truth(written.rule, scope)
        for step in steps:
            if _implies(rule, step.rule):
                self.check.error(
                    "whenever this holds, the rule for raising holds as well and wins: the alarm is never cleared",
                    written.rule.span,
                )
        return rule, held

    def in_order(self, lower: Step, higher: Step, span: Span) -> None:
        """A higher priority begins where the lower one holds already."""
        if _implies(lower.rule, higher.rule) and lower.rule != higher.rule and lower.held_us >= higher.held_us:
            self.check.error(
                f"it is raised as `{higher.priority}` before it is raised as `{lower.priority}`: the limits stand in"
                " the wrong order",
                span,
            )

    def of_members_only(self, rules: list[Ex], span: Span) -> None:
        def bare(ex: Ex) -> bool:
            if isinstance(ex, OfMembers):
                return False
            return isinstance(ex, Named) or any(map(bare, ex.parts()))

        if any(bare(rule) for rule in rules):
            self.check.error(
                "a site has no such field of its own: take one value out of its members, as in `max_of(water_temp)`",
                span,
            )
        if not any(isinstance(part, OfMembers) for rule in rules for part in rule.walk()):
            self.check.error("the rule speaks of no member of the site, so that nothing could ever raise it", span)

    # clauses ----------------------------------------------------------------------------
    def fixes(self, fields: Mapping[str, FieldSpec]) -> tuple[float, str] | None:
        found = self.one(clauses.Fixes, "fixes")
        if found is None:
            return None
        unit = self.check.unit(found.unit, found.span)
        if unit.dimension != METRE.dimension:
            self.check.halt(f"how exact a position must be is a distance, found {describe(unit.dimension)}", found.span)
        if found.field is not None:
            spec = fields.get(found.field)
            if spec is None:
                self.check.halt(f"`{found.field}` is not a field{meant(found.field, fields)}", found.span)
            if spec.kind != "number" or parse_unit(spec.unit or "1").code != "m":
                self.check.halt(f"how exact a position is, is a number in m; `{found.field}` is not", found.span)
        return float(self.check.fraction(found.number, found.span) * unit.factor), found.field or ""

    def every(self) -> int:
        found = self.one(clauses.Every, "every")
        if found is None:
            return 0
        step = self.check.duration_us(found.number, found.unit, found.span)
        if not 60 * SECOND_US <= step <= 86_400 * SECOND_US or step % (60 * SECOND_US):
            self.check.halt("a condition is looked at every so many whole minutes, up to a day", found.span)
        return step

    def say(self, say: clauses.Say | None, fields: Mapping[str, FieldSpec], setpoints: Mapping[str, str]) -> None:
        for word in re.findall(r"\{([^}]*)\}", say.template if say is not None else ""):
            assert say is not None
            bare = word.removeprefix("setpoint ").strip()
            if word in SAY_WORDS or word in fields or (word != bare and bare in setpoints):
                continue
            self.check.error(
                f"`{{{word}}}` is neither a field nor a setpoint{meant(bare, [*fields, *setpoints, *SAY_WORDS])}",
                say.span,
            )


def _used(rules: list[Ex]) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
    """Fields, setpoints and fences that rules speak of, in the order in which they do."""
    fields: list[str] = []
    setpoints: list[str] = []
    fences: list[str] = []
    for part in (part for rule in rules for part in rule.walk()):
        match part:
            case Named(name=name):
                fields.append(name)
            case SetpointValue(name=name):
                setpoints.append(name)
            case AtFence(fence=fence):
                fences.append(fence)
                fields.append(part.field)
        own = getattr(part, "field", None)
        if isinstance(own, str):
            fields.append(own)
    return tuple(dict.fromkeys(fields)), tuple(dict.fromkeys(setpoints)), tuple(dict.fromkeys(fences))


def _timed(rule: Ex) -> bool:
    """Whether a rule can come true without a reading."""
    return any(isinstance(part, Silent | MessageCount | Builtin) for part in rule.walk())


def _widened(rule: Ex, amount: float, check: Checker, node: clauses.Deadband) -> Ex:
    """The rule with every limit moved to the good side by the deadband."""
    if isinstance(rule, Logical):
        left, right = (_widened(part, amount, check, node) for part in (rule.left, rule.right))
        return replace(rule, left=left, right=right)
    if isinstance(rule, Compared) and rule.sign in ("<", "<=", ">", ">=") and rule.left.type.kind == "number":
        left, right = rule.left, rule.right
        sign = "<" if rule.sign in ("<", "<=") else ">"
        scale, band = left.type.unit, parse_unit(node.unit) if node.unit else parse_unit("1")
        assert scale is not None
        if band.code == "1" and scale.code != "1":
            fix = f"{node.number} {scale.code}"
            check.halt(f"the deadband has no unit: write `{fix}`", node.span, fix, node.number)
        if scale.dimension != band.dimension:
            check.halt(f"the deadband is {describe(band.dimension)}, the limit is in {scale.code}", node.span)
        step = amount * band.factor / scale.factor
        constant = Constant(Type("number", scale), 0, step if sign == "<" else -step)
        # The limit itself, moved, counts as good: `a < l` is over once a >= l + d.
        return Compared(rule.type, rule.line, sign, left, Combined(right.type, 0, "+", right, constant))
    if isinstance(rule, Not):
        check.halt(
            "a deadband goes with comparisons joined by `and` and `or`; write the opposite comparison instead of `not`",
            node.span,
        )
    return rule


def _limits(rule: Ex, written: tree.Expr) -> list[Limit]:
    """The comparisons of a value with a limit, to be shown; those of a field with a setpoint or a number are drawn."""
    found: list[Limit] = []
    if isinstance(rule, Logical) and isinstance(written, tree.Binary):
        for part, text in zip((rule.left, rule.right), (written.left, written.right), strict=True):
            found += _limits(part, text)
    elif isinstance(rule, Compared) and rule.sign not in ("=", "!=") and isinstance(written, tree.Binary):
        left, right = rule.left, rule.right
        sign, limit_text, value_text = rule.sign, written.right, written.left
        if isinstance(left, Constant | SetpointValue):
            left, right = right, left
            sign = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}[sign]
            limit_text, value_text = written.left, written.right
        if left.type.kind == "number":
            setpoint = right.name if isinstance(right, SetpointValue) else None
            number = _number(right)
            unit = left.type.unit.code if left.type.unit else None
            span = limit_text.span
            field = left.name if isinstance(left, Named) else ""
            wanted = _written_unit(limit_text)
            if not field and left.type.unit and wanted and wanted.dimension == left.type.unit.dimension:
                if number is not None and not same_scale(left.type.unit, wanted):
                    a, b, c = between(left.type.unit, wanted, difference=left.type.difference)
                    number = (number * a + b) / c
                left, right = (_shown_in(side, left.type.unit, wanted) for side in (left, right))
                unit = wanted.code
            place = (span.line, span.column, span.end_column)
            found.append(Limit(field, sign, setpoint, number, unit, left, right, *place, expression(value_text)))
    return found


def _number(ex: Ex) -> float | None:
    """The value of a limit that speaks of nothing but a number."""
    match ex:
        case Constant(value=float() | int() as value) if not isinstance(value, bool):
            return float(value)
        case Negative(value=inner):
            found = _number(inner)
            return None if found is None else -found
        case Converted(a=a, b=b, c=c, value=inner):
            found = _number(inner)
            return None if found is None else (found * a + b) / c
    return None


def _written_unit(node: tree.Expr) -> Unit | None:
    """The unit that stands at a limit."""
    while isinstance(node, tree.Unary):
        node = node.value
    return parse_unit(node.unit) if isinstance(node, tree.Quantity) and node.unit else None


def _shown_in(value: Ex, have: Unit, wanted: Unit) -> Ex:
    """A side of a comparison in the unit in which it was written."""
    if same_scale(have, wanted):
        return value
    factors = between(have, wanted, difference=value.type.difference)
    return Converted(replace(value.type, unit=wanted), value.line, *factors, value)


def _implies(rule: Ex, other: Ex) -> bool:
    """Whether `other` holds whenever `rule` does, as far as single comparisons with numbers tell."""
    if not (isinstance(rule, Compared) and isinstance(other, Compared)):
        return False
    a, b = rule.right, other.right
    same = replace(rule.left, line=0) == replace(other.left, line=0)
    if not same or not isinstance(a, Constant) or not isinstance(b, Constant):
        return False
    if not isinstance(a.value, float) or not isinstance(b.value, float):
        return False
    if rule.sign in (">", ">=") and other.sign in (">", ">="):
        return a.value > b.value or (a.value == b.value and not (rule.sign == ">=" and other.sign == ">"))
    if rule.sign in ("<", "<=") and other.sign in ("<", "<="):
        return a.value < b.value or (a.value == b.value and not (rule.sign == "<=" and other.sign == "<"))
    return False
