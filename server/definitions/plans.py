"""Published texts as plans, kept in memory: a version never changes."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

import orjson

from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.plan import ConditionPlan, DecoderPlan, FieldSpec


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


def decoder_plan(text: str, fields: list[dict[str, Any]]) -> DecoderPlan | None:
    return _decoder(text, orjson.dumps(fields))


def condition_plan(text: str, key: str, fields: list[dict[str, Any]], setpoints: list[dict[str, Any]]) -> ConditionPlan | None:
    return _condition(text, key, orjson.dumps(fields), orjson.dumps(setpoints))
