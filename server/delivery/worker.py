"""What is due goes out: in order for each address, many at once as one message, again after growing pauses."""

from __future__ import annotations

import logging
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from django.db import connections, transaction
from django.db.models import Case, F, When
from django.utils import timezone

from server.delivery import shifts
from server.delivery.pauses import growing
from server.delivery.planning import plan
from server.delivery.readings import Readings, Sender
from server.delivery.ways import send
from server.delivery.words import message_of
from server.records.alarms.models import Alarm
from server.records.telling.models import DELIVERED, EXPIRED, NOT_NEEDED, WAITING, Chain, Delivery, Outlet, ReachedHost
from server.rules.refusal import Refused
from server.rules.sealing import opened
from server.rules.shelves import shelved

TOGETHER = 50  # deliveries in one message
FIRST_PAUSE_S, LONGEST_PAUSE_S = 10.0, 3600.0
EXPIRES = timedelta(hours=24)
PATIENCE = 5  # failures in a row after which an outlet is let be for a while
REST_S, LONGEST_REST_S = 60.0, 1800.0
AT_ONCE = 4
QUIET = "quiet hours"
log = logging.getLogger("oculum.delivery")


class Worker:
    def __init__(self, sender: Sender = send) -> None:
        self.sender = sender
        self.readings = Readings(sender)
        self.pool = ThreadPoolExecutor(AT_ONCE, "outlet")

    def step(self) -> int:
        """Plans what is new and sends what is due: alarms, a message for every address, and readings, batch by batch.

        Returns how much was done.
        """
        planned = plan()
        outlets = Delivery.objects.filter(state=WAITING, next_at__lte=timezone.now()).values_list("outlet", flat=True)
        told = self.pool.map(self.outlet, sorted(set(outlets)))
        sent = self.pool.map(self.readings.outlet, self.readings.due())
        return planned + sum(told) + sum(sent) + shifts.step(self.sender)

    def outlet(self, ident: int) -> int:
        """Sends what is due by one outlet; never raises. Returns how many messages were tried."""
        try:
            waiting = Delivery.objects.filter(outlet=ident, state=WAITING, due_at__lte=timezone.now())
            addresses = waiting.order_by("to").values_list("to", flat=True).distinct()[:500]
            return sum(self.address(ident, to) for to in addresses)
        except Exception:
            log.exception("outlet %d", ident)
            return 0
        finally:
            connections.close_all()

    def address(self, ident: int, to: str) -> bool:
        """What is due to one address, as one message. Whether one was tried."""
        with transaction.atomic():
            outlet = Outlet.objects.select_for_update().filter(pk=ident, on=True).first()
            now = timezone.now()
            if outlet is None or (outlet.opens_at is not None and outlet.opens_at > now):
                return False
            due = list(
                Delivery.objects.select_for_update(of=["self"])
                .select_related("alarm", "alarm__device", "alarm__site", "alarm__condition", "chain", "contact")
                .filter(outlet=outlet, to=to, state=WAITING, due_at__lte=now)
                .order_by("pk")[:TOGETHER]
            )
            shelf = Alarm.objects.filter(shelved(None)).filter(pk__in=[d.alarm_id for d in due])
            away = set(shelf.values_list("pk", flat=True))
            own = [d for d in due if (d.why != QUIET or d.next_at <= now) and self.stays(d, d.alarm_id in away, now)]
            if not own or own[0].next_at > now or self.held(outlet, to, own, now):
                return False
            ready = [d for d in own if d.next_at <= now]
            return self.tell(outlet, to, ready, now)

    def stays(self, delivery: Delivery, away: bool, now: datetime) -> bool:
        """Whether a delivery is still to go out, and not in quiet hours; else it is put on record, or put off.

        away: on a shelf.
        """
        alarm = delivery.alarm
        over = ""
        if now > delivery.due_at + EXPIRES:
            self.end(delivery, EXPIRED, delivery.why or "a day has gone by")
            return False
        if away:
            over = "it is shelved"
        elif delivery.step > 0 and delivery.what != "cleared" and alarm.acknowledged_at is not None:
            over = "somebody has taken it"
        elif alarm.cleared_at is not None and (
            delivery.what == "still open" or (delivery.step > 0 and delivery.what != "cleared")
        ):
            over = "it is over"
        if over:
            self.end(delivery, NOT_NEEDED, over)
            return False
        until = quiet_until(delivery.chain, delivery.contact.zone if delivery.contact else "UTC", alarm.priority, now)
        if until is not None:
            self.put_off([delivery], until, QUIET)
            return False
        return True

    def held(self, outlet: Outlet, to: str, due: list[Delivery], now: datetime) -> bool:
        """Whether an address has had as many messages within the hour as it may; what waits goes as one, later."""
        sent = Delivery.objects.filter(outlet=outlet, to=to, state=DELIVERED, together__gt=0).order_by("-sent_at")
        first = sent.values_list("sent_at", flat=True)[outlet.per_hour - 1 : outlet.per_hour].first()
        if first is None or first <= now - timedelta(hours=1):
            return False
        self.put_off(due, first + timedelta(hours=1), f"held back: {outlet.per_hour} messages an hour")
        return True

    def tell(self, outlet: Outlet, to: str, due: list[Delivery], now: datetime) -> bool:
        allowed = set(ReachedHost.objects.values_list("host", flat=True))
        try:
            secret = opened(outlet.secret)
            self.sender(outlet.kind, outlet.settings, secret, to, message_of(due, outlet.settings), allowed)
        except (OSError, Refused) as error:
            self.failed(outlet, due, str(error.sentence if isinstance(error, Refused) else error)[:300], now)
            return True
        done = timezone.now()
        took = round((done - now).total_seconds() * 1000)
        Delivery.objects.filter(pk__in=[d.pk for d in due]).update(
            state=DELIVERED,
            sent_at=done,
            why="",
            tries=F("tries") + 1,
            took_ms=took,
            together=Case(When(pk=due[0].pk, then=len(due)), default=0),
        )
        outlet.failures, outlet.opens_at, outlet.last_at, outlet.last_error = 0, None, done, ""
        outlet.save(update_fields=["failures", "opens_at", "last_at", "last_error"])
        return True

    def failed(self, outlet: Outlet, due: list[Delivery], why: str, now: datetime) -> None:
        Delivery.objects.filter(pk__in=[d.pk for d in due]).update(tries=F("tries") + 1)
        pause = growing(FIRST_PAUSE_S, LONGEST_PAUSE_S, due[0].tries)
        self.put_off(due, now + timedelta(seconds=pause), why)
        outlet.failures += 1
        outlet.last_error = why
        if outlet.failures >= PATIENCE:
            rest = min(REST_S * 2 ** min(outlet.failures - PATIENCE, 20), LONGEST_REST_S)
            outlet.opens_at = now + timedelta(seconds=rest)
        outlet.save(update_fields=["failures", "opens_at", "last_error"])

    @staticmethod
    def put_off(due: list[Delivery], until: datetime, why: str) -> None:
        Delivery.objects.filter(pk__in=[d.pk for d in due]).update(next_at=until, why=why)

    @staticmethod
    def end(delivery: Delivery, state: str, why: str) -> None:
        Delivery.objects.filter(pk=delivery.pk).update(state=state, why=why[:300])


def quiet_until(chain: Chain | None, zone: str, priority: str, now: datetime) -> datetime | None:
    """When the quiet hours of a contact end, where it is in them and the priority heeds them."""
    quiet = chain.quiet if chain is not None else None
    if not quiet or priority in quiet.get("but", []):
        return None
    place = ZoneInfo(zone)
    local = now.astimezone(place)
    start, end = time.fromisoformat(quiet["from"]), time.fromisoformat(quiet["to"])
    clock = local.time().replace(tzinfo=None)
    inside = start <= clock < end if start <= end else clock >= start or clock < end
    if not inside:
        return None
    day = local.date() + timedelta(days=1 if start > end and clock >= start else 0)
    return datetime.combine(day, end, place)
