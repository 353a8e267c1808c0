"""The stream given to another number of engines than before."""

from __future__ import annotations

import psycopg

from server.engine.worker import Engine
from server.rules.shares import Share


def divided(connection: psycopg.Connection, of: int) -> bool:
    """Whether the stream is divided among so many engines."""
    found = connection.execute(
        "select count(*), count(*) filter (where shares = %s) from engine_cursor", (of,)
    ).fetchone()
    return found == (of, of)


def divide(url: str, of: int) -> None:
    """Divides the stream among `of` engines from here on: those before are taken to one place and one moment first.

    Raises RuntimeError while one of them is still at work.
    """
    with psycopg.connect(url, autocommit=True) as c:
        rows = c.execute(
            "select share, shares, id, coalesce((extract(epoch from clock) * 1000000)::bigint, 0) from engine_cursor"
        ).fetchall()
        if divided(c, of):
            return
        place, clock = max((row[2] for row in rows), default=0), max((row[3] for row in rows), default=0)
        for share, shares, *_ in sorted(rows):
            before = Engine(url, Share(share, shares))
            before.catch_up(place, clock)
            before.remember()
            before.close()
        with c.transaction():
            c.execute("delete from engine_memory where share > 0")
            c.execute(
                "with gone as (delete from engine_cursor where share >= %s returning messages) update engine_cursor set"
                " shares = %s, holder = '', messages = messages + case share when 0 then coalesce((select"
                " sum(messages) from gone), 0) else 0 end where share < %s",
                (of, of, of),
            )
            c.execute(
                "insert into engine_cursor (share, shares, id, clock) select n, %s, coalesce(c.id, 0), c.clock from"
                " generate_series(0, %s - 1) n left join engine_cursor c on c.share = 0 on conflict do nothing",
                (of, of),
            )
            c.execute(
                "insert into engine_memory (share, id, clock, body, routes) select n, m.id, m.clock, m.body,"
                " m.routes from"
                " engine_memory m, generate_series(1, %s - 1) n where m.share = 0",
                (of,),
            )
