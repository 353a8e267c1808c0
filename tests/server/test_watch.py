"""Watch: figures of health that add up, bands by what devices have in common, what fades, what a shift hands over."""

from __future__ import annotations

import random
from datetime import timedelta
from typing import Any

import psycopg
import pytest
from django.db import connection

from server.records.again.models import DecodeAgain
from server.records.fleet.models import Device
from server.rules.fading import looked_for
from server.rules.health import Figures, figures
from server.rules.registering import registry_changed
from server.rules.watch import unusual
from server.store.summed import sum_an_hour
from tests.server.test_api import Client, signed_in
from tests.server.world import START, World, decode_again, payload, work_off

HOUR = timedelta(hours=1)
FIELDS = [
    {"name": "battery", "kind": "number", "unit": "V"},
    {"name": "level", "kind": "number", "unit": "m"},
]


@pytest.fixture
def client(world: World) -> Client:
    return signed_in(world, "viewer")


def asked(client: Client, path: str, **query: str) -> Any:
    span = {"from": START.isoformat(), "to": (START + 2 * HOUR).isoformat(), **query}
    answer = client.get(f"/api/v1/{path}", span)
    assert answer.status_code == 200, answer.content
    return answer.json()


def came(world: World, engine: Any) -> None:
    """Pod 0 each minute for two hours, pod 1 every other minute and every fourth of these refused."""
    world.decoder()
    Device.objects.all().update(registered_at=START)
    messages = [(0, n * 60.0, payload(2)) for n in range(120)]
    messages += [(1, n * 120.0, b"\x01" if n % 4 == 0 else payload(6553.5)) for n in range(60)]
    world.arrive(*sorted(messages, key=lambda m: m[1]))
    work_off(engine)


def test_figures_of_devices_are_counts_of_their_messages(
    world: World, engine: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    came(world, engine)
    pods = [int(pod.pk) for pod in world.pods[:3]]
    with connection.cursor() as cursor:
        found = figures(cursor, START, START + 2 * HOUR, pods)
        monkeypatch.setattr("server.rules.health.MANY", 2)  # of more all are read, and these chosen
        chosen = figures(cursor, START, START + 2 * HOUR, pods)
    assert chosen.device.tolist() == pods and [chosen[pod] for pod in pods] == [found[pod] for pod in pods]
    one, two, silent = (found[pod] for pod in pods)
    assert (one.availability, one.decoded, one.complete) == (1.0, 1.0, 1.0)
    assert (two.messages, two.expected, two.availability) == (60, 120.0, 0.5)
    assert two.decoded == 0.75 and two.complete == 0.5, "each fourth is refused; levels are missing with a reason"
    assert silent.availability == 0.0 and silent.decoded is None and sum(silent.states.values()) == 0
    assert sum(one.states.values()) == pytest.approx(7200) and one.states["reporting"] == pytest.approx(7200)
    assert two.states["overdue"] > 0 and two.states["silent"] == 0
    whole = found.grouped([pods[:2]]).told(0)
    assert (whole.availability, whole.messages, whole.devices) == (180 / 240, 180, 2)
    assert one.delay is None, "the payload has no time of its own"


def test_days_that_are_over_are_summed_and_summed_anew(world: World, engine: Any, again: Any) -> None:
    """Figures over days are the same from sums, from hours, and after messages of a summed day came out otherwise."""
    world.decoder()
    rng = random.Random(3)
    messages = [(rng.randrange(3), at * 900.0, rng.choice([payload(2), payload(6553.5), b"\x01"])) for at in range(300)]
    world.arrive(*messages)
    work_off(engine)

    def told() -> dict[int, Figures]:
        with connection.cursor() as cursor:
            found = figures(cursor, START - HOUR, START + 80 * HOUR)
        return {device: found[device] for device in found.device.tolist()}

    before = told()
    summed = 0
    while sum_an_hour(again.connection):
        summed += 1
        assert told() == before
    days, hours = world.ask(
        "select count(*) filter (where hours = 24), count(*) filter (where hours = 1) from activity_summed"
    )[0]
    assert days >= 3 and hours == summed > 24 * days
    world.decoder("decoder pod for bytes, big endian\n  byte 0 level u8 m\n")
    work_off(engine)
    DecodeAgain.objects.create(type=world.type)
    decode_again(again, engine)
    healed = told()
    assert {f.decoded for f in healed.values()} <= {1.0, None} and any((f.decoded or 1) < 1 for f in before.values())
    while sum_an_hour(again.connection):
        pass
    assert told() == healed


def test_bands_add_up_and_open(world: World, engine: Any, client: Client) -> None:
    came(world, engine)
    Device.objects.filter(name="pod-0").update(labels={"firmware": "2"})
    told = asked(client, "watch/bands", by="firmware", parts="12")
    assert [(b["title"], b["devices"]) for b in told["bands"]] == [("firmware 2", 1), ("no firmware", 4)]
    one = told["bands"][0]
    assert one["reporting"] == [1] * 12 and one["silent"] == [0] * 12
    opened = asked(client, "watch/bands", by="firmware", group="", parts="12")
    assert {row["name"]: row["states"] for row in opened["rows"]}["pod-1"].strip() != ""
    assert {row["name"]: row["states"] for row in opened["rows"]}["pod-2"] == " " * 12
    wrong = client.get("/api/v1/watch/bands", {"by": "colour"})
    assert wrong.status_code == 400 and "expected all, type" in wrong.json()["detail"]


def test_health_by_site_worst_first(world: World, engine: Any, client: Client) -> None:
    came(world, engine)
    told = asked(client, "watch/health", order="decoded")
    assert told["results"][0]["title"] == "Pod 1" and told["results"][0]["decoded"] == 0.75
    (site,) = asked(client, "watch/health", by="site", type="pod")["results"]
    assert site["devices"] == 4 and site["messages"] == 180
    assert client.get("/api/v1/watch/health", {"order": "colour"}).status_code == 400


def test_a_battery_that_sinks_is_said_with_what_is_left(world: World, engine: Any) -> None:
    """One value a day, for ten days; the other pod's stays."""
    world.type.fields = FIELDS
    world.type.setpoints = [{"name": "battery_min", "unit": "V", "value": 3.0}]
    world.type.save()
    world.decoder("decoder pod for bytes, big endian\n  byte 0 battery u16 / 100 V\n")
    messages = [
        (pod, day * 86_400.0, (400 - (5 * day if pod == 0 else day % 2)).to_bytes(2, "big") + b"\0\0")
        for day in range(10)
        for pod in (0, 1)
    ]
    with psycopg.connect(world.url) as own:
        own.execute(
            "select message_day((%s::timestamptz - interval '12 days')::date + d) from generate_series(0, 15) d",
            (START,),
        )
        own.cursor().executemany(
            "insert into message (received_at, device_id, channel, payload) values (%s, %s, 3, %s)",
            [(START + timedelta(seconds=at, days=-9), world.pods[pod].pk, raw) for pod, at, raw in messages],
        )
    work_off(engine)
    with connection.cursor() as cursor:
        (one,) = looked_for(cursor, START + HOUR)
    assert (one.device, one.kind, one.field) == (world.pods[0].pk, "battery", "battery")
    assert one.per_day == pytest.approx(-0.05) and one.left is not None
    assert one.left[0] == pytest.approx((3.55 - 3.0) / 0.05)


def test_a_value_unlike_its_neighbours_is_found(world: World, engine: Any) -> None:
    world.decoder()
    world.type.fields = FIELDS
    world.type.cadence_s = 86_400 * 10
    world.type.save()
    more = [
        Device.objects.create(name=f"pod-{n}", title=f"Pod {n}", type=world.type, site=world.site) for n in range(4, 9)
    ]
    world.pods += more
    registry_changed()
    world.arrive(*[(n, 60.0 + n, payload(40.0 if n == 7 else 5 + n / 10)) for n in range(9)])
    work_off(engine)
    with connection.cursor() as cursor:
        (one,) = unusual(cursor)
    assert (one.device, one.field, one.neighbours) == (more[3].pk, "level", 8)
    assert (one.value, one.low, one.high) == (40.0, 5.0, 5.8)


def test_a_shift_is_handed_over_as_text(world: World, engine: Any, client: Client) -> None:
    world.decoder()
    world.condition()
    world.arrive(*[(0, n * 60.0, payload(9 if n > 110 else 2)) for n in range(120)])
    work_off(engine)
    told = asked(client, "watch", to=(START + 2 * HOUR + timedelta(minutes=1)).isoformat())
    assert told["raised"] == told["open"] == told["untaken"] == 1 and sum(told["states"].values()) == told["devices"]
    text = client.get(
        "/api/v1/watch/handover", {"from": START.isoformat(), "to": (START + 2 * HOUR + HOUR / 60).isoformat()}
    )
    assert text["Content-Type"].startswith("text/markdown")
    body = text.content.decode()
    assert "## Needs a hand\n\n- high: Pod 0 stands at 9 m, since" in body and "1 open, 1 of them not taken" in body


def test_the_rhythm_of_devices_tells_each_message_in_its_part(world: World, engine: Any, client: Client) -> None:
    came(world, engine)
    found = asked(client, "watch/rhythm", points="120", group="site", order="availability")
    assert found["count"] == len(world.pods) + 1 and found["part_s"] == 60 and found["parts"] == 120
    rows = {row["name"]: row for row in found["results"]}
    one, two = rows["pod-0"], rows["pod-1"]
    # A message at the very start of a span belongs to the span before it.
    assert one["messages"] == [0] + [1] * 119 and sum(two["messages"]) == 59 and sum(two["failed"]) == 14
    assert (one["figure"], two["figure"]) == (1.0, 0.5) and found["figure"] == "availability"
    assert one["group"] == "The Reach" and found["unheard"] == []
    names = [row["name"] for row in found["results"]]
    paged = [asked(client, "watch/rhythm", order="name", limit="2", offset=str(n))["results"] for n in (0, 2)]
    assert names.index("pod-1") < names.index("pod-0"), "the least comes first"
    assert [row["name"] for page in paged for row in page] == sorted(names)[:4]
    assert client.get("/api/v1/watch/rhythm", {"points": "801"}).status_code == 400
    assert client.get("/api/v1/watch/rhythm", {"group": "colour"}).status_code == 400


def test_before_a_device_was_known_nothing_is_missing(world: World, engine: Any, client: Client) -> None:
    came(world, engine)
    Device.objects.filter(name__in=["pod-0", "pod-3"]).update(registered_at=START + HOUR)
    rows = asked(client, "watch/rhythm", points="120")["results"]
    listed = asked(client, "devices")["results"]
    assert {r["name"]: r["known_from"] for r in rows if r["name"] in ("pod-0", "pod-2", "pod-3")} == {
        "pod-0": 1,  # it spoke before it was registered
        "pod-2": 0,
        "pod-3": 60,
    }
    assert next(r["known_from"] for r in listed if r["name"] == "pod-3") == 24


def test_the_rhythm_leans_where_a_clock_is_off(world: World, engine: Any, client: Client) -> None:
    world.decoder("decoder pod for bytes, big endian\n  byte 0  ago  u16  s\n  stamp received - ago\n")
    Device.objects.all().update(registered_at=START)
    world.arrive(*((0, n * 600.0 + 1, (1800).to_bytes(2, "big")) for n in range(12)))
    work_off(engine)
    (row,) = [r for r in asked(client, "watch/rhythm", points="12")["results"] if r["name"] == "pod-0"]
    assert row["messages"] == [1] * 12
    assert row["late"] == [[0, 6, 1800], [6, 12, 1800]], "known by the hour"


def test_clocks_stand_in_the_order_of_how_far_they_are_off(world: World, engine: Any, client: Client) -> None:
    world.decoder("decoder pod for bytes, big endian\n  byte 0  off  i16  s\n  stamp received - off\n")
    Device.objects.all().update(registered_at=START)
    world.arrive(*((pod, 60.0 + pod, off.to_bytes(2, "big", signed=True)) for pod, off in ((0, 5), (1, -200), (2, 90))))
    work_off(engine)
    for path in ("devices", "watch/rhythm"):
        listed = [row["name"] for row in asked(client, path, order="-clock", type="pod")["results"]]
        assert listed[:3] == ["pod-1", "pod-2", "pod-0"], path
