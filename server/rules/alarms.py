"""Alarms as they are asked for: with their rank, notes and shelf, open now or at a past moment."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models import Case, IntegerField, OuterRef, Q, Subquery, Value, When
from django.db.models.functions import Coalesce, NullIf

from server.records.alarms.models import PRIORITIES, Alarm, JournalEntry
from server.rules.shelves import shelf_of
from server.store.counts import how_many


def everything(at: datetime | None = None) -> Any:
    """All alarms with what the API tells of them; shelves as of now, or of a past moment."""
    noted = JournalEntry.objects.filter(alarm=OuterRef("pk"), what="noted")
    rank = Case(*(When(priority=p, then=Value(i)) for i, p in enumerate(PRIORITIES)), output_field=IntegerField())
    shelf = shelf_of(at)
    people = ("acknowledged_by", "assigned_to")
    return Alarm.objects.select_related("condition", "version", "device", "device__site", "site", *people).annotate(
        rank=rank,
        notes=how_many(noted, "alarm"),
        shelved_until=Subquery(shelf.values("until")[:1]),
        shelved_by=Subquery(
            shelf.annotate(called=Coalesce(NullIf("person__first_name", Value("")), "person__username")).values(
                "called"
            )[:1]
        ),
        shelved_why=Subquery(shelf.values("why")[:1]),
    )


def open_at(found: Any, at: datetime | None) -> Any:
    """Alarms that are open now, or were at a past moment."""
    if at is None:
        return found.filter(cleared_at=None)
    return found.filter(raised_at__lte=at).filter(Q(cleared_at=None) | Q(cleared_at__gt=at))
