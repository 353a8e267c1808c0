"""Alarms and their journal."""

from __future__ import annotations

from django.db import models

from server.records.definitions.models import Definition, Version
from server.records.fleet.models import Device, Site
from server.records.people.models import Person

PRIORITIES = ["critical", "high", "medium", "low"]


class Alarm(models.Model):
    """One occurrence of a condition on a device or a site. Raised and cleared by the engine, taken by a person.

    suppressed: a silence that a silent gateway explains; on record, and over as it begins.
    """

    condition = models.ForeignKey(Definition, on_delete=models.CASCADE)
    version = models.ForeignKey(Version, on_delete=models.CASCADE)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, null=True, related_name="alarms")
    site = models.ForeignKey(Site, on_delete=models.CASCADE, null=True, related_name="alarms")
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
    assigned_to = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True, related_name="+")
    message_id = models.BigIntegerField(null=True)
    message_received_at = models.DateTimeField(null=True)
    suppressed = models.BooleanField(default=False)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["condition", "device"], condition=models.Q(cleared_at=None), name="one_open_alarm"
            ),
            models.UniqueConstraint(
                fields=["condition", "site"], condition=models.Q(cleared_at=None), name="one_open_alarm_a_site"
            ),
        ]
        indexes = [
            models.Index(fields=["device", "-raised_at"], name="alarm_of_device"),
            models.Index(fields=["cleared_at"], name="alarm_cleared"),
        ]


class Shelf(models.Model):
    """A condition on a device or a site put aside for a while (ISA-18.2): it is evaluated on, and calls nobody.

    It holds from `since` until `until`, or until somebody ended it; also for what is raised meanwhile. alarm: the one
    from which it was shelved.
    """

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="shelves")
    condition = models.ForeignKey(Definition, on_delete=models.CASCADE, related_name="+")
    device = models.ForeignKey(Device, on_delete=models.CASCADE, null=True, related_name="+")
    site = models.ForeignKey(Site, on_delete=models.CASCADE, null=True, related_name="+")
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True, related_name="+")
    why = models.CharField(max_length=300)
    since = models.DateTimeField()
    until = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["condition", "device"], condition=models.Q(ended_at=None), name="one_shelf_a_device"
            ),
            models.UniqueConstraint(
                fields=["condition", "site"], condition=models.Q(ended_at=None), name="one_shelf_a_site"
            ),
        ]
        indexes = [models.Index(fields=["until"], condition=models.Q(ended_at=None), name="shelf_until")]


class JournalEntry(models.Model):
    """What happened to an alarm: raised, cleared, acknowledged, given back, noted, shelved, off the shelf, assigned.
    `learned_at` is when it became known.
    """

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="entries")
    what = models.CharField(max_length=24)
    priority = models.CharField(max_length=8, blank=True)  # from then on, where it changed
    at = models.DateTimeField(db_index=True)
    learned_at = models.DateTimeField()
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    note = models.CharField(max_length=1000, blank=True)
    value = models.FloatField(null=True)
    limit = models.FloatField(null=True)
    message_id = models.BigIntegerField(null=True)
    message_received_at = models.DateTimeField(null=True)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, null=True)
