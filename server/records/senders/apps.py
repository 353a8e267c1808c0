from django.apps import AppConfig


class Senders(AppConfig):
    name = "server.records.senders"
    label = "intake"  # its tables keep the name that they were made by
