"""In which phase devices were at a past moment: in service, under maintenance, retired, not yet commissioned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.db import connection
from django.db.models import Q

from server.store.register import phases_then


@dataclass(frozen=True)
class Phases:
    """then: by device, of those whose phase was another one than now."""

    then: Mapping[int, str] = field(default_factory=dict)

    def of(self, device: int, now: str) -> str:
        return self.then.get(device, now)

    def being(self, phase: str) -> Q:
        """The devices that were in a phase."""
        were = [device for device, then in self.then.items() if then == phase]
        return Q(pk__in=were) | (Q(phase=phase) & ~Q(pk__in=list(self.then)))


def phases_at(at: datetime | None, only: Sequence[int] | None = None) -> Phases:
    """Of all devices, or of some, as they were at a moment, or (None) as they are."""
    if at is None:
        return Phases()
    with connection.cursor() as cursor:
        return Phases(phases_then(cursor, at, only))
