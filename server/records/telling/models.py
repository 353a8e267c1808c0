"""Who is told of alarms, by which way, and what became of it."""

from __future__ import annotations

from django.db import models

from server.records.alarms.models import Alarm
from server.records.fleet.models import Revised, Site
from server.records.people.models import Person

KINDS = ["mail", "webhook", "mqtt", "file"]
TELLS = ["raised", "priority risen", "still open", "cleared"]
WAITING, DELIVERED, EXPIRED, NOT_NEEDED = "waiting", "delivered", "expired", "not needed"


class Outlet(Revised):
    """A way out: a mail server, an address or a topic that takes events, or files. `secret` is encrypted.

    settings: of mail host, port, security (none, starttls, tls), user, sender; of a webhook url and headers; of mqtt
    host, port, tls, user, topic; of files format (jsonl, csv), rotate_mb and keep (how many). per_hour:
    messages to one address. opens_at: not tried before, after several failures in a row.
    """

    name = models.CharField(max_length=80, unique=True)
    kind = models.CharField(max_length=16, choices=[(k, k) for k in KINDS])
    settings = models.JSONField(default=dict)
    secret = models.BinaryField(null=True)
    per_hour = models.PositiveIntegerField(default=60)
    on = models.BooleanField(default=True)
    failures = models.PositiveIntegerField(default=0)
    opens_at = models.DateTimeField(null=True)
    last_at = models.DateTimeField(null=True)
    last_error = models.CharField(max_length=300, blank=True)


class ReachedHost(models.Model):
    """A host inside one's own network, or host:port, that outlets may reach all the same."""

    host = models.CharField(max_length=253, unique=True)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)


class Contact(Revised):
    """Somebody, or a duty, that is told. `addresses`: of outlet and to; `zone` is that of the quiet hours and days.

    days_off: spans of whole days, from and to, on which somebody is not told. rota: of a duty, whose it is by the week:
    begins (a date), at (hh:mm, when it is handed over), weeks (contacts in turn) and exceptions (from, to, contact).
    """

    name = models.CharField(max_length=80, unique=True)
    addresses = models.JSONField(default=list, blank=True)
    zone = models.CharField(max_length=64, default="UTC")
    days_off = models.JSONField(default=list, blank=True)
    rota = models.JSONField(null=True, blank=True)


class Chain(Revised):
    """Who is told, after how long, until somebody has taken the alarm.

    steps: of after_s and contacts. Empty priorities, conditions or no site stand for all. quiet: from, to (hh:mm), and
    the priorities that do not heed it. open_after_s: when those of the first step are told that an alarm is still open,
    taken or not.
    """

    name = models.CharField(max_length=80, unique=True)
    on = models.BooleanField(default=True)
    steps = models.JSONField(default=list)
    priorities = models.JSONField(default=list)
    conditions = models.JSONField(default=list)
    site = models.ForeignKey(Site, on_delete=models.SET_NULL, null=True)
    tells = models.JSONField(default=list)
    open_after_s = models.PositiveIntegerField(null=True)
    quiet = models.JSONField(null=True)


class Shift(Revised):
    """A hand-over that is sent by itself: at times of day (hh:mm, by the clock of `zone`), to contacts, of the hours
    before. planned_to: the last time that is planned already.
    """

    name = models.CharField(max_length=80, unique=True)
    on = models.BooleanField(default=True)
    at = models.JSONField(default=list)
    zone = models.CharField(max_length=64, default="UTC")
    hours = models.PositiveSmallIntegerField(default=24)
    contacts = models.JSONField(default=list)
    planned_to = models.DateTimeField(auto_now_add=True)


class HandedOver(models.Model):
    """One hand-over to one address: kept until it is sent, or nobody needs it any more."""

    shift = models.ForeignKey(Shift, on_delete=models.CASCADE, related_name="sent")
    outlet = models.ForeignKey(Outlet, on_delete=models.CASCADE, related_name="handed_over")
    to = models.CharField(max_length=300)
    due_at = models.DateTimeField()
    next_at = models.DateTimeField()
    state = models.CharField(max_length=12, default=WAITING)
    tries = models.PositiveIntegerField(default=0)
    why = models.CharField(max_length=300, blank=True)
    sent_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shift", "due_at", "outlet", "to"], name="one_hand_over_of_a_time")
        ]
        indexes = [models.Index(fields=["next_at"], condition=models.Q(state="waiting"), name="hand_over_waiting")]


class Delivery(models.Model):
    """One thing to be told to one address. Its number goes with it, so that whoever gets it twice can tell."""

    outlet = models.ForeignKey(Outlet, on_delete=models.CASCADE, related_name="deliveries")
    chain = models.ForeignKey(Chain, on_delete=models.SET_NULL, null=True)
    contact = models.ForeignKey(Contact, on_delete=models.SET_NULL, null=True)
    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="deliveries")
    entry = models.BigIntegerField()  # of the journal, which it tells
    what = models.CharField(max_length=24)
    step = models.PositiveSmallIntegerField(default=0)
    to = models.CharField(max_length=300)
    made_at = models.DateTimeField(auto_now_add=True)
    due_at = models.DateTimeField()
    next_at = models.DateTimeField()
    state = models.CharField(max_length=12, default=WAITING)
    tries = models.PositiveIntegerField(default=0)
    why = models.CharField(max_length=300, blank=True)
    sent_at = models.DateTimeField(null=True)
    took_ms = models.PositiveIntegerField(null=True)
    together = models.PositiveIntegerField(default=1)  # how many went in one message

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["outlet", "to", "entry", "what", "step"], name="one_delivery_of_an_entry")
        ]
        indexes = [
            models.Index(fields=["outlet", "to", "id"], condition=models.Q(state="waiting"), name="delivery_waiting"),
            models.Index(fields=["-id"], name="delivery_newest"),
            models.Index(
                fields=["outlet", "to", "-sent_at"],
                condition=models.Q(state="delivered", together__gt=0),
                name="delivery_messages",
            ),
            models.Index(fields=["state"], condition=models.Q(state="expired"), name="delivery_expired"),
        ]
