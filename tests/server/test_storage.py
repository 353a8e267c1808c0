"""What is stored, and how long it is kept: said by an administrator, ended by keeping house."""

from __future__ import annotations

from typing import Any

import psycopg
import pytest

from server.store.house import House, accept_clock
from tests.server.test_api import send, signed_in
from tests.server.world import START, World, payload, work_off


@pytest.fixture
def own(world: World, engine: Any) -> Any:
    """Readings and alarms of three days ago."""
    world.decoder()
    world.condition()
    world.arrive(*[(n % 2, n * 60.0, payload(9 if 10 < n < 40 else 2)) for n in range(60)])
    work_off(engine)
    with psycopg.connect(world.url, autocommit=True) as connection:
        yield connection


def count(own: psycopg.Connection[Any], table: str) -> int:
    row = own.execute(f"select count(*) from {table}").fetchone()
    assert row is not None
    return int(row[0])


def keep_house(own: psycopg.Connection[Any]) -> None:
    """By the clock on the wall, though the newest message is of three days ago."""
    House().keep(own)
    accept_clock(own)
    House().keep(own)


def test_what_is_stored_and_for_how_long(world: World, own: psycopg.Connection[Any]) -> None:
    own.execute("analyze")
    told = signed_in(world, "viewer").get("/api/v1/storage").json()
    kinds = {one["what"]: one for one in told["kinds"]}
    assert kinds["messages"]["days"] == 90 and kinds["readings"]["days"] == 1000
    assert kinds["messages"]["rows"] == 60 and kinds["messages"]["bytes"] > 8192
    assert {d["day"] for d in kinds["readings"]["by_day"]} == {START.date().isoformat()}
    assert told["database"] > 1_000_000 and told["free"] > 0
    assert {t["type"]: t["days"] for t in told["types"]} == {"gate": None, "pod": None}


def test_readings_of_a_type_end_when_they_are_older_than_it_keeps_them(
    world: World, own: psycopg.Connection[Any]
) -> None:
    admin = signed_in(world, "admin")
    assert count(own, "reading_row") == 60
    keep_house(own)
    assert count(own, "reading_row") == 60, "nothing goes before somebody says so"
    send(admin, "PUT", "storage", {"kept": [{"what": "readings", "type": "gate", "days": 1}]})
    keep_house(own)
    assert count(own, "reading_row") == 60, "these are of another type"
    told = send(admin, "PUT", "storage", {"kept": [{"what": "readings", "type": "pod", "days": 1}]}).json()
    assert {t["type"]: t["days"] for t in told["types"]} == {"gate": 1, "pod": 1}
    keep_house(own)
    assert count(own, "reading_row") == 0 and count(own, "message") == 60 and count(own, "latest") > 0
    send(admin, "PUT", "storage", {"kept": [{"what": "readings", "type": "pod", "days": None}]})
    assert own.execute("select count(*) from kept_for").fetchone() == (1,)


def test_messages_counts_and_the_journal_end(world: World, own: psycopg.Connection[Any]) -> None:
    assert count(own, "alarms_alarm") == 2 and count(own, "activity") > 0
    kept = [{"what": what, "days": 1} for what in ("messages", "counts", "journal")]
    send(signed_in(world, "admin"), "PUT", "storage", {"kept": kept})
    keep_house(own)
    assert [count(own, t) for t in ("message", "activity", "alarms_journalentry", "alarms_alarm")] == [0, 0, 0, 0]
    assert count(own, "reading_row") == 60


def test_an_alarm_that_is_open_stays(world: World, engine: Any, own: psycopg.Connection[Any]) -> None:
    world.arrive((0, 4_000, payload(9)), (0, 4_100, payload(9)))
    work_off(engine)
    send(signed_in(world, "admin"), "PUT", "storage", {"kept": [{"what": "journal", "days": 1}]})
    keep_house(own)
    assert own.execute("select count(*), count(cleared_at) from alarms_alarm").fetchone() == (1, 0)


def test_only_an_administrator_says_so_and_only_what_can_be(world: World, own: psycopg.Connection[Any]) -> None:
    body = {"kept": [{"what": "messages", "days": 30}]}
    assert send(signed_in(world, "engineer"), "PUT", "storage", body).status_code == 403
    admin = signed_in(world, "admin")
    for wrong, code in (
        ({"what": "messages", "days": 0}, 400),
        ({"what": "letters", "days": 3}, 400),
        ({"what": "messages", "type": "pod", "days": 3}, 400),
        ({"what": "readings", "type": "nobody", "days": 3}, 404),
    ):
        assert send(admin, "PUT", "storage", {"kept": [wrong]}).status_code == code, wrong
    assert count(own, "kept_for") == 0
