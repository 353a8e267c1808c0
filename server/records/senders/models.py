"""Senders that are not devices yet. Messages themselves live in tables of their own (see the migration)."""

from __future__ import annotations

from django.db import models

from server.records.fleet.models import Credential


class UnknownSender(models.Model):
    """Somebody who speaks through a gateway or an onboarding credential under a name that no device has."""

    name = models.CharField(max_length=63)
    through = models.ForeignKey(Credential, on_delete=models.CASCADE)
    first_at = models.DateTimeField(auto_now_add=True)
    last_at = models.DateTimeField(auto_now_add=True)
    messages = models.PositiveIntegerField(default=0)
    turned_away = models.PositiveIntegerField(default=0)
    adopted_as = models.ForeignKey("fleet.Device", on_delete=models.SET_NULL, null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["through", "name"], name="one_unknown_a_name")]
