from django.apps import AppConfig


class Telling(AppConfig):
    name = "server.records.telling"
    label = "telling"
