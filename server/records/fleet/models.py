"""Sites, device types with their fields and setpoints, devices, credentials."""

from __future__ import annotations

from django.core.validators import RegexValidator
from django.db import models

NAME = RegexValidator(
    r"^[a-z][a-z0-9-]{1,62}$", "a name has 2 to 63 letters a-z, digits and hyphens, beginning with a letter"
)
KEY = RegexValidator(
    r"^[a-z][a-z0-9_]{0,62}$", "a key has 1 to 63 letters a-z, digits and underscores, beginning with a letter"
)
PHASES = ["commissioning", "in service", "maintenance", "retired"]
KINDS = ["number", "integer", "flag", "code", "text", "position", "time"]


class Revised(models.Model):
    """What people change: each change counts the revision up, so that nobody changes what they have not seen."""

    revision = models.PositiveIntegerField(default=1, editable=False)

    class Meta:
        abstract = True

    def revise(self) -> None:
        """Saves a change. To be called with the row locked."""
        self.revision += 1
        self.save()


class Site(Revised):
    """A named place in a tree of places. caretaker: who looks after it, and how they are reached; attended: when
    somebody is there. Both in words, for people.
    """

    name = models.CharField(max_length=63, unique=True, validators=[NAME])
    title = models.CharField(max_length=120)
    parent = models.ForeignKey("self", on_delete=models.PROTECT, null=True, blank=True, related_name="children")
    zone = models.CharField(max_length=64, default="UTC")
    caretaker = models.CharField(max_length=200, blank=True, default="")
    attended = models.CharField(max_length=120, blank=True, default="")
    latitude = models.FloatField(null=True, blank=True)
    longitude = models.FloatField(null=True, blank=True)


class DeviceType(Revised):
    """What all units of one make share. `fields` is a list of FieldSpec; `setpoints` of name, unit, value."""

    key = models.CharField(max_length=63, unique=True, validators=[KEY])
    title = models.CharField(max_length=120)
    fields = models.JSONField(default=list, blank=True)
    setpoints = models.JSONField(default=list, blank=True)
    cadence_s = models.PositiveIntegerField(null=True, blank=True)
    is_gateway = models.BooleanField(default=False)


class Device(Revised):
    """One unit in the field."""

    name = models.CharField(max_length=63, unique=True, validators=[NAME])
    title = models.CharField(max_length=120)
    type = models.ForeignKey(DeviceType, on_delete=models.PROTECT, related_name="devices")
    site = models.ForeignKey(Site, on_delete=models.PROTECT, null=True, blank=True, related_name="devices")
    gateway = models.ForeignKey("self", on_delete=models.PROTECT, null=True, blank=True, related_name="behind")
    labels = models.JSONField(default=dict, blank=True)
    latitude = models.FloatField(null=True, blank=True)
    longitude = models.FloatField(null=True, blank=True)
    phase = models.CharField(max_length=16, choices=[(p, p) for p in PHASES], default="in service")
    cadence_s = models.PositiveIntegerField(null=True, blank=True)
    registered_at = models.DateTimeField(auto_now_add=True)
    adopted_from = models.CharField(max_length=200, blank=True)


class Fence(Revised):
    """A named area on the map: a GeoJSON feature (RFC 7946), a Polygon, a MultiPolygon, or a Point with `radius_m`."""

    name = models.CharField(max_length=120, unique=True)
    feature = models.JSONField()


class Selection(models.Model):
    """Devices or alarms by what they are asked for, under a name: the filter of their list; of devices also its order
    and its columns.
    """

    of = models.CharField(max_length=7, default="devices")
    name = models.CharField(max_length=80)
    query = models.JSONField(default=dict)
    columns = models.JSONField(default=list)
    person = models.ForeignKey("access.Person", on_delete=models.SET_NULL, null=True)
    saved_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["of", "name"], name="one_selection_a_name")]


class Photo(models.Model):
    """What a device looks like: a picture of at most a million bytes. `kind` is its media type."""

    device = models.OneToOneField(Device, on_delete=models.CASCADE, related_name="photo")
    kind = models.CharField(max_length=20)
    data = models.BinaryField()
    at = models.DateTimeField(auto_now=True)


class Note(models.Model):
    """What somebody has to say about a device at a moment, such as that it was cleaned."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="notes")
    at = models.DateTimeField()
    text = models.CharField(max_length=500)
    person = models.ForeignKey("access.Person", on_delete=models.SET_NULL, null=True)
    written_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes = [models.Index(fields=["device", "at"])]


class Credential(models.Model):
    """A key by which a device, or an onboarding channel, speaks. Kept as hashes only.

    `digest` is SHA-256, for HTTP; `broker_hash` is the broker's salted form of the same key.
    """

    device = models.OneToOneField(Device, on_delete=models.CASCADE, null=True, related_name="credential")
    onboarding = models.CharField(max_length=63, unique=True, null=True, validators=[NAME])
    prefix = models.CharField(max_length=12, unique=True)
    digest = models.BinaryField(max_length=32)
    broker_hash = models.CharField(max_length=200)
    made_at = models.DateTimeField(auto_now=True)

    @property
    def username(self) -> str:
        return self.device.name if self.device else str(self.onboarding)


class Constant(models.Model):
    """A constant of one unit, such as a calibration, valid from a moment on. Decoders name them."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="constants")
    name = models.CharField(max_length=63)
    value = models.JSONField()
    valid_from = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["device", "name", "valid_from"], name="one_constant_a_moment")]


class Setpoint(models.Model):
    """An override of a type's setpoint, on a site or a device. In the unit that the type declares."""

    type = models.ForeignKey(DeviceType, on_delete=models.CASCADE, related_name="overrides")
    name = models.CharField(max_length=63)
    site = models.ForeignKey(Site, on_delete=models.CASCADE, null=True)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, null=True, related_name="setpoints")
    value = models.FloatField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["type", "name", "site"], condition=models.Q(device=None), name="one_setpoint_a_site"
            ),
            models.UniqueConstraint(
                fields=["type", "name", "device"], condition=models.Q(site=None), name="one_setpoint_a_device"
            ),
        ]
