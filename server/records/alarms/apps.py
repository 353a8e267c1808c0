from django.apps import AppConfig


class Alarms(AppConfig):
    name = "server.records.alarms"
    label = "alarms"
