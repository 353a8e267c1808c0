"""Rows as they are built from arrays come back from PostgreSQL as the values that went in."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from django.db import connection as django_connection
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Group
from oculum.language.fields import FieldSpec
from server.api.overview.views import health
from server.store.arrivals import topic_pattern
from server.store.columns import Columns, Day, days, pieces
from server.store.kept import Kept
from server.store.meeting import one_of_each
from server.store.readings import Layouts, write_rows
from server.store.rows import build_rows, row_values
from server.store.times import moment
from tests.often import examples
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
    st.lists(cell, min_size=5, max_size=5),
    st.floats(allow_nan=False, allow_infinity=False),
    st.tuples(st.floats(-90, 90), st.floats(-180, 180)),
    st.text(alphabet=st.characters(exclude_categories=["Cs"]), max_size=20),
    st.integers(0, 2**64 - 1),
    st.booleans(),
)


@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
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
            write_rows(
                connection, build_rows(group, REASONS, layout, 3, own, np.arange(count) + 100, own * 0 + START_US)
            )
        (fields,) = connection.execute("select fields from layout where id = %s", (layout,)).fetchone()  # type: ignore[misc]
        found = {
            r[0]: r[1:]
            for r in connection.execute(
                "select message_id - 100, at, nums, texts, missing, version_id from reading_row"
            ).fetchall()
        }
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
        assert connection.execute(
            "select nums[1], message_id from replaced_reading order by message_id"
        ).fetchall() == [(1.0, 1), (2.0, 3)]


@pytest.mark.parametrize("us", [-(10**18), 0, 1, 10**15, 10**18])
def test_moments_are_clamped_to_what_can_be_stored(us: int) -> None:
    assert moment(us).year in range(1, 10_000)


def test_health_counts_every_device_once_an_hour(world: World, engine: Any) -> None:
    """A device counts in an hour as what it was for most of it; who was never heard counts in none."""
    world.decoder()
    world.condition()
    world.arrive(
        *[(0, i * 60, payload(3)) for i in range(60)],
        *[(1, i * 60, payload(3)) for i in range(10)],
        *[(2, i * 60, b"\x00") for i in range(50)],
        (0, 3590, payload(6)),
    )
    work_off(engine)
    found = health(START, 3, 1, START + timedelta(hours=2, minutes=59))
    first, second = found["buckets"][0], found["buckets"][1]
    states = ("reporting", "overdue", "undecodable", "silent")
    assert [first[name] for name in states] == [1, 0, 1, 1]
    assert [second[name] for name in states] == [0, 0, 0, 3]
    assert first["messages"] == 121 and found["devices"] == 5


PAIR = (FieldSpec("n", "number", "V"), FieldSpec("t", "text"))
WIDER = (FieldSpec("t", "text"), FieldSpec("more", "position"), FieldSpec("n", "number", "V"))
message_of = st.tuples(
    st.integers(0, 2),
    st.one_of(st.none(), st.integers(0, 2)),
    st.one_of(st.none(), st.sampled_from(["a", "b"])),
    st.booleans(),
    st.sampled_from([PAIR, WIDER]),
).filter(lambda m: m[1] is not None or m[2] is not None)


@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(messages=st.lists(message_of, min_size=1, max_size=8))
def test_each_field_of_a_key_keeps_its_newest_arrival(instance: Any, messages: list) -> None:
    """(time, number, text, whether a batch ends here, fields of its row): what another message says of another field
    does not take a value away, and no field of a moment stands twice.
    """
    with psycopg.connect(instance.database_url(), autocommit=True) as connection:
        connection.execute("truncate reading_row, replaced_reading")
        layouts, start = Layouts(), 0
        ends = [i + 1 for i, m in enumerate(messages) if m[3] or m[4] != (messages[i + 1 :] or messages)[0][4]]
        for end in sorted({*ends, len(messages)}):
            part = messages[start:end]
            fields = part[0][4]
            columns = {
                "n": Column(
                    np.array([float(m[1] or 0) for m in part]), np.array([m[1] is not None for m in part], np.int16)
                ),
                "t": Column(
                    np.array([m[2] or "" for m in part], object), np.array([m[2] is not None for m in part], np.int16)
                ),
                "more": Column(np.zeros((len(part), 2)), np.zeros(len(part), np.int16)),
            }
            columns = {spec.name: columns[spec.name] for spec in fields}
            group = Group(fields, np.arange(len(part)), START_US + np.array([m[0] for m in part], np.int64), columns)
            own = np.full(len(part), 7, np.int64)
            layout = layouts.number(connection, fields)
            rows = build_rows(group, [], layout, 3, own, np.arange(start, end) + 100, own * 0 + START_US)
            with connection.transaction():
                write_rows(connection, rows)
                one_of_each(connection, layouts, [rows])
            start = end
        found: dict[int, tuple[float | None, str | None]] = {}
        for at, nums, (text,) in connection.execute("select at, nums, texts from reading_row").fetchall():
            key = (at - moment(START_US)).microseconds
            number, other = found.get(key, (None, None))
            assert (number is None or nums[-1] is None) and (other is None or text is None)
            found[key] = (nums[-1] if number is None else number, text if other is None else other)
        record = connection.execute("select count(*) from replaced_reading").fetchone()
    wanted: dict[int, tuple[float | None, str | None]] = {}
    for at, number, text, *_ in messages:
        old = wanted.get(at, (None, None))
        wanted[at] = (float(number) if number is not None else old[0], text if text is not None else old[1])
    assert found == wanted
    if len({m[0] for m in messages}) == len(messages):
        assert record == (0,)


def test_records_of_one_pack_make_one_row(instance: Any) -> None:
    """Elements of a message that stand at one time and speak of different fields."""
    columns = {
        "n": Column(np.array([1.0, 0.0, 3.0, 4.0]), np.array([1, 0, 1, 1], np.int16)),
        "t": Column(np.array(["", "b", "", ""], object), np.array([0, 1, 0, 0], np.int16)),
    }
    group = Group(PAIR, np.array([0, 0, 1, 1]), START_US + np.array([0, 0, 5, 5]), columns)
    rows = build_rows(group, [], 1, 1, np.array([7, 7]), np.array([100, 101]), np.array([START_US] * 2))
    assert (rows.at - START_US).tolist() == [0, 5, 5], "what is told twice stays apart, for the store to put on record"


def test_days_that_are_over_are_read_once_and_give_the_same(world: World, engine: Any) -> None:
    """Three days by their pieces, beside the rows as they are; what was measured before the span is left out."""
    world.decoder()
    world.arrive(*((n % 2, 3600 * n - 40_000, payload(n % 7)) for n in range(60)))
    work_off(engine)
    start, end = START - timedelta(hours=7), START + timedelta(days=2)
    spec = FieldSpec("level", "number", "m")

    def read() -> list[tuple[int, datetime, float]]:
        url = world.instance.database_url()
        parts = [p.readings for p in pieces(url, world.type.pk, start, end, [spec], False)]
        rows = [zip(p.device.tolist(), p.at.tolist(), p.values["level"].tolist(), strict=True) for p in parts]
        return [(device, moment(at), value) for part in rows for device, at, value in part]

    stored = world.ask(
        "select device_id, at, nums[1] from reading_row where received_at >= %s and received_at < %s"
        " order by message_id",
        start,
        end,
    )
    assert 40 < len(stored) < 60 and read() == stored
    with psycopg.connect(world.url) as connection:
        connection.execute("delete from reading_row")
    kept = read()
    assert 20 < len(kept) <= len(stored) and set(kept) <= set(stored), "whole days that are over are kept"
    days.forget()
    assert read() == [] and days.size == 0


def test_what_is_kept_of_days_is_bounded() -> None:
    def day(many: int) -> tuple[Columns, None]:
        some = np.zeros(many, np.int64)
        return Columns(some, some, some, some, {}), None

    kept: Kept[Day] = Kept(4 * 8 * 100, 60)
    for name in "abc":
        kept.put(name, day(40), day(40)[0].size())
    assert [kept.get(name) is not None for name in "abc"] == [False, True, True], "the oldest one is gone"
    kept.get("b")
    kept.put("d", day(50), day(50)[0].size())
    assert [kept.get(name) is not None for name in "bcd"] == [True, False, True]
    kept.put("e", day(101), day(101)[0].size())
    assert kept.get("e") is None and kept.size == 4 * 8 * 90
    gone: Kept[Day] = Kept(10**6, -1)
    gone.put("a", day(1), day(1)[0].size())
    assert gone.get("a") is None and gone.size == 0


def matches(levels: list[str], topic: list[str]) -> bool:
    """Whether a filter takes a topic, level by level (MQTT 5.0, 4.7.1)."""
    if levels[:1] == ["#"]:
        return True
    if not levels or not topic:
        return not levels and not topic
    return levels[0] in ("+", topic[0]) and matches(levels[1:], topic[1:])


LEVEL = st.text(st.sampled_from("ab.*[$-é "), max_size=3)


@settings(max_examples=examples(150), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.one_of(LEVEL, st.just("+")), min_size=1, max_size=4),
    st.booleans(),
    st.lists(st.lists(LEVEL, min_size=1, max_size=4), min_size=1, max_size=6),
)
def test_a_filter_of_topics_takes_what_mqtt_says(
    world: World, levels: list[str], open_: bool, topics: list[list[str]]
) -> None:
    """A `#` stands for the level above it, too."""
    asked = [*levels, "#"] if open_ else levels
    topics += [levels, [*levels, "a"], levels[:-1] or ["a"]]
    with django_connection.cursor() as cursor:
        cursor.execute(
            "select t ~ %s from unnest(%s::text[]) t", [topic_pattern("/".join(asked)), ["/".join(t) for t in topics]]
        )
        found = cursor.fetchall()
    assert [row[0] for row in found] == [matches(asked, topic) for topic in topics], asked
