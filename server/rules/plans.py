"""Published texts as plans, kept in memory: a version never changes."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import orjson

from oculum.language.conditions import check_condition
from oculum.language.conditions.plan import ConditionPlan
from oculum.language.decoders import check_decoder
from oculum.language.decoders.check import Others
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.definitions import KINDS
from oculum.language.fields import FieldSpec
from oculum.language.kinds import Surroundings
from oculum.language.routes import check_route
from oculum.language.routes.plan import RoutePlan
from server.store.rows import specs

if TYPE_CHECKING:
    from server.records.definitions.models import Definition, Version
    from server.records.fleet.models import DeviceType
    from server.store.published import VersionRow


def units(setpoints: Iterable[dict[str, Any]]) -> dict[str, str]:
    return {s["name"]: s["unit"] for s in setpoints}


@lru_cache(maxsize=512)
def _decoder(text: str, fields: bytes) -> DecoderPlan | None:
    return check_decoder(text, specs(orjson.loads(fields)), published=True)[0]


@lru_cache(maxsize=512)
def _condition(text: str, key: str, fields: bytes, setpoints: bytes) -> ConditionPlan | None:
    types = {key: (specs(orjson.loads(fields)), units(orjson.loads(setpoints)))}
    return check_condition(text, types, published=True)[0]


def hands_on(text: str) -> bool:
    """Whether a decoder gives parts of its messages to others."""
    return re.search(r"^\s*decode\s", text, re.M) is not None


def decoder_plan(text: str, fields: list[dict[str, Any]], others: Others | None = None) -> DecoderPlan | None:
    """The plan of a published text. `others` finds the decoders that it hands on to."""
    if hands_on(text):
        return check_decoder(text, specs(fields), others=others, published=True)[0]
    return _decoder(text, orjson.dumps(fields))


def published(key: str) -> DecoderPlan | None:
    """The decoder in force of a device type, by its key."""
    from server.records.definitions.models import Definition

    found = Definition.objects.filter(kind="decoder", type__key=key, live__isnull=False).select_related("live").first()
    return decoder_plan(found.live.text, found.live.fields) if found is not None and found.live is not None else None


def field_out(spec: FieldSpec) -> dict[str, Any]:
    """A field as records and answers keep it: the numbers of its codes as texts."""
    found = spec.as_dict()
    found["codes"] = {str(k): v for k, v in found["codes"].items()}
    return found


def declared(fields: Iterable[dict[str, Any]]) -> dict[str, FieldSpec]:
    """Fields of records by name."""
    return specs(fields)


def merged(types: Iterable[DeviceType]) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The fields and setpoints of several types as a version keeps them: each with the keys of the types that have it
    so (`of`).
    """

    def joined(listed: Iterable[tuple[str, list[dict[str, Any]]]], same: tuple[str, ...]) -> list[dict[str, Any]]:
        found: dict[str, dict[str, Any]] = {}
        for key, entries in listed:
            for entry in entries:
                like = orjson.dumps([entry.get(name) for name in same], option=orjson.OPT_SORT_KEYS).decode()
                found.setdefault(like, {**entry, "of": []})["of"].append(key)
        return list(found.values())

    listed = list(types)
    return (
        joined(((t.key, t.fields) for t in listed), ("name", "kind", "unit", "codes", "wide", "difference")),
        joined(((t.key, t.setpoints) for t in listed), ("name", "unit")),
    )


def surroundings(key: str, fields: list[dict[str, Any]], setpoints: list[dict[str, Any]]) -> Surroundings:
    """What a published text is read against: the fields that its version has kept, by the types that have them."""
    keys = {key, *(k for entry in [*fields, *setpoints] for k in entry.get("of", ()))}
    return Surroundings(
        {k: specs(f for f in fields if k in f.get("of", (key,))) for k in keys},
        {k: units(s for s in setpoints if k in s.get("of", (key,))) for k in keys},
        key,
        published=True,
    )


@lru_cache(maxsize=2048)
def _route(text: str, key: str, fields: bytes, setpoints: bytes) -> RoutePlan | None:
    return check_route(text, surroundings(key, orjson.loads(fields), orjson.loads(setpoints)))[0]


def route_plan(text: str, key: str, fields: list[dict[str, Any]], setpoints: list[dict[str, Any]]) -> RoutePlan | None:
    return _route(text, key, orjson.dumps(fields), orjson.dumps(setpoints))


def plan_of(version: Version | VersionRow, key: str) -> ConditionPlan | None:
    """The plan of a version of a condition. key: of its device type."""
    return _condition(version.text, key, orjson.dumps(version.fields), orjson.dumps(version.setpoints))


def plan_in_force(condition: Definition) -> ConditionPlan | None:
    """The plan of a condition's version in force."""
    version = condition.live
    if version is None:
        return None
    return plan_of(version, condition.type.key)


@lru_cache(maxsize=1024)
def _told(kind: str, text: str, key: str, fields: bytes, setpoints: bytes) -> tuple[str | None, str | None]:
    """What a text does, and why it does not read well."""
    around = surroundings(key, orjson.loads(fields), orjson.loads(setpoints))
    plan, problems = KINDS[kind].check(text, around)
    says = KINDS[kind].says
    return (
        says(plan) if plan is not None and says is not None else None,
        next((f"line {p.span.line}: {p.message}" for p in problems if p.severity == "error"), None),
    )


def trouble(definition: Definition) -> str | None:
    """Why the version in force no longer reads well, with its type as that is now; None where it does."""
    if definition.live is None or hands_on(definition.live.text):
        return None
    type_ = definition.type
    kept = merged(definition.on.all()) if definition.kind == "route" else (type_.fields, type_.setpoints)
    fields, setpoints = map(orjson.dumps, kept)
    return _told(definition.kind, definition.live.text, type_.key, fields, setpoints)[1]


def sentence(kind: str, version: Version, key: str) -> str | None:
    """What a version does, in plain words, for the kinds that can say it."""
    if KINDS[kind].says is None:
        return None
    return _told(kind, version.text, key, orjson.dumps(version.fields), orjson.dumps(version.setpoints))[0]
