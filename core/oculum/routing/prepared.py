"""What the lines of a route speak of, worked out once."""

from __future__ import annotations

from ..language.expressions import Ex, Named, OfMembers, Window, bare
from ..language.routes.check import names_of
from ..language.routes.plan import Act, RoutePlan, expressions


class Prepared:
    """windows: by the expression that they look at. Windows are known by themselves and by where they are written.
    positions: the fields that are positions.
    """

    def __init__(self, plan: RoutePlan) -> None:
        self.plan = plan
        self._names = {id(act): names_of(act) for act in plan.lines}
        self.windows: dict[Ex, list[Window]] = {}
        self.positions: set[str] = set()
        self._bare: dict[int, Window] = {}
        self._members: dict[OfMembers, Ex] = {}
        for act in plan.lines:
            for ex in expressions(act):
                for part in ex.walk():
                    if isinstance(part, Named) and part.type.kind == "position":
                        self.positions.add(part.name)
                    if isinstance(part, OfMembers):
                        self._members.setdefault(bare(part), part.value)
                    if isinstance(part, Window):
                        node = self._bare[id(part)] = bare(part)
                        listed = self.windows.setdefault(node.value, [])
                        if node not in listed:
                            listed.append(node)

    def names(self, act: Act) -> tuple[str, ...]:
        """The fields that a line of the plan speaks of."""
        return self._names[id(act)]

    def members(self, node: OfMembers) -> Ex:
        """What is taken of each member, as it is written."""
        return self._members[node]

    def window(self, ex: Window) -> Window:
        return self._bare[id(ex)]
