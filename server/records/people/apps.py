from django.apps import AppConfig


class People(AppConfig):
    name = "server.records.people"
    label = "access"  # its tables keep the name that they were made by
