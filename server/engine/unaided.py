"""Device types that need no decoder written: SenML says by itself what is measured.

Where a type has none and a SenML pack arrives, its decoder is made from names and units, published, and what had to be
refused until then is decoded again. New names are added, until a person publishes a text of their own.
"""

from __future__ import annotations

import logging

import numpy as np
from django.db import transaction

from oculum.drafting.from_senml import from_senml, is_senml, teaches
from oculum.pipeline import Lot
from server.rules.registry import MADE, Decoder, Registry
from server.store.messages import Arrived

log = logging.getLogger("oculum.engine")
LOOKED_AT = 20  # packs of a batch


def unaided(
    registry: Registry, arrived: Arrived, without: np.ndarray, lots: list[tuple[Decoder, Lot]]
) -> dict[int, list[bytes]]:
    """By type: packs of a batch that have no decoder, or names that the one made for them lacks."""
    found: dict[int, list[bytes]] = {}
    for row in without.tolist():
        packs = found.setdefault(registry.type_of(int(arrived.device[row])), [])
        if len(packs) < LOOKED_AT and is_senml(arrived.payloads[row]):
            packs.append(arrived.payloads[row])
    for decoder, lot in lots:
        source = registry.sources[decoder.version_id]
        if source.made:
            packs = [
                p for p in (arrived.payloads[i] for i in lot.index[-LOOKED_AT:].tolist()) if teaches(p, source.text)
            ]
            found.setdefault(registry.type_of(int(arrived.device[lot.index[0]])), []).extend(packs)
    return {type_id: packs for type_id, packs in found.items() if packs and type_id}


def make(type_id: int, packs: list[bytes]) -> bool:
    """Publishes a decoder for SenML packs of a type, or adds names to the one made before.

    False where a person has begun one. Raises NotPublishable, ValueError, and what the database raises.
    """
    from server.records.again.models import DecodeAgain
    from server.records.definitions.models import Definition
    from server.records.fleet.models import DeviceType
    from server.rules.publishing import publish

    type_ = DeviceType.objects.get(pk=type_id)
    definition = Definition.objects.filter(kind="decoder", type=type_).select_related("live").first()
    if definition is not None and (
        definition.live is None or definition.live.why != MADE or definition.draft != definition.live.text
    ):
        return False
    text = from_senml(
        packs, type_.key, definition.live.text if definition is not None and definition.live is not None else None
    )
    if text is None:
        return False
    with transaction.atomic():
        if definition is None:
            definition = Definition.objects.create(kind="decoder", name=type_.key, type=type_)
        publish(definition, text, None, MADE)
        if not DecodeAgain.objects.filter(type=type_, state="waiting", start=None, end=None).exists():
            DecodeAgain.objects.create(type=type_)
    log.info("a decoder for %s was made from SenML packs", type_.key)
    return True
