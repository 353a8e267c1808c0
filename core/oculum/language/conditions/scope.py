"""What an expression may speak of in a condition: fields and their past, places, the clock, members of a site."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from ...quantities import describe, parse_unit
from .. import limits, tree
from ..abilities import Ability
from ..checking import METRE, PLAIN, SECOND, TRUTH, Checker, shown
from ..expressions import (
    Age,
    AtFence,
    Builtin,
    Constant,
    Ex,
    MessageCount,
    Named,
    Silent,
    Speed,
    Type,
    Window,
)
from ..functions import CLOCK, OF_DEVICE, OF_MEMBERS, PLACES, WINDOWS
from ..past import PastScope
from ..problems import meant

DEVICE = frozenset({Ability.SETPOINTS, Ability.PAST, Ability.CLOCK, Ability.FENCES})
SITE = frozenset({Ability.SETPOINTS, Ability.MEMBERS})
SPEED = parse_unit("m/s")


@dataclass
class ConditionScope(PastScope):
    """The fields of a device type, and the fences that there are (None: not known)."""

    fences: Collection[str] | None = None
    abilities: frozenset[Ability] = DEVICE

    def other_names(self) -> Iterable[str]:
        if Ability.MEMBERS in self.abilities:
            return [*OF_MEMBERS]
        return [*WINDOWS, *CLOCK, *PLACES, *OF_DEVICE]

    def other_name(self, check: Checker, node: tree.Name) -> Ex | None:
        if node.name not in OF_DEVICE or Ability.CLOCK not in self.abilities:
            return None
        gives = Type("position") if node.name == "home" else Type("number", SECOND)
        return Builtin(gives, node.span.line, node.name)

    def call(self, check: Checker, node: tree.Call) -> Ex | None:
        name = node.function
        if name in OF_MEMBERS and Ability.MEMBERS in self.abilities:
            return self._of_members(check, node)
        if name in WINDOWS and Ability.PAST in self.abilities:
            return self.window(check, node)
        if name in CLOCK and Ability.CLOCK in self.abilities:
            return self._clock(check, node)
        if name in PLACES and Ability.FENCES in self.abilities:
            return self._place(check, node)
        return None

    # the clock ---------------------------------------------------------------------------
    def _clock(self, check: Checker, node: tree.Call) -> Ex:
        name, line, given = node.function, node.span.line, list(node.arguments)
        if name == "age":
            if len(given) != 1:
                check.halt(f"`age` takes a field: {CLOCK['age']}", node.span)
            return Age(Type("number", SECOND), line, self._field(check, given[0], name))
        if name == "messages":
            if len(given) != 1:
                check.halt(f"`messages` takes a window: {CLOCK['messages']}", node.span)
            width, calendar = self.width(check, given[0])
            if calendar:
                check.halt("`messages` takes a duration, as in `messages(1 h)`", given[0].span)
            return MessageCount(Type("number", PLAIN), line, width)
        if not 1 <= len(given) <= 2:
            check.halt(f"`silent` takes a duration: {CLOCK['silent']}", node.span)
        of = self._field(check, given[0], name) if len(given) == 2 else None
        limit = check.number(given[-1], self)
        unit = limit.type.unit or PLAIN
        if limit.type.kind == "number" and unit.dimension != SECOND.dimension:
            check.halt(
                f"`silent` takes a duration such as `30 min` or `3 * cadence`, found {describe(unit.dimension)}",
                given[-1].span,
            )
        allowed = ("cadence", "learned_cadence", "cadence_spread")
        for part in limit.walk():
            if isinstance(part, Named | Window | Age | Silent | MessageCount | AtFence | Speed) or (
                isinstance(part, Builtin) and part.name not in allowed
            ):
                check.halt(
                    "how long a silence lasts is fixed when it begins: by a duration, a setpoint, or the cadence",
                    given[-1].span,
                )
        seconds = check.to_scale(Constant(Type("number", SECOND), 0, 1.0), limit, given[-1].span)
        fixed = seconds.value if isinstance(seconds, Constant) else None
        if isinstance(fixed, float) and not 0 < fixed <= limits.DURATION_DAYS * 86_400:
            check.halt(f"a silence is longer than nothing and at most {limits.DURATION_DAYS} d", given[-1].span)
        return Silent(TRUTH, line, of, seconds)

    def _field(self, check: Checker, node: tree.Expr, function: str) -> str:
        found = check.typed(node, self) if isinstance(node, tree.Name) else None
        if not isinstance(found, Named):
            check.halt(f"`{function}` takes the name of a field", node.span)
        return found.name

    # places ------------------------------------------------------------------------------
    def _place(self, check: Checker, node: tree.Call) -> Ex:
        name, line, given = node.function, node.span.line, list(node.arguments)
        if not given:
            check.halt(f"`{name}` takes a position: {PLACES[name]}", node.span)
        found = check.typed(given[0], self)
        if not isinstance(found, Named) or found.type.kind != "position":
            check.halt(f"`{name}` takes a field that is a position, found {shown(found.type)}", given[0].span)
        if name == "speed":
            if len(given) != 1:
                check.halt(f"`speed` takes a position: {PLACES['speed']}", node.span)
            return Speed(Type("number", SPEED), line, found.name)
        least, most = (3, 3) if name == "crosses" else (2, 3)
        if not least <= len(given) <= most:
            check.halt(f"`{name}` takes a position and a fence: {PLACES[name]}", node.span)
        if not isinstance(given[1], tree.String):
            check.halt(f"a fence is named in quotes: {PLACES[name]}", given[1].span)
        fence = given[1].text
        if self.fences is not None and fence not in self.fences:
            check.halt(f"there is no fence “{fence}”{meant(fence, self.fences)}", given[1].span)
        amount = 0.0
        if name == "crosses":
            width, calendar = self.width(check, given[2])
            if calendar:
                check.halt("how far two positions may lie apart is a duration, as in `10 min`", given[2].span)
            amount = float(width)
        elif len(given) == 3:
            margin = check.to_scale(
                Constant(Type("number", METRE), 0, 1.0), check.number(given[2], self), given[2].span
            )
            if not isinstance(margin, Constant) or not isinstance(margin.value, float) or margin.value < 0:
                check.halt("a margin is a distance of 0 m or more", given[2].span)
            amount = margin.value
        return AtFence(TRUTH, line, name, found.name, fence, amount)

    def _of_members(self, check: Checker, node: tree.Call) -> Ex:
        found = self.of_members(check, node, frozenset({Ability.CLOCK, Ability.SETPOINTS}))
        for part in found.value.walk():
            if isinstance(part, MessageCount | Age | Builtin):
                check.halt(f"`{node.function}` speaks of newest values and of silence only", node.arguments[0].span)
        return found
