"""Definitions: a draft being edited, and versions that never change."""

from __future__ import annotations

from django.db import models
from django.db.models.functions import Lower

from server.records.fleet.models import Device, DeviceType, Revised, Site
from server.records.people.models import Person


class Definition(models.Model):
    """A decoder (one a device type), a condition, or a route.

    place: of a route in their order, from when it was first published; on: the types that it is on.
    """

    kind = models.CharField(max_length=16)
    name = models.CharField(max_length=120)
    type = models.ForeignKey(DeviceType, on_delete=models.CASCADE, related_name="definitions")
    draft = models.TextField(blank=True)
    draft_number = models.PositiveIntegerField(default=0)  # counts edits, so that two editors notice each other
    draft_by = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True, related_name="+")
    draft_at = models.DateTimeField(null=True)
    live = models.ForeignKey("Version", on_delete=models.SET_NULL, null=True, related_name="+")
    retired = models.BooleanField(default=False)
    instruction = models.TextField(blank=True, max_length=5000)  # Markdown: what to do about an alarm of a condition
    off_until = models.DateTimeField(null=True)  # a condition that does not watch until then, although it is in force
    off_why = models.CharField(max_length=300, blank=True)
    off_by = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True, related_name="+")
    place = models.PositiveIntegerField(null=True)
    on = models.ManyToManyField(DeviceType, related_name="routes")

    class Meta:
        constraints = [
            models.UniqueConstraint("kind", Lower("name"), name="one_definition_a_name"),
            models.UniqueConstraint(fields=["type"], condition=models.Q(kind="decoder"), name="one_decoder_a_type"),
        ]


class Case(models.Model):
    """A message with what a decoder must give for it. It belongs to the decoder and is run with every draft."""

    definition = models.ForeignKey(Definition, on_delete=models.CASCADE, related_name="cases")
    name = models.CharField(max_length=120)
    payload = models.BinaryField(max_length=65_536)
    received_at = models.DateTimeField()
    headers = models.JSONField(default=dict)
    constants = models.JSONField(default=dict)
    previous = models.BinaryField(max_length=65_536, null=True)
    expect = models.JSONField()
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["definition", "name"], name="one_case_a_name")]


class Incident(models.Model):
    """A span in which a condition should have been raised for a device or a site, or should not have been: what people
    know of the past, and every draft is held against.
    """

    definition = models.ForeignKey(Definition, on_delete=models.CASCADE, related_name="incidents")
    device = models.ForeignKey(Device, on_delete=models.CASCADE, null=True, related_name="+")
    site = models.ForeignKey(Site, on_delete=models.CASCADE, null=True, related_name="+")
    begin = models.DateTimeField()
    end = models.DateTimeField()
    real = models.BooleanField()
    note = models.CharField(max_length=300, blank=True)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(end__gte=models.F("begin")), name="incident_ends_behind_begin"),
            models.CheckConstraint(
                condition=models.Q(device=None, site__isnull=False) | models.Q(device__isnull=False, site=None),
                name="incident_of_one",
            ),
        ]


class Version(models.Model):
    """A published text. `fields` is what the device type declared when it was published."""

    definition = models.ForeignKey(Definition, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    text = models.TextField()
    edition = models.PositiveSmallIntegerField(default=1)  # of the language, in which it was written
    fields = models.JSONField(default=list)
    setpoints = models.JSONField(default=list)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    why = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["definition", "number"], name="one_version_a_number")]


class ReferenceTable(Revised):
    """A small table of known things that routes look up by its first column.

    columns: name, kind (text, number, flag), unit, required, unique. rows: values in the order of the columns.
    """

    name = models.CharField(max_length=80, unique=True)
    columns = models.JSONField(default=list)
    rows = models.JSONField(default=list)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now=True)


class Rollout(models.Model):
    """A version of a decoder that chosen devices have before the others: those with the labels, at the site, of the
    share.
    """

    definition = models.OneToOneField(Definition, on_delete=models.CASCADE, related_name="rollout")
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="+")
    labels = models.JSONField(default=dict)
    site = models.ForeignKey(Site, on_delete=models.SET_NULL, null=True, related_name="+")
    share = models.PositiveSmallIntegerField(default=100)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    began_at = models.DateTimeField(auto_now_add=True)


class Hold(models.Model):
    """A device that stays on a version, whatever is put in force."""

    device = models.OneToOneField(Device, on_delete=models.CASCADE, related_name="hold")
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="holds")
    why = models.CharField(max_length=300, blank=True)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now=True)
