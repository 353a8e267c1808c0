"""Outlets, contacts, chains and deliveries, as the API takes and gives them."""

from __future__ import annotations

import re
from datetime import date, time
from typing import Any
from urllib.parse import urlsplit
from zoneinfo import available_timezones

from django.utils import timezone
from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from server.delivery.duty import in_turn, on_duty
from server.delivery.words import WORDS, strange, wrong_body
from server.records.alarms.models import PRIORITIES
from server.records.definitions.models import Definition
from server.records.fleet.models import Site
from server.records.telling.models import (
    KINDS,
    TELLS,
    Chain,
    Contact,
    Delivery,
    HandedOver,
    Outlet,
    ReachedHost,
    Shift,
)
from server.requests.fields import Words
from server.rules.routes import sending_to

MAIL = re.compile(r"[^@\s\"<>(),;:\\]{1,64}@[A-Za-z0-9.-]{1,253}")
HEADER = re.compile(r"[A-Za-z0-9-]{1,64}")
OWN_HEADERS = {"host", "content-length", "content-type", "connection", "transfer-encoding"}
MOST = 20
LONGEST_S = 30 * 86_400
MOST_BODY = 8_000


def wrong(message: str) -> serializers.ValidationError:
    return serializers.ValidationError(message)


def mail_settings(given: dict[str, Any]) -> dict[str, Any]:
    """Raises ValidationError."""
    host, sender = str(given.get("host", "")).strip(), str(given.get("sender", "")).strip()
    port, security = given.get("port", 587), given.get("security", "starttls")
    if not re.fullmatch(r"[A-Za-z0-9.:\[\]-]{1,253}", host):
        raise wrong("host: the name of a mail server is expected, such as mail.example.invalid")
    if not isinstance(port, int) or not 1 <= port <= 65535:
        raise wrong("port: a number from 1 to 65535 is expected; 587 is usual")
    if security not in ("none", "starttls", "tls"):
        raise wrong("security is none, starttls or tls")
    if not MAIL.fullmatch(sender):
        raise wrong("sender: a mail address is expected")
    return {
        "host": host,
        "port": port,
        "security": security,
        "user": str(given.get("user", ""))[:200],
        "sender": sender,
        **templates(given),
    }


def templates(given: dict[str, Any]) -> dict[str, str]:
    """Subject and text of an outlet's own, where it has them. Raises ValidationError."""
    found = {}
    for name, most in (("subject", 200), ("text", 4000)):
        own = given.get(name) or ""
        if not isinstance(own, str) or len(own) > most:
            raise wrong(f"{name}: a text of at most {most} characters is expected")
        odd = strange(own)
        if odd is not None:
            raise wrong(f"{name}: `{{{odd[:40]}}}` stands for nothing; there are {', '.join(WORDS)}")
        if own.strip():
            found[name] = own
    return found


def mqtt_settings(given: dict[str, Any]) -> dict[str, Any]:
    """Raises ValidationError."""
    host, port = str(given.get("host", "")).strip(), given.get("port", 8883)
    if not re.fullmatch(r"[A-Za-z0-9.:\[\]-]{1,253}", host):
        raise wrong("host: the name of a broker is expected, such as broker.example.invalid")
    if not isinstance(port, int) or not 1 <= port <= 65535:
        raise wrong("port: a number from 1 to 65535 is expected; 8883 is usual with TLS, 1883 without")
    topic = sound_topic(str(given.get("topic", "")))
    user = str(given.get("user", ""))[:200]
    return {"host": host, "port": port, "tls": bool(given.get("tls", True)), "user": user, "topic": topic}


def sound_topic(text: str) -> str:
    """Raises ValidationError."""
    if not 1 <= len(text) <= 200 or re.search(r"[+#\x00-\x1f]", text) or text.startswith("$"):
        raise wrong(
            f"`{text[:60]}` is no topic to publish to: 1 to 200 characters without + and #, not beginning with $"
        )
    return text


def sound_url(text: str) -> str:
    """Raises ValidationError."""
    try:
        found = urlsplit(text)
        fine = found.scheme in ("http", "https") and found.hostname and not found.username and found.port != 0
    except ValueError:
        fine = False
    if not fine or len(text) > 300 or not text.isascii() or not text.isprintable() or " " in text:
        raise wrong("an address such as https://host/path is expected, without a name or password in it")
    return text


def webhook_settings(given: dict[str, Any]) -> dict[str, Any]:
    """Raises ValidationError."""
    headers = given.get("headers") or {}
    if not isinstance(headers, dict) or len(headers) > MOST:
        raise wrong(f"headers: an object of at most {MOST} is expected")
    for name, value in headers.items():
        if not HEADER.fullmatch(str(name)) or str(name).lower() in OWN_HEADERS:
            raise wrong(f"`{str(name)[:40]}` is no header that can be set")
        if not isinstance(value, str) or not value.isprintable() or len(value) > 500 or not value.isascii():
            raise wrong(f"the header `{name}` is a text of at most 500 printable characters")
    found = {"url": sound_url(str(given.get("url", ""))), "headers": headers}
    body = own_body(given)
    return found | ({"body": body} if body else {})


def own_body(given: dict[str, Any]) -> str:
    """The template of a webhook's body; empty where it has none. Raises ValidationError."""
    body = given.get("body") or ""
    if not isinstance(body, str) or len(body) > MOST_BODY:
        raise wrong(f"body: a text of at most {MOST_BODY:,} characters is expected")
    why = wrong_body(body) if body.strip() else None
    if why is not None:
        raise wrong(f"body: {why}")
    return body if body.strip() else ""


def file_settings(given: dict[str, Any]) -> dict[str, Any]:
    """Raises ValidationError."""
    kind, rotate, keep = given.get("format", "jsonl"), given.get("rotate_mb", 10), given.get("keep", 30)
    if kind not in ("jsonl", "csv"):
        raise wrong("format is jsonl (an object a line) or csv (a row a value)")
    for name, value in (("rotate_mb", rotate), ("keep", keep)):
        if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= 1000:
            raise wrong(f"{name}: a whole number from 1 to 1000 is expected")
    return {"format": kind, "rotate_mb": rotate, "keep": keep}


SETTINGS = {"mail": mail_settings, "webhook": webhook_settings, "mqtt": mqtt_settings, "file": file_settings}


class OutletOut(serializers.ModelSerializer):
    name = Words(max_length=80)
    kind = serializers.ChoiceField(KINDS)
    settings = serializers.JSONField(
        help_text="of mail: host, port, security, user, sender, and templates subject and text; of a webhook: url,"
        " headers, and a template body; of mqtt: host, port, tls, user, topic; of file: format, rotate_mb, keep"
    )
    secret = serializers.CharField(
        write_only=True, required=False, allow_blank=True, max_length=500, help_text="never shown again"
    )
    has_secret = serializers.SerializerMethodField()
    per_hour = serializers.IntegerField(min_value=1, max_value=1000, default=60)
    waiting = serializers.IntegerField(read_only=True, required=False)
    used_by = serializers.SerializerMethodField(help_text="routes in force that send readings to it")

    class Meta:
        model = Outlet
        fields = [
            "id",
            "name",
            "kind",
            "settings",
            "secret",
            "has_secret",
            "per_hour",
            "on",
            "failures",
            "opens_at",
            "last_at",
            "last_error",
            "waiting",
            "used_by",
            "revision",
        ]
        read_only_fields = ["failures", "opens_at", "last_at", "last_error", "revision"]

    def get_used_by(self, outlet: Outlet) -> list[str]:
        return sending_to(outlet)

    def get_has_secret(self, outlet: Outlet) -> bool:
        return outlet.secret is not None

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        kind = attrs.get("kind") or (self.instance.kind if self.instance else "")
        if "settings" in attrs:
            if not isinstance(attrs["settings"], dict):
                raise wrong("settings are an object")
            attrs["settings"] = SETTINGS[kind](attrs["settings"])
        if self.instance and (attrs.get("name", self.instance.name), kind) != (self.instance.name, self.instance.kind):
            users = sending_to(self.instance)
            if users:
                raise wrong(f"the route “{users[0]}” sends to this outlet: it keeps its name and its kind")
        return attrs


def days(span: Any) -> dict[str, str]:
    """A span of whole days. Raises ValidationError."""
    try:
        begin, end = (date.fromisoformat(span[name]).isoformat() for name in ("from", "to"))
    except (KeyError, TypeError, ValueError):
        raise wrong("each span has `from` and `to`: dates such as 2026-12-24") from None
    if end < begin:
        raise wrong(f"the days run backwards: from {begin} to {end}")
    return {"from": begin, "to": end}


def sound_zone(value: str) -> str:
    """Raises ValidationError for what is no zone."""
    if value not in available_timezones():
        raise wrong(f"`{value[:40]}` is no zone of the IANA database, such as UTC")
    return value


class ContactOut(serializers.ModelSerializer):
    name = Words(max_length=80)
    addresses = serializers.JSONField(
        help_text="a list of outlet and to: a mail address, the URL of a webhook, or a topic"
    )

    days_off = serializers.JSONField(required=False, help_text="a list of from and to: whole days, both within")
    rota = serializers.JSONField(
        required=False,
        allow_null=True,
        help_text="of a duty: begins (a date), at (hh:mm), weeks (contacts in turn), exceptions (from, to, contact)",
    )
    on_duty = serializers.SerializerMethodField(help_text="whose turn it is now, of a duty with a rota")

    class Meta:
        model = Contact
        fields = ["id", "name", "addresses", "zone", "days_off", "rota", "on_duty", "revision"]
        read_only_fields = ["revision"]

    def get_on_duty(self, contact: Contact) -> str | None:
        if contact.rota is None:
            return None
        named = Contact.objects.in_bulk(in_turn(contact, timezone.now()))
        found = on_duty(contact, named, timezone.now())
        return found.name if found is not None else None

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        kept = self.instance
        rota = attrs.get("rota", kept.rota if kept else None)
        if rota is None and not attrs.get("addresses", kept.addresses if kept else []):
            raise wrong(f"a contact has 1 to {MOST} addresses, or a rota of others")
        if kept is not None and rota is not None and kept.pk in rota["weeks"]:
            raise wrong("a duty cannot take turns with itself")
        return attrs

    def validate_days_off(self, value: Any) -> Any:
        if not isinstance(value, list) or len(value) > 100:
            raise wrong("days off are a list of at most 100 spans, each of from and to")
        return [days(span) for span in value]

    def validate_rota(self, value: Any) -> Any:
        if value is None:
            return None
        people = set(Contact.objects.filter(rota__isnull=True).values_list("pk", flat=True))
        try:
            begins = date.fromisoformat(value["begins"]).isoformat()
            at = time.fromisoformat(value["at"]).strftime("%H:%M")
        except (KeyError, TypeError, ValueError):
            raise wrong("a rota `begins` on a date and is handed over `at` an hour, such as 08:00") from None
        weeks, exceptions = value.get("weeks"), value.get("exceptions", [])
        if not isinstance(weeks, list) or not 1 <= len(weeks) <= 52 or not set(weeks) <= people:
            raise wrong("`weeks` are 1 to 52 contacts in turn, none of them a rota itself")
        if not isinstance(exceptions, list) or len(exceptions) > 100:
            raise wrong("`exceptions` are a list of at most 100")
        found = []
        for one in exceptions:
            contact = one.get("contact") if isinstance(one, dict) else None
            if contact not in people:
                raise wrong("each exception has from, to and a contact that is no rota itself")
            found.append({**days(one), "contact": contact})
        return {"begins": begins, "at": at, "weeks": weeks, "exceptions": found}

    def validate_zone(self, value: str) -> str:
        return sound_zone(value)

    def validate_addresses(self, value: Any) -> Any:
        if not isinstance(value, list) or len(value) > MOST:
            raise wrong(f"a contact has at most {MOST} addresses")
        kinds = dict(Outlet.objects.values_list("pk", "kind"))
        found = []
        for address in value:
            outlet, to = (address.get("outlet"), address.get("to")) if isinstance(address, dict) else (None, None)
            if outlet not in kinds or not isinstance(to, str):
                raise wrong("each address has an outlet that there is, and a `to`")
            if kinds[outlet] == "file":
                raise wrong("nobody is told by a file: it takes readings that routes send")
            if kinds[outlet] == "mail" and not MAIL.fullmatch(to):
                raise wrong(f"`{to[:60]}` is no mail address")
            if kinds[outlet] == "webhook" and to:
                sound_url(to)
            if kinds[outlet] == "mqtt" and to:
                sound_topic(to)
            found.append({"outlet": outlet, "to": to})
        return found


class ChainOut(serializers.ModelSerializer):
    name = Words(max_length=80)
    steps = serializers.JSONField(help_text="a list of after_s, from the raise on, and contacts")
    priorities = serializers.ListField(child=serializers.ChoiceField(PRIORITIES), required=False, max_length=4)
    conditions = serializers.ListField(child=serializers.IntegerField(), required=False, max_length=500)
    site = serializers.SlugRelatedField(slug_field="name", queryset=Site.objects.all(), allow_null=True, required=False)
    tells = serializers.ListField(child=serializers.ChoiceField(TELLS), min_length=1, max_length=4)
    open_after_s = serializers.IntegerField(
        min_value=60, max_value=LONGEST_S, allow_null=True, required=False, help_text="of `still open`"
    )
    quiet = serializers.JSONField(allow_null=True, required=False, help_text="from and to, hh:mm, and but: priorities")

    class Meta:
        model = Chain
        fields = ["id", "name", "on", "steps", "priorities", "conditions", "site", "tells"]
        fields += ["open_after_s", "quiet", "revision"]
        read_only_fields = ["revision"]

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        kept = self.instance
        tells = attrs.get("tells", kept.tells if kept else [])
        if "still open" in tells and attrs.get("open_after_s", kept.open_after_s if kept else None) is None:
            raise wrong("`still open` needs open_after_s, from 60 s to 30 days")
        return attrs

    def validate_steps(self, value: Any) -> Any:
        if not isinstance(value, list) or not 1 <= len(value) <= 10:
            raise wrong("a way of telling has 1 to 10 steps")
        known = set(Contact.objects.values_list("pk", flat=True))
        before = -1
        for step in value:
            after, contacts = (step.get("after_s"), step.get("contacts")) if isinstance(step, dict) else (None, None)
            if not isinstance(after, int) or not 0 <= after <= 86_400:
                raise wrong("after_s is a whole number of seconds, at most a day")
            if after <= before:
                raise wrong("each step comes later than the one before")
            if not isinstance(contacts, list) or not contacts or not set(contacts) <= known:
                raise wrong("each step has contacts that there are")
            before = after
        return [{"after_s": step["after_s"], "contacts": list(dict.fromkeys(step["contacts"]))} for step in value]

    def validate_conditions(self, value: list[int]) -> list[int]:
        known = set(Definition.objects.filter(kind="condition", pk__in=value).values_list("pk", flat=True))
        if set(value) - known:
            raise wrong(f"there is no condition {min(set(value) - known)}")
        return value

    def validate_quiet(self, value: Any) -> Any:
        if value is None:
            return None
        try:
            span = {name: time.fromisoformat(value[name]).strftime("%H:%M") for name in ("from", "to")}
        except (KeyError, TypeError, ValueError):
            raise wrong("quiet hours have `from` and `to`, such as 22:00 and 06:00") from None
        but = value.get("but", [])
        if not isinstance(but, list) or not set(but) <= set(PRIORITIES):
            raise wrong(f"`but` names priorities: {', '.join(PRIORITIES)}")
        return {**span, "but": but}


class HandedOverOut(serializers.ModelSerializer):
    outlet = serializers.CharField(source="outlet.name")

    class Meta:
        model = HandedOver
        fields = ["due_at", "outlet", "to", "state", "tries", "why", "sent_at"]


class ShiftOut(serializers.ModelSerializer):
    name = Words(max_length=80)
    at = serializers.ListField(child=serializers.CharField(), min_length=1, max_length=6, help_text="hh:mm")
    hours = serializers.IntegerField(min_value=1, max_value=24 * 31, help_text="how far it looks back")
    contacts = serializers.ListField(child=serializers.IntegerField(), min_length=1, max_length=50)
    last = serializers.SerializerMethodField(help_text="the newest ones that were sent, or tried")

    class Meta:
        model = Shift
        fields = ["id", "name", "on", "at", "zone", "hours", "contacts", "last", "revision"]
        read_only_fields = ["revision"]

    @extend_schema_field(HandedOverOut(many=True))
    def get_last(self, shift: Shift) -> Any:
        return HandedOverOut(shift.sent.select_related("outlet").order_by("-due_at", "-pk")[:6], many=True).data

    def validate_at(self, value: list[str]) -> list[str]:
        try:
            return sorted({time.fromisoformat(text).strftime("%H:%M") for text in value})
        except ValueError:
            raise wrong("times of day are hh:mm, such as 06:00") from None

    def validate_zone(self, value: str) -> str:
        return sound_zone(value)

    def validate_contacts(self, value: list[int]) -> list[int]:
        known = set(Contact.objects.values_list("pk", flat=True))
        if set(value) - known:
            raise wrong(f"there is no contact {min(set(value) - known)}")
        return list(dict.fromkeys(value))


class DeliveryOut(serializers.ModelSerializer):
    outlet = serializers.CharField(source="outlet.name")
    contact = serializers.CharField(source="contact.name", allow_null=True, default=None)
    chain = serializers.CharField(source="chain.name", allow_null=True, default=None)
    text = serializers.CharField(source="alarm.text")
    priority = serializers.CharField(source="alarm.priority")
    alarm = serializers.IntegerField(source="alarm_id")

    class Meta:
        model = Delivery
        fields = [
            "id",
            "outlet",
            "contact",
            "chain",
            "alarm",
            "text",
            "priority",
            "what",
            "step",
            "to",
            "made_at",
            "due_at",
            "next_at",
            "state",
            "tries",
            "why",
            "sent_at",
            "took_ms",
            "together",
        ]
        read_only_fields = fields


class HostOut(serializers.ModelSerializer):
    host = serializers.RegexField(r"^[A-Za-z0-9.:-]{1,253}$", max_length=253)

    class Meta:
        model = ReachedHost
        fields = ["id", "host", "at"]
