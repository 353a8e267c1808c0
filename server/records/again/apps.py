from django.apps import AppConfig


class Again(AppConfig):
    name = "server.records.again"
    label = "history"  # its tables keep the name that they were made by
