from django.apps import AppConfig


class Store(AppConfig):
    name = "server.store"
    label = "store"
