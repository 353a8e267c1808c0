"""What the growers' people did with the alarms of thirty days: taken, noted, given to somebody, put aside."""

from __future__ import annotations

import random
from datetime import datetime, timedelta

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from server.records.alarms.models import Alarm, JournalEntry, Shelf
from server.records.definitions.models import Definition
from server.records.fleet.models import Site
from server.records.people.models import Person
from server.records.telling.models import Chain, Contact, Outlet, ReachedHost

from . import world

SEED = 20
NOTES = {
    "oxygen is too low": [
        "warm and still all night; the wind comes up at noon",
        "lowered the lanterns by two metres",
        "same as on the rafts beside it",
    ],
    "water is turbid": ["weed on the lens again", "wiped the lens, back to 4 NTU"],
    "boat in the closed harvest area": ["called the skipper: he fetches his creels", "towed a raft through, announced"],
    "gateway is silent": ["power cut on the quay, back by itself", "the breaker had tripped; reset"],
    "raft is off its place": ["two boats held it until the storm was over"],
    "battery is low": ["swap it with the next service round"],
}
INSTRUCTIONS = {
    "oxygen is too low": (
        "1. Look at the buoys beside it: one alone is a sensor, several are water.\n"
        "2. Several, and no wind: **lower the lanterns** of the raft, the deepest first.\n"
        "3. Below 3 mg/L call Maud, at any hour."
    ),
    "gateway is silent": "Look at the breaker in the quay's cabinet first. The buoys keep a day of their own samples.",
    "water is turbid": "Weed on the lens shows as a curve that only rises. *Wipe it* before you believe it.",
}
SHELVED = [
    # condition, device, days, why
    ("water is turbid", "buoy-12", 2, "weed on the lens; the boat goes out on the next calm day"),
    ("battery fades", "buoy-07", 6, "a new battery is ordered"),
]


def take_alarms(now: datetime) -> None:
    """Puts it all on record, once; what happened is as old as the alarms it happened to."""
    if JournalEntry.objects.exclude(person=None).exists():
        return
    rng = random.Random(SEED)
    maud, jory = (Person.objects.get(username=name) for name in ("maud", "jory"))
    entries: list[JournalEntry] = []

    def entry(alarm: Alarm, what: str, at: datetime, person: Person, note: str = "") -> None:
        entries.append(JournalEntry(alarm=alarm, what=what, at=at, learned_at=at, person=person, note=note))

    with transaction.atomic():
        for condition in Definition.objects.filter(name__in=INSTRUCTIONS, kind="condition"):
            condition.instruction = INSTRUCTIONS[condition.name]
            condition.save(update_fields=["instruction"])
        found = Alarm.objects.filter(suppressed=False).select_related("condition", "device").order_by("raised_at", "pk")
        for alarm in found:
            who = maud if rng.random() < 0.7 else jory
            pace = {"critical": 3, "high": 9, "medium": 30, "low": 90}[alarm.priority]
            taken = alarm.raised_at + timedelta(minutes=rng.expovariate(1 / pace) + 0.5)
            if taken > now - timedelta(minutes=50) or rng.random() > 0.85:
                continue  # nobody came to it
            alarm.acknowledged_at, alarm.acknowledged_by = taken, who
            entry(alarm, "acknowledged", taken, who)
            own = NOTES.get(alarm.condition.name, [])
            if own and rng.random() < 0.3:
                noted = taken + timedelta(minutes=rng.uniform(5, 40))
                if noted < now:
                    entry(alarm, "noted", noted, who, rng.choice(own))
            if alarm.cleared_at is None and rng.random() < 0.4:
                alarm.assigned_to = jory
                entry(alarm, "assigned", taken, who, f"to {jory.called}")
            alarm.save(update_fields=["acknowledged_at", "acknowledged_by", "assigned_to"])
        for name, device, days, why in SHELVED:
            last = found.filter(condition__name=name, device__name=device, cleared_at=None).last()
            if last is None:
                continue
            until = now + timedelta(days=days)
            Shelf.objects.create(
                alarm=last, condition=last.condition, device=last.device, person=maud, why=why, since=now, until=until
            )
            entry(last, "shelved", now, maud, f"until {until:%Y-%m-%d %H:%M} UTC: {why}")
        JournalEntry.objects.bulk_create(entries, batch_size=500)


def outlets_for_readings() -> None:
    """Where routes send readings: files, and the stand-in by a path on which it fails as each hour begins."""
    url = f"http://127.0.0.1:{settings.INSTANCE.web_port + 4}/buyers"
    Outlet.objects.create(name="quay buyers", kind="webhook", settings={"url": url, "headers": {}})
    files = {"format": "csv", "rotate_mb": 5, "keep": 20}
    Outlet.objects.create(name="harbour office", kind="file", settings=files)


def ways_of_telling() -> None:
    """Outlets that lead to the stand-in for the world outside, contacts, and who is told after how long."""
    port = settings.INSTANCE.web_port
    mail = Outlet.objects.create(
        name="growers' mail",
        kind="mail",
        settings={
            "host": "127.0.0.1",
            "port": port + 3,
            "security": "none",
            "user": "",
            "sender": "oculum@sandrel.invalid",
        },
    )
    events = Outlet.objects.create(
        name="ice store's desk",
        kind="webhook",
        settings={"url": f"http://127.0.0.1:{port + 4}/alarms", "headers": {}},
        per_hour=600,
    )
    for own in (port + 3, port + 4):
        ReachedHost.objects.create(host=f"127.0.0.1:{own}")

    def contact(name: str, outlet: Outlet, to: str) -> int:
        addresses = [{"outlet": outlet.pk, "to": to}]
        return int(Contact.objects.create(name=name, zone=world.ZONE, addresses=addresses).pk)

    maud = contact("Maud Varn", mail, "maud@sandrel.invalid")
    jory = contact("Jory Teal", mail, "jory@sandrel.invalid")
    desk = contact("the ice store", events, "")
    begins = (timezone.now() - timedelta(days=29)).date().isoformat()  # so that Maud has this week
    rota = {"begins": begins, "at": "08:00", "weeks": [maud, jory], "exceptions": []}
    shift = Contact.objects.create(name="the shift", zone=world.ZONE, rota=rota).pk
    Chain.objects.create(
        name="the growers' watch",
        steps=[{"after_s": 0, "contacts": [shift]}, {"after_s": 900, "contacts": [maud, jory]}],
        priorities=["critical", "high"],
        tells=["raised", "priority risen", "cleared"],
        quiet={"from": "22:00", "to": "06:00", "but": ["critical", "high"]},
    )
    Chain.objects.create(
        name="crates on the quay",
        steps=[{"after_s": 0, "contacts": [desk]}],
        conditions=list(Definition.objects.filter(name="crate is too warm").values_list("pk", flat=True)),
        site=Site.objects.filter(name="sandrel-sound").first(),
        tells=["raised", "cleared"],
    )
