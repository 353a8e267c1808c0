"""The engine's promises: nothing lost, nothing doubled, whatever is killed and however the stream is cut."""

from __future__ import annotations

import random
import signal
import struct
import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import psycopg
import pytest

from server.fleet.models import Device
from server.fleet.registering import registry_changed
from tests.instance import start, until
from tests.server.world import CONDITION, GATEWAY, START, World, payload, work_off


def stream(seed: int, count: int, apart: float = 0.0) -> list[tuple[int, float, bytes]]:
    """Messages of three pods: ordinary, over the limit, missing, too short, odd."""
    rng = random.Random(seed)
    clock, found = 0.0, []
    for _ in range(count):
        clock += rng.choice([0, 1, 5, 20, 45]) + apart
        level = rng.choice([3.0, 4.5, 4.9, 5.1, 5.5, 6.0])
        data = rng.choice([payload(level)] * 8 + [b"\xff\xff\x00\x78", b"\x01", payload(level, 950)])
        found.append((rng.randrange(3), clock, data))
    return found


def test_messages_become_readings_and_refusals(world: World, engine: Any) -> None:
    world.decoder()
    world.arrive((0, 0, payload(3.2, 11.5)), (0, 1, b"\x00"), (1, 2, b"\xff\xff\x00\x78"), (1, 3, payload(4, 950)))
    work_off(engine)
    rows = world.ask(
        "select d.name, r.nums, r.missing from reading_row r join fleet_device d on d.id = r.device_id order by r.at"
    )
    assert rows == [("pod-0", [3.2, 11.5], None), ("pod-1", [None, 12.0], {"level": "open"})]
    assert world.ask("select code, reason, line, byte from refused order by message_id") == [
        ("too short", "the payload has 1 bytes; `level` stands in bytes 0 to 1", 2, 1),
        ("unknown layout", "odd mark", 4, -1),
    ]
    assert [r[:2] for r in world.ask("select messages, failed from activity order by device_id")] == [(2, 1), (2, 1)]


def test_any_cutting_gives_the_same(world: World, engine: Any) -> None:
    """One batch, batches of one, and uneven ones: readings, refusals, alarms and states are equal."""
    world.decoder()
    world.condition()
    world.arrive(*stream(7, 160))
    found = cut_anyhow(world, engine)
    assert found[0]["journal"], "the stream must raise alarms for this to say anything"
    assert found[0] == found[1] == found[2]


def cut_anyhow(world: World, engine: Any) -> list[dict[str, list[tuple]]]:
    """What comes of the stream in one batch, in batches of one, and in uneven ones."""
    found = []
    for limits in ([20_000], [1], [7, 1, 30, 2]):
        world.forget()
        engine.take_over()
        turn = 0
        while engine.step(limits[turn % len(limits)]):
            turn += 1
        found.append(world.everything())
    return found


def test_any_cutting_gives_the_same_of_what_one_device_tells_of_another(world: World, engine: Any) -> None:
    """Also how often it was heard, when last, and whether its own last message was good."""
    world.decoder(GATEWAY)
    Device.objects.filter(name="pod-1").update(gateway=Device.objects.get(name="pod-0"))
    registry_changed()
    rng = random.Random(5)

    def of(*pods: int) -> bytes:
        return b"".join(struct.pack(">BH", pod, rng.randrange(20, 60)) for pod in pods)

    told = [(0, of(1)), (0, of(0, 1)), (0, of(0)), (0, of(2)), (1, of(1)), (1, b"\x01"), (1, of(0))]
    world.arrive(*[(pod, n, data) for n, (pod, data) in enumerate(rng.choices(told, k=90))])
    found = cut_anyhow(world, engine)
    assert {row[0]: row[3] for row in found[0]["latest"]} == dict(
        world.ask("select device_id, sum(messages) from activity group by 1")
    )
    assert found[0] == found[1] == found[2]


def test_rebuilt_equals_continuous(world: World, engine: Any) -> None:
    """An engine that forgets everything between any two batches ends where one that goes on does."""
    world.decoder()
    world.condition()
    world.arrive(*stream(11, 120))
    while engine.step(5):
        engine.load()
    rebuilt = world.everything()
    world.forget()
    engine.take_over()
    work_off(engine)
    assert world.everything() == rebuilt


def test_killed_in_the_middle_nothing_is_lost_or_doubled(world: World, instance: Any) -> None:
    """Killed without warning three times during a load, the engine ends as if nothing had happened."""
    world.decoder()
    world.condition()
    messages = stream(3, 6000, apart=0.001)
    world.arrive(*messages)
    for share in (0.1, 0.4, 0.7):
        child = start(instance, "server.engine.worker", "engine.ready")

        def under_way(child: Any = child, share: float = share) -> bool:
            taken = world.ask("select coalesce(max(messages), 0) from engine_cursor")[0][0]
            return taken >= share * 20 or child.poll() is not None

        until(under_way, "the engine to be under way")
        child.send_signal(signal.SIGKILL)
        child.wait()
    child = start(instance, "server.engine.worker", "engine.ready")
    until(lambda: world.ask("select messages from engine_cursor")[0][0] >= len(messages), "all messages to be taken")
    child.terminate()
    child.wait()
    assert world.ask("select messages from engine_cursor") == [(len(messages),)]
    assert world.ask(
        "select (select count(distinct message_id) from reading_row), (select count(*) from refused), (select"
        " count(*) from reading_row r join refused f using (message_id))"
    ) == [(len(messages) - (refused := world.ask("select count(*) from refused")[0][0]), refused, 0)]
    assert world.ask("select sum(messages) from activity") == [(len(messages),)]
    doubled = world.ask(
        "select device_id, condition_id, raised_at from alarms_alarm group by 1, 2, 3 having count(*) > 1"
    )
    assert doubled == []
    survivors = world.everything()
    world.forget()
    from server.engine.worker import Engine

    fresh = Engine(world.url)
    work_off(fresh)
    # The clock went on after the last arrival in the killed run; delays that ended by it are all that may differ.
    assert world.everything()["readings"] == survivors["readings"]
    assert world.everything()["refused"] == survivors["refused"]
    assert world.everything()["latest"] == survivors["latest"]
    assert world.everything()["activity"] == survivors["activity"]
    fresh.connection.close()
    fresh.listening.close()


def test_a_row_that_cannot_be_written_is_set_aside_and_its_neighbours_go_on(world: World, engine: Any) -> None:
    world.decoder()
    with psycopg.connect(world.url) as connection:
        connection.execute("alter table reading_row add constraint poison check (nums[1] is distinct from 6.6)")
    try:
        world.arrive(*[(0, i, payload(6.6 if i == 13 else 1 + i / 10)) for i in range(30)])
        work_off(engine)
        assert world.ask("select count(*) from reading_row") == [(29,)]
        ((code, reason),) = world.ask("select code, reason from refused")
        assert code == "unwritable" and "poison" in reason
    finally:
        with psycopg.connect(world.url) as connection:
            connection.execute("alter table reading_row drop constraint poison")


def test_a_late_commit_is_never_skipped(world: World, engine: Any) -> None:
    """Who writes first and commits last is read first: the others wait for the turn, and the reader too."""
    world.decoder()
    with psycopg.connect(world.url) as slow, ThreadPoolExecutor(2) as pool:
        slow.execute(
            "insert into message (part, received_at, device_id, channel, payload) values (0, %s, %s, 3, %s)",
            (START, world.pods[0].pk, payload(1)),
        )
        other = pool.submit(world.arrive, (1, 5, payload(2)))
        reading = pool.submit(work_off, engine)
        waiting = "select count(*) from pg_stat_activity where wait_event = 'advisory'"
        until(lambda: world.ask(waiting)[0][0] == 2, "both to wait for the turn")
        assert not other.done() and not reading.done()
        slow.commit()
        other.result()
        reading.result()
    work_off(engine)
    assert world.ask("select nums[1] from reading_row order by 1") == [(1.0,), (2.0,)]


def test_on_delay_is_raised_at_its_exact_end_and_cleared_by_the_reading(world: World, engine: Any) -> None:
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(6)), (1, 61, payload(1)), (0, 200, payload(4.5)), (0, 260, payload(4)))
    work_off(engine)
    rows = world.ask(
        'select what, extract(epoch from at - %s)::int, value, "limit" from alarms_journalentry order by at', START
    )
    assert rows == [("raised", 60, 6.0, 5.0), ("cleared", 260, 4.0, 5.0)]
    assert world.ask("select text, priority from alarms_alarm") == [("Pod 0 stands at 6 m", "high")]


def test_delays_end_by_the_clock_without_an_arrival(world: World, engine: Any) -> None:
    world.decoder()
    world.condition()
    with psycopg.connect(world.url) as connection:
        connection.execute(
            "insert into message (part, received_at, device_id, channel, payload) values (0, clock_timestamp() -"
            " interval '59.5 s', %s, 3, %s)",
            (world.pods[0].pk, payload(6)),
        )
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm") == [(0,)]
    until(
        lambda: engine.step() == 0 and world.ask("select count(*) from alarms_alarm") == [(1,)], "the delay to end", 5
    )


def test_setpoints_and_versions_count_from_their_place_in_the_stream(world: World, engine: Any) -> None:
    from server.fleet.registering import set_setpoint

    world.decoder()
    world.condition(CONDITION.replace(" held 60 s", "").replace(" deadband 1 m", ""))
    world.arrive((0, 0, payload(6)), (1, 0, payload(6)), (0, 10, payload(1)), (1, 10, payload(1)))
    set_setpoint(world.type, "level_max", 7.0, None, device=world.pods[0].pk)
    world.arrive((0, 20, payload(6)), (1, 20, payload(6)))
    work_off(engine)
    rows = world.ask(
        "select d.name, extract(epoch from j.at - %s)::int, j.what from alarms_journalentry j join alarms_alarm a on"
        " a.id = j.alarm_id join fleet_device d on d.id = a.device_id order by 2, 1, 3",
        START,
    )
    assert rows == [
        ("pod-0", 0, "raised"),
        ("pod-1", 0, "raised"),
        ("pod-0", 10, "cleared"),
        ("pod-1", 10, "cleared"),
        ("pod-1", 20, "raised"),
    ]


def test_same_reading_again_does_nothing_another_value_replaces_it(world: World, engine: Any) -> None:
    text = "decoder pod for json\n  at t  sent  time iso hidden\n  stamp sent\n  at v  level  number  m\n"
    world.decoder(text)

    def doc(hours: int, value: int) -> bytes:
        return b'{"t":"%s","v":%d}' % ((START + timedelta(hours=hours)).isoformat().encode(), value)

    world.arrive((0, 1, doc(0, 1)), (0, 2, doc(0, 1)), (0, 3, doc(0, 2)))
    work_off(engine)
    world.arrive((0, 4, doc(0, 3)), (0, 5, doc(-1, 9)), (0, 6, doc(1, 9)))
    work_off(engine)
    assert world.ask("select extract(epoch from at - %s)::int, nums[1] from reading_row order by 1", START) == [
        (-3600, 9.0),
        (0, 3.0),
    ]
    assert world.ask("select nums[1] from replaced_reading order by 1") == [(1.0,), (2.0,)]
    assert world.ask("select (fields->'level'->>0)::float from latest") == [(3.0,)]
    assert world.ask("select code, reason from refused") == [("time", "measured more than 5 min after it arrived")]


def test_older_messages_are_decoded_once_a_decoder_exists(world: World, engine: Any) -> None:
    from server.engine.again import decode_again_step
    from server.history.models import DecodeAgain

    world.arrive(*[(0, i, payload(i)) for i in range(5)], (0, 9, b"\x00"))
    work_off(engine)
    assert world.ask("select distinct code from refused") == [("no decoder",)]
    world.decoder()
    work_off(engine)
    job = DecodeAgain.objects.create(type=world.type)
    while decode_again_step(engine):
        pass
    job.refresh_from_db()
    assert (job.state, job.total, job.done, job.decoded) == ("done", 6, 6, 5)
    assert world.ask("select nums[1] from reading_row order by at") == [(float(i),) for i in range(5)]
    assert world.ask("select code from refused") == [("too short",)]
    assert world.ask("select messages, failed from activity") == [(6, 1)]
    assert world.ask("select (fields->'level'->>0)::float from latest") == [(4.0,)]


def test_retiring_a_condition_clears_what_it_raised(world: World, engine: Any) -> None:
    from server.definitions.publishing import retire

    world.decoder()
    definition = world.condition(CONDITION.replace(" held 60 s", ""))
    world.arrive((0, 0, payload(6)), (1, 1, payload(2)))
    work_off(engine)
    retire(definition, None)
    work_off(engine)
    assert world.ask("select what, note from alarms_journalentry order by id") == [
        ("raised", ""),
        ("cleared", "the condition was retired"),
    ]
    assert world.ask("select count(*) from alarms_alarm where cleared_at is null") == [(0,)]
    world.arrive((0, 9, payload(6)))
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm") == [(1,)]


def test_two_engines_do_not_work_on_one_part(world: World, engine: Any) -> None:
    from server.engine.worker import Engine

    with pytest.raises(RuntimeError, match="another engine works on part 0 already"):
        Engine(world.url)


def test_numbers_are_given_in_the_order_of_commit(world: World) -> None:
    """Four writers, each in transactions of its own: a number is never seen before a lower one is."""
    stop = threading.Event()
    seen: list[int] = []

    def write() -> None:
        with psycopg.connect(world.url) as connection:
            while not stop.is_set():
                connection.execute("select stream_turn(2)")
                for _ in range(2):
                    connection.execute(
                        "insert into message (part, received_at, device_id, channel, payload) values (0, %s, 1, 3, '')",
                        (START,),
                    )
                connection.commit()

    writers = [threading.Thread(target=write) for _ in range(4)]
    for writer in writers:
        writer.start()
    with psycopg.connect(world.url, autocommit=True) as connection:
        while len(seen) < 400:
            last = seen[-1] if seen else 0
            seen += [r[0] for r in connection.execute("select id from message where id > %s order by id", (last,))]
        stop.set()
        for writer in writers:
            writer.join()
        seen += [r[0] for r in connection.execute("select id from message where id > %s order by id", (seen[-1],))]
        everything = [r[0] for r in connection.execute("select id from message order by id")]
    assert seen == everything


def test_stamps_are_of_their_own_whoever_writes(world: World) -> None:
    """Two writers in the same microsecond do not stamp alike; a clock that was set back far is followed."""
    with psycopg.connect(world.url) as connection:
        stamps = [connection.execute("select stream_turn(1000)").fetchone()[0] for _ in range(50)]  # type: ignore[index]
        assert all(b - a >= timedelta(microseconds=1000) for a, b in zip(stamps, stamps[1:], strict=False))
        far = connection.execute("select setval('arrival_stamp', %s)", (10**15 * 4,)).fetchone()
        ((stamp, now),) = connection.execute("select stream_turn(1), clock_timestamp()").fetchall()
        assert far and abs((stamp - now).total_seconds()) < 5
