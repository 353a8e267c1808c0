"""Decoders on the server: they declare fields, pass their cases, and go to chosen devices first."""

from __future__ import annotations

from typing import Any

from oculum.errors import OculumError
from oculum.language.conditions import CONDITION
from oculum.language.decoders import DECODER
from oculum.language.decoders.plan import DecoderPlan
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.rules.cases import failing
from server.rules.kinds import KindRules, Published, Running, Source, Uses, watched_by
from server.rules.plans import decoder_plan, field_out, hands_on
from server.rules.selection import Selection


class CasesFail(OculumError):
    """The text is sound, but does not give what its cases expect."""

    def __init__(self, names: list[str]) -> None:
        super().__init__(
            f"{len(names)} case{'s fail' if len(names) != 1 else ' fails'}:"
            f" {', '.join(names[:5])}{' and more' if len(names) > 5 else ''}"
        )
        self.names = names


def before_publishing(definition: Definition, plan: DecoderPlan, type_: DeviceType, despite_cases: bool) -> DeviceType:
    """Fields that it brings and its type does not declare are declared with it, and differences as such. Raises
    CasesFail.
    """
    bad = failing(definition, plan)
    if bad and not despite_cases:
        raise CasesFail(bad)
    declared = {f["name"] for f in type_.fields}
    fresh = [field_out(spec) for spec in plan.all_fields if spec.name not in declared]
    differences = {spec.name for spec in plan.all_fields if spec.difference}
    fields = [f | {"difference": True} if f["name"] in differences else f for f in type_.fields] + fresh
    if fields != type_.fields:
        type_.fields = fields
        type_.revise()
    return type_


def put_in_force(registry: Running, published: Published) -> None:
    registry.sources[published.version] = Source(published.text, published.fields, published.type_id, published.made)
    registry.types[published.key] = published.type_id
    registry.live[published.type_id] = published.version
    registry.first.pop(published.type_id, None)
    # A decoder that hands on to others holds their plans: it is made anew when one of them changes.
    registry.plans = {v: plan for v, plan in registry.plans.items() if not hands_on(registry.sources[v].text)}


def give_first(registry: Running, published: Published, selection: Selection) -> None:
    registry.sources[published.version] = Source(published.text, published.fields, published.type_id, published.made)
    registry.first[published.type_id] = (published.version, selection)


def uses(version: Version, type_: DeviceType, found: Uses) -> None:
    plan = decoder_plan(version.text, version.fields)
    for spec in plan.all_fields if plan is not None else ():
        found.fields.setdefault(spec.name, []).append(f"decoder version {version.number}")


def facts(plan: DecoderPlan) -> dict[str, Any]:
    return {
        "fields": [field_out(spec) for spec in plan.all_fields],
        "source": plan.source,
        "needs_before": plan.needs_before,
    }


def touches(definition: Definition) -> dict[str, int]:
    return watched_by(Definition.objects.filter(kind=CONDITION.name, type=definition.type, live__isnull=False))


RULES_OF_DECODERS = KindRules(DECODER, before_publishing, put_in_force, uses, facts, touches, give_first=give_first)
