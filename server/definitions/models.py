"""Definitions: a draft being edited, and versions that never change."""

from __future__ import annotations

from django.db import models
from django.db.models.functions import Lower

from server.access.models import Person
from server.fleet.models import Device, DeviceType, Site

from .rollouts import Selection


class Definition(models.Model):
    """A decoder (one a device type) or a condition."""

    kind = models.CharField(max_length=16, choices=[("decoder", "decoder"), ("condition", "condition")])
    name = models.CharField(max_length=120)
    type = models.ForeignKey(DeviceType, on_delete=models.CASCADE, related_name="definitions")
    draft = models.TextField(blank=True)
    draft_number = models.PositiveIntegerField(default=0)  # counts edits, so that two editors notice each other
    draft_by = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True, related_name="+")
    draft_at = models.DateTimeField(null=True)
    live = models.ForeignKey("Version", on_delete=models.SET_NULL, null=True, related_name="+")
    retired = models.BooleanField(default=False)

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


class Version(models.Model):
    """A published text. `fields` is what the device type declared when it was published."""

    definition = models.ForeignKey(Definition, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    text = models.TextField()
    fields = models.JSONField(default=list)
    setpoints = models.JSONField(default=list)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    why = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["definition", "number"], name="one_version_a_number")]


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

    @property
    def selection(self) -> Selection:
        return Selection.of({"labels": self.labels, "site": self.site_id, "share": self.share})


class Hold(models.Model):
    """A device that stays on a version, whatever is put in force."""

    device = models.OneToOneField(Device, on_delete=models.CASCADE, related_name="hold")
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="holds")
    why = models.CharField(max_length=300, blank=True)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now=True)
