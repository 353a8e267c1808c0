"""What is told of alarms: a subject, a text and events, from templates where an outlet has its own."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.conf import settings

from oculum.quantities import printed
from server.delivery.outlets import Message
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.telling.models import Delivery

SUBJECT = "{what}, {priority}: {text}"
TEXT = "{what}: {text}{step}\n{priority} priority, {condition}, {place}, {at} UTC\n{link}"
WORD = re.compile(r"\{([^{}]*)\}")
IN_JSON = re.compile(r"\{\s*([a-z]+)\s*\}")  # what else stands in braces there is JSON's own
WORDS = {
    "what": "raised, priority risen, still open, cleared",
    "text": "what the condition says",
    "priority": "critical, high, medium, low",
    "condition": "its name",
    "place": "the device, else the site",
    "site": "where the device is",
    "value": "with its unit",
    "limit": "with its unit",
    "at": "when it happened, UTC",
    "link": "to the alarm",
    "step": "that nobody has taken it, from the second step on",
}
BODY_WORDS = WORDS | {
    "number": "the value alone, without quotes around it; null where there is none",
    "alarm": "its number",
    "delivery": "the number of the delivery: the same if it comes twice",
}
EXAMPLE = {word: word for word in BODY_WORDS} | {"number": "1.5", "alarm": "7", "delivery": "12"}


@dataclass(frozen=True)
class Case:
    """A delivery with the facts of its alarm: where, and when that happened which it tells."""

    delivery: Delivery
    place: str
    name: str
    at: datetime

    @classmethod
    def of(cls, delivery: Delivery) -> Case:
        alarm = delivery.alarm
        where = alarm.device or alarm.site
        over = delivery.what == "cleared" and alarm.cleared_at is not None
        at = alarm.cleared_at if over and alarm.cleared_at is not None else alarm.raised_at
        return cls(delivery, where.title if where else "?", where.name if where else "", at)

    @property
    def link(self) -> str:
        return f"{settings.PUBLIC_ADDRESS.rstrip('/')}/alarms?alarm={self.delivery.alarm_id}"

    def words(self) -> dict[str, str]:
        """What stands for the words of a template."""
        delivery, alarm = self.delivery, self.delivery.alarm
        site = alarm.device.site if alarm.device else alarm.site
        return {
            "what": delivery.what,
            "text": alarm.text,
            "priority": alarm.priority,
            "condition": alarm.condition.name,
            "place": self.place,
            "site": site.title if site else "",
            "value": measured(alarm, alarm.value),
            "limit": measured(alarm, alarm.limit),
            "at": f"{self.at:%Y-%m-%d %H:%M}",
            "link": self.link,
            "step": f" (nobody has taken it; step {delivery.step + 1})" if delivery.step else "",
        }

    def body_words(self) -> dict[str, str]:
        """What stands for the words of a body."""
        delivery = self.delivery
        value = delivery.alarm.value
        return self.words() | {
            "number": "null" if value is None or not math.isfinite(value) else json.dumps(float(value)),
            "alarm": str(delivery.alarm_id),
            "delivery": str(delivery.pk or 0),
        }

    def event(self) -> dict[str, Any]:
        """A CloudEvent (1.0.2). Its id is the number of the delivery: the same if it comes twice."""
        delivery, alarm = self.delivery, self.delivery.alarm
        return {
            "specversion": "1.0",
            "id": str(delivery.pk),
            "source": settings.PUBLIC_ADDRESS.rstrip("/"),
            "type": f"oculum.alarm.{delivery.what.replace(' ', '_')}",
            "subject": self.name,
            "time": f"{self.at:%Y-%m-%dT%H:%M:%S.%fZ}",
            "datacontenttype": "application/json",
            "data": {
                "alarm": alarm.pk,
                "condition": alarm.condition.name,
                "priority": alarm.priority,
                "text": alarm.text,
                "value": alarm.value,
                "limit": alarm.limit,
                "unit": alarm.unit,
                "raised_at": alarm.raised_at.isoformat(),
                "cleared_at": alarm.cleared_at.isoformat() if alarm.cleared_at else None,
                "step": delivery.step,
                "link": self.link,
            },
        }


def measured(alarm: Alarm, value: float | None) -> str:
    if value is None:
        return ""
    unit = printed(alarm.unit) if alarm.unit and alarm.unit != "1" else ""
    return f"{value:.6g} {unit}".strip()


def filled(template: str, words: Mapping[str, str]) -> str:
    """A template with its words in their places; of others see `strange`."""
    return WORD.sub(lambda found: words.get(found[1].strip(), found[0]), template)


def strange(template: str) -> str | None:
    """The first word in braces that stands for nothing; None where each stands for something."""
    return next((w for w in WORD.findall(template) if w.strip() not in WORDS), None)


def filled_body(template: str, words: Mapping[str, str]) -> str:
    """JSON with words in their places, as they stand within its texts."""
    return IN_JSON.sub(lambda found: json.dumps(words.get(found[1], found[0]), ensure_ascii=False)[1:-1], template)


def wrong_body(template: str) -> str | None:
    """Why a template gives no JSON; None where it does."""
    odd = next((word for word in IN_JSON.findall(template) if word not in BODY_WORDS), None)
    if odd is not None:
        return f"`{{{odd[:40]}}}` stands for nothing; there are {', '.join(BODY_WORDS)}"
    try:
        json.loads(filled_body(template, EXAMPLE))
    except ValueError as error:
        return f"with its words in it, it is no JSON: {error}"
    return None


def message_of(due: Sequence[Delivery], own: Mapping[str, Any]) -> Message:
    """Deliveries as one message: the worst first in its subject, each with its lines. own: the outlet's settings."""
    cases = [Case.of(d) for d in sorted(due, key=lambda d: (PRIORITIES.index(d.alarm.priority), d.pk or 0))]
    subject = filled(own.get("subject") or SUBJECT, cases[0].words())
    if len(cases) > 1:
        subject = f"{len(cases)} alarms, {subject}"
    parts = [filled(own.get("text") or TEXT, case.words()) for case in cases]
    text = "\n\n".join(parts) + "\n\nTo take an alarm, open it and sign in.\n"
    one_line = " ".join(subject.split())
    numbers, events = tuple(d.pk or 0 for d in due), tuple(case.event() for case in cases)
    body = own.get("body")
    bodies = [(case.delivery.pk or 0, filled_body(body, case.body_words())) for case in cases] if body else []
    return Message(numbers, one_line[:200], text, events, tuple(bodies))
