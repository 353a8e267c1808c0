"""Rows as they are built from arrays come back from PostgreSQL as the values that went in."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Group
from oculum.language.plan import FieldSpec
from server.engine.rows import build_rows, row_values
from server.engine.store import Layouts, moment, write_rows
from server.history.api import health
from tests.server.world import START, World, payload, work_off

FIELDS = (
    FieldSpec("n", "number", "V"),
    FieldSpec("p", "position"),
    FieldSpec("t", "text"),
    FieldSpec("w", "integer", "1", (), True),
    FieldSpec("f", "flag"),
)
REASONS = ["sensor fault", 'quote " and \\ and é']
START_US = int(START.timestamp() * 1e6)

cell = st.sampled_from([0, 1, 1, 1, 2, 3])
row_of = st.tuples(
    st.lists(cell, min_size=5, max_size=5), st.floats(allow_nan=False, allow_infinity=False), st.tuples(st.floats(-90, 90), st.floats(-180, 180)),
    st.text(alphabet=st.characters(blacklist_categories=("Cs",)), max_size=20), st.integers(0, 2**64 - 1), st.booleans(),
)  # fmt: skip


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows=st.lists(row_of, min_size=1, max_size=12))
def test_every_kind_survives_the_store(instance: Any, rows: list) -> None:
    count = len(rows)
    states = np.array([r[0] for r in rows], np.int16)
    texts = np.array([r[3] for r in rows] + [None], object)[:count]
    columns = {
        "n": Column(np.array([r[1] for r in rows]), states[:, 0]),
        "p": Column(np.array([r[2] for r in rows]), states[:, 1]),
        "t": Column(texts, states[:, 2]),
        "w": Column(np.array([r[4] for r in rows], np.uint64), states[:, 3]),
        "f": Column(np.array([float(r[5]) for r in rows]), states[:, 4]),
    }
    group = Group(FIELDS, np.arange(count), START_US + np.arange(count, dtype=np.int64), columns)
    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        connection.execute("truncate reading_row")
        layout = Layouts().number(connection, FIELDS)
        own = np.full(count, 7, np.int64)
        with connection.transaction():
            write_rows(connection, build_rows(group, REASONS, layout, 3, own, np.arange(count) + 100, own * 0 + START_US))
        (fields,) = connection.execute("select fields from layout where id = %s", (layout,)).fetchone()  # type: ignore[misc]
        found = {r[0]: r[1:] for r in connection.execute("select message_id - 100, at, nums, texts, missing, version_id from reading_row").fetchall()}
    for i, (state, n, p, t, w, f) in enumerate(rows):
        given_values = {"n": n, "p": list(p), "t": t.replace("\x00", "\N{SYMBOL FOR NULL}"), "w": str(w), "f": float(f)}
        wanted = {name: value for (name, value), s in zip(given_values.items(), state, strict=True) if s == 1}
        gone = {name: REASONS[s - 2] for name, s in zip(given_values, state, strict=True) if s >= 2}
        if not any(state):
            assert i not in found, "a row of nothing is not stored"
            continue
        at, nums, stored_texts, missing, version = found[i]
        assert at == START + timedelta(microseconds=i) and version == 3
        assert row_values(fields, nums, stored_texts) == wanted
        assert (missing or {}) == gone


def test_a_keys_history_is_replayed_in_order(instance: Any) -> None:
    """Stored 1; then 1, 2, 2, 1 arrive at once: nothing, replaced, nothing, replaced."""

    def rows(values: list[float], first: int) -> Any:
        count = len(values)
        columns = {"n": Column(np.array(values), np.ones(count, np.int16))}
        group = Group(FIELDS[:1], np.arange(count), np.full(count, START_US, np.int64), columns)
        return build_rows(group, [], layout, 1, np.full(count, 7), np.arange(count) + first, np.full(count, START_US))

    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        layout = Layouts().number(connection, FIELDS[:1])
        for values, first in (([1.0], 1), ([1.0, 2.0, 2.0, 1.0], 2)):
            with connection.transaction():
                write_rows(connection, rows(values, first))
        assert connection.execute("select nums[1], message_id from reading_row").fetchall() == [(1.0, 5)]
        assert connection.execute("select nums[1], message_id from replaced_reading order by message_id").fetchall() == [(1.0, 1), (2.0, 3)]


@pytest.mark.parametrize("us", [-(10**18), 0, 1, 10**15, 10**18])
def test_moments_are_clamped_to_what_can_be_stored(us: int) -> None:
    assert moment(us).year in range(1, 10_000)


def test_health_counts_every_device_once_an_hour(world: World, engine: Any) -> None:
    """Ten messages of sixty make a device overdue, none silent, refused ones undecodable; the figures add up."""
    world.decoder()
    world.condition()
    world.arrive(*[(0, i * 60, payload(3)) for i in range(60)], *[(1, i * 60, payload(3)) for i in range(10)], *[(2, i * 60, b"\x00") for i in range(50)], (0, 3590, payload(6)))
    work_off(engine)
    with psycopg.connect(world.url) as connection:
        connection.execute("update fleet_device set registered_at = %s", (START - timedelta(days=1),))
    found = health(START, 3, 1, START + timedelta(hours=2, minutes=59))
    first, second = found["buckets"][0], found["buckets"][1]
    # pod-3 never sent; the gateway has no cadence, so that its silence says nothing.
    assert (first["reporting"], first["overdue"], first["undecodable"], first["silent"]) == (2, 1, 1, 1)
    assert (second["reporting"], second["silent"]) == (1, 4)
    assert first["messages"] == 121 and found["devices"] == 5
