"""From what happened to who is told of it: a delivery for every address of every step of every chain that applies."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import connection, transaction

from server.delivery.duty import told_at
from server.records.alarms.models import PRIORITIES, Alarm, JournalEntry
from server.records.telling.models import DELIVERED, Chain, Contact, Delivery, Outlet
from server.rules.trees import within

PORTION = 500


@dataclass(frozen=True)
class Told:
    """One address that a chain tells. after_s: from what happened on."""

    what: str
    step: int
    after_s: int
    contact: Contact
    outlet: int
    to: str


@dataclass(frozen=True)
class Ways:
    """The chains in use with all that they name, read once for many alarms. sites: of a chain that has a site."""

    chains: list[Chain]
    contacts: dict[int, Contact]
    outlets: dict[int, str]
    sites: dict[int, set[int]]

    @classmethod
    def now(cls) -> Ways:
        chains = list(Chain.objects.filter(on=True).select_related("site").order_by("pk"))
        return cls(
            chains,
            {c.pk: c for c in Contact.objects.all()},
            dict(Outlet.objects.values_list("pk", "name")),
            {c.pk: set(within(c.site.name)) for c in chains if c.site is not None},
        )

    def of(self, priority: str, condition: int | None, site: int | None) -> Iterator[Chain]:
        """The chains that take an alarm of a priority and condition, at a site."""
        for chain in self.chains:
            if chain.priorities and priority not in chain.priorities:
                continue
            if chain.conditions and condition not in chain.conditions:
                continue
            if chain.site is None or site in self.sites[chain.pk]:
                yield chain

    def told(self, chain: Chain, what: str, at: datetime) -> Iterator[Told]:
        """Whom a chain tells of something that went on at a moment, each address once a step."""
        if what == "raised" and "still open" in chain.tells and chain.open_after_s is not None:
            yield from self._step(chain, 0, "still open", chain.open_after_s, at)
        if what in chain.tells:
            for number, step in enumerate(chain.steps):
                yield from self._step(chain, number, what, step["after_s"], at)

    def _step(self, chain: Chain, number: int, what: str, after_s: int, at: datetime) -> Iterator[Told]:
        """Whose duty it is counts when the step is due."""
        seen: set[tuple[int, str]] = set()
        for contact in told_at(chain.steps[number]["contacts"], self.contacts, at + timedelta(seconds=after_s)):
            for address in contact.addresses:
                place = address["outlet"], address["to"]
                if address["outlet"] in self.outlets and place not in seen:
                    seen.add(place)
                    yield Told(what, number, after_s, contact, *place)


def plan() -> int:
    """Takes what is new. Returns how much that was; a failure leaves all of it for the next turn."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute(
                "select id, entry, alarm, what, at from telling_news order by id limit %s for update", [PORTION]
            )
            news = cursor.fetchall()
            if not news:
                return 0
            cursor.execute("delete from telling_news where id = any(%s)", [[row[0] for row in news]])
        ways = Ways.now()
        if not ways.chains:
            return len(news)
        alarms = {
            alarm.pk: alarm
            for alarm in Alarm.objects.select_related("device", "site").filter(pk__in={row[2] for row in news})
        }
        made: list[Delivery] = []
        for _, entry, alarm, what, at in news:
            if alarm in alarms:
                made += deliveries(ways, alarms[alarm], entry, what, at)
        Delivery.objects.bulk_create(made, batch_size=500, ignore_conflicts=True)
    return len(news)


def deliveries(ways: Ways, alarm: Alarm, entry: int, what: str, at: datetime) -> Iterator[Delivery]:
    """The deliveries of one entry of the journal."""
    if what == "priority changed":
        if not risen(alarm, entry):
            return
        what = "priority risen"
    site = alarm.device.site_id if alarm.device is not None else alarm.site_id
    for chain in ways.of(alarm.priority, alarm.condition_id, site):
        if what == "cleared":
            if what in chain.tells:
                yield from after(chain, alarm, entry, at)
            continue
        for told in ways.told(chain, what, at):
            due = at + timedelta(seconds=told.after_s)
            yield delivery(chain, alarm, entry, told.what, due, told.step, told.contact.pk, (told.outlet, told.to))


def delivery(
    chain: Chain,
    alarm: Alarm,
    entry: int,
    what: str,
    due: datetime,
    step: int,
    contact: int | None,
    by: tuple[int, str],
) -> Delivery:
    """by: outlet and address."""
    return Delivery(
        outlet_id=by[0],
        chain=chain,
        contact_id=contact,
        alarm=alarm,
        entry=entry,
        what=what,
        step=step,
        to=by[1],
        due_at=due,
        next_at=due,
    )


def risen(alarm: Alarm, entry: int) -> bool:
    """Whether an entry made an alarm's priority higher than it was."""
    own = JournalEntry.objects.filter(alarm=alarm).exclude(priority="")
    now = own.filter(pk=entry).values_list("priority", flat=True).first()
    before = own.filter(pk__lt=entry).order_by("-pk").values_list("priority", flat=True).first()
    if now is None:
        return False
    return before is None or PRIORITIES.index(now) < PRIORITIES.index(before)


def after(chain: Chain, alarm: Alarm, entry: int, at: datetime) -> Iterator[Delivery]:
    """That it is over is told to whom it was told that it began."""
    before = Delivery.objects.filter(alarm=alarm, chain=chain, state=DELIVERED)
    for contact, outlet, to in dict.fromkeys(before.values_list("contact_id", "outlet_id", "to")):
        yield delivery(chain, alarm, entry, "cleared", at, 0, contact, (outlet, to))
