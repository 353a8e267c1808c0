"""What conditions and routes speak of alike: setpoints, and windows over the past of a field."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from ..quantities import Unit, parse_unit
from . import tree
from .abilities import Ability
from .checking import KELVIN, PLAIN, SECOND, TRUTH, UNKNOWN, UNKNOWN_UNIT, Checker, Scope, names_in, shown
from .expressions import Constant, Ex, Named, OfMembers, SetpointValue, Type, Window
from .functions import CALENDAR_WINDOWS, OF_MEMBERS, WINDOWS
from .problems import meant

TRUTHS = ("count_of", "share_of", "any_of", "all_of")


@dataclass
class PastScope(Scope):
    """The fields of a device type and its setpoints (name to unit)."""

    setpoints: Mapping[str, str] = field(default_factory=dict)

    def setpoint(self, check: Checker, node: tree.Setpoint) -> Ex:
        unit = self.setpoints.get(node.name) if node.name not in self.setpoints else self.setpoints[node.name]
        if unit is None:
            check.halt(
                f"`{node.name}` is not a setpoint of `{self.owner}`{meant(node.name, self.setpoints)}", node.span
            )
        gives = UNKNOWN if unit == UNKNOWN_UNIT else Type("number", parse_unit(unit))
        return SetpointValue(gives, node.span.line, node.name)

    def window(self, check: Checker, node: tree.Call) -> Ex:
        name, line = node.function, node.span.line
        given = list(node.arguments)
        least = 3 if name == "percentile" else 2
        if not least <= len(given) <= least + 1:
            check.halt(f"`{name}` takes a field and a window: {WINDOWS[name]}", node.span)
        percent = self._percent(check, given.pop(1)) if name == "percentile" else 0.0
        value = check.typed(given[0], self)
        fields = names_in(value)
        plain = all(isinstance(part, Named | Constant) or list(part.parts()) for part in value.walk())
        if len(fields) != 1 or not plain or any(isinstance(part, Window) for part in value.walk()):
            check.halt(f"`{name}` takes one field, or an expression over one: {WINDOWS[name]}", given[0].span)
        kind = value.type.kind
        if name == "time_in" and kind not in ("truth", "unknown"):
            check.halt(f"`time_in` takes something true or false, found {shown(value.type)}", given[0].span)
        if name not in ("time_in", "count", "first", "last") and kind not in ("number", "unknown"):
            check.halt(f"`{name}` takes a number, found {shown(value.type)}", given[0].span)
        width, calendar = self.width(check, given[1])
        if calendar and name in ("change", "relative_change"):
            check.halt(f"`{name}` looks back by a duration, as in `{name}(x, 1 h)`", given[1].span)
        share = self._share(check, given[2]) if len(given) == 3 else 0.0
        return Window(self._gives(name, value), line, name, value, width, calendar, share, percent)

    def _gives(self, name: str, value: Ex) -> Type:
        unit = value.type.unit or PLAIN
        match name:
            case "count":
                return Type("number", PLAIN)
            case "time_in":
                return Type("number", SECOND)
            case "relative_change":
                return Type("number", PLAIN)
            case "rate":
                per = Unit(f"{unit.code}/s", _over_seconds(unit), scale=unit.factor)
                return Type("number", per)
            case "change" | "deviation":
                return Type("number", unit, difference=unit.dimension == KELVIN.dimension)
        return replace(value.type, literal=False)

    def width(self, check: Checker, node: tree.Expr) -> tuple[int, str]:
        if isinstance(node, tree.Name) and node.name in CALENDAR_WINDOWS:
            return 0, node.name
        if not isinstance(node, tree.Quantity) or not node.unit:
            check.halt("a window is a duration such as `30 min`, or `today` or `this_week`", node.span)
        width = check.duration_us(node.number, node.unit, node.span)
        if width <= 0:
            check.halt("a window is longer than nothing", node.span)
        return width, ""

    def of_members(self, check: Checker, node: tree.Call, inside: frozenset[Ability]) -> OfMembers:
        """One value out of a site's members; what is taken of each may use `inside`."""
        name, line, given = node.function, node.span.line, list(node.arguments)
        if not 1 <= len(given) <= 2:
            check.halt(f"`{name}` takes a value of the members: {OF_MEMBERS[name]}", node.span)
        value = check.typed(given[0], replace(self, abilities=inside))
        wanted = "truth" if name in TRUTHS else "number"
        if value.type.kind not in (wanted, "unknown"):
            words = "something true or false" if wanted == "truth" else "a number"
            check.halt(f"`{name}` takes {words}, found {shown(value.type)}", given[0].span)
        age = None
        if len(given) == 2:
            age, calendar = self.width(check, given[1])
            if calendar:
                check.halt("how old a value may be is a duration, as in `1 h`", given[1].span)
        gives = TRUTH if name in ("any_of", "all_of") else Type("number", PLAIN)
        if name in ("max_of", "min_of", "mean_of", "sum_of"):
            gives = replace(value.type, literal=False)
        return OfMembers(gives, line, name, value, age)

    def _share(self, check: Checker, node: tree.Expr) -> float:
        found = check.number(node, self)
        if not isinstance(found, Constant) or not isinstance(found.value, float) or found.type.unit is None:
            check.halt("the least share of data is a number such as `75 %`", node.span)
        share = float(found.value * found.type.unit.factor)
        if found.type.unit.dimension or not 0 < share <= 1:
            check.halt("the least share of data lies above 0 % and goes up to 100 %", node.span)
        return share

    def _percent(self, check: Checker, node: tree.Expr) -> float:
        if not isinstance(node, tree.Quantity) or node.unit not in (None, "%"):
            check.halt("a percentile is a number from 0 to 100, as in `percentile(x, 95, 24 h)`", node.span)
        found = float(check.bounded(node.number, node.span))
        if not 0 <= found <= 100:
            check.halt("a percentile lies between 0 and 100", node.span)
        return found


def _over_seconds(unit: Unit) -> tuple[tuple[str, int], ...]:
    """The dimension of a unit divided by time."""
    dims = dict(unit.dimension)
    for base, exponent in SECOND.dimension:
        dims[base] = dims.get(base, 0) - exponent
    return tuple(sorted((base, exponent) for base, exponent in dims.items() if exponent))
