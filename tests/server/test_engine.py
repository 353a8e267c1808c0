"""The engine's promises: nothing lost, nothing doubled, whatever is killed and however the stream is cut."""

from __future__ import annotations

import random
import signal
import struct
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest

from oculum.language.conditions.plan import ConditionPlan
from server.records.again.models import DecodeAgain
from server.records.fleet.models import Constant, Device, Fence, Site
from server.rules.publishing import check
from server.rules.registering import registry_changed, set_setpoint
from server.store.readings import newest_stored
from tests.instance import start, until
from tests.server.world import CONDITION, DECODER, GATEWAY, START, World, decode_again, payload, spans_of, work_off


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
        ("too short", "the payload has 1 byte; `level` stands in bytes 0 to 1", 2, 1),
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
        child = start(instance, "server.runner.engine", "engine.ready")

        def under_way(child: Any = child, share: float = share) -> bool:
            taken = world.ask("select coalesce(max(messages), 0) from engine_cursor")[0][0]
            return taken >= share * 20 or child.poll() is not None

        until(under_way, "the engine to be under way")
        child.send_signal(signal.SIGKILL)
        child.wait()
    child = start(instance, "server.runner.engine", "engine.ready")
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
    fresh.close()


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
            "insert into message (received_at, device_id, channel, payload) values (%s, %s, 3, %s)",
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
            "insert into message (received_at, device_id, channel, payload) values (clock_timestamp() -"
            " interval '54 s', %s, 3, %s)",
            (world.pods[0].pk, payload(6)),
        )
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm") == [(0,)]
    until(
        lambda: engine.step() == 0 and world.ask("select count(*) from alarms_alarm") == [(1,)], "the delay to end", 30
    )


def test_setpoints_and_versions_count_from_their_place_in_the_stream(world: World, engine: Any) -> None:
    from server.rules.registering import set_setpoint

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


def test_a_reading_that_comes_again_after_another_version_stands_once(world: World, engine: Any) -> None:
    """Its row has other fields then; a route that derives one makes it so as well."""
    world.decoder()
    world.arrive((0, 60, payload(3.0, 12.0)), (0, 120, payload(4.0)), (0, 180, payload(2.0)))
    work_off(engine)
    world.decoder(DECODER.replace("  reject", "  derive twice = level * 2\n  reject"))
    world.route('route "thrice"\n  on pod\n  derive thrice = level * 3\n')
    world.arrive((0, 60, payload(5.0, 12.0)), (0, 120, payload(4.0)), (0, 240, payload(1.0)))
    work_off(engine)
    found: dict[tuple[int, str], list[float]] = {}
    for at, fields, nums in world.ask(
        "select extract(epoch from r.at - %s)::int, l.fields, r.nums from reading_row r join layout l on l.id ="
        " r.layout_id",
        START,
    ):
        for spec, value in zip(fields, nums, strict=True):
            if value is not None:
                found.setdefault((at, spec["name"]), []).append(value)
    levels = {60: 5.0, 120: 4.0, 180: 2.0, 240: 1.0}
    wanted = {(at, "level"): [level] for at, level in levels.items()} | {(at, "temp"): [12.0] for at in levels}
    wanted |= {(at, "twice"): [2 * levels[at]] for at in (60, 120, 240)}
    wanted |= {(at, "thrice"): [3 * levels[at]] for at in (60, 120, 240)}
    assert found == wanted
    assert world.ask("select extract(epoch from at - %s)::int, nums[1] from replaced_reading", START) == [(60, 3.0)]


def test_older_messages_are_decoded_once_a_decoder_exists(world: World, engine: Any, again: Any) -> None:
    from server.records.again.models import DecodeAgain

    world.arrive(*[(0, i, payload(i)) for i in range(5)], (0, 9, b"\x00"))
    work_off(engine)
    assert world.ask("select distinct code from refused") == [("no decoder",)]
    world.decoder()
    work_off(engine)
    job = DecodeAgain.objects.create(type=world.type)
    decode_again(again, engine)
    job.refresh_from_db()
    assert (job.state, job.total, job.done, job.decoded) == ("done", 6, 6, 5)
    assert world.ask("select nums[1] from reading_row order by at") == [(float(i),) for i in range(5)]
    assert world.ask("select code from refused") == [("too short",)]
    assert world.ask("select messages, failed from activity") == [(6, 1)]
    assert world.ask("select (fields->'level'->>0)::float from latest") == [(4.0,)]


def test_retiring_a_condition_clears_what_it_raised(world: World, engine: Any) -> None:
    from server.rules.publishing import retire

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


def test_two_engines_do_not_work_on_one_share(world: World, engine: Any) -> None:
    from server.engine.worker import Engine

    with pytest.raises(RuntimeError, match="another engine works on share 0 already"):
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
                        "insert into message (received_at, device_id, channel, payload) values (%s, 1, 3, '')",
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


WATCHED = (
    'condition "labelled" priority low\n  on pod with label stage = "growing"\n'
    "  raise when level > setpoint level_max\n",
    'condition "there" priority high\n  on pod at site "reach"\n  raise when level > 5.2 m held 30 s\n',
    'condition "all" priority medium\n  on each site of pod\n  raise when share_of(level > 4.7 m) > 30 %\n',
    'condition "smooth" priority medium\n  on pod\n  raise when mean(level, 2 min) > 4.9 m\n  clear held 20 s\n',
)


def changes_of_the_register(world: World) -> list[Callable[[], object]]:
    """Changes of every kind of what conditions and decoders go by, each to be followed by its event."""
    elsewhere = Site.objects.create(name="elsewhere", title="Elsewhere", zone="Etc/GMT-3")
    pods = [Device.objects.filter(pk=pod.pk) for pod in world.pods]
    return [
        lambda: pods[0].update(labels={"stage": "growing"}),
        lambda: pods[1].update(site=elsewhere, labels={"stage": "growing"}),
        lambda: set_setpoint(world.type, "level_max", 4.0, None, site=elsewhere.pk),
        lambda: Site.objects.filter(pk=elsewhere.pk).update(parent=world.site, zone="UTC"),
        lambda: pods[2].update(phase="maintenance"),
        lambda: Constant.objects.create(device=world.pods[0], name="offset", value=1.5, valid_from=START),
        lambda: Fence.objects.create(
            name="ring", feature={"geometry": {"type": "Point", "coordinates": [1, 2]}, "properties": {"radius_m": 9}}
        ),
        lambda: pods[0].update(labels={}, name="pod-zero"),
        lambda: pods[2].update(phase="in service", site=None),
        lambda: Constant.objects.all().delete(),
        lambda: pods[1].update(site=world.site),
        lambda: Fence.objects.all().delete(),
    ]


def gone_through(world: World, engine: Any, seed: int) -> tuple[dict[str, list[tuple]], random.Random]:
    """Messages and changes of the register among them, as one engine makes them; and what else is drawn by lot."""
    rng = random.Random(seed)
    world.decoder()
    for text in WATCHED:
        world.condition(text)
    messages = stream(seed, 150, apart=0.001)
    changes = changes_of_the_register(world)
    cuts = sorted(rng.sample(range(1, len(messages)), len(changes)))
    for first, last, change in zip([0, *cuts], [*cuts, len(messages)], [*changes, lambda: None], strict=True):
        world.arrive(*messages[first:last])
        change()
        registry_changed(None)
    work_off(engine)
    whole = world.everything()
    assert len(whole["journal"]) > 20
    return whole, rng


@pytest.mark.parametrize("seed", range(3))
def test_the_register_counts_from_its_place_in_the_stream(world: World, engine: Any, seed: int) -> None:
    """Whoever begins anywhere, and as often as one likes, ends where one that went through all of it at once does."""
    from server.engine.worker import Engine

    whole, rng = gone_through(world, engine, seed)
    last = engine.registry
    for keep in (0, 10**9):  # remembered at every step, or only at the beginning
        world.forget()
        engine.take_over()
        engine.close()
        engine = Engine(world.url)
        while engine.step(rng.randint(1, 12)):
            if not keep:
                engine.remember()
            engine.load()
        assert world.everything() == whole
        found = engine.registry
        assert (found.devices, found.world, found.constants, found.parents, found.names) == (
            last.devices,
            last.world,
            last.constants,
            last.parents,
            last.names,
        )
    engine.close()


@pytest.mark.parametrize("seed", range(3))
def test_several_engines_do_all_that_one_does(world: World, engine: Any, seed: int) -> None:
    """Two or three of them, each ahead of the others at times, ended and begun anew, and made more and fewer."""
    from server.engine.dividing import divide
    from server.engine.worker import Engine
    from server.rules.shares import Share

    whole, rng = gone_through(world, engine, seed)
    engine.close()
    world.forget()
    engines: list[Engine] = []
    for of in (2, 3, 1, 2):
        for one in engines:
            one.close()
        divide(world.url, of)
        engines = [Engine(world.url, Share(number, of)) for number in range(of)]
        for _ in range(25):
            number = rng.randrange(of)
            engines[number].step(rng.randint(1, 12))
            if rng.random() < 0.2:
                engines[number].close()
                engines[number] = Engine(world.url, Share(number, of))
    taken = [0] * len(engines)
    while 0 in taken:
        taken = [int(one.step() == 0) for one in engines]
    assert world.everything() == whole
    ((messages,),) = world.ask("select sum(messages) from engine_cursor")
    assert messages == 150
    with pytest.raises(RuntimeError, match="works on share 0 already"):
        divide(world.url, 3)
    with pytest.raises(RuntimeError, match="not divided among 4 engines"):
        Engine(world.url, Share(3, 4))
    for one in engines:
        one.close()


def test_what_is_decoded_again_reaches_every_engine(world: World, engine: Any, again: Any) -> None:
    """Values are looked up anew when all engines have written what was before: none goes by older ones."""
    from server.engine.dividing import divide
    from server.engine.worker import Engine
    from server.rules.shares import Share

    engine.close()
    world.decoder()
    world.condition('condition "all" priority medium\n  on each site of pod\n  raise when max_of(level) > 20 m\n')
    divide(world.url, 2)
    first, second = (Engine(world.url, Share(number, 2)) for number in range(2))
    world.arrive(*stream(5, 60, apart=0.001))
    world.decoder(DECODER.replace("u16 / 10  m", "u16  m"))
    while first.step() + second.step():
        pass
    DecodeAgain.objects.create(type=world.type, start=START - timedelta(days=1), end=START + timedelta(days=1))
    world.arrive(*[(pod, 20_000 + pod, payload(pod)) for pod in range(3)])
    work_off(first)
    while again.step():
        pass
    world.arrive((2, 20_100, payload(2.5)))
    work_off(first)
    assert len(world.ask("select distinct id from engine_cursor")) == 2
    waiting = "select kind from control_event where id > (select max(id) from engine_cursor)"
    assert world.ask(waiting) == [("again",)], "the first waits for the second"
    while first.step() + second.step():
        pass
    assert world.ask("select count(*) from alarms_alarm where site_id is not null") == [(1,)]
    for device in Device.objects.filter(type=world.type, name__lt="pod-3"):
        stored = newest_stored(first.connection, device.pk, {"level"}, 2**62, 2**62)["level"]
        for one in (first, second):
            found = one.newest[device.pk, "level"]
            assert (found.value, found.at) == stored[:2]
    for one in (first, second):
        one.close()


QUIET = 'condition "quiet" priority medium\n  on pod\n  raise when silent(5 min)\n'


@pytest.mark.parametrize("told", ["by the engine", "by intake"])
def test_time_in_which_nobody_listened_is_taken_out_of_silences(world: World, engine: Any, told: str) -> None:
    """Heard seven minutes ago, and for the last six intake did not listen: nobody has been silent for five minutes."""
    from server.trials.conditions import condition_trial

    now = datetime.now(UTC)
    ago = {minutes: now - timedelta(minutes=minutes) for minutes in (30, 20, 13, 7, 6)}

    def heard(pod: int, at: datetime) -> None:
        world.arrive((pod, (at - START).total_seconds(), payload(3)))

    Device.objects.update(registered_at=ago[30])
    registry_changed(None)
    world.decoder()
    world.condition(QUIET)
    heard(0, ago[30])
    heard(1, ago[13])
    heard(0, ago[13])
    heard(2, ago[7])
    with psycopg.connect(world.url) as connection:
        connection.execute("insert into intake_life (at) values (%s)", (ago[6],))
        if told == "by intake":
            connection.execute("select listening()")
    work_off(engine)
    engine.load()
    work_off(engine)
    raised = "select d.name, a.raised_at from alarms_alarm a join fleet_device d on d.id = a.device_id order by 2, 1"
    live = world.ask(raised)
    minutes = [(name, round((now - at).total_seconds() / 60)) for name, at in live]
    assert sorted(minutes) == [("pod-0", 8), ("pod-0", 25), ("pod-1", 8), ("pod-1", 25), ("pod-2", 25), ("pod-3", 25)]
    spans = world.ask("select body from control_event where kind = 'unheard'")
    assert [body["until"] is None for (body,) in spans] == [told == "by the engine"]
    plan, _ = check("condition", QUIET, world.type)
    assert isinstance(plan, ConditionPlan)
    *_, last = condition_trial(plan, world.type, ago[30] - timedelta(minutes=1), datetime.now(UTC))
    assert {(s["device"], s["raised_at"]) for s in spans_of(last["result"])} == set(live)
    with psycopg.connect(world.url) as connection:
        connection.execute("select listening()")
    work_off(engine)
    assert world.ask(raised) == live
