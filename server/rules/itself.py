"""Oculum as a device of its own: what it reports of itself goes the way of every other message, so that charts, trials
and conditions of every kind work on it.
"""

from __future__ import annotations

from django.db import transaction

from server.records.definitions.models import Definition
from server.records.fleet.models import Device, DeviceType
from server.records.people.models import Person
from server.rules.publishing import publish
from server.rules.refusal import Refused
from server.rules.registering import registry_changed

NAME = "oculum"  # of the type, and of the device
CADENCE_S = 60
DECODER = """decoder oculum for json
  at lag      lag               number  s
  at waiting  waiting           number
  at refused  refused_share     number  %
  at failing  failing_decoders  number
  at disk     disk_free         number  %
  at away     parts_away        number
  at blocked  blocked_outlets   number
  at unsent   unsent_readings   number
"""
CONDITIONS = (
    """condition "Oculum lags behind" priority high
  on oculum
  raise when lag > 60 s held 2 min
  say "messages are taken {lag} after they arrived"
""",
    """condition "a decoder fails" priority medium
  on oculum
  raise when failing_decoders > 0 held 10 min
  say "{failing_decoders} device types have messages that their decoder refuses, {refused_share} of all"
""",
    """condition "Oculum's disk fills" priority high
  on oculum
  raise when disk_free < 10 %
  raise critical when disk_free < 5 %
  say "{disk_free} of the disk is free"
""",
    """condition "a part of Oculum is away" priority high
  on oculum
  raise when parts_away > 0 held 2 min
""",
    """condition "an outlet is blocked" priority medium
  on oculum
  raise when blocked_outlets > 0 held 10 min
  say "{blocked_outlets} outlets do not answer; {unsent_readings} readings wait"
""",
)


def own_device() -> Device | None:
    return Device.objects.filter(name=NAME, type__key=NAME).exclude(phase="retired").first()


def watch_itself(person: Person | None) -> Device:
    """The device with its decoder and conditions. Raises Refused where there is one, or its name is taken."""
    with transaction.atomic():
        if DeviceType.objects.filter(key=NAME).exists() or Device.objects.filter(name=NAME).exists():
            raise Refused("exists", "there is a device or a type of the name `oculum` already", 409)
        own = DeviceType.objects.create(key=NAME, title="Oculum", cadence_s=CADENCE_S)
        device = Device.objects.create(name=NAME, title="Oculum itself", type=own)
        registry_changed(person)
        publish(Definition.objects.create(kind="decoder", name=NAME, type=own), DECODER, person, "to watch itself")
        for text in CONDITIONS:
            name = text.split('"')[1]
            publish(Definition.objects.create(kind="condition", name=name, type=own), text, person, "to watch itself")
    return device
