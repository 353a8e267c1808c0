"""The spans in which Oculum did not listen, as the stream tells them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, Protocol

from server.store.times import moment

Spans = Sequence[tuple[datetime, datetime]]


class Cursor(Protocol):
    def execute(self, query: str, params: Any = ...) -> Any: ...
    def fetchall(self) -> list[Any]: ...


def unheard(cursor: Cursor, since: datetime, until: datetime) -> Spans:
    """Those that reach into [since, until), in order; one that goes on ends at `until`."""
    cursor.execute(
        "select (body->>'since')::bigint, max((body->>'until')::bigint) from control_event where kind = 'unheard'"
        " group by 1 order by 1"
    )
    found = []
    for begun, over in cursor.fetchall():
        first, last = moment(begun), moment(over) if over is not None else until
        if first < until and last > since:
            found.append((max(first, since), min(last, until)))
    return found


def within(spans: Spans, since: datetime, until: datetime) -> float:
    """How many seconds of [since, until) lie in spans."""
    return sum(max((min(b, until) - max(a, since)).total_seconds(), 0.0) for a, b in spans)
