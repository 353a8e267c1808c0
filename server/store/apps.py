from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from django.apps import AppConfig, apps
from django.db import connections
from django.db.backends.signals import connection_created
from django.db.models.signals import post_migrate, pre_migrate
from psycopg.types.datetime import TimestamptzLoader

from server.store import as_of


class MomentLoader(TimestamptzLoader):
    """Moments as Django reads them, all of them in UTC, twenty times as quickly: ten thousand are one screen."""

    timezone = UTC

    def load(self, data: Any) -> datetime:
        try:
            return datetime.fromisoformat(bytes(data).decode())
        except ValueError:  # before the year 1, after 9999, or in a session of another zone: said in words
            return super().load(data).replace(tzinfo=UTC)


def read_quickly(connection: Any, **_: Any) -> None:
    if connection.vendor == "postgresql" and connection.timezone == UTC:
        connection.connection.adapters.register_loader("timestamptz", MomentLoader)


def free(using: str, **_: Any) -> None:
    with connections[using].cursor() as cursor:
        as_of.drop(cursor)


def see_the_past(using: str, **_: Any) -> None:
    with connections[using].cursor() as cursor:
        as_of.make(cursor)


class Store(AppConfig):
    name = "server.store"
    label = "store"

    def ready(self) -> None:
        connection_created.connect(read_quickly, dispatch_uid="moments")
        once = apps.get_app_config("fleet")  # what has no models is not told of migrations
        pre_migrate.connect(free, sender=once, dispatch_uid="as of then")
        post_migrate.connect(see_the_past, sender=once, dispatch_uid="as of then")
