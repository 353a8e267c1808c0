"""A batch as lots, a lot a version of a decoder; and what became of them, written."""

from __future__ import annotations

from typing import Any

import numpy as np
import psycopg

from oculum.arrays import distinct
from oculum.batches import FIRST_REASON, PRESENT
from oculum.pipeline import Effects, Lot
from oculum.text import harmless
from server.rules.registry import Decoder, Registry
from server.rules.shares import WHOLE, Share
from server.store.activity import Said
from server.store.messages import Arrived, feed
from server.store.readings import Layouts, RefusedMessage, partly
from server.store.refused import BARE
from server.store.rows import Rows, build_rows

NO_DECODER = (BARE, "no decoder is published for this device type")


def refuse(arrived: Arrived, rows: np.ndarray, code: str, reason: str) -> list[RefusedMessage]:
    """Rows that no decoder takes, with why."""
    return [
        RefusedMessage(
            int(arrived.ids[i]),
            int(arrived.received[i]),
            int(arrived.device[i]),
            None,
            code,
            harmless(reason, 300)[:300],
            0,
            -1,
        )
        for i in rows
    ]


def known_rows(registry: Registry, arrived: Arrived) -> np.ndarray:
    """bool (n,): whether the sender is a registered device."""
    senders, which = np.unique(arrived.device, return_inverse=True)
    return np.array([d in registry.devices for d in senders.tolist()], bool)[which]


def lots_of(
    connection: psycopg.Connection[Any], registry: Registry, arrived: Arrived, known: np.ndarray
) -> tuple[list[tuple[Decoder, Lot]], np.ndarray]:
    """The lots of a batch, and the rows of known devices that have no decoder."""
    senders, which = np.unique(arrived.device, return_inverse=True)
    runs = np.array([registry.version_of(d) or 0 for d in senders.tolist()], np.int64)[which]
    found: list[tuple[Decoder, Lot]] = []
    without = known.copy()
    for version in np.unique(runs[known]).tolist():
        decoder = registry.decoder(version)
        if decoder is None:
            continue
        index = np.flatnonzero(known & (runs == version))
        without[index] = False
        payloads, context = feed(connection, decoder.plan, arrived.chosen(index), registry.constants)
        found.append((decoder, Lot(decoder.plan, payloads, index, context)))
    return found, np.flatnonzero(without)


def built_rows(
    connection: psycopg.Connection[Any],
    layouts: Layouts,
    lots: list[tuple[Decoder, Lot]],
    effects: Effects,
    arrived: Arrived,
    share: Share = WHOLE,
) -> list[Rows]:
    """The readings of a batch as the store takes them: those of the devices of a share."""
    found = []
    for (decoder, lot), decoded in zip(lots, effects.decoded, strict=True):
        ids, received, device = arrived.ids[lot.index], arrived.received[lot.index], arrived.device[lot.index]
        for group in (share.of_group(group, device) for group in decoded.groups):
            if not len(group.rows):
                continue
            layout = layouts.number(connection, group.fields)
            found.append(build_rows(group, decoded.reasons, layout, decoder.version_id, device, ids, received))
    return found


def said(lots: list[tuple[Decoder, Lot]], effects: Effects, arrived: Arrived, registry: Registry, share: Share) -> Said:
    """What the messages of a batch say of devices of a share; sites are none."""
    parts: list[np.ndarray] = []
    for (_, lot), decoded in zip(lots, effects.decoded, strict=True):
        for group in decoded.groups:
            row = lot.index[group.rows]
            owner = group.owner if group.owner is not None else arrived.device[row]
            cells, gone = np.zeros((2, len(row)), np.int64)
            for spec in group.fields:
                state = group.columns[spec.name].state
                cells += (state == PRESENT) * (2 if spec.kind == "position" else 1)
                gone += state >= FIRST_REASON
            parts.append(np.stack([owner, row, group.at, cells, gone])[:, (cells > 0) | (gone > 0)])
    if not parts:
        return Said(*np.zeros((5, 0), np.int64))
    owner, row, at, cells, gone = np.concatenate(parts, axis=1)
    keys, which = distinct(owner, row)
    count = keys.shape[1]
    newest = np.full(count, np.iinfo(np.int64).min)
    np.maximum.at(newest, which, at)
    sums = [np.bincount(which, weights=some, minlength=count).astype(np.int64) for some in (cells, gone)]
    known, place = np.unique(keys[0], return_inverse=True)
    others = (0, registry.world.site_type)
    kept = share.mask(known) & np.array([registry.type_of(d) not in others for d in known.tolist()], bool)
    mine = kept[place]
    return Said(*(c[mine] for c in (keys[0], arrived.received[keys[1]], newest, *sums)))


def refusals(
    lots: list[tuple[Decoder, Lot]], effects: Effects, arrived: Arrived
) -> tuple[list[RefusedMessage], np.ndarray]:
    """What was refused, wholly or in part, and for each row of the batch whether it was refused wholly."""
    failed = np.zeros(len(arrived), bool)
    refused: list[RefusedMessage] = []
    for (decoder, lot), decoded in zip(lots, effects.decoded, strict=True):
        ids, received, device = arrived.ids[lot.index], arrived.received[lot.index], arrived.device[lot.index]
        bad = np.flatnonzero(~decoded.good)
        failed[lot.index[bad]] = True
        for row in bad.tolist():
            failure = decoded.failures[decoded.failure[row]]
            refused.append(
                RefusedMessage(
                    int(ids[row]),
                    int(received[row]),
                    int(device[row]),
                    decoder.version_id,
                    failure.code,
                    failure.message,
                    failure.line,
                    int(decoded.byte[row]),
                )
            )
        refused += partly(decoded, ids, received, device, decoder.version_id)
    return refused, failed
