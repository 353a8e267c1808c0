"""Messages of the past through decoders and routes as they are in force: decoded again, or foreseen."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import psycopg

from oculum.arrays import Ints
from oculum.history.fleet import Fleet
from oculum.pipeline import Effects, Lot, process
from oculum.routing.router import Router
from oculum.routing.standing import looked_back
from server.rules.lots import known_rows, lots_of
from server.rules.registry import Decoder, Registry
from server.store.messages import FIELDS, Arrived
from server.store.times import moment

PORTION = 10_000
MOST_BEFORE = 50_000  # messages that routes look back on before those in question


@dataclass(frozen=True)
class Gone:
    """What became of messages. without: rows that have no decoder."""

    lots: list[tuple[Decoder, Lot]]
    without: Ints
    effects: Effects


def once_more(c: psycopg.Connection[Any], registry: Registry, arrived: Arrived, router: Router) -> Gone:
    """Messages decoded and taken through routes."""
    lots, without = lots_of(c, registry, arrived, known_rows(registry, arrived))
    effects = process(
        [lot for _, lot in lots],
        arrived.device,
        np.maximum.accumulate(arrived.received),
        arrived.ids,
        Fleet(),
        registry.type_of,
        None,
        0,
        0,
        registry.owner,
        router,
        arrived.headers.__getitem__,
    )
    return Gone(lots, without, effects)


def back_of(registry: Registry, type_id: int) -> int:
    """How far the routes on a type look back, µs."""
    return looked_back(r.plan for r in registry.in_order() if type_id in r.types)


def before(c: psycopg.Connection[Any], devices: list[int], since: datetime, which: str, *values: Any) -> Arrived:
    """What routes look back on: the last messages of some devices since a moment, as far as `which` says (a condition
    on a message `m`).
    """
    with c.cursor(binary=True) as cursor:
        rows = cursor.execute(
            f"select {FIELDS} from message m where m.device_id = any(%s) and m.received_at >= %s and {which}"
            " order by m.id desc limit %s",
            (devices, since, *values, MOST_BEFORE),
        ).fetchall()
    return Arrived.of(rows[::-1])


def look_back(
    c: psycopg.Connection[Any], registry: Registry, router: Router, type_id: int, first: int, which: str, *values: Any
) -> None:
    """Lets a router see what the routes on a type look back on before a moment, µs; `which` as in `before`."""
    back = back_of(registry, type_id)
    if back:
        owners = [d.id for d in registry.devices.values() if d.type_id == type_id]
        look_through(c, registry, before(c, owners, moment(first - back), which, *values), router)


def look_through(c: psycopg.Connection[Any], registry: Registry, arrived: Arrived, router: Router) -> None:
    """Messages that a router is to have seen, of which nothing else is wanted."""
    for begin in range(0, len(arrived), PORTION):
        once_more(c, registry, arrived.part(begin, begin + PORTION), router)


def among_others(
    c: psycopg.Connection[Any], registry: Registry, arrived: Arrived, router: Router, back: int
) -> Iterator[tuple[Ints, Gone]]:
    """Messages among the others of the same devices, on which routes look back as in life, and of which nothing is
    wanted. What each device sent is gone through in its order, all devices at a time. Gives places, and what became of
    those.
    """
    others = before(
        c,
        np.unique(arrived.device).tolist(),
        moment(int(arrived.received.min()) - back),
        "m.id <= %s and m.id <> all(%s)",
        int(arrived.ids[-1]),
        arrived.ids.tolist(),
    )
    device = np.concatenate([others.device, arrived.device])
    wanted = np.arange(len(device)) >= len(others)
    turn = turns_of(device, np.concatenate([others.ids, arrived.ids]), wanted)
    for n in range(int(turn.max()) + 1):
        own = np.flatnonzero(turn == n)
        if not n % 2:
            look_through(c, registry, others.chosen(own), router)
        elif len(own):
            place = own - len(others)
            yield place, once_more(c, registry, arrived.chosen(place), router)


def turns_of(device: np.ndarray, ids: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """int64 (n,): in which turn each message is gone through, so that of each device all that came before it has been,
    and a turn holds only such as are wanted (odd ones) or only others.
    """
    order = np.lexsort((ids, device))
    d, w = device[order], wanted[order]
    first = np.ones(len(order), bool)
    first[1:] = d[1:] != d[:-1]
    change = first.copy()
    change[1:] |= w[1:] != w[:-1]
    runs = np.cumsum(change)
    begun = runs[first][np.cumsum(first) - 1]  # of each device, its first run
    found = np.empty(len(order), np.int64)
    found[order] = runs - begun + w[first][np.cumsum(first) - 1]
    return found
