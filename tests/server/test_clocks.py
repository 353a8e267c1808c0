"""Clocks that leap, standstills, and a second engine: nothing is deleted, frozen, or counted twice because of them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from server.store.house import LEAP, House, KeptClock, accept_clock, followed, kept_clock
from tests.server.test_api import V1, signed_in
from tests.server.world import CONDITION, START, World, payload, spans_of, work_off

DAY = timedelta(days=1)


def arrive_at(world: World, when: datetime, data: bytes, pod: int = 0) -> None:
    with psycopg.connect(world.url) as connection:
        connection.execute("select message_day(%s)", (when.date(),))
        connection.execute(
            "insert into message (received_at, device_id, channel, payload) values (%s, %s, 3, %s)",
            (when, world.pods[pod].pk, data),
        )


@pytest.fixture
def own(world: World) -> Iterator[psycopg.Connection[Any]]:
    with psycopg.connect(world.url, autocommit=True) as connection:
        yield connection


# retention ------------------------------------------------------------------------
@given(st.lists(st.tuples(st.integers(0, 600), st.integers(-400 * 86_400, 400 * 86_400)), max_size=30))
def test_the_kept_clock_never_follows_a_leap(steps: list[tuple[int, int]]) -> None:
    """Whatever the wall shows: the clock is never ahead of it by more than has passed, and never leaps ahead itself."""
    kept = KeptClock(datetime(2026, 1, 1, tzinfo=UTC))
    for passed, wall in steps:
        elapsed, shown = timedelta(seconds=passed), datetime(2026, 1, 1, tzinfo=UTC) + timedelta(seconds=wall)
        after = followed(kept, shown, elapsed)
        assert after.trusted <= kept.trusted + elapsed + LEAP and after.trusted <= max(shown, kept.trusted + elapsed)
        assert (after.leapt_at is not None) == (shown > kept.trusted + elapsed + LEAP)
        kept = after


def test_nothing_is_deleted_because_the_clock_leapt_until_somebody_accepts_it(
    world: World, own: psycopg.Connection[Any]
) -> None:
    now = datetime.now(UTC)
    arrive_at(world, now - 95 * DAY, payload(1))
    for age in (80, 50, 20):
        arrive_at(world, now - age * DAY, payload(2))
    # The clock stood a hundred days earlier when the engine ran last, as far as anybody can tell.
    own.execute("insert into kept_clock (trusted) values (%s)", (now - 100 * DAY,))
    House().keep(own)
    assert own.execute("select count(*) from message").fetchone() == (4,)
    kept = kept_clock(own)
    assert kept is not None and kept.leapt_from == now - 100 * DAY and kept.trusted < now - 99 * DAY
    accept_clock(own)
    House().keep(own)
    assert own.execute("select count(*) from message").fetchone() == (3,)
    kept = kept_clock(own)
    assert kept is not None and kept.leapt_at is None and abs(kept.trusted - now) < timedelta(minutes=5)


def test_a_first_start_with_a_clock_far_ahead_deletes_nothing(world: World, own: psycopg.Connection[Any]) -> None:
    """There is no kept clock yet: the newest arrival says when it is."""
    for age in (250, 200, 190):
        arrive_at(world, datetime.now(UTC) - age * DAY, payload(1))
    House().keep(own)
    assert own.execute("select count(*) from message").fetchone() == (3,)


def test_what_is_older_than_its_retention_goes(world: World, own: psycopg.Connection[Any]) -> None:
    now = datetime.now(UTC)
    for age in (200, 91, 60, 0):
        arrive_at(world, now - age * DAY, payload(1))
    House().keep(own)
    assert own.execute("select count(*) from message").fetchone() == (2,)


def test_a_reader_does_not_hold_house_keeping_up(world: World, own: psycopg.Connection[Any]) -> None:
    arrive_at(world, datetime.now(UTC) - 200 * DAY, payload(1))
    arrive_at(world, datetime.now(UTC), payload(1))
    with psycopg.connect(world.url) as reader:
        reader.execute("select count(*) from message")
        House().keep(own)
        assert own.execute("select count(*) from message").fetchone() == (2,)
    House().keep(own)
    assert own.execute("select count(*) from message").fetchone() == (1,)


# standstills ------------------------------------------------------------------------
def test_days_are_made_before_rows_arrive_however_long_nobody_kept_house(world: World, instance: Any) -> None:
    import asyncio

    from server.intake.inbox import Arrival, Inbox, Outcome
    from server.intake.senders import Sender, Source
    from server.store.messages import HTTP

    with psycopg.connect(world.url) as connection:
        for (name,) in connection.execute(
            "select inhrelid::regclass::text from pg_inherits where inhparent = 'message'::regclass"
        ):
            connection.execute(f"drop table {name}")
    source = Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None)

    async def go() -> list[Outcome]:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000)
        try:
            return await inbox.write([Arrival(source, HTTP, "", payload(n)) for n in range(3)])
        finally:
            await inbox.disconnect()

    assert asyncio.run(go()) == [Outcome.TAKEN] * 3
    days = world.ask("select count(*) from pg_inherits where inhparent = 'message'::regclass")
    assert days == [(3,)], "the day and the two after it"


def test_the_engine_goes_on_after_days_of_standstill(world: World, engine: Any, own: psycopg.Connection[Any]) -> None:
    world.decoder()
    for day in range(-3, 1):
        arrive_at(world, datetime.now(UTC) + day * DAY, payload(day + 4))
    House().keep(own)
    work_off(engine)
    assert world.ask("select count(*) from reading_row") == [(4,)]


# arrivals by a wrong clock ------------------------------------------------------------
def test_a_message_by_a_clock_far_ahead_freezes_neither_values_nor_alarms(world: World, engine: Any) -> None:
    world.decoder()
    world.condition(CONDITION.replace(" held 60 s", "").replace(" deadband 1 m", ""))
    world.arrive((0, 0, payload(1)))
    arrive_at(world, START + 100 * DAY, payload(2))
    work_off(engine)
    world.arrive((0, 60, payload(9)), (0, 120, payload(3)))
    work_off(engine)
    ((level, received),) = world.ask("select (fields->'level'->>0)::float, received_at from latest")
    assert (level, received) == (3.0, START + timedelta(seconds=120))
    journal = world.ask("select what, extract(epoch from at - %s)::int from alarms_journalentry order by id", START)
    assert journal == [("raised", 60), ("cleared", 120)]


def test_delays_that_began_by_a_clock_far_ahead_begin_again(world: World, engine: Any) -> None:
    world.decoder()
    world.condition()
    arrive_at(world, START + 100 * DAY, payload(9))
    work_off(engine)
    world.arrive((0, 0, payload(9)), (0, 61, payload(9)))
    work_off(engine)
    journal = world.ask("select what, extract(epoch from at - %s)::int from alarms_journalentry", START)
    assert journal == [("raised", 60)]


def test_any_cutting_gives_the_same_also_where_the_clock_goes_back(world: World, engine: Any) -> None:
    world.decoder()
    world.condition()
    for n, hours in enumerate((0, 1, 30, 31, 2, 3, 3.01, 90, 4)):
        arrive_at(world, START + timedelta(hours=hours), payload(9 if n % 3 else 1), pod=n % 2)
    found = []
    for size in (100, 1, 4):
        with psycopg.connect(world.url) as connection:
            for table in (
                "reading_row",
                "refused",
                "latest",
                "activity",
                "alarms_journalentry",
                "alarms_alarm",
                "engine_memory",
                "engine_cursor",
                "replaced_reading",
            ):
                connection.execute(f"delete from {table}")
        engine.take_over()
        work_off(engine, size)
        found.append(world.everything())
    assert found[0]["journal"] and found[0] == found[1] == found[2]


def test_the_state_of_a_device_that_was_heard_by_a_clock_far_ahead_is_not_that_it_reports(world: World) -> None:
    from server.rules.states import STATES, standing

    ahead = np.array([100 * 86_400, 30]) * 1_000_000
    found = standing(ahead, np.zeros(2, bool), np.full(2, 60), 0)
    assert [STATES[k] for k in found] == ["overdue", "reporting"]


def test_a_trial_of_a_condition_equals_the_engine_where_the_clock_went_back(world: World, engine: Any) -> None:
    from server.rules.publishing import check
    from server.trials.conditions import condition_trial

    world.decoder()
    text = CONDITION.replace(" held 60 s", "").replace(" deadband 1 m", "")
    world.condition(text)
    for n, hours in enumerate((0, 1, 20, 21, 2, 3, 4)):
        arrive_at(world, START + timedelta(hours=hours), payload(9 if n % 2 else 1))
    work_off(engine)
    plan, _ = check("condition", text, world.type)
    *_, last = condition_trial(plan, world.type, START - DAY, START + DAY)  # type: ignore[arg-type]
    found = last["result"]
    live = world.ask("select raised_at, cleared_at from alarms_alarm")
    assert len(live) > 1 and {(s["raised_at"], s["cleared_at"]) for s in spans_of(found)} == set(live)


# two engines ------------------------------------------------------------------------
def test_an_engine_that_was_taken_over_writes_nothing_any_more(world: World, engine: Any) -> None:
    """The lock of the first is gone with its connection's server side; it does not know, and works on."""
    from server.engine.worker import Engine
    from server.store.readings import Fenced

    world.decoder()
    work_off(engine)
    engine.connection.execute("select pg_advisory_unlock_all()")
    second = Engine(world.url)
    try:
        world.arrive((0, 0, payload(1)), (0, 1, payload(2)))
        with pytest.raises(Fenced):
            engine.step()
        assert world.ask("select count(*) from reading_row") == [(0,)]
        work_off(second)
        with pytest.raises(Fenced):
            engine.step()
        assert world.ask("select sum(messages) from activity") == [(2,)]
        assert world.ask("select messages from engine_cursor") == [(2,)]
    finally:
        second.close()


def test_a_condition_that_cannot_be_evaluated_is_left_out_and_readings_go_on(
    world: World, engine: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    from oculum.alarms.bank import Bank

    world.decoder()
    world.condition()

    def failing(*_: Any) -> Any:
        raise ZeroDivisionError("a fault of the evaluation")

    monkeypatch.setattr(Bank, "_looked", failing)
    world.arrive(*[(0, i, payload(i)) for i in range(5)])
    work_off(engine)
    assert world.ask("select count(*), (select count(*) from refused) from reading_row") == [(5, 0)]


def test_status_tells_what_waits(world: World, engine: Any) -> None:
    from server.runner.health import health

    world.decoder()
    world.arrive(*[(0, i, payload(i)) for i in range(7)])
    found = health(world.instance).stream
    assert found.waiting == 7 and found.oldest_s is not None and found.oldest_s > 86_400
    work_off(engine)
    found = health(world.instance).stream
    assert (found.waiting, found.oldest_s, found.taken) == (0, None, 7)
    assert signed_in(world, "viewer").get(V1 + "overview").json()["engine_behind"] == 0
