from django.apps import AppConfig


class Definitions(AppConfig):
    name = "server.records.definitions"
    label = "definitions"
