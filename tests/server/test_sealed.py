"""Days that are over are sealed: whoever reads is told the same, what comes late is taken in, and nothing is lost."""

from __future__ import annotations

import threading
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from django.db import connection
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Group
from oculum.language.fields import FieldSpec
from server.records.again.models import DecodeAgain
from server.store.columns import days, pieces
from server.store.keeping import READINGS, end_readings
from server.store.past import stored_of
from server.store.positions import newest_fixes, track_of
from server.store.readings import Layouts, newest_stored, write_rows
from server.store.rows import COLUMNS, build_rows
from server.store.sealed import AT_ONCE, BEHIND, BUSY, Sealer, open_for
from server.store.series import Place, daily_medians, read_rows, read_series, values_before
from server.store.times import us
from server.store.values import value_at
from tests.instance import until
from tests.often import examples
from tests.server.world import DECODER, START, World, decode_again, own_connection, payload, work_off

FIELDS = (
    FieldSpec("level", "number", "m"),
    FieldSpec("place", "position"),
    FieldSpec("said", "text"),
    FieldSpec("count", "integer", "1", (), True),
)
NARROW = (FieldSpec("level", "number", "m"), FieldSpec("count", "integer", "1"))
START_US = us(START)
HOUR_US = 3_600_000_000
LATER = START + timedelta(days=40)


def seal(world: World, clock: datetime = LATER) -> int:
    """Seals all that is over at a moment; how many rows are sealed."""
    own = own_connection(world.url)
    was = own.execute("select clock from engine_cursor").fetchone()
    set_clock = (
        "insert into engine_cursor (share, shares, id, clock) values (0, 1, 0, %s) on conflict (share) do update"
        " set clock = excluded.clock"
    )
    own.execute(set_clock, (clock,))
    sealer = Sealer()
    while sealer.step(own):
        pass
    assert not sealer.unable
    if was is not None:
        own.execute(set_clock, was)
    days.forget()
    return int(world.ask("select coalesce(sum(rows), 0) from reading_sealed")[0][0])


def opened(world: World) -> list[tuple]:
    """All rows, with whatever is sealed opened."""
    with world.transaction() as own:
        keys = own.execute("select device_id, (day - date '1970-01-01') * 86400000000 from reading_sealed").fetchall()
        open_for(own, *np.array(keys, np.int64).reshape(-1, 2).T)
        return own.execute(f"select {COLUMNS} from reading_row order by 1, 2, 3").fetchall()


def stored(world: World, seed: int, count: int) -> None:
    """Rows of two layouts of all pods over ten days, of which some values are missing for a reason."""
    random = np.random.default_rng(seed)
    devices = np.array([p.pk for p in world.pods])
    with world.transaction() as own:
        layouts = Layouts()
        for turn, fields in enumerate((FIELDS, NARROW)):
            at = np.sort(START_US + random.integers(0, 240 * 3600, count) * 1_000_000)
            states = random.choice([0, 1, 1, 1, 2], (count, 4)).astype(np.int16)
            columns = {
                "level": Column(np.round(random.normal(0, 5, count), 2), states[:, 0]),
                "place": Column(random.choice([0.0, 51.5, -7.25], (count, 2)), states[:, 1]),
                "said": Column(random.choice(np.array(["open", "é", ""], object), count), states[:, 2]),
                "count": Column(random.integers(0, 2**63, count).astype(np.uint64), states[:, 3]),
            }
            if fields is NARROW:
                columns["count"] = Column(random.integers(0, 99, count).astype(float), states[:, 3])
            group = Group(fields, np.arange(count), at, {f.name: columns[f.name] for f in fields})
            own_devices = devices[random.integers(0, len(devices), count)]
            message = 1 + turn * count + np.arange(count)
            late = at + random.integers(0, 2 * 86_400, count) * 1_000_000
            write_rows(
                own,
                build_rows(group, ["faulty"], layouts.number(own, fields), 7 + turn, own_devices, message, late),
            )


def answers(world: World) -> dict[str, Any]:
    """What every way of reading says."""
    ids = [p.pk for p in world.pods]
    moments = [START + timedelta(hours=h) for h in (-1, 30, 100, 239, 300)]
    start, end = moments[1], moments[-1]
    told: dict[str, Any] = {}
    with connection.cursor() as cursor:
        for most in (10_000, 3):
            found, cut = read_series(cursor, ids[:3], ["level", "count"], start, end, most)
            if most == 3:  # more of them where they are sealed
                told["cut"] = cut, max(at[-1] for at, _ in found.values())
            else:
                told["series"] = {k: (at.tolist(), value.tolist()) for k, (at, value) in found.items()}, cut
        told["before"] = [values_before(cursor, ids, "level", at) for at in moments]
        owners, medians = daily_medians(cursor, ids, "level", START.date(), 14)
        told["medians"] = owners.tolist(), str(np.round(medians, 9).tolist())
        for backwards in (False, True):
            rows: list[Any] = []
            place = None
            while more := read_rows(cursor, ids, ["level", "said", "count"], start, end, backwards, place, 7):
                rows += more
                place = Place(more[-1].at, more[-1].device, more[-1].layout)
            told[f"rows {backwards}"] = rows
    told["fixes"] = [newest_fixes(at) for at in moments]
    told["tracks"] = [track_of(device, start, end) for device in ids]
    names = {"level", "said", "count", "place"}
    told["then"] = [value_at(device, at, names) for device in ids for at in moments]
    with psycopg.connect(world.url, autocommit=True) as own:
        told["newest"] = [newest_stored(own, d, names, us(at), n) for d in ids for at in moments for n in (40, 999)]
        numbers = np.arange(1, 60)
        decoded = stored_of(own, numbers, (START_US, START_US + 400 * HOUR_US), ids)
        told["stored"] = sorted(
            (f.name, int(numbers[r]), int(at), int(o), int(column.state[k]), str(column.values[k]) if s == 1 else "")
            for g in decoded.groups
            for f in g.fields
            for column in [g.columns[f.name]]
            for k, (r, at, o, s) in enumerate(zip(g.rows, g.at, g.owner, column.state, strict=True))  # type: ignore[arg-type]
        )
    for specs in (FIELDS, NARROW):
        parts = list(pieces(world.url, world.type.pk, start, end, specs, False))
        told[f"pieces {len(specs)}"] = [
            sorted(
                zip(
                    *(c.tolist() for c in (p.message, p.device, p.at, p.received)),
                    *(str(v.tolist()).split(", ") if v.ndim == 1 else map(str, v.tolist()) for v in p.values.values()),
                    strict=True,
                )
            )
            for p in (part.readings for part in parts)
        ]
    return told


@pytest.mark.parametrize("seed", [1, 2])
def test_whoever_reads_is_told_the_same(world: World, seed: int) -> None:
    stored(world, seed, 400)
    days.forget()
    before = answers(world)
    rows = len(world.ask("select 1 from reading_row"))
    assert seal(world, START + timedelta(days=6)) > 200
    assert 0 < len(world.ask("select 1 from reading_row")) < rows, "only what is over"
    found = answers(world)
    for name, said in before.items():
        assert found[name] == said, name
    assert seal(world) == rows and world.ask("select count(*) from reading_row") == [(0,)]
    found = answers(world)
    for name, said in before.items():
        assert found[name] == said, name


ROWS = st.lists(
    st.tuples(st.integers(0, 1), st.integers(0, 4), st.integers(0, 3), st.sampled_from([None, 1.0, 2.5])), max_size=6
)


@settings(max_examples=examples(30), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(ROWS, st.booleans()), min_size=1, max_size=5))
def test_what_comes_late_into_sealed_days_is_as_if_nothing_were_sealed(
    world: World, turns: list[tuple[list[tuple[int, int, int, float | None]], bool]]
) -> None:
    """Writes of a device, day, hour and value, between which what is there is sealed or not."""
    told = []
    for sealing in (False, True):
        with world.transaction() as own:
            own.execute("delete from reading_row; delete from reading_sealed; delete from replaced_reading")
        message = 0
        for rows, sealed in turns:
            with world.transaction() as own:
                values = np.array([0.0 if value is None else value for *_, value in rows])
                states = np.array([0 if value is None else 1 for *_, value in rows], np.int16)
                at = np.array([START_US + day * 24 * HOUR_US + h * HOUR_US for _, day, h, _ in rows], np.int64)
                columns = {"level": Column(values, states), "count": Column(np.ones(len(rows)), 1 - states)}
                ids = message + 1 + np.arange(len(rows))
                pods = np.array([world.pods[pod].pk for pod, *_ in rows], np.int64)
                group = Group(NARROW, np.arange(len(rows)), at, columns)
                layout = Layouts().number(own, NARROW)
                write_rows(own, build_rows(group, [], layout, 1, pods, ids, np.full(len(rows), START_US + 1)))
                message += len(rows)
            if sealing and sealed:
                seal(world, START + timedelta(days=3))
        told.append((opened(world), world.ask(f"select {COLUMNS} from replaced_reading order by 1, 2, 5, 3")))
    assert told[0] == told[1]


def test_a_sealed_span_is_decoded_again_as_any_other(world: World, engine: Any, again: Any) -> None:
    world.decoder()
    world.arrive(*((n % 3, 7200 * n, payload(n % 7)) for n in range(40)))
    work_off(engine)
    before = world.everything()
    assert seal(world) == 40

    def once_more() -> None:
        DecodeAgain.objects.create(type=world.type, start=START - timedelta(days=1), end=LATER)
        decode_again(again, engine)

    once_more()
    assert world.ask("select count(*) from reading_sealed") == [(0,)], "what is made anew is open until it is sealed"
    assert world.everything() == before
    seal(world)
    world.decoder(DECODER.replace("u16 / 10", "u16 / 5").replace("6000", "9000"))
    work_off(engine)
    once_more()
    assert {n for (n,) in world.ask("select distinct version_id from reading_row")} == {
        n for (n,) in world.ask("select max(id) from definitions_version")
    }
    assert len(world.ask("select 1 from replaced_reading")) == 80


def test_what_is_written_while_a_day_is_sealed_stays(world: World) -> None:
    """The sealer has read the day and waits for its turn; who has it writes into that day."""
    stored(world, 3, 50)
    rows = len(world.ask("select 1 from reading_row"))
    with psycopg.connect(world.url, autocommit=True) as own:
        own.execute("insert into engine_cursor (share, shares, id, clock) values (0, 1, 0, %s)", (LATER,))
    with psycopg.connect(world.url) as writer, psycopg.connect(world.url, autocommit=True) as sealing:
        writer.execute("select pg_advisory_xact_lock(643, 0)")
        sealer = Sealer()
        thread = threading.Thread(target=sealer.step, args=(sealing,))
        thread.start()
        until(
            lambda: world.ask("select 1 from pg_locks where locktype = 'advisory' and not granted"),
            "the sealer to wait for its turn",
        )
        writer.execute(
            "update reading_row set message_id = message_id + 1 where (device_id, at, layout_id) = (select device_id,"
            " at, layout_id from reading_row order by at limit 1)"  # of a day that is sealed first
        )
        writer.commit()
        thread.join()
        assert world.ask("select count(*) from reading_sealed") == [(0,)]
        assert len(world.ask("select 1 from reading_row")) == rows
        while Sealer().step(sealing):
            pass
    assert world.ask("select sum(rows)::int from reading_sealed") == [(rows,)]
    assert AT_ONCE > 50


def test_days_of_many_rows_are_sealed_a_few_at_a_time(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    stored(world, 5, 200)
    (rows,) = world.ask("select count(*) from reading_row")[0]
    (largest,) = world.ask("select max(n) from (select count(*) n from reading_row group by device_id, at::date) x")[0]
    monkeypatch.setattr("server.store.sealed.MOST_AT_ONCE", largest + 10)
    sealed = [0]
    with psycopg.connect(world.url, autocommit=True) as own:
        own.execute("insert into engine_cursor (share, shares, id, clock) values (0, 1, 0, %s)", (LATER,))
        sealer = Sealer()
        while sealer.step(own):
            sealed.append(world.ask("select coalesce(sum(rows), 0)::int from reading_sealed")[0][0])
    assert sealed[-1] == rows and 0 < min(np.diff(sealed)) <= max(np.diff(sealed)) <= largest + 10
    monkeypatch.setattr("server.store.sealed.MOST_AT_ONCE", 1)  # a day that has more goes alone
    before = opened(world)
    assert seal(world) == rows and opened(world) == before


def test_what_is_older_than_it_is_kept_goes_by_the_day(world: World) -> None:
    stored(world, 4, 100)
    rows = seal(world)
    with psycopg.connect(world.url, autocommit=True) as own:
        kept = {(READINGS, 0): 10}
        gone = end_readings(own, START + timedelta(days=14, hours=5), kept)
    left = int(world.ask("select coalesce(sum(rows), 0) from reading_sealed")[0][0])
    assert gone > 0 and left + gone == rows
    assert world.ask("select min(day) from reading_sealed") == [((START + timedelta(days=4)).astimezone(UTC).date(),)]


def test_sealing_waits_while_much_waits_for_the_engine(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    stored(world, 5, 60)
    world.arrive(*((0, n, payload(1)) for n in range(4)))
    monkeypatch.setattr("server.store.sealed.BUSY", BUSY.replace(str(BEHIND), "3"))
    assert seal(world) == 0
    monkeypatch.setattr("server.store.sealed.BUSY", BUSY.replace(str(BEHIND), "4"))
    assert seal(world) > 0
