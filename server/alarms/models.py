"""Alarms and their journal."""

from __future__ import annotations

from django.db import models

from server.access.models import Person
from server.definitions.models import Definition, Version
from server.fleet.models import Device

PRIORITIES = ["critical", "high", "medium", "low"]


class Alarm(models.Model):
    """One occurrence of a condition on a device. Raised and cleared by the engine, taken by a person."""

    condition = models.ForeignKey(Definition, on_delete=models.CASCADE)
    version = models.ForeignKey(Version, on_delete=models.CASCADE)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="alarms")
    priority = models.CharField(max_length=8)
    text = models.CharField(max_length=300)
    field = models.CharField(max_length=63, blank=True)
    value = models.FloatField(null=True)
    limit = models.FloatField(null=True)
    unit = models.CharField(max_length=40, blank=True)
    raised_at = models.DateTimeField(db_index=True)
    cleared_at = models.DateTimeField(null=True)
    acknowledged_at = models.DateTimeField(null=True)
    acknowledged_by = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    message_id = models.BigIntegerField(null=True)
    message_received_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["condition", "device"], condition=models.Q(cleared_at=None), name="one_open_alarm"
            )
        ]
        indexes = [
            models.Index(fields=["device", "-raised_at"], name="alarm_of_device"),
            models.Index(fields=["cleared_at"], name="alarm_cleared"),
        ]


class JournalEntry(models.Model):
    """What happened to an alarm: raised, cleared, acknowledged, given back, noted. `learned_at` is when it became
    known.
    """

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="entries")
    what = models.CharField(max_length=16)
    at = models.DateTimeField(db_index=True)
    learned_at = models.DateTimeField()
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    note = models.CharField(max_length=1000, blank=True)
    value = models.FloatField(null=True)
    limit = models.FloatField(null=True)
    message_id = models.BigIntegerField(null=True)
    message_received_at = models.DateTimeField(null=True)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, null=True)
