"""Routes on the server: they stand in an order, are on one or several types, and declare what they derive."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db import transaction
from django.db.models import Max, QuerySet

from oculum.language.fields import FieldSpec
from oculum.language.problems import Problem, Span
from oculum.language.routes import ROUTE
from oculum.language.routes.check import SITE
from oculum.language.routes.plan import Derive, Gather, RoutePlan
from oculum.language.routes.sentence import act_words
from server.records.definitions.models import Definition, ReferenceTable, Version
from server.records.fleet.models import DeviceType
from server.records.people.models import Person, record
from server.records.telling.models import Outlet
from server.rules.kinds import KindRules, NotPublishable, Published, Running, Uses, take_name, watched_by
from server.rules.plans import declared, decoder_plan, field_out, merged, route_plan
from server.rules.refusal import Refused
from server.rules.registering import control
from server.rules.sites import sites_as_devices


def before_publishing(definition: Definition, plan: RoutePlan, type_: DeviceType, despite_cases: bool) -> DeviceType:
    """The definition takes the name that the text gives it, and a place behind all others where it has none. The
    fields that it derives are declared on its types. Raises NotPublishable.
    """
    take_name(definition, plan.name)
    if plan.gathered:
        _of_nobody_else(definition, plan)
        sites_as_devices(None, begin=True)
    wanted = [*plan.types, *([SITE] if plan.gathered else [])]
    locked = {t.key: t for t in DeviceType.objects.select_for_update().filter(key__in=wanted).order_by("pk")}
    types = {key: locked[key] for key in plan.types}
    for spec in plan.derived:
        line = next(act.line for act in plan.lines if isinstance(act, Derive) and act.field == spec)
        for one in types.values():
            if spec.name in _decoded(one):
                words = f"the decoder of {one.title} gives `{spec.name}` already: say `correct {spec.name} = ...`"
                raise NotPublishable([Problem(words, Span(line, 1, 2))])
    for one in types.values():
        _declare(one, plan.derived)
    if plan.gathered:
        _declare(locked[SITE], plan.gathered)
    definition.type = types[plan.types[0]]
    definition.on.set(types.values())
    if definition.place is None:
        last = Definition.objects.filter(kind=ROUTE.name).aggregate(last=Max("place"))["last"] or 0
        definition.place = last + 1
    return definition.type


def _declare(type_: DeviceType, specs: Iterable[FieldSpec]) -> None:
    """Fields that a type does not have yet. The type is locked."""
    known = {f["name"] for f in type_.fields}
    fresh = [field_out(spec) for spec in specs if spec.name not in known]
    if fresh:
        type_.fields = type_.fields + fresh
        type_.revise()


def _of_nobody_else(definition: Definition, plan: RoutePlan) -> None:
    """A field of sites comes from one route. Raises NotPublishable."""
    for other in in_order().filter(live__isnull=False).exclude(pk=definition.pk):
        assert other.live is not None
        theirs = plan_of(other.live)
        for spec in theirs.gathered if theirs is not None else ():
            line = next((a.line for a in plan.lines if isinstance(a, Gather) and a.field.name == spec.name), None)
            if line is not None:
                words = f"route “{other.name}” gathers `{spec.name}` already: a field of sites comes from one route"
                raise NotPublishable([Problem(words, Span(line, 1, 2))])


def _decoded(type_: DeviceType) -> set[str]:
    """The fields that the decoder in force of a type gives."""
    found = Definition.objects.filter(kind="decoder", type=type_, live__isnull=False).select_related("live").first()
    plan = decoder_plan(found.live.text, found.live.fields) if found is not None and found.live is not None else None
    return {spec.name for spec in plan.all_fields} if plan is not None else set()


def kept(plan: RoutePlan, type_: DeviceType) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The fields and setpoints of all its types."""
    wanted = [*plan.types, *([SITE] if plan.gathered else [])]
    return merged(DeviceType.objects.filter(key__in=wanted).order_by("pk"))


def put_in_force(registry: Running, published: Published) -> None:
    plan = route_plan(published.text, published.key, published.fields, published.setpoints)
    if plan is not None:
        registry.route(published, plan)


def uses(version: Version, type_: DeviceType, found: Uses) -> None:
    plan = plan_of(version)
    words = f"route “{version.definition.name}”"
    for name in plan.fields if plan is not None else ():
        found.fields.setdefault(name, []).append(words)
    for name in plan.setpoints if plan is not None else ():
        found.setpoints.setdefault(name, []).append(words)


def plan_of(version: Version) -> RoutePlan | None:
    return route_plan(version.text, version.definition.type.key, version.fields, version.setpoints)


def facts(plan: RoutePlan) -> dict[str, Any]:
    return {
        "fields": [field_out(spec) for spec in plan.derived],
        "type": plan.types[0],
        "lines": lines(plan),
    }


def lines(plan: RoutePlan) -> list[dict[str, Any]]:
    """The lines of a route with what each does, in words."""
    return [{"line": act.line, "act": type(act).__name__.lower(), "words": act_words(act)} for act in plan.lines]


def touches(definition: Definition) -> dict[str, int]:
    on = definition.on.all() if definition.pk else DeviceType.objects.none()
    return watched_by(Definition.objects.filter(kind="condition", type__in=on, live__isnull=False))


# the order ------------------------------------------------------------------------------------
def in_order() -> QuerySet[Definition]:
    """All routes in the order in which readings pass them; those never published last."""
    return Definition.objects.filter(kind=ROUTE.name).order_by("place", "name")


def reorder(idents: list[int], person: Person | None) -> None:
    """Puts routes into another order. Raises Refused where these are not all that have a place."""
    with transaction.atomic():
        placed = {d.pk: d for d in Definition.objects.select_for_update().filter(kind=ROUTE.name, place__isnull=False)}
        if sorted(idents) != sorted(placed):
            raise Refused("changed meanwhile", "there are other routes now than those that were put in order", 409)
        before = [d.name for d in sorted(placed.values(), key=lambda d: d.place or 0)]
        for place, ident in enumerate(idents, 1):
            Definition.objects.filter(pk=ident).update(place=place)
        control("order", {"routes": idents}, person)
        record(person, "put in order", "routes", {"before": before, "after": [placed[i].name for i in idents]})


def sending_to(outlet: Outlet) -> list[str]:
    """The routes in force that send readings to an outlet, by name."""
    found = []
    for definition in in_order().filter(live__isnull=False).select_related("live", "live__definition__type"):
        assert definition.live is not None
        plan = plan_of(definition.live)
        if plan is not None and outlet.name in plan.outlets:
            found.append(definition.name)
    return found


def routes_on(type_: DeviceType) -> int:
    return Definition.objects.filter(kind=ROUTE.name, on=type_, live__isnull=False).count()


# reference tables -------------------------------------------------------------------------------
def table_specs() -> dict[str, tuple[Any, ...]]:
    """The columns of all reference tables, by name."""
    return {t.name: tuple(declared(t.columns).values()) for t in ReferenceTable.objects.only("name", "columns")}


def looking_up(table: str) -> list[str]:
    """The routes in force that look a table up, by name."""
    found = []
    for definition in in_order().filter(live__isnull=False).select_related("live", "live__definition__type"):
        assert definition.live is not None
        plan = plan_of(definition.live)
        if plan is not None and table in plan.tables:
            found.append(definition.name)
    return found


RULES_OF_ROUTES = KindRules(ROUTE, before_publishing, put_in_force, uses, facts, touches, kept=kept)
