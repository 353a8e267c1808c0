"""Published texts as plans, kept in memory: a version never changes."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import orjson

from oculum.language.conditions import check_condition
from oculum.language.decoders import Others, check_decoder
from oculum.language.plan import ConditionPlan, DecoderPlan, FieldSpec

if TYPE_CHECKING:
    from .models import Definition


def specs(fields: Iterable[dict[str, Any]]) -> dict[str, FieldSpec]:
    """Declared fields by name."""
    return {f["name"]: FieldSpec.from_dict(f) for f in fields}


def units(setpoints: Iterable[dict[str, Any]]) -> dict[str, str]:
    return {s["name"]: s["unit"] for s in setpoints}


@lru_cache(maxsize=512)
def _decoder(text: str, fields: bytes) -> DecoderPlan | None:
    return check_decoder(text, specs(orjson.loads(fields)))[0]


@lru_cache(maxsize=512)
def _condition(text: str, key: str, fields: bytes, setpoints: bytes) -> ConditionPlan | None:
    return check_condition(text, {key: (specs(orjson.loads(fields)), units(orjson.loads(setpoints)))})[0]


def hands_on(text: str) -> bool:
    """Whether a decoder gives parts of its messages to others."""
    return re.search(r"^\s*decode\s", text, re.M) is not None


def decoder_plan(text: str, fields: list[dict[str, Any]], others: Others | None = None) -> DecoderPlan | None:
    """The plan of a published text. `others` finds the decoders that it hands on to."""
    if hands_on(text):
        return check_decoder(text, specs(fields), others=others)[0]
    return _decoder(text, orjson.dumps(fields))


def published(key: str) -> DecoderPlan | None:
    """The decoder in force of a device type, by its key."""
    from .models import Definition

    found = Definition.objects.filter(kind="decoder", type__key=key, live__isnull=False).select_related("live").first()
    return decoder_plan(found.live.text, found.live.fields) if found is not None and found.live is not None else None


def condition_plan(
    text: str, key: str, fields: list[dict[str, Any]], setpoints: list[dict[str, Any]]
) -> ConditionPlan | None:
    return _condition(text, key, orjson.dumps(fields), orjson.dumps(setpoints))


@lru_cache(maxsize=1024)
def _trouble(kind: str, text: str, key: str, fields: bytes, setpoints: bytes) -> str | None:
    declared = specs(orjson.loads(fields))
    if kind == "condition":
        problems = check_condition(text, {key: (declared, units(orjson.loads(setpoints)))})[1]
    else:
        problems = check_decoder(text, declared)[1]
    return next((f"line {p.span.line}: {p.message}" for p in problems if p.severity == "error"), None)


def trouble(definition: Definition) -> str | None:
    """Why the version in force no longer reads well, with its type as that is now; None where it does."""
    if definition.live is None or hands_on(definition.live.text):
        return None
    type_ = definition.type
    fields, setpoints = orjson.dumps(type_.fields), orjson.dumps(type_.setpoints)
    return _trouble(definition.kind, definition.live.text, type_.key, fields, setpoints)
