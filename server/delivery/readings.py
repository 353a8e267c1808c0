"""Readings that routes have sent: in their order for each outlet, many at once, again after growing pauses."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Collection, Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import connection, connections, transaction
from django.utils import timezone

from server.delivery.outlets import Message, Sent
from server.records.telling.models import Outlet, ReachedHost
from server.rules.refusal import Refused
from server.rules.sealing import opened
from server.store.rows import json_of

TOGETHER = 500  # readings in one batch
BATCHES = 20  # at one outlet before the others have their turn
EXPIRES = timedelta(hours=24)
FIRST_PAUSE_S, LONGEST_PAUSE_S = 5.0, 900.0
LOGGED = 500  # batches on record for each outlet
log = logging.getLogger("oculum.delivery")
Sender = Callable[[str, Mapping[str, Any], str, str, Message, Collection[str]], Sent]


class Readings:
    """What waits for outlets. next_at: when an outlet is tried again, by `time.monotonic`."""

    def __init__(self, sender: Sender) -> None:
        self.sender = sender
        self.next_at: dict[int, float] = {}

    def due(self) -> list[int]:
        """The outlets for which something waits, and which are not let be for now."""
        with connection.cursor() as cursor:
            # One look at the index for each outlet, however much waits.
            cursor.execute(
                "select o.id from telling_outlet o where o.on and exists (select 1 from reading_out r where"
                " r.outlet_id = o.id)"
            )
            found = [int(ident) for (ident,) in cursor.fetchall()]
        now = time.monotonic()
        return [ident for ident in found if self.next_at.get(ident, 0.0) <= now]

    def outlet(self, ident: int) -> int:
        """Sends what waits for one outlet, some batches of it; never raises. Returns how many were tried."""
        tried = 0
        try:
            self.expire(ident)
            while tried < BATCHES and self.batch(ident):
                tried += 1
        except Exception:
            log.exception("readings for outlet %d", ident)
            self.pause(ident, 1)
        finally:
            connections.close_all()
        return tried

    def expire(self, ident: int) -> None:
        """What has waited for a day is given up, and said to be lost."""
        with connection.cursor() as cursor:
            cursor.execute(
                "select reading_out_lose(%s, max(id), 'waited for a day') from reading_out where outlet_id = %s and"
                " queued_at < %s having max(id) is not null",
                (ident, ident, timezone.now() - EXPIRES),
            )

    def batch(self, ident: int) -> bool:
        """The oldest readings as one batch; whether it was taken, and there may be more."""
        with transaction.atomic():
            outlet = Outlet.objects.select_for_update().filter(pk=ident, on=True).first()
            if outlet is None:
                return False
            with connection.cursor() as cursor:
                cursor.execute(
                    "select id, body from reading_out where outlet_id = %s order by id limit %s", (ident, TOGETHER)
                )
                rows = [(int(number), json_of(body)) for number, body in cursor.fetchall()]
            if not rows:
                return False
            began = timezone.now()
            allowed = set(ReachedHost.objects.values_list("host", flat=True))
            settings = outlet.settings | {"folder": f"{outlet.name}-{outlet.pk}"}
            try:
                sent = self.sender(outlet.kind, settings, opened(outlet.secret), "", message_of(rows), allowed)
            except (OSError, Refused) as error:
                self.failed(outlet, rows, str(error.sentence if isinstance(error, Refused) else error)[:300], began)
                return False
            with connection.cursor() as cursor:
                cursor.execute("delete from reading_out where outlet_id = %s and id <= %s", (ident, rows[-1][0]))
            self.noted(outlet, rows, True, sent.answer[:300], began)
            self.next_at.pop(ident, None)
            outlet.failures, outlet.opens_at, outlet.last_at, outlet.last_error = 0, None, timezone.now(), ""
            outlet.save(update_fields=["failures", "opens_at", "last_at", "last_error"])
            return len(rows) == TOGETHER

    def failed(self, outlet: Outlet, rows: list[tuple[int, Any]], why: str, began: datetime) -> None:
        outlet.failures += 1
        outlet.last_error = why
        outlet.save(update_fields=["failures", "last_error"])
        self.noted(outlet, rows, False, why, began)
        self.pause(outlet.pk, outlet.failures)

    def pause(self, ident: int, failures: int) -> None:
        self.next_at[ident] = time.monotonic() + min(FIRST_PAUSE_S * 2 ** min(failures - 1, 20), LONGEST_PAUSE_S)

    @staticmethod
    def noted(outlet: Outlet, rows: list[tuple[int, Any]], good: bool, answer: str, began: datetime) -> None:
        took = round((timezone.now() - began).total_seconds() * 1000)
        with connection.cursor() as cursor:
            cursor.execute(
                "insert into reading_out_log (outlet_id, readings, first_id, last_id, took_ms, good, answer) values"
                " (%s, %s, %s, %s, %s, %s, %s)",
                (outlet.pk, len(rows), rows[0][0], rows[-1][0], took, good, answer),
            )
            cursor.execute(
                "delete from reading_out_log where outlet_id = %s and id <= (select id from reading_out_log where"
                " outlet_id = %s order by id desc offset %s limit 1)",
                (outlet.pk, outlet.pk, LOGGED),
            )


def message_of(rows: list[tuple[int, Any]]) -> Message:
    """Readings as CloudEvents; the number of each is that by which whoever gets it twice can tell."""
    events = tuple(
        {
            "specversion": "1.0",
            "id": str(number),
            "source": f"/devices/{body['device']}",
            "type": "oculum.reading",
            "time": body["at"],
            "data": body,
        }
        for number, body in rows
    )
    return Message(tuple(number for number, _ in rows[:1]), f"{len(rows)} readings", "", events)
