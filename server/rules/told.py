"""What is told of a span: for the screen, and as one text."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from django.db import connection

from oculum.history.stretches import NAMES
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.fleet.models import Device
from server.records.telling.models import Outlet
from server.rules.alarms import everything, open_at
from server.rules.fading import fades
from server.rules.handover import fades_words, markdown, share, unusual_words
from server.rules.states import device_states
from server.rules.watch import (
    MOST,
    compared,
    first_heard,
    published,
    settled,
    unknown_senders,
    unusual,
    usual,
)
from server.store.unheard import unheard

MOST_OVER = 16  # conditions
EARLIER = {0: "this span", 1: "a day before", 7: "a week before", 28: "four weeks before"}


def watched(start: datetime, end: datetime, past: bool) -> dict[str, Any]:
    """What is told of a span."""
    with connection.cursor() as cursor:
        strange = [] if past else unusual(cursor)
        heard = first_heard(cursor, start, end)
        earlier = compared(cursor, start, end)
        gaps = unheard(cursor, start, end)
    fading = fades(end)
    states = device_states(end, past).counts()
    names = Device.objects.select_related("site").in_bulk({f.device for f in fading} | {u.device for u in strange})
    over = settled(start, end)
    at = end if past else None
    open_ = open_at(everything(at).filter(suppressed=False), at)
    own = open_.filter(shelved_until=None)
    shelved = open_.exclude(shelved_until=None)
    versions, senders = published(start, end), unknown_senders(start, end)
    fresh: list[dict[str, Any]] = [
        {"kind": "device", "words": f"{d.title} was heard for the first time", "link": f"/devices/{d.name}", "at": None}
        for d in heard
    ]
    if senders:
        words = f"{senders} unknown sender{'s' if senders > 1 else ''}"
        fresh.insert(0, {"kind": "sender", "words": words, "link": "/arrivals?show=unknown", "at": None})
    for version in versions:
        definition = version.definition
        who = f", by {version.person.username}" if version.person else ""
        fresh.append(
            {
                "kind": "version",
                "words": f"{definition.kind} {definition.name}, version {version.number}{who}",
                "link": f"/{definition.kind}s/{definition.pk}",
                "at": version.at,
            }
        )

    def place(device: int) -> dict[str, Any]:
        found = names[device]
        return {"device": found.name, "title": found.title, "site_title": found.site.title if found.site else None}

    return {
        "from": start,
        "to": end,
        "devices": sum(states.values()),
        "states": dict(states),
        "raised": Alarm.objects.filter(raised_at__gt=start, raised_at__lte=end, suppressed=False).count(),
        "usual": usual(start, end),
        "open": own.count(),
        "untaken": own.filter(acknowledged_at=None).count(),
        "fading": [
            {
                "kind": one.kind,
                **place(one.device),
                "field": one.field,
                "words": fades_words(one),
                "days": one.days,
                "level": one.level,
            }
            for one in fading[:MOST]
            if one.device in names
        ],
        "fading_count": len(fading),
        "unusual": [
            {**place(one.device), "field": one.field, "words": unusual_words(one)}
            for one in strange[:MOST]
            if one.device in names
        ],
        "unusual_count": len(strange),
        "over": [
            {"condition": name, "times": times, "alarm": last.pk, "text": last.text, "at": last.cleared_at}
            for name, times, last in over[:MOST_OVER]
        ],
        "over_count": sum(times for _, times, _ in over),
        "fresh": fresh[:MOST],
        "fresh_count": len(fresh),
        "shelved": shelved.count(),
        "shelved_until": shelved.order_by("shelved_until").values_list("shelved_until", flat=True).first(),
        "suppressed": Alarm.objects.filter(raised_at__gt=start, raised_at__lte=end, suppressed=True).count(),
        "blocked": list(Outlet.objects.filter(on=True, failures__gt=0).values_list("name", flat=True)[:MOST]),
        "compared": earlier,
        "gaps": [{"since": a, "until": b} for a, b in gaps],
    }


def handover(told: dict[str, Any], zone: str, at: datetime | None) -> str:
    """As Markdown, with times in a zone; at: the past moment of it, None for now."""

    def when(moment_: datetime) -> str:
        return moment_.astimezone(ZoneInfo(zone)).strftime("%a %-d %b %H:%M")

    def named(one: dict[str, Any]) -> str:
        return f"{one['title']}{', ' + one['site_title'] if one['site_title'] else ''}: {one['words']}"

    states = told["states"]
    counts = ", ".join(f"{states[name]} {name}" for name in (*NAMES, "waiting") if states.get(name))
    usually = f", usually {told['usual']:g}" if told["usual"] is not None else ""
    own = open_at(everything(at).filter(suppressed=False), at).filter(shelved_until=None)
    waits = sorted(
        own.select_related("assigned_to", "acknowledged_by")[:500],
        key=lambda a: (PRIORITIES.index(a.priority), a.acknowledged_at is not None, a.raised_at),
    )
    hand = [
        f"{a.priority}: {a.text}, since {when(a.raised_at)}, "
        + (
            f"with {(a.assigned_to or a.acknowledged_by).username}"
            if a.assigned_to or a.acknowledged_by
            else "not taken"
        )
        for a in waits[:40]
    ]
    hand += [f"outlet {name} does not deliver" for name in told["blocked"]]
    aside = [f"{told['shelved']} shelved"] if told["shelved"] else []
    aside += [f"{told['suppressed']} silences explained by their gateway's"] if told["suppressed"] else []
    before = [
        f"{EARLIER[row['days']]}:"
        f" {row['raised']} alarms, {share(row['availability'])} of the messages expected,"
        f" {share(row['decoded'])} of them decoded"
        for row in told["compared"]
    ]
    sections: Sequence[tuple[str, Sequence[str]]] = [
        ("Needs a hand", hand or ["nothing"]),
        ("Fades", [named(one) for one in told["fading"]]),
        ("Unlike its neighbours", [named(one) for one in told["unusual"]]),
        ("Over", [f"{one['condition']}: {one['times']} times, the last {when(one['at'])}" for one in told["over"]]),
        ("New", [one["words"] for one in told["fresh"]]),
        ("Put aside", aside),
        ("Compared", before),
        ("Oculum did not listen", [f"{when(gap['since'])} to {when(gap['until'])}" for gap in told["gaps"]]),
    ]
    about = (
        f"{when(told['from'])} to {when(told['to'])} ({zone}). Of {told['devices']} devices: {counts}."
        f" {told['raised']} alarms{usually}; {told['open']} open, {told['untaken']} of them not taken."
    )
    return markdown("Hand-over", about, sections)
