"""Real PostgreSQL, real broker; every test begins with empty tables."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import django
import pytest
from django.contrib.auth.hashers import Argon2PasswordHasher

from tests.instance import new_environment, running_services

# Models are imported when tests are collected, and settings read with them.
FOLDER = new_environment("test")
django.setup()
# As dear as a password is by intent, most tests would do little else than sign in.
Argon2PasswordHasher.time_cost, Argon2PasswordHasher.memory_cost, Argon2PasswordHasher.parallelism = 1, 64, 1

# Deletes where something is, and begins the numbers anew: to truncate forty tables takes as long as most tests.
EMPTY = """
do $$ declare t record; filled boolean; begin
    set local session_replication_role = replica;
    for t in select oid::regclass as name from pg_class where relkind in ('r', 'p') and not relispartition
        and relnamespace = 'public'::regnamespace and relname not in
        ('django_migrations', 'django_content_type', 'auth_permission', 'broker_accounts')
    loop
        execute format('select exists (select from %s)', t.name) into filled;
        if filled then execute format('delete from %s', t.name); end if;
    end loop;
    perform setval(s.oid::regclass, 1, false) from pg_class s join pg_depend d on d.objid = s.oid
        join pg_sequences q on q.sequencename = s.relname
        where s.relkind = 'S' and d.deptype in ('a', 'i') and q.last_value is not null;
end $$
"""


@pytest.fixture(scope="session")
def services() -> Iterator[Any]:
    with running_services(FOLDER) as instance:
        yield instance


@pytest.fixture
def instance(services: Any) -> Iterator[Any]:
    """The running services, their tables emptied."""
    from django.db import connection

    from server.api.places.crossings import recent
    from server.store.columns import days

    days.forget()
    recent.until = 0.0
    with connection.cursor() as cursor:
        cursor.execute(EMPTY)
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
    made.close()


@pytest.fixture
def again(instance: Any) -> Iterator[Any]:
    from server.again.worker import Again

    made = Again(instance.database_url())
    yield made
    made.close()
