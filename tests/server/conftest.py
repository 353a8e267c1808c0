"""Real PostgreSQL, real broker; every test begins with empty tables."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import django
import pytest

from tests.instance import new_environment, running_services

# Models are imported when tests are collected, and settings read with them.
FOLDER = new_environment("test")
django.setup()


@pytest.fixture(scope="session")
def services() -> Iterator[Any]:
    with running_services(FOLDER) as instance:
        yield instance


@pytest.fixture
def instance(services: Any) -> Iterator[Any]:
    """The running services, their tables emptied."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute(
            "select string_agg(format('%I', relname), ', ') from pg_class where relkind in ('r', 'p') and"
            " relnamespace = 'public'::regnamespace"
            " and not relispartition and relname not in ('django_migrations', 'django_content_type',"
            " 'auth_permission', 'broker_accounts')"
        )
        tables = cursor.fetchone()[0]
        cursor.execute(f"truncate {tables} restart identity cascade")
        cursor.execute("update broker_accounts set wanted = wanted + 1")
        cursor.execute("select message_day((now() at time zone 'UTC')::date + d) from generate_series(-6, 3) d")
    yield services
    connection.close()


@pytest.fixture
def world(instance: Any) -> Any:
    from tests.server.world import World

    return World(instance)


@pytest.fixture
def engine(instance: Any) -> Iterator[Any]:
    from server.engine.worker import Engine

    made = Engine(instance.database_url())
    yield made
    made.connection.close()
    made.listening.close()
