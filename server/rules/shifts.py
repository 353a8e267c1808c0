"""Hand-overs that are sent by themselves: when they are due, and to whom."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from server.records.telling.models import Contact, HandedOver, Shift


def last_due(times: list[str], zone: str, now: datetime) -> datetime | None:
    """The newest of some times of day (hh:mm, by the clock of a zone) up to a moment."""
    place = ZoneInfo(zone)
    today = now.astimezone(place).date()
    found = [
        datetime.combine(today - timedelta(days=back), time.fromisoformat(text), place).astimezone(now.tzinfo)
        for back in (0, 1, 2)
        for text in times
    ]
    return max((at for at in found if at <= now), default=None)


def hand_over_at(shift: Shift, due: datetime, told: list[Contact] | None = None) -> int:
    """Makes what is to be sent of a time, one for each address of those that are told, by default of its contacts;
    how many there are.
    """
    if told is None:
        told = list(Contact.objects.filter(pk__in=shift.contacts))
    made = [
        HandedOver(shift=shift, outlet_id=address["outlet"], to=address["to"], due_at=due, next_at=due)
        for contact in told
        for address in contact.addresses
    ]
    HandedOver.objects.bulk_create(made, ignore_conflicts=True)
    return len(made)
