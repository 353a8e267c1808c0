"""Checking a condition against the fields and setpoints of its device type."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from ..quantities import describe, parse_unit
from . import tree
from .checker import Checker, Halt, Scope, type_of
from .parser import parse
from .plan import ConditionPlan, Ex, FieldSpec, Limit, Type
from .problems import DefinitionError, Problem, meant

SAY_WORDS = ("device", "site", "value", "limit", "type")


def check_condition(
    text: str, types: Mapping[str, tuple[Mapping[str, FieldSpec], Mapping[str, str]]]
) -> tuple[ConditionPlan | None, list[Problem]]:
    """A condition's plan, or None with the errors.

    `types` maps the key of a device type to its fields and to its setpoints (name to unit code).
    """
    try:
        node, problems, poisoned = parse(text)
    except DefinitionError as error:
        return None, error.problems
    if not isinstance(node, tree.Condition):
        return None, [Problem("found a decoder, expected a condition", node.span)]
    checker = Checker(problems, poisoned)
    try:
        plan = _checked(node, checker, types)
    except Halt:
        plan = None
    problems = sorted(checker.problems, key=lambda p: (p.span.line, p.span.column))
    return (None if checker.failed else plan), problems


def _one(node: tree.Condition, wanted: type, word: str, checker: Checker) -> tree.Clause | None:
    found = [clause for clause in node.clauses if isinstance(clause, wanted)]
    for extra in found[1:]:
        checker.error(f"`{word}` stands twice; one is enough", extra.span)
    return found[0] if found else None


def _checked(
    node: tree.Condition, checker: Checker, types: Mapping[str, tuple[Mapping[str, FieldSpec], Mapping[str, str]]]
) -> ConditionPlan:
    on = _one(node, tree.On, "on", checker)
    raising = _one(node, tree.Raise, "raise when", checker)
    clearing = _one(node, tree.Clear, "clear when", checker)
    say = _one(node, tree.Say, "say", checker)
    if not 1 <= len(node.name) <= 120:
        checker.error("a condition's name has 1 to 120 characters", node.span)
    if not (isinstance(on, tree.On) and isinstance(raising, tree.Raise)) and checker.failed:
        raise Halt  # the clause may stand in a line that could not be read
    if not isinstance(on, tree.On):
        checker.halt("`on` is missing: say which device type, as in `on raft_buoy`", node.span)
    if on.device_type not in types:
        checker.halt(f"`{on.device_type}` is not a device type{meant(on.device_type, types)}", on.span)
    fields, setpoints = types[on.device_type]
    scope = Scope({name: type_of(spec) for name, spec in fields.items()}, setpoints, None, on.device_type)
    if not isinstance(raising, tree.Raise):
        checker.halt("`raise when` is missing", node.span)
    rule = checker._truth(raising.rule, scope)
    still, clear, clear_held, raise_held = rule, None, 0, 0
    if raising.held:
        raise_held = checker.duration_us(raising.held.number, raising.held.unit, raising.held.span)
    if raising.deadband:
        if clearing:
            checker.error("a condition with a rule of its own for clearing takes no deadband", raising.deadband.span)
        amount = float(checker.bounded(raising.deadband.number, raising.deadband.span))
        unit = parse_unit(raising.deadband.unit) if raising.deadband.unit else parse_unit("1")
        if amount < 0:
            checker.halt("a deadband is 0 or more", raising.deadband.span)
        still = _widened(rule, amount, unit, checker, raising.deadband)
    if isinstance(clearing, tree.Clear):
        clear = checker._truth(clearing.rule, scope)
        if clearing.held:
            clear_held = checker.duration_us(clearing.held.number, clearing.held.unit, clearing.held.span)
    used_fields: list[str] = []
    used_setpoints: list[str] = []
    for ex in [rule] + ([clear] if clear else []):
        _used(ex, used_fields, used_setpoints)
    if not used_fields:
        checker.error("the rule speaks of no field, so that no reading could ever raise it", raising.span)
    if isinstance(say, tree.Say):
        for word in re.findall(r"\{([^}]*)\}", say.template):
            plain = word.removeprefix("setpoint ").strip()
            if word in SAY_WORDS or word in fields or (word != plain and plain in setpoints):
                continue
            checker.error(
                f"`{{{word}}}` is neither a field nor a setpoint{meant(plain, [*fields, *setpoints, *SAY_WORDS])}",
                say.span,
            )
    template = say.template if isinstance(say, tree.Say) else None
    return ConditionPlan(
        node.name,
        node.priority,
        on.device_type,
        on.labels,
        rule,
        still,
        clear,
        raise_held,
        clear_held,
        template,
        tuple(used_fields),
        tuple(used_setpoints),
        tuple(_limits(rule, raising.rule)),
    )


def _used(ex: Ex, fields: list[str], setpoints: list[str]) -> None:
    target = {"name": fields, "setpoint": setpoints}.get(ex.op)
    if target is not None and ex.value not in target:
        target.append(ex.value)
    for argument in ex.args:
        _used(argument, fields, setpoints)


def _widened(rule: Ex, amount: float, unit: object, checker: Checker, node: tree.Deadband) -> Ex:
    """The rule with every limit moved to the good side by the deadband."""
    if rule.op == "and" or rule.op == "or":
        return replace(rule, args=tuple(_widened(part, amount, unit, checker, node) for part in rule.args))
    if rule.op in ("<", "<=", ">", ">=") and rule.args[0].type.kind == "number":
        left, right = rule.args
        scale, band = left.type.unit, parse_unit(node.unit) if node.unit else parse_unit("1")
        assert scale is not None
        if scale.dimension != band.dimension:
            checker.halt(f"the deadband is {describe(band.dimension)}, the limit is in {scale.code}", node.span)
        if band.code == "1" and scale.code != "1":
            checker.halt(f"the deadband has no unit: write `{node.number} {scale.code}`", node.span)
        step = amount * band.factor / scale.factor
        constant = Ex("constant", (), Type("number", scale), step if rule.op in ("<", "<=") else -step)
        # The limit itself, moved, counts as good: `a < l` is over once a >= l + d.
        return Ex(
            "<" if rule.op in ("<", "<=") else ">",
            (left, Ex("+", (right, constant), right.type)),
            rule.type,
            None,
            rule.line,
        )
    if rule.op == "not":
        checker.halt(
            "a deadband goes with comparisons joined by `and` and `or`; write the opposite comparison instead of `not`",
            node.span,
        )
    return rule


def _limits(rule: Ex, written: tree.Expr) -> list[Limit]:
    """The comparisons of a field with a setpoint or a number, to be drawn."""
    found: list[Limit] = []
    if rule.op in ("and", "or") and isinstance(written, tree.Binary):
        for part, text in zip(rule.args, (written.left, written.right), strict=True):
            found += _limits(part, text)
    elif rule.op in ("<", "<=", ">", ">=") and isinstance(written, tree.Binary):
        left, right = rule.args
        sign, limit_text = rule.op, written.right
        if right.op == "name" and left.op != "name":
            left, right = right, left
            sign = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}[sign]
            limit_text = written.left
        if left.op == "name" and left.type.kind == "number":
            setpoint = right.value if right.op == "setpoint" else None
            number = float(right.value) if right.op == "constant" else None
            unit = left.type.unit.code if left.type.unit else None
            span = limit_text.span
            found.append(
                Limit(left.value, sign, setpoint, number, unit, left, right, span.line, span.column, span.end_column)
            )
    return found
