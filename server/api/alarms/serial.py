"""Alarms and what happened to them, as the API gives them."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone
from rest_framework import serializers
from rest_framework.request import Request

from server.records.alarms.models import Alarm, JournalEntry
from server.requests.authentication import person_of
from server.rules.plans import sentence

UNDO = timedelta(minutes=10)  # how long an acknowledgement can be given back by who gave it


def titled(alarm: Alarm) -> str:
    """What an alarm is on, as people call it."""
    if alarm.device is not None:
        return alarm.device.title
    return alarm.site.title if alarm.site is not None else "?"


class AlarmOut(serializers.ModelSerializer):
    condition = serializers.CharField(source="condition.name")
    definition = serializers.IntegerField(source="condition_id")
    version = serializers.IntegerField(source="version.number")
    device = serializers.SerializerMethodField(help_text="its name; nothing where the alarm is on a site")
    device_title = serializers.SerializerMethodField(help_text="of the device, or of the site that the alarm is on")
    site_title = serializers.SerializerMethodField()
    caretaker = serializers.SerializerMethodField(help_text="who looks after the place, and when somebody is there")
    acknowledged_by = serializers.SerializerMethodField()
    assigned_to = serializers.SerializerMethodField()
    undo_until = serializers.SerializerMethodField(help_text="until when the asker can give it back")
    notes = serializers.IntegerField(help_text="how many there are")
    message_id = serializers.CharField(allow_null=True)
    shelved_until = serializers.DateTimeField(allow_null=True)
    shelved_by = serializers.CharField(allow_null=True)
    shelved_why = serializers.CharField(allow_null=True)

    class Meta:
        model = Alarm
        fields = [
            "id",
            "condition",
            "definition",
            "version",
            "device",
            "device_title",
            "site_title",
            "caretaker",
            "priority",
            "text",
            "field",
            "value",
            "limit",
            "unit",
            "raised_at",
            "cleared_at",
            "acknowledged_at",
            "acknowledged_by",
            "assigned_to",
            "undo_until",
            "shelved_until",
            "shelved_by",
            "shelved_why",
            "suppressed",
            "notes",
            "message_id",
        ]

    def get_device(self, alarm: Alarm) -> str | None:
        return alarm.device.name if alarm.device else None

    def get_device_title(self, alarm: Alarm) -> str:
        return titled(alarm)

    def get_site_title(self, alarm: Alarm) -> str | None:
        return alarm.device.site.title if alarm.device and alarm.device.site else None

    def get_caretaker(self, alarm: Alarm) -> str:
        site = alarm.site or (alarm.device.site if alarm.device else None)
        if site is None:
            return ""
        there = f"somebody is there {site.attended}" if site.attended else ""
        return "; ".join(text for text in (site.caretaker, there) if text)

    def get_acknowledged_by(self, alarm: Alarm) -> str | None:
        return alarm.acknowledged_by.called if alarm.acknowledged_by else None

    def get_assigned_to(self, alarm: Alarm) -> str | None:
        return alarm.assigned_to.called if alarm.assigned_to else None

    def get_undo_until(self, alarm: Alarm) -> datetime | None:
        if alarm.acknowledged_at is None or alarm.acknowledged_by_id != self.context["person"].pk:
            return None
        until = alarm.acknowledged_at + UNDO
        return until if until > timezone.now() else None


class EntryOut(serializers.ModelSerializer):
    who = serializers.SerializerMethodField()
    device = serializers.SerializerMethodField()
    device_title = serializers.SerializerMethodField()
    condition = serializers.CharField(source="alarm.condition.name")
    priority = serializers.SerializerMethodField(help_text="from then on")
    alarm = serializers.IntegerField(source="alarm_id")
    text = serializers.CharField(source="alarm.text")
    unit = serializers.CharField(source="alarm.unit")
    message_id = serializers.CharField(allow_null=True)
    version = serializers.SerializerMethodField()
    sentence = serializers.SerializerMethodField(help_text="what that version of the condition does, in plain words")

    class Meta:
        model = JournalEntry
        fields = [
            "id",
            "what",
            "at",
            "learned_at",
            "who",
            "note",
            "value",
            "limit",
            "unit",
            "device",
            "device_title",
            "condition",
            "priority",
            "alarm",
            "text",
            "message_id",
            "version",
            "sentence",
        ]

    def get_device(self, entry: JournalEntry) -> str | None:
        return entry.alarm.device.name if entry.alarm.device else None

    def get_device_title(self, entry: JournalEntry) -> str:
        return titled(entry.alarm)

    def get_priority(self, entry: JournalEntry) -> str:
        return entry.priority or entry.alarm.priority

    def get_who(self, entry: JournalEntry) -> str | None:
        return entry.person.called if entry.person else None

    def get_version(self, entry: JournalEntry) -> int | None:
        return entry.version.number if entry.version else None

    def get_sentence(self, entry: JournalEntry) -> str | None:
        condition = entry.alarm.condition
        return sentence(condition.kind, entry.version, condition.type.key) if entry.version else None


def answered(request: Request, found: Any, many: bool = False) -> Any:
    return AlarmOut(found, many=many, context={"person": person_of(request)}).data
