"""Hand-overs at their time of day: planned once, kept until they are sent, and tried again after growing pauses."""

from __future__ import annotations

import logging
from datetime import UTC, datetime, timedelta

from django.conf import settings
from django.db import transaction
from django.db.models import F
from django.utils import timezone

from server.delivery.duty import told_at
from server.delivery.outlets import Message
from server.delivery.pauses import growing
from server.delivery.readings import Sender
from server.records.telling.models import DELIVERED, EXPIRED, WAITING, Contact, HandedOver, ReachedHost, Shift
from server.rules.refusal import Refused
from server.rules.sealing import opened
from server.rules.shifts import hand_over_at, last_due
from server.rules.told import handover, watched

FIRST_PAUSE_S, LONGEST_PAUSE_S = 30.0, 1800.0
STALE = timedelta(hours=12)  # a hand-over of yesterday helps nobody
FRESH = timedelta(minutes=10)  # so long after its time the state of now is told
log = logging.getLogger("oculum.delivery")


def step(sender: Sender) -> int:
    """Plans what has become due and sends what waits. Returns how much was tried; never raises."""
    try:
        now = timezone.now()
        plan(now)
        due = HandedOver.objects.filter(state=WAITING, next_at__lte=now).order_by("pk").values_list("pk", flat=True)
        return sum(one(ident, sender) for ident in due[:20])
    except Exception:
        log.exception("hand-overs")
        return 0


def plan(now: datetime) -> None:
    """Of each that is switched on the newest time that has come since it was planned last. What was due long ago, as
    after a standstill, is not sent any more.
    """
    for shift in Shift.objects.filter(on=True):
        due = last_due(shift.at, shift.zone, now)
        if due is None or due <= shift.planned_to:
            continue
        with transaction.atomic():
            own = Shift.objects.select_for_update().filter(pk=shift.pk, on=True, planned_to__lt=due).first()
            if own is None:
                continue
            if now - due <= STALE:
                contacts = Contact.objects.in_bulk()
                hand_over_at(own, due, told_at(own.contacts, contacts, due))
            Shift.objects.filter(pk=own.pk).update(planned_to=due)


def one(ident: int, sender: Sender) -> int:
    """Sends one, marked in the transaction that sends it."""
    with transaction.atomic():
        found = HandedOver.objects.select_for_update(of=["self"], skip_locked=True)
        row = found.select_related("shift", "outlet").filter(pk=ident, state=WAITING).first()
        if row is None:
            return 0
        now = timezone.now()
        if now - row.due_at > STALE:
            HandedOver.objects.filter(pk=row.pk).update(state=EXPIRED, why=row.why or "it came too late")
            return 0
        if not row.outlet.on:
            HandedOver.objects.filter(pk=row.pk).update(
                next_at=now + timedelta(seconds=LONGEST_PAUSE_S), why="its outlet is switched off"
            )
            return 0
        try:
            allowed = set(ReachedHost.objects.values_list("host", flat=True))
            secret = opened(row.outlet.secret)
            sender(row.outlet.kind, row.outlet.settings, secret, row.to, message_of(row, now), allowed)
        except (OSError, Refused) as error:
            why = str(error.sentence if isinstance(error, Refused) else error)[:300]
            pause = growing(FIRST_PAUSE_S, LONGEST_PAUSE_S, row.tries)
            HandedOver.objects.filter(pk=row.pk).update(
                tries=F("tries") + 1, why=why, next_at=now + timedelta(seconds=pause)
            )
            return 1
        HandedOver.objects.filter(pk=row.pk).update(
            state=DELIVERED, tries=F("tries") + 1, why="", sent_at=timezone.now()
        )
    return 1


def message_of(row: HandedOver, now: datetime) -> Message:
    """The hand-over of the hours before its time."""
    past = now - row.due_at > FRESH
    start = row.due_at - timedelta(hours=row.shift.hours)
    told = watched(start, row.due_at, past)
    text = handover(told, row.shift.zone, row.due_at if past else None)
    hand = f"{told['open']} open, {told['untaken']} not taken"
    subject = f"Hand-over {row.shift.name}: {hand}"
    event = {
        "specversion": "1.0",
        "id": f"hand-over-{row.pk}",
        "source": settings.PUBLIC_ADDRESS.rstrip("/"),
        "type": "oculum.hand_over",
        "subject": row.shift.name,
        "time": f"{row.due_at.astimezone(UTC):%Y-%m-%dT%H:%M:%S.%fZ}",
        "datacontenttype": "application/json",
        "data": {"text": text, "open": told["open"], "untaken": told["untaken"]},
    }
    return Message((row.pk or 0,), " ".join(subject.split())[:200], text, (event,))
