"""Work on stored messages that goes on in the background."""

from __future__ import annotations

from django.db import models

from server.records.fleet.models import DeviceType
from server.records.people.models import Person


class DecodeAgain(models.Model):
    """Messages of a type, run once more through the decoder in force: the refused ones, or all of a span of arrival."""

    type = models.ForeignKey(DeviceType, on_delete=models.CASCADE)
    person = models.ForeignKey(Person, on_delete=models.SET_NULL, null=True)
    asked_at = models.DateTimeField(auto_now_add=True)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    decoded = models.PositiveIntegerField(default=0)
    after_id = models.BigIntegerField(default=0)
    state = models.CharField(max_length=12, default="waiting")  # waiting, running, paused, done, cancelled, failed
    reason = models.CharField(max_length=300, blank=True)
    by = models.CharField(max_length=16, blank=True)  # the versions that read the messages; see the registry
    trying = models.PositiveIntegerField(null=True)  # messages in hand, for who comes after one that died of them
    start = models.DateTimeField(null=True)
    end = models.DateTimeField(null=True)  # with `start`: all messages of the span, not the refused ones only
