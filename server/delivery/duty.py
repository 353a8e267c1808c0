"""Who of a duty is told at a moment: days off, and rotas by the week."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from server.records.telling.models import Contact


def away(contact: Contact, at: datetime) -> bool:
    """Whether somebody has the day off, by the days of their own zone."""
    day = at.astimezone(ZoneInfo(contact.zone)).date().isoformat()
    return any(span["from"] <= day <= span["to"] for span in contact.days_off)


def in_turn(contact: Contact, at: datetime) -> list[int]:
    """The contacts that a rota names for a moment, the one whose week it is first: an exception, else the week's, then
    those whose turns come next.
    """
    rota = contact.rota or {}
    weeks: list[int] = list(rota.get("weeks", []))
    if not weeks:
        return []
    # A week of a duty begins on the day of its first one, at the hour of handing over on the clock of its zone.
    local = at.astimezone(ZoneInfo(contact.zone)).replace(tzinfo=None)
    begins = datetime.combine(date.fromisoformat(rota["begins"]), time.fromisoformat(rota["at"]))
    turn = (local - begins) // timedelta(weeks=1) % len(weeks)
    own = (local - timedelta(hours=begins.hour, minutes=begins.minute)).date().isoformat()
    instead = [e["contact"] for e in rota.get("exceptions", []) if e["from"] <= own <= e["to"]]
    return list(dict.fromkeys([*instead, *weeks[turn:], *weeks[:turn]]))


def on_duty(contact: Contact, contacts: Mapping[int, Contact], at: datetime) -> Contact | None:
    """Who is told for a contact at a moment: of a rota the first in turn who has no day off; else the contact itself.
    None where that one has the day off.
    """
    if contact.rota is None:
        return None if away(contact, at) else contact
    found = [contacts[key] for key in in_turn(contact, at) if key in contacts and contacts[key].rota is None]
    return next((one for one in found if not away(one, at)), None)


def told_at(step: list[int], contacts: Mapping[int, Contact], at: datetime) -> list[Contact]:
    """Who of a step is told at a moment, each once. Where all of them have the day off, they are told all the same: an
    alarm does not wait for a holiday to end.
    """
    known = [contacts[key] for key in step if key in contacts]
    found = [one for contact in known if (one := on_duty(contact, contacts, at)) is not None]
    if not found:
        for contact in known:
            turns = [contacts[key] for key in in_turn(contact, at)[:1] if key in contacts]
            found += turns or [contact]
    return list({one.pk: one for one in found}.values())
