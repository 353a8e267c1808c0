"""What decoding a span again would change, held against what is stored: nothing is written."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
import psycopg
from django.conf import settings

from oculum.batches import Decoded
from oculum.history.events import eras
from oculum.pipeline import Effects, Lot
from oculum.routing.router import Router
from server.rules.lots import NO_DECODER
from server.rules.once_more import Gone, among_others, back_of, look_back, once_more
from server.rules.registry import Decoder, Registry, spoken_of
from server.store.messages import FIELDS, Arrived
from server.store.past import stored_of
from server.trials.past import Tally, compare

CHUNK = 5_000
MOST = 200_000
OF_TYPE = "m.device_id = any(select id from fleet_device where type_id = %(type)s)"
SPAN = f"from message m where {OF_TYPE} and m.received_at >= %(start)s and m.received_at < %(end)s"
REFUSED = f"from refused r join message m on m.id = r.message_id and m.received_at = r.received_at where {OF_TYPE}"


def preview(type_id: int, start: datetime | None, end: datetime | None) -> Iterator[dict[str, Any]]:
    """{"done", "total"} as it goes, at last {"result"}: the messages of a span, or the refused ones, by the versions
    their devices run and the routes in force. What routes make of them for sites is left out.

    At most 200,000 messages, the newest. Leaving off reading it ends the work.
    """
    registry = Registry()
    where = {"type": type_id, "start": start, "end": end, "most": MOST}
    source = SPAN if start is not None else REFUSED
    tally = Tally()
    url = settings.INSTANCE.database_url()
    with psycopg.connect(url, application_name="oculum preview") as own, psycopg.connect(url) as beside:
        beside.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        own.execute("set local statement_timeout = '120s'")
        registry.load(beside)
        row = own.execute(f"select count(*) from (select 1 {source} limit %(most)s) x", where).fetchone()
        total = int(row[0]) if row else 0
        yield {"done": 0, "total": total}
        router = None
        with own.cursor("preview", binary=True) as cursor:
            cursor.execute(
                f"select {FIELDS} from (select m.* {source} order by m.received_at desc, m.id desc limit %(most)s) m"
                " order by m.id",
                where,
            )
            while rows := cursor.fetchmany(CHUNK):
                arrived = Arrived.of(rows)
                if router is None or start is None:
                    router = _router(beside, registry, type_id, arrived if start is not None else None)
                for part, gone in _gone(beside, registry, type_id, arrived, router, start is not None):
                    _hold(beside, registry, tally, part, gone)
                    yield {"done": tally.done, "total": max(total, tally.done)}
    yield {"result": tally.result()}


def _router(c: psycopg.Connection[Any], registry: Registry, type_id: int, first: Arrived | None) -> Router:
    """The routes in force, which have seen what they look back on before the first messages of a span."""
    router = registry.router()
    router.gathers = lambda route: False
    if first is not None:
        look_back(c, registry, router, type_id, int(first.received[0]), "m.id < %s", int(first.ids[0]))
    return router


def _gone(
    c: psycopg.Connection[Any], registry: Registry, type_id: int, arrived: Arrived, router: Router, whole: bool
) -> Iterator[tuple[Arrived, Gone]]:
    """Messages in parts, and what would become of each. whole: whether these are all of a span."""
    if not whole and (back := back_of(registry, type_id)):
        for place, gone in among_others(c, registry, arrived, router, back):
            yield arrived.chosen(place), gone
        return
    for begin, end, _ in eras(arrived.received, 0):
        part = arrived.part(begin, end)
        yield part, once_more(c, registry, part, router)


def _hold(c: psycopg.Connection[Any], registry: Registry, tally: Tally, arrived: Arrived, gone: Gone) -> None:
    """Holds what would become of messages against what is stored of them."""
    ids, device = arrived.ids, arrived.device
    for (_, lot), decoded in zip(gone.lots, gone.effects.decoded, strict=True):
        tally.count(decoded, ids[lot.index])
    tally.done += len(gone.without)
    for row in gone.without.tolist():
        tally.refuse(*NO_DECODER, 0, int(ids[row]))
    order = np.argsort(ids)  # as what is stored is asked for
    span = int(arrived.received.min()), int(arrived.received.max())
    old = stored_of(c, ids[order], span, spoken_of(registry, device.tolist()))
    sites = np.array(list(registry.world.own_devices().values()), np.int64)
    spoken = np.zeros(len(ids), bool)
    groups = [group.chosen(np.flatnonzero(~np.isin(group.owner, sites))) for group in old.groups]  # type: ignore[arg-type]
    old.groups = [replace(group, rows=order[group.rows]) for group in groups if len(group.rows)]
    for group in old.groups:
        spoken[group.rows] = True
    bad = {
        row[0]
        for row in c.execute("select message_id from refused where message_id = any(%s)", (ids.tolist(),)).fetchall()
    }
    tally.good_before += sum(1 for i, said in zip(ids.tolist(), spoken.tolist(), strict=True) if said or i not in bad)
    compare(tally.fields, joined(gone.lots, gone.effects, len(ids)), old, device)


def joined(lots: list[tuple[Decoder, Lot]], effects: Effects, count: int) -> Decoded:
    """What the lots of a batch gave as one, its rows those of the batch."""
    groups = [
        replace(group, rows=lot.index[group.rows])
        for (_, lot), decoded in zip(lots, effects.decoded, strict=True)
        for group in decoded.groups
    ]
    none = np.full(count, -1, np.int32)
    return Decoded(groups, [], none, none, [], np.zeros(count, np.int64))
