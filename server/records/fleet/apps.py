from django.apps import AppConfig


class Fleet(AppConfig):
    name = "server.records.fleet"
    label = "fleet"
