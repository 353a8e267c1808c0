"""Intake: acknowledged after commit, bounded, and nobody speaks for another."""

from __future__ import annotations

import asyncio
import signal
import subprocess
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import gmqtt
import httpx
import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from server.records.fleet.models import Device
from server.rules.registering import registry_changed
from tests.instance import start, until
from tests.often import examples
from tests.server.world import World, payload, work_off


@pytest.fixture
def web(instance: Any, world: World) -> Iterator[httpx.Client]:
    child = start(instance, "server.runner.web")
    client = httpx.Client(base_url=instance.address, timeout=10)

    def answers() -> bool:
        try:
            return client.get("/alive").status_code == 200
        except httpx.TransportError:
            return False

    until(answers, "the web process")
    # The registry is read once the process listens; a known key shows that it has been.
    until(
        lambda: client.post("/in/", content=b"", headers=bearer(world.keys["pod-2"])).status_code == 202, "the registry"
    )
    world.ask("select 1")
    yield client
    client.close()
    child.terminate()
    child.wait()


@pytest.fixture
def broker(instance: Any, world: World) -> Iterator[Any]:
    child = start(instance, "server.intake.mqtt", "intake.ready")
    until(lambda: world.ask("select applied >= wanted from broker_accounts")[0][0], "the broker's accounts")
    yield instance
    child.terminate()
    child.wait()


def bearer(key: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {key}"}


def publish(
    instance: Any, user: str, key: str, topic: str, body: str = "hello", *more: str
) -> subprocess.CompletedProcess[str]:
    """As a person does it, from a terminal."""
    command = [
        "mosquitto_pub",
        "-h",
        "127.0.0.1",
        "-p",
        str(instance.broker_port),
        "-u",
        user,
        "-P",
        key,
        "-q",
        "1",
        "-V",
        "5",
        "-t",
        topic,
        "-m",
        body,
        *more,
    ]
    return subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)


def test_http_takes_a_message_and_says_so_after_the_commit(world: World, web: httpx.Client) -> None:
    answer = web.post("/in/", content=payload(3), headers=bearer(world.keys["pod-0"]))
    assert (answer.status_code, answer.json()) == (202, {"accepted": 1})
    assert world.ask("select channel, payload from message where device_id = %s", world.pods[0].pk) == [(2, payload(3))]


def test_headers_of_both_ways_come_with_the_message(world: World, web: httpx.Client, broker: Any) -> None:
    own = {"Oculum-Unit": "3", "Oculum-Start": "100", "Oculum-topic": "forged", "Oculum-Long": "x" * 401, "Unit": "no"}
    web.post("/in/", content=b"by http", headers=bearer(world.keys["pod-0"]) | own)
    publish(
        broker, "pod-0", world.keys["pod-0"], "up/pod-0/block", "by mqtt", "-D", "publish", "user-property", "Unit", "4"
    )
    until(
        lambda: world.ask("select count(*) from message where payload in ('by http', 'by mqtt')")[0][0] == 2,
        "both messages",
    )
    assert world.ask("select topic, headers from message where payload in ('by http', 'by mqtt') order by payload") == [
        ("", {"unit": "3", "start": "100"}),
        ("up/pod-0/block", {"unit": "4"}),
    ]


@pytest.mark.parametrize("key", ["none", "ocd_x_y", "ocd_0000000000_" + "a" * 32, "x" * 5000])
def test_http_unknown_keys_are_refused(world: World, web: httpx.Client, key: str) -> None:
    answer = web.post("/in/", content=b"x", headers=bearer(key))
    assert answer.status_code == 401 and answer.json()["code"] == "unknown key"


def test_http_bounds_the_size(world: World, web: httpx.Client) -> None:
    assert web.post("/in/", content=bytes(65_537), headers=bearer(world.keys["pod-0"])).status_code == 413
    assert web.post("/in/", content=bytes(65_536), headers=bearer(world.keys["pod-0"])).status_code == 202


def test_http_bounds_the_rate_and_counts_what_it_turns_away(world: World, web: httpx.Client) -> None:
    codes = [web.post("/in/", content=b"x", headers=bearer(world.keys["pod-1"])).status_code for _ in range(700)]
    # The minute slides, so that a little room opens while the test runs.
    assert 600 <= codes.count(202) < 660 and codes.count(202) + codes.count(429) == 700
    until(
        lambda: world.ask("select coalesce(sum(count), 0) from intake_refusal")[0][0] == codes.count(429), "the count"
    )


def test_nothing_is_acknowledged_below_the_disk_reserve(world: World, instance: Any) -> None:
    from server.intake.inbox import Arrival, Full, Inbox
    from server.intake.senders import Sender, Source
    from server.store.messages import HTTP

    async def attempt() -> None:
        inbox = Inbox(world.url, instance.folder, 10**18, 100, 1000)
        with pytest.raises(Full):
            await inbox.put(Arrival(Source(Sender(1, "pod-0", 1, b""), 1, None, None), HTTP, "", b"x"))

    asyncio.run(attempt())
    assert world.ask("select count(*) from message") == [(0,)]


def test_a_full_disk_keeps_the_order_of_those_who_wait(world: World, instance: Any) -> None:
    """The broker's messages wait for space, in their order; who waits for an answer by HTTP gets it."""
    from server.intake.inbox import Arrival, Full, Inbox
    from server.intake.senders import Sender, Source
    from server.store.messages import HTTP, MQTT

    source = Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None)
    told: list[str | None] = []

    async def go() -> None:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000, told.append)
        await inbox.connected()
        running = asyncio.create_task(inbox.run())
        inbox.reserve = 10**18

        def arrive(n: int) -> asyncio.Future[None]:
            settled: asyncio.Future[None] = asyncio.get_running_loop().create_future()
            inbox.put_patiently(Arrival(source, MQTT, "up/pod-0", b"%d" % n), lambda: settled.set_result(None))
            return settled

        waiting = [arrive(n) for n in range(20)]
        while not told:
            await asyncio.sleep(0.01)
        with pytest.raises(Full):
            await inbox.put(Arrival(source, HTTP, "", b"by http"))
        waiting += [arrive(n) for n in range(20, 40)]
        assert not any(future.done() for future in waiting)
        inbox.reserve = 0
        await asyncio.wait_for(asyncio.gather(*waiting), 20)
        running.cancel()
        await inbox.disconnect()

    asyncio.run(go())
    assert told[0] is not None and "disk" in told[0] and told[-1] is None
    assert world.ask("select convert_from(payload, 'utf8') from message order by id") == [(str(n),) for n in range(40)]


def test_http_knows_nobody_before_it_has_read_the_register(world: World) -> None:
    """A key that is good is not called unknown: its device would throw it away."""
    from server.instance.pulse import Pulse
    from server.intake.http import HttpIntake

    intake = HttpIntake(Pulse(world.instance.folder, "test"))

    async def go() -> httpx.Response:
        async with httpx.AsyncClient(transport=httpx.ASGITransport(intake.app), base_url="http://here") as client:
            return await client.post("/", content=b"x", headers=bearer(world.keys["pod-0"]))

    answer = asyncio.run(go())
    assert (answer.status_code, answer.json()["code"]) == (503, "starting") and answer.headers["Retry-After"] == "1"


def test_names_that_a_gateway_makes_up_share_one_rate(world: World, web: httpx.Client) -> None:
    gate = bearer(world.keys["gate-1"])
    begun = time.monotonic()
    answers = [web.post(f"/in/?for=stranger-{i % 90}", content=b"x", headers=gate) for i in range(700)]
    minutes = (time.monotonic() - begun) / 60
    refused = [answer for answer in answers if answer.status_code == 429]
    assert 700 - 600 * (1 + minutes) - 10 <= len(refused) <= 100
    assert {answer.json()["code"] for answer in refused} <= {"too many"}
    assert web.post("/in/?for=pod-3", content=b"x", headers=gate).status_code == 202, "its own devices have their own"


def test_gateway_speaks_for_its_own_devices_only(world: World, web: httpx.Client) -> None:
    gate = bearer(world.keys["gate-1"])
    assert web.post("/in/?for=pod-3", content=b"a", headers=gate).status_code == 202
    assert web.post("/in/?for=pod-0", content=b"b", headers=gate).status_code == 202
    assert world.ask(
        "select payload from message where device_id = %s and via_id = %s", world.pods[3].pk, world.gateway.pk
    ) == [(b"a",)]
    assert world.ask("select u.name, m.payload from message m join intake_unknownsender u on u.id = m.unknown_id") == [
        ("pod-0", b"b")
    ]


def test_unknown_senders_have_a_quota_of_their_own(world: World, web: httpx.Client) -> None:
    gate = bearer(world.keys["gate-1"])
    codes = [web.post(f"/in/?for=stranger-{i}", content=b"x", headers=gate).status_code for i in range(102)]
    assert codes == [202] * 100 + [429] * 2
    assert web.post("/in/?for=pod-3", content=b"x", headers=gate).status_code == 202, (
        "its own devices are not touched by it"
    )


def test_mqtt_devices_publish_below_their_own_name_only(world: World, broker: Any) -> None:
    assert publish(broker, "pod-0", world.keys["pod-0"], "up/pod-0", "mine").returncode == 0
    publish(broker, "pod-0", world.keys["pod-0"], "up/pod-1", "another's")
    publish(broker, "pod-0", world.keys["pod-0"], "down/pod-0", "a command")
    assert publish(broker, "pod-0", world.keys["pod-1"], "up/pod-0", "wrong key").returncode != 0
    assert publish(broker, "gate-1", world.keys["gate-1"], "up/gate-1/for/pod-3", "theirs").returncode == 0
    until(
        lambda: world.ask("select count(*) from message where payload in ('mine', 'theirs')")[0][0] >= 2,
        "both messages",
    )
    rows = world.ask(
        "select d.name, v.name, m.payload, m.channel from message m join fleet_device d on d.id = m.device_id left"
        " join fleet_device v on v.id = m.via_id where m.payload in ('mine', 'theirs', 'another''s', 'a command',"
        " 'wrong key') order by m.id"
    )
    assert rows == [("pod-0", None, b"mine", 1), ("pod-3", "gate-1", b"theirs", 1)]
    # MQTT 3.1.1 has no way to say no; what went elsewhere is at least counted.
    publish(broker, "pod-0", world.keys["pod-0"], "up/pod-00", "almost", "-V", "311")
    counted = "select sum(count) from intake_refusal where device_id = %s and reason like '%%topic that is not its own'"
    until(lambda: world.ask(counted, world.pods[0].pk) == [(3,)], "all three to be counted")
    assert world.ask("select count(*) from message where payload = 'almost'") == [(0,)]


def test_mqtt_nobody_listens_in(world: World, broker: Any) -> None:
    command = [
        "mosquitto_sub",
        "-h",
        "127.0.0.1",
        "-p",
        str(broker.broker_port),
        "-u",
        "pod-0",
        "-P",
        world.keys["pod-0"],
        "-V",
        "5",
        "-t",
        "up/#",
        "-E",
    ]
    heard = subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)
    assert "Subscribed" not in heard.stdout
    anonymous = subprocess.run(
        ["mosquitto_pub", "-h", "127.0.0.1", "-p", str(broker.broker_port), "-t", "up/pod-0", "-m", "x"],
        capture_output=True,
        text=True,
        timeout=20,
        check=False,
    )
    assert anonymous.returncode != 0


def test_mqtt_a_new_key_counts_at_once_and_the_old_one_no_more(world: World, broker: Any) -> None:
    from django.db import transaction

    from server.rules.registering import give_key, registry_changed, wait_for_broker

    with transaction.atomic():
        fresh = give_key(world.pods[0])
        registry_changed(accounts=True)
    assert wait_for_broker(10)
    until(lambda: publish(broker, "pod-0", fresh, "up/pod-0", "new").returncode == 0, "the new key")
    assert publish(broker, "pod-0", world.keys["pod-0"], "up/pod-0", "old").returncode != 0


def test_an_arrival_that_cannot_be_stored_does_not_hold_up_its_neighbours(world: World, instance: Any) -> None:
    from server.intake.inbox import Arrival, Inbox, Outcome
    from server.intake.senders import Sender, Source
    from server.store.messages import HTTP

    def arrival(topic: str) -> Arrival:
        return Arrival(
            Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None), HTTP, topic, b"x"
        )

    async def go() -> list[Outcome]:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000)
        waiting = [inbox.put(arrival(topic)) for topic in ("a", "nul\x00", "b")]
        writer = asyncio.create_task(inbox.run())
        results = await asyncio.wait_for(asyncio.gather(*waiting), 20)
        await inbox.finished()
        writer.cancel()
        return results

    assert asyncio.run(go()) == [Outcome.TAKEN, Outcome.UNSTORABLE, Outcome.TAKEN]
    assert world.ask("select topic from message order by id") == [("a",), ("b",)]


@pytest.mark.parametrize("listens", [True, False])
def test_what_was_not_heard_is_told_before_what_arrives_after_it(
    world: World, engine: Any, instance: Any, listens: bool
) -> None:
    """The broker hands over what it kept before intake says that it listens: nobody fell silent meanwhile."""
    from server.intake.inbox import Arrival, Inbox
    from server.intake.senders import Sender, Source
    from server.store.messages import MQTT

    source = Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None)
    Device.objects.update(registered_at=datetime.now(UTC) - timedelta(minutes=63))
    registry_changed(None)
    world.condition('condition "quiet" priority low\n  on pod\n  raise when silent(5 min)\n')
    with psycopg.connect(world.url) as connection:
        connection.execute("update control_event set at = at - interval '62 minutes'")
        connection.execute("insert into intake_life (at) values (now() - interval '1 hour')")

    async def go() -> None:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000, listens=listens)
        writer = asyncio.create_task(inbox.run())
        waiting = [inbox.put(Arrival(source, MQTT, "up/pod-0", b"%d" % n)) for n in range(3)]
        await asyncio.wait_for(asyncio.gather(*waiting), 20)
        writer.cancel()
        await inbox.disconnect()

    asyncio.run(go())
    told = world.ask("select id, body->>'until' is null from control_event where kind = 'unheard'")
    assert [lasts for _, lasts in told] == [not listens]
    assert told[0][0] < world.ask("select min(id) from message")[0][0]
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm") == [(0,)]


def test_what_was_not_heard_is_told_before_what_is_changed_after_it(world: World, engine: Any) -> None:
    with psycopg.connect(world.url) as connection:
        connection.execute("insert into intake_life (at) values (now() - interval '1 hour')")
    before = world.ask("select max(id) from control_event")[0][0]
    world.condition('condition "quiet" priority low\n  on pod\n  raise when silent(5 min)\n')
    told = world.ask("select kind from control_event where id > %s order by id", before)
    assert [kind for (kind,) in told] == ["unheard", "publish"]


async def _send(instance: Any, key: str, count: int) -> int:
    """Publishes with QoS 1 and counts what the broker acknowledged."""
    client = gmqtt.Client("sender", clean_session=True)
    client.set_auth_credentials("pod-0", key)
    await client.connect("127.0.0.1", instance.broker_port, version=gmqtt.constants.MQTTv50)
    acknowledged, done = 0, asyncio.Event()
    handler = client._package_handler
    handle = handler._handle_puback_packet

    def on_puback(*arguments: Any) -> Any:
        nonlocal acknowledged
        acknowledged += 1
        if acknowledged == count:
            done.set()
        return handle(*arguments)

    handler._handle_puback_packet = on_puback
    for i in range(count):
        client.publish("up/pod-0", i.to_bytes(4, "big"), qos=1)
        if i % 20 == 0:
            await asyncio.sleep(0)
    await asyncio.wait_for(done.wait(), 30)
    await client.disconnect()
    return acknowledged


def test_intake_killed_in_the_middle_loses_and_doubles_nothing(world: World, instance: Any) -> None:
    """Every acknowledged message is in the inbox exactly once, though intake is killed while it works."""
    count = 500
    child = start(instance, "server.intake.mqtt", "intake.ready")
    until(lambda: world.ask("select applied >= wanted from broker_accounts")[0][0], "the broker's accounts")
    until(
        lambda: (
            publish(instance, "pod-1", world.keys["pod-1"], "up/pod-1").returncode == 0
            and world.ask("select count(*) from message where device_id = %s", world.pods[1].pk)[0][0]
        ),
        "intake to listen",
    )
    sending = asyncio.run(_send(instance, world.keys["pod-0"], count))
    child.send_signal(signal.SIGKILL)
    child.wait()
    assert sending == count
    child = start(instance, "server.intake.mqtt", "intake.ready")
    # earlier tests' messages may still come
    mine = "from message where device_id = %s and length(payload) = 4 and get_byte(payload, 0) = 0"
    until(
        lambda: world.ask(f"select count(distinct payload) {mine}", world.pods[0].pk)[0][0] == count,
        "all that was acknowledged",
    )
    publish(instance, "pod-1", world.keys["pod-1"], "up/pod-1", "after")
    until(
        lambda: world.ask("select count(*) from message where payload = 'after'")[0][0] == 1, "the queue to run empty"
    )
    child.terminate()
    child.wait()
    assert world.ask(f"select count(*) {mine}", world.pods[0].pk) == [(count,)]


def test_what_comes_again_is_known_by_its_mark_and_a_repeat_by_the_device_is_not(world: World, instance: Any) -> None:
    from server.intake.inbox import Arrival, Inbox, Mark, Outcome
    from server.intake.senders import Sender, Source
    from server.store.messages import MQTT

    source = Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None)

    def arrival(number: int | None, run: str = "0" * 16) -> Arrival:
        return Arrival(source, MQTT, "up/pod-0", b"same", Mark(run, number, number) if number is not None else None)

    async def go() -> list[list[Outcome]]:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000)
        first = await inbox.write([arrival(n) for n in (1, 2, 4, 2)])
        await inbox.disconnect()
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000)  # a new process
        second = await inbox.write([arrival(n) for n in (1, 2, 3, 4, 5)])
        third = await inbox.write([arrival(1, "f" * 16), arrival(None), arrival(None)])
        await inbox.disconnect()
        return [first, second, third]

    new, again = Outcome.TAKEN, Outcome.REPEAT
    assert asyncio.run(go()) == [[new, new, new, again], [again, again, new, again, new], [new, new, new]]
    assert world.ask("select count(*) from message") == [(8,)]


@given(st.lists(st.tuples(st.integers(1, 40), st.booleans()), min_size=1, max_size=120), st.integers(2, 6))
@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_each_mark_is_taken_once_in_whatever_order_and_batches(
    world: World, instance: Any, numbers: list[tuple[int, bool]], size: int
) -> None:
    """Against a plain set; few ranges are kept, so that the oldest gaps are given up."""
    from server.intake import inbox as module
    from server.intake.inbox import Arrival, Inbox, Mark, Outcome
    from server.intake.senders import Sender, Source
    from server.store.messages import MQTT

    source = Source(Sender(1, "pod-0", world.pods[0].pk, b""), world.pods[0].pk, None, None)
    world.ask("delete from broker_taken returning 1")
    with psycopg.connect(world.url, autocommit=True) as connection:
        connection.execute("truncate broker_taken, message")

    async def go() -> list[Outcome]:
        inbox = Inbox(world.url, instance.folder, 0, 100, 1000)
        found = []
        for first in range(0, len(numbers), size):
            part = numbers[first : first + size]
            found += await inbox.write(
                [Arrival(source, MQTT, "up/pod-0", b"x", Mark(("a" if run else "b") * 16, n, n)) for n, run in part]
            )
        await inbox.disconnect()
        return found

    seen: set[tuple[int, bool]] = set()
    wanted = []
    for one in numbers:
        wanted.append(Outcome.REPEAT if one in seen else Outcome.TAKEN)
        seen.add(one)
    assert module.MOST_RANGES >= 40
    assert asyncio.run(go()) == wanted
