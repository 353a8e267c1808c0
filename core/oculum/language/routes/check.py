"""Checking a route against the device types that it is on."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from typing import TypeVar

from ...quantities import UnitError, between, describe, parse_unit
from .. import limits, tree
from ..abilities import Ability
from ..checking import METRE, PLAIN, Checker, Halt, point, shown, temperature, type_of
from ..expressions import AtFence, Constant, Ex, Named, OfMembers, SetpointValue, TableEntry, Type
from ..fields import FieldKind, FieldSpec
from ..hours import hours_of
from ..kinds import Surroundings
from ..parser import read
from ..problems import DefinitionError, Problem, Span, meant, placed
from . import lines
from .plan import Act, Correct, Derive, Drop, Gather, Mark, RoutePlan, Send, Stop, Thin, When, expressions, walked
from .scope import RouteScope
from .syntax import SYNTAX

Clause = TypeVar("Clause", bound=tree.Node)
REASON_CHARACTERS = 120
SITE = "site"  # the key of the type whose devices are the sites themselves
OF_SITE = frozenset({Ability.MEMBERS})
MINUTE, DAY = 60_000_000, 86_400_000_000
TOPIC = re.compile(r"(?:\+|[^+#/]*)(?:/(?:\+|[^+#/]*))*(?:/#)?|#")


def checked(text: str, surroundings: Surroundings) -> tuple[RoutePlan | None, list[Problem]]:
    return check_route(text, surroundings)


def check_route(text: str, around: Surroundings) -> tuple[RoutePlan | None, list[Problem]]:
    """A route's plan, or None with the errors."""
    try:
        node, problems, poisoned = read(text, SYNTAX, around.published)
    except DefinitionError as error:
        return None, error.problems
    work = _Routes(Checker(problems, poisoned, around.published), node, around)
    try:
        plan = work.plan()
    except Halt:
        plan = None
    problems = placed(work.check.problems, text)
    return (None if work.check.failed else plan), problems


def in_common(types: Iterable[Mapping[str, FieldSpec]]) -> dict[str, FieldSpec]:
    """The fields that all types have, of one kind and unit; codes that differ are told apart by the checker."""
    found: dict[str, FieldSpec] | None = None
    for fields in types:
        if found is None:
            found = dict(fields)
            continue
        found = {name: spec for name, spec in found.items() if name in fields and fields[name] == spec}
    return found or {}


class _Routes:
    def __init__(self, check: Checker, node: lines.Route, around: Surroundings) -> None:
        self.check, self.node, self.around = check, node, around
        self.derived: dict[str, FieldSpec] = {}
        self.gathered: dict[str, FieldSpec] = {}

    def one(self, wanted: type[Clause], word: str) -> Clause | None:
        found = [clause for clause in self.node.clauses if isinstance(clause, wanted)]
        for extra in found[1:]:
            self.check.error(f"`{word}` stands twice; one is enough", extra.span)
        return found[0] if found else None

    def plan(self) -> RoutePlan:
        check, node, around = self.check, self.node, self.around
        on = self.one(lines.On, "on")
        if not 1 <= len(node.name) <= 120:
            check.error("a route's name has 1 to 120 characters", node.span)
        if on is None and check.failed:
            raise Halt  # the clause may stand in a line that could not be read
        if on is None:
            check.halt("`on` is missing: say which device types, as in `on raft_buoy, work_boat`", node.span)
        for index, key in enumerate(on.types):
            if key not in around.fields:
                check.halt(f"`{key}` is not a device type{meant(key, around.fields)}", on.span)
            if key in on.types[:index]:
                check.error(f"`{key}` stands twice", on.span)
        if on.site is not None and around.sites is not None and on.site not in around.sites:
            check.error(f"there is no site “{on.site}”{meant(on.site, around.sites)}", on.span)
        self.of = on.types
        self.fields = in_common(around.fields[key] for key in on.types)
        self.some = {name for key in on.types for name in around.fields[key]}
        setpoints = _alike([around.setpoints.get(key, {}) for key in on.types])
        self.scope = RouteScope(
            {name: type_of(spec) for name, spec in self.fields.items()},
            " and ".join(on.types),
            setpoints=setpoints,
            fences=around.fences,
            tables=around.tables,
        )
        devices, topic = self.one(lines.Devices, "devices"), self.one(lines.Topic, "topic")
        acts = self.acts(node.acts)
        if sum(1 for _ in walked(acts)) > limits.STATEMENTS:
            check.error(f"a route has at most {limits.STATEMENTS} lines", node.span)
        spoken = [part for act in walked(acts) for ex in expressions(act) for part in ex.walk()]
        named = [name for act in walked(acts) for name in names_of(act)]
        return RoutePlan(
            node.name,
            on.types,
            on.site,
            on.labels,
            devices.names if devices is not None else (),
            self.topic(topic) if topic is not None else None,
            hours_of(check, node.clauses),
            acts,
            tuple(dict.fromkeys(name for name in named if name not in self.derived)),
            tuple(dict.fromkeys(part.name for part in spoken if isinstance(part, SetpointValue))),
            tuple(dict.fromkeys(part.fence for part in spoken if isinstance(part, AtFence))),
            tuple(dict.fromkeys(act.outlet for act in walked(acts) if isinstance(act, Send))),
            tuple(dict.fromkeys(part.table for part in spoken if isinstance(part, TableEntry))),
            tuple(self.derived.values()),
            tuple(self.gathered.values()),
        )

    def topic(self, node: lines.Topic) -> str:
        if not 1 <= len(node.pattern) <= 250 or not TOPIC.fullmatch(node.pattern):
            self.check.halt(
                "a topic has levels between `/`; `+` stands for one whole level, `#` at the end for all further ones",
                node.span,
            )
        return node.pattern

    # lines -------------------------------------------------------------------------------
    def acts(self, written: tuple[lines.Act, ...]) -> tuple[Act, ...]:
        found: list[Act] = []
        for node in written:
            if found and isinstance(found[-1], Stop):
                self.check.error("nothing reaches this line: the one above it says `stop`", node.span)
                break
            try:
                found.append(self.act(node))
            except Halt:
                if isinstance(node, lines.Derive):
                    self.check.poisoned.add(node.name)
        return tuple(found)

    def act(self, node: lines.Act) -> Act:
        check, line = self.check, node.span.line
        match node:
            case lines.When():
                rule = check.truth(node.rule, self.scope)
                return When(line, rule, self.acts(node.then), self.acts(node.otherwise))
            case lines.Drop():
                if not 1 <= len(node.reason) <= REASON_CHARACTERS:
                    check.error(f"a reason has 1 to {REASON_CHARACTERS} characters", node.span)
                return Drop(line, node.reason, self.named(node.fields, node.span), node.message)
            case lines.Correct():
                return self.correct(node)
            case lines.Derive():
                return self.derive(node)
            case lines.Gather():
                return self.gather(node)
            case lines.Thin():
                return self.thin(node)
            case lines.Mark():
                return Mark(line, node.name, node.text)
            case lines.Send():
                outlets = self.around.outlets
                if outlets is not None and node.outlet not in outlets:
                    check.error(f"there is no outlet “{node.outlet}”{meant(node.outlet, outlets)}", node.span)
                return Send(line, self.named(node.fields, node.span), node.outlet)
            case lines.Stop():
                return Stop(line)

    def named(self, names: tuple[str, ...], span: Span) -> tuple[str, ...]:
        """Names of fields as lines list them. One that only some of the types have may stand there."""
        for index, name in enumerate(names):
            if name not in self.some and name not in self.derived and name not in self.check.poisoned:
                self.check.halt(
                    f"`{name}` is not a field of `{self.scope.owner}`{meant(name, [*self.some, *self.derived])}", span
                )
            if name in names[:index]:
                self.check.error(f"`{name}` stands twice", span)
        return names

    def field(self, name: str, span: Span) -> FieldSpec:
        """A field that all types have alike. Raises Halt."""
        spec = self.derived.get(name) or self.fields.get(name)
        if spec is not None:
            return spec
        if name in self.some:
            self.check.halt(f"`{name}` is not the same in all of `{self.scope.owner}`: write a route for each", span)
        if name in self.check.poisoned:
            raise Halt
        self.check.halt(f"`{name}` is not a field of `{self.scope.owner}`{meant(name, self.fields)}", span)

    def correct(self, node: lines.Correct) -> Correct:
        check = self.check
        spec = self.field(node.field, node.span)
        if spec.wide:
            check.halt(
                f"`{node.field}` holds whole numbers of more than 53 bits: routes leave them as they are", node.span
            )
        target = Named(type_of(spec), node.span.line, node.field)
        value = check.typed(node.value, self.scope, beside=True)
        if "unknown" not in (value.type.kind, target.type.kind):
            if value.type.kind == "code" and value.type.literal:
                value = check.compare(node_of(node), "=", target, value).right  # type: ignore[attr-defined]
            elif value.type.kind != target.type.kind:
                check.halt(f"`{node.field}` is {shown(target.type)}, found {shown(value.type)}", node.value.span)
            elif target.type.kind == "number":
                if temperature(target) and temperature(value) and not spec.difference and value.type.difference:
                    check.halt(f"`{node.field}` is a temperature, found a difference of temperatures", node.value.span)
                value = check.to_scale(target, value, node.value.span, difference=spec.difference)
        return Correct(node.span.line, node.field, value)

    def derive(self, node: lines.Derive) -> Derive:
        check = self.check
        value = check.typed(node.value, self.scope)
        if value.type.kind == "unknown":
            raise Halt
        declared = self.derived.get(node.name) or self.fields.get(node.name)
        if declared is None and node.name in self.some:
            check.halt(f"`{node.name}` is a field of some of `{self.scope.owner}` already", node.span)
        spec, value = self.given(node, value, declared)
        self.derived[node.name] = spec
        self.scope.names[node.name] = type_of(spec)
        return Derive(node.span.line, spec, value)

    def gather(self, node: lines.Gather) -> Gather:
        check = self.check
        if SITE in self.of:
            check.halt("a site has no members that are sites: gather from the devices below them", node.span)
        value = check.typed(node.value, replace(self.scope, abilities=OF_SITE))
        if value.type.kind == "unknown":
            raise Halt
        if not any(isinstance(part, OfMembers) for part in value.walk()) or _bare(value):
            check.halt(
                f"`{node.name}` is a field of sites: take values out of their members, as in `max_of(water_temp)`",
                node.value.span,
            )
        every = check.duration_us(*node.every, node.span) if node.every else 0
        if node.every and (every < MINUTE or DAY % every):
            check.halt("steps are 1 min long or longer, and a day has a whole number of them", node.span)
        if every and any(part.age is not None for part in value.walk() if isinstance(part, OfMembers)):
            check.halt("`every` takes all values of a step: how old one may be is not asked for there", node.span)
        declared = self.gathered.get(node.name) or self.around.fields.get(SITE, {}).get(node.name)
        spec, value = self.given(node, value, declared)
        self.gathered[node.name] = spec
        return Gather(node.span.line, spec, value, every)

    def given(self, node: lines.Derive | lines.Gather, value: Ex, declared: FieldSpec | None) -> tuple[FieldSpec, Ex]:
        """The field that a line gives, as it is declared where it is, and the value on its scale. Raises Halt."""
        check, found = self.check, value.type
        kind: FieldKind = "flag" if found.kind == "truth" else found.kind  # type: ignore[assignment]
        unit, difference = None, False
        if kind == "number":
            if found.wide:
                found = check.inexact(value, node.value.span)
            unit, value = self.unit_of(node, value, declared)
            difference = temperature(value) and found.difference and not point(value)
        spec = FieldSpec(node.name, kind, unit, found.codes, difference=difference)
        if declared is not None and not _fits(declared, spec):
            words = f"{declared.kind}{f' in {declared.unit}' if declared.unit not in (None, '1') else ''}"
            check.halt(f"`{node.name}` is declared as {words}; this line gives {shown(value.type)}", node.span)
        if len(self.derived) + len(self.gathered) >= limits.FIELDS:
            check.halt(f"a route gives at most {limits.FIELDS} fields", node.span)
        return declared or spec, value

    def unit_of(self, node: lines.Derive | lines.Gather, value: Ex, declared: FieldSpec | None) -> tuple[str, Ex]:
        """The unit in which a derived number is kept, and the value on its scale."""
        check = self.check
        code = node.unit or (declared.unit if declared is not None else None)
        have = value.type.unit or PLAIN
        if code is None:
            try:
                parse_unit(have.code)
            except UnitError:
                check.halt(
                    f"the unit of `{node.name}` comes out as {have.code}: say `into` and a unit", node.value.span
                )
            return have.code, value
        wanted = check.unit(code, node.span)
        target = Constant(Type("number", wanted, literal=True), 0, 1.0)
        if have.dimension != wanted.dimension:
            check.halt(f"`{node.name}` comes out as {describe(have.dimension)}, not in {code}", node.value.span)
        return code, check.to_scale(target, replace(value, type=replace(value.type, literal=False)), node.value.span)

    def thin(self, node: lines.Thin) -> Thin:
        check = self.check
        every = check.duration_us(*node.every, node.span) if node.every else 0
        names = self.named(node.fields, node.span)
        bands: list[float] = []
        relative = False
        for name in names:
            spec = self.field(name, node.span)
            if node.band is None:
                bands.append(0.0)
                continue
            number, code = node.band
            amount = float(check.bounded(number, node.span))
            if amount < 0:
                check.halt("a band is 0 or more", node.span)
            if spec.kind == "position":
                unit = check.unit(code, node.span) if code else PLAIN
                if unit.dimension != METRE.dimension:
                    check.halt(f"how far `{name}` moves is a distance, such as `50 m`", node.span)
                bands.append(float(amount * unit.factor))
                continue
            if spec.kind not in ("number", "integer"):
                check.halt(f"`{name}` is {shown(type_of(spec))} and takes no band: leave out `by`", node.span)
            own = parse_unit(spec.unit or "1")
            if code == "%" and own.code != "%":
                relative = True
                bands.append(amount / 100)
                continue
            unit = check.unit(code, node.span) if code else PLAIN
            if unit.dimension != own.dimension:
                have = f"`{number} {own.code}`" if own.code != "1" else f"`{number}`"
                check.halt(f"`{name}` is {describe(own.dimension)} in {own.code}: write {have}", node.span)
            a, _, c = between(unit, own, difference=True)
            bands.append(amount * a / c)
        band = " ".join(filter(None, node.band)) if node.band is not None else ""
        return Thin(node.span.line, names, tuple(bands), relative, every, band)


def node_of(node: lines.Correct) -> tree.Binary:
    """The correction as a comparison of the field with its value: a code's text gets its number so."""
    return tree.Binary(node.span, "=", tree.Name(node.span, node.field), node.value)


def names_of(act: Act) -> tuple[str, ...]:
    """The fields that a line speaks of."""
    spoken: list[str] = []
    for ex in expressions(act):
        for part in ex.walk():
            if isinstance(part, Named):
                spoken.append(part.name)
            elif isinstance(part, AtFence):
                spoken.append(part.field)
    match act:
        case Drop(fields=fields) | Thin(fields=fields) | Send(fields=fields):
            spoken += fields
        case Correct(field=name):
            spoken.append(name)
    return tuple(dict.fromkeys(spoken))


def _bare(ex: Ex) -> bool:
    """Whether an expression of a site speaks of a field outside its members."""
    return not isinstance(ex, OfMembers) and (isinstance(ex, Named) or any(map(_bare, ex.parts())))


def _fits(declared: FieldSpec, spec: FieldSpec) -> bool:
    if declared.kind != spec.kind or declared.wide:
        return False
    return spec.kind != "number" or parse_unit(declared.unit or "1").dimension == parse_unit(spec.unit or "1").dimension


def _alike(setpoints: Collection[Mapping[str, str]]) -> dict[str, str]:
    """The setpoints that all types have, in one unit."""
    first, *others = [*setpoints]
    return {name: unit for name, unit in first.items() if all(other.get(name) == unit for other in others)}


__all__ = ["check_route", "checked", "in_common", "names_of"]
