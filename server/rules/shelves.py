"""Alarms put aside for a while: who may, for how long, and what happens when the time is over."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import psycopg
from django.db.models import Exists, OuterRef, Q
from django.utils import timezone

from server.records.alarms.models import Alarm, JournalEntry, Shelf
from server.records.people.models import Person
from server.rules.refusal import Refused
from server.store.notices import tell
from server.store.raised import end_shelves

LONGEST = timedelta(days=31)


def shelf_of(at: datetime | None) -> Any:
    """The shelf that an alarm of an outer query lies on, now or at a past moment."""
    same = Shelf.objects.filter(condition=OuterRef("condition")).filter(
        Q(device=OuterRef("device"), site=None) | Q(site=OuterRef("site"), device=None)
    )
    if at is None:
        return same.filter(ended_at=None, until__gt=timezone.now()).order_by("-since")
    return same.filter(Q(ended_at=None) | Q(ended_at__gt=at), since__lte=at, until__gt=at).order_by("-since")


def shelved(at: datetime | None) -> Any:
    return Exists(shelf_of(at))


def shelve(alarm: Alarm, person: Person | None, until: datetime, why: str) -> None:
    """Puts an alarm's condition aside on its device or site; another time or reason replaces the one before. Raises
    Refused.
    """
    now = timezone.now()
    if not now < until <= now + LONGEST:
        raise Refused("invalid", f"a shelf holds at most {LONGEST.days} days, and ends in the future")
    own = Shelf.objects.filter(condition=alarm.condition, device=alarm.device, site=alarm.site, ended_at=None)
    own.filter(until__gt=now).update(ended_at=now)
    for over in own.filter(until__lte=now):
        over.ended_at = over.until
        over.save(update_fields=["ended_at"])
    Shelf.objects.create(
        alarm=alarm,
        condition=alarm.condition,
        device=alarm.device,
        site=alarm.site,
        person=person,
        why=why,
        since=now,
        until=until,
    )
    note = f"until {until:%Y-%m-%d %H:%M} UTC: {why}"
    JournalEntry.objects.create(alarm=alarm, what="shelved", at=now, learned_at=now, person=person, note=note)


def take_off(alarm: Alarm, person: Person | None) -> bool:
    """Ends the shelf that an alarm lies on; whether there was one."""
    now = timezone.now()
    own = Shelf.objects.filter(
        condition=alarm.condition, device=alarm.device, site=alarm.site, ended_at=None, until__gt=now
    )
    if not own.update(ended_at=now):
        return False
    JournalEntry.objects.create(alarm=alarm, what="off the shelf", at=now, learned_at=now, person=person)
    return True


def end_those_over(connection: psycopg.Connection[Any]) -> int:
    """Puts shelves whose time is over on record; the lists know it from the moment itself. Returns how many."""
    with connection.transaction():
        ended = end_shelves(connection)
        if ended:
            tell(connection, {"messages": 0, "devices": [], "alarms": ended, "control": []})
    return len(ended)
