"""Routes in the stream: what they do to readings, that it is counted, and that no cutting or restart changes it."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta
from typing import Any

import pytest

from server.records.again.models import DecodeAgain
from server.records.definitions.models import Definition, ReferenceTable
from server.records.fleet.models import Device, DeviceType, Site
from server.records.telling.models import Outlet
from server.rules.kinds import NotPublishable
from server.rules.publishing import check, publish, retire
from server.rules.registering import control, registry_changed
from server.rules.routes import in_order, reorder
from server.rules.uses import takes_away
from tests.server.test_engine import cut_anyhow, stream
from tests.server.world import DECODER, START, World, decode_again, payload, work_off

CLEAN = """route "no level above the rim"
  on pod
  when level > 5.4 m
    drop "above the rim" level
"""
DERIVE = """route "warmth"
  on pod
  derive warmth = temp - 10 K
  derive rise = level * level / level into cm
"""
THIN = """route "levels that move"
  on pod
  thin level by 0.3 m every 10 min
"""
SEND = """route "to the harbour"
  on pod
  when total(level, 5 min) > 10 m
    mark busy "yes"
    send level, temp to "harbour"
"""


def harbour() -> Outlet:
    return Outlet.objects.create(name="harbour", kind="webhook", settings={"url": "https://harbour.example/in"})


def readings(world: World) -> list[tuple]:
    return world.ask(
        "select d.name, extract(epoch from r.at - %s)::int, l.fields->0->>'name', r.nums, r.missing from reading_row r"
        " join fleet_device d on d.id = r.device_id join layout l on l.id = r.layout_id order by r.at, 3",
        START,
    )


def lines(world: World) -> list[tuple]:
    return world.ask(
        "select d.name, a.line, sum(seen), sum(took), sum(failed) from route_activity a join definitions_definition d"
        " on d.id = a.definition_id group by 1, 2 order by 1, 2"
    )


def test_a_reading_is_dropped_with_its_reason_and_counted(world: World, engine: Any) -> None:
    world.decoder()
    world.route(CLEAN)
    world.arrive((0, 0, payload(3.0)), (0, 60, payload(5.6)), (0, 120, b"\xff\xff\x00\x78"))
    work_off(engine)
    assert readings(world) == [
        ("pod-0", 0, "level", [3.0, 12.0], None),
        ("pod-0", 60, "level", [None, 12.0], {"level": "above the rim"}),
        ("pod-0", 120, "level", [None, 12.0], {"level": "open"}),
    ]
    assert lines(world) == [("no level above the rim", 3, 3, 1, 1), ("no level above the rim", 4, 1, 1, 0)]
    (fields,) = world.ask("select fields from latest")[0]
    assert fields["level"][0] == 3.0 and fields["temp"][0] == 12.0


def test_a_dropped_reading_raises_no_alarm_and_a_condition_can_watch_drops(world: World, engine: Any) -> None:
    world.decoder()
    world.route(CLEAN)
    world.condition(
        'condition "high" priority high\n  on pod\n  raise when level > 5.2 m\n  say "{device} stands at {value}"\n'
    )
    world.arrive((0, 0, payload(5.6)), (0, 60, payload(5.3)))
    work_off(engine)
    assert world.ask("select value from alarms_alarm") == [(5.3,)]


def test_a_derived_field_is_declared_stored_and_watched(world: World, engine: Any) -> None:
    world.decoder()
    world.route(DERIVE)
    fields = {f["name"]: f["unit"] for f in DeviceType.objects.get(key="pod").fields}
    assert fields["warmth"] == "Cel" and fields["rise"] == "cm"
    world.condition('condition "warm" priority low\n  on pod\n  raise when warmth > 4 Cel\n')
    world.arrive((0, 0, payload(3.0, 12.0)), (0, 60, payload(3.0, 15.0)), (0, 120, b"\xff\xff\x00\x78"))
    work_off(engine)
    assert readings(world) == [  # beside what they were derived from
        ("pod-0", 0, "level", [3.0, 12.0, 2.0, 300.0], None),
        ("pod-0", 60, "level", [3.0, 15.0, 5.0, 300.0], None),
        ("pod-0", 120, "level", [None, 12.0, 2.0, None], {"level": "open"}),
    ]
    assert lines(world) == [("warmth", 3, 3, 3, 0), ("warmth", 4, 3, 2, 1)]
    assert world.ask("select value from alarms_alarm") == [(5.0,)]


def test_what_its_decoder_gives_cannot_be_derived(world: World) -> None:
    world.decoder()
    with pytest.raises(NotPublishable, match=r"line 3.*gives `level` already|gives `level` already"):
        world.route('route "again"\n  on pod\n  derive level = level * 2\n')


def test_any_cutting_and_any_restart_give_the_same(world: World, engine: Any) -> None:
    world.decoder()
    harbour()
    for text in (CLEAN, SEND, THIN, DERIVE):
        world.route(text)
    world.condition()
    world.arrive(*stream(11, 160))
    found = cut_anyhow(world, engine)
    assert found[0]["sent"] and found[0]["routes"]
    assert found[0] == found[1] == found[2]


def test_routes_pass_readings_on_in_their_order(world: World, engine: Any) -> None:
    world.decoder()
    double = world.route('route "double"\n  on pod\n  correct level = level * 2\n')
    more = world.route('route "more"\n  on pod\n  correct level = level + 1 m\n')
    world.arrive((0, 0, payload(2.0)))
    work_off(engine)
    reorder([more.pk, double.pk], None)
    assert [d.name for d in in_order()] == ["more", "double"]
    world.arrive((0, 60, payload(2.0)))
    work_off(engine)
    retire(double, None)
    world.arrive((0, 120, payload(2.0)))
    work_off(engine)
    assert [row[3][0] for row in readings(world)] == [5.0, 6.0, 3.0]
    engine.load()  # as of the cursor, from what the stream says
    world.arrive((0, 180, payload(2.0)))
    work_off(engine)
    assert readings(world)[-1][3][0] == 3.0


def test_a_new_version_counts_from_its_place_in_the_stream(world: World, engine: Any) -> None:
    world.decoder()
    world.route('route "offset"\n  on pod\n  correct level = level + 1 m\n')
    world.arrive((0, 0, payload(2.0)))
    world.route('route "offset"\n  on pod\n  correct level = level + 2 m\n')
    world.arrive((0, 60, payload(2.0)))
    work_off(engine)
    assert [row[3][0] for row in readings(world)] == [3.0, 4.0]


def test_labels_sites_and_tables_count_as_of_their_place(world: World, engine: Any) -> None:
    world.decoder()
    columns = [
        {"name": "device", "kind": "text", "unit": None, "required": True, "unique": True},
        {"name": "offset", "kind": "number", "unit": "m", "required": True, "unique": False},
    ]
    ReferenceTable.objects.create(name="samples", columns=columns, rows=[["pod-0", 0.5]])
    control("table", {"name": "samples", "columns": columns, "rows": [["pod-0", 0.5]]})
    world.route('route "by sample"\n  on pod\n  correct level = level + entry("samples", offset, device)\n')
    world.arrive((0, 0, payload(2.0)), (1, 1, payload(2.0)))
    control("table", {"name": "samples", "columns": columns, "rows": [["pod-1", 1.5]]})
    world.arrive((0, 60, payload(2.0)), (1, 61, payload(2.0)))
    work_off(engine)
    assert [(row[0], row[3][0]) for row in readings(world)] == [
        ("pod-0", 2.5),
        ("pod-1", 2.0),
        ("pod-0", 2.0),
        ("pod-1", 3.5),
    ]
    assert lines(world) == [("by sample", 3, 4, 2, 2)]


def test_readings_wait_for_their_outlet_as_they_stood_at_the_line(world: World, engine: Any) -> None:
    world.decoder()
    outlet = harbour()
    world.route(SEND)
    world.route('route "later"\n  on pod\n  correct level = level * 100\n')
    world.arrive((0, 0, payload(4.0)), (0, 60, payload(4.0)), (0, 120, payload(4.0, 13)))
    work_off(engine)
    ((found, body),) = world.ask("select outlet_id, body from reading_out")
    assert found == outlet.pk
    assert body["device"] == "pod-0" and body["route"] == "to the harbour" and body["marks"] == {"busy": "yes"}
    assert body["values"] == {"level": {"value": 4, "unit": "m"}, "temp": {"value": 13, "unit": "Cel"}}
    assert body["at"] == (START + timedelta(seconds=120)).isoformat().replace("+00:00", "Z")


def test_what_waits_for_an_outlet_is_bounded_and_the_rest_is_said_to_be_lost(
    world: World, engine: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("server.store.routing.MOST_WAITING", 10)
    monkeypatch.setattr("server.store.routing.TRIMMED_EVERY", 5)
    world.decoder()
    outlet = harbour()
    world.route('route "all"\n  on pod\n  send to "harbour"\n')
    for turn in range(5):
        world.arrive(*[(0, turn * 100 + k, payload(1.0)) for k in range(6)])
        work_off(engine)
    assert world.ask("select count(*) from reading_out") == [(10,)]
    assert world.ask("select outlet_id, why, readings from reading_out_lost") == [(outlet.pk, "too many waited", 20)]
    assert world.ask("select count(*) from reading_row") == [(30,)]


def test_decoding_again_takes_the_readings_through_the_routes(world: World, engine: Any, again: Any) -> None:
    """Also windows: the messages before the span are gone through first."""
    world.decoder()
    summing = 'route "sums"\n  on pod\n  derive lately = total(level, 10 min)\n'
    world.route(summing)
    world.arrive(*[(0, 60 * k, payload(1.0 + k)) for k in range(8)])
    work_off(engine)
    first = readings(world)
    assert of_field(world, "lately", "pod")[-1] == ("pod-0", 420, 36.0)
    type_ = DeviceType.objects.get(key="pod")
    DecodeAgain.objects.create(type=type_, start=START + timedelta(seconds=200), end=START + timedelta(seconds=500))
    decode_again(again, engine, 2)
    assert readings(world) == first


def test_what_decoding_again_would_change_is_told_with_the_routes(
    world: World, engine: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Windows look back on what was before the span, and on others of the device where it is refused ones."""
    from server.trials import again

    monkeypatch.setattr(again, "CHUNK", 3)
    world.decoder()
    at_sites(world)
    world.route(GATHER)
    world.route('route "lately"\n  on pod\n  derive lately = total(level, 10 min)\n  thin temp by 1 K\n')
    world.arrive(*[(0, 60 * k, payload(1.0 + k)) for k in range(8)], (0, 500, b"\x00"), (0, 540, payload(9.0)))
    work_off(engine)
    before = world.everything()
    *_, last = again.preview(world.type.pk, START + timedelta(seconds=200), START + timedelta(days=1))
    assert {f["field"]: (f["differ"], f["state"]) for f in last["result"]["fields"]} == {
        "level": (0, "same"),
        "lately": (0, "same"),
        "temp": (0, "same"),
    }
    *_, refused = again.preview(world.type.pk, None, None)
    assert (refused["result"]["messages"], refused["result"]["decoded"]) == (1, 0)
    assert world.everything() == before


@pytest.mark.parametrize("most", [10_000, 2, 1])
def test_refused_messages_find_the_windows_of_routes_as_they_are_in_life(
    world: World, engine: Any, again: Any, most: int
) -> None:
    """What is derived over a window is the same as if the refused messages had been read when they came."""
    odd = {(pod, n) for pod, n in [(0, 3), (0, 4), (0, 7), (1, 0), (1, 5), (2, 11)]}
    messages = [
        (pod, 60 * n + pod, payload(1 + n / 10, 950 if (pod, n) in odd else 12)) for n in range(12) for pod in range(3)
    ]
    world.decoder(DECODER)
    world.route('route "lately"\n  on pod\n  derive lately = total(level, 10 min)\n')
    world.arrive(*messages)
    work_off(engine)
    assert world.ask("select count(*) from refused") == [(len(odd),)]
    world.decoder(DECODER.replace("  reject", "  # reject"))
    work_off(engine)
    DecodeAgain.objects.create(type=world.type)
    decode_again(again, engine, most)
    wanted = {
        (f"pod-{pod}", 60 * n + pod): pytest.approx(sum(1 + k / 10 for k in range(max(n - 9, 0), n + 1)))
        for pod, n in odd
    }
    found = {row[:2]: row[2] for row in of_field(world, "lately", "pod")}
    assert world.ask("select count(*) from refused") == [(0,)]
    assert {key: found[key] for key in wanted} == wanted
    assert len(found) == len(messages)


def test_one_route_on_two_types(world: World, engine: Any) -> None:
    world.decoder()
    gate = Definition.objects.create(kind="decoder", name="gate", type=world.gate_type)
    from server.rules.publishing import publish

    publish(gate, DECODER.replace("decoder pod", "decoder gate").replace("temp", "warm"), None)
    world.route('route "both"\n  on pod, gate\n  correct level = level + 1 m\n  drop "not wanted" temp, warm\n')
    assert {t.key for t in Definition.objects.get(name="both").on.all()} == {"pod", "gate"}
    world.arrive((0, 0, payload(2.0)))
    with pytest.raises(NotPublishable, match="not the same in all"):
        world.route('route "one of them"\n  on pod, gate\n  correct temp = temp + 1 K\n')
    work_off(engine)
    assert readings(world) == [("pod-0", 0, "level", [3.0, None], {"temp": "not wanted"})]


def test_a_route_that_cannot_be_evaluated_is_left_out_and_loses_nothing(
    world: World, engine: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    world.decoder()
    world.route(DERIVE)
    world.route(CLEAN)
    from oculum.routing.acting import Run

    real = Run._give

    def failing(self: Any, *given: Any) -> None:
        raise RuntimeError("odd")

    monkeypatch.setattr(Run, "_give", failing)
    world.arrive((0, 0, payload(5.6)))
    work_off(engine)
    assert readings(world) == [("pod-0", 0, "level", [None, 12.0], {"level": "above the rim"})]
    monkeypatch.setattr(Run, "_give", real)
    world.route(DERIVE)
    world.arrive((0, 60, payload(3.0)))
    work_off(engine)
    assert readings(world)[-1] == ("pod-0", 60, "level", [3.0, 12.0, 2.0, 300.0], None)


def test_a_device_that_a_route_does_not_select_is_let_be(world: World, engine: Any) -> None:
    world.decoder()
    Device.objects.filter(name="pod-1").update(labels={"stage": "resting"})
    control("registry", {})
    world.route('route "growing"\n  on pod at site "reach" with label stage != "resting"\n  correct level = 0 m\n')
    world.arrive((0, 0, payload(2.0)), (1, 1, payload(2.0)))
    work_off(engine)
    assert [(row[0], row[3][0]) for row in readings(world)] == [("pod-0", 0.0), ("pod-1", 2.0)]


GATHER = """route "levels of sites"
  on pod
  gather level_highest = max_of(level, 30 min)
  gather rain = sum_of(level) every 1 h
"""


def of_sites(world: World, field: str) -> list[tuple]:
    return of_field(world, field, "site")


def of_field(world: World, field: str, type_: str) -> list[tuple]:
    """Device, seconds and value of a field, in the order of time."""
    found = [
        (name, second, dict(zip((f["name"] for f in fields), nums, strict=True)).get(field))
        for name, second, fields, nums in world.ask(
            "select d.name, extract(epoch from r.at - %s)::int, l.fields, r.nums from reading_row r join layout l on"
            " l.id = r.layout_id join fleet_device d on d.id = r.device_id join fleet_devicetype t on t.id = d.type_id"
            " where t.key = %s order by r.at, d.name",
            START,
            type_,
        )
    ]
    return [row for row in found if row[2] is not None]


def at_sites(world: World) -> None:
    """Two pods at a cove, one at the reach that it lies in."""
    cove = Site.objects.create(name="cove", title="Cove", parent=world.site)
    Device.objects.filter(pk__in=[pod.pk for pod in world.pods[:2]]).update(site=cove)
    registry_changed()


def test_a_site_has_readings_of_its_own_and_is_watched_by_them(world: World, engine: Any) -> None:
    world.decoder()
    at_sites(world)
    world.route(GATHER)
    assert [d.name for d in Device.objects.filter(type__key="site").order_by("name")] == ["site-cove", "site-reach"]
    on_site = 'condition "high water" priority high\n  on site\n  raise when level_highest > 4 m\n'
    definition = Definition.objects.create(kind="condition", name="high", type=DeviceType.objects.get(key="site"))
    publish(definition, on_site, None)
    world.arrive((0, 0, payload(3.0)), (1, 60, payload(2.0)), (2, 120, payload(5.0)), (1, 3660, payload(1.0)))
    work_off(engine)
    assert of_sites(world, "level_highest") == [
        ("site-cove", 0, 3.0),
        ("site-reach", 0, 3.0),
        ("site-cove", 60, 3.0),
        ("site-reach", 60, 3.0),
        ("site-reach", 120, 5.0),
        ("site-cove", 3660, 1.0),
        ("site-reach", 3660, 1.0),
    ]
    assert [row[::2] for row in of_sites(world, "rain")] == [("site-cove", 5.0), ("site-reach", 10.0)]
    assert world.ask("select d.name, a.value from alarms_alarm a join fleet_device d on d.id = a.device_id") == [
        ("site-reach", 5.0)
    ]
    assert Counter(row[0] for row in world.ask("select device_id from activity")) == {
        d.pk: 2 if d == world.pods[1] else 1 for d in world.pods[:3]
    }


def test_readings_of_sites_are_the_same_however_the_stream_is_cut(world: World, engine: Any) -> None:
    world.decoder()
    at_sites(world)
    world.route(GATHER)
    world.arrive(*stream(7, 160))
    found = cut_anyhow(world, engine)
    assert found[0] == found[1] == found[2]


def test_what_others_use_is_named_when_a_draft_no_longer_gives_it(world: World) -> None:
    world.decoder()
    world.route(GATHER)
    world.route(DERIVE)
    site = DeviceType.objects.get(key="site")
    on_site = 'condition "high water" priority high\n  on site\n  raise when level_highest > 4 m\n'
    publish(Definition.objects.create(kind="condition", name="high water", type=site), on_site, None)
    world.condition('condition "warm" priority low\n  on pod\n  raise when warmth > 4 Cel\n')
    plan, _ = check("route", GATHER.replace("level_highest", "highest"), None)
    assert takes_away(plan, None) == [{"field": "level_highest", "users": ["condition “high water”"]}]
    plan, _ = check("route", DERIVE.replace("warmth = temp", "warm = temp"), None)
    assert takes_away(plan, None) == [{"field": "warmth", "users": ["condition “warm”"]}]
    plan, _ = check("route", DERIVE, None)
    assert takes_away(plan, None) == []


def test_a_field_of_sites_comes_from_one_route(world: World) -> None:
    world.decoder()
    world.route(GATHER)
    with pytest.raises(NotPublishable, match="route “levels of sites” gathers `rain` already"):
        world.route('route "more"\n  on pod\n  gather rain = max_of(level)\n')


def test_decoding_again_makes_the_readings_of_sites_again(world: World, engine: Any, again: Any) -> None:
    world.decoder()
    at_sites(world)
    world.route(GATHER)
    world.arrive((0, 0, payload(3.0)), (1, 60, payload(2.0)), (0, 3660, payload(1.0)))
    work_off(engine)
    world.decoder(DECODER.replace("u16 / 10", "u16 / 5", 1))
    work_off(engine)
    start, end = START - timedelta(seconds=1), START + timedelta(days=1)
    DecodeAgain.objects.create(type=world.type, start=start, end=end)
    decode_again(again, engine, 2)
    highest = {row[:2]: row[2] for row in of_sites(world, "level_highest")}
    assert highest == {
        ("site-cove", 0): 6.0,
        ("site-reach", 0): 6.0,
        ("site-cove", 60): 6.0,
        ("site-reach", 60): 6.0,
        ("site-cove", 3660): 2.0,
        ("site-reach", 3660): 2.0,
    }


def test_what_is_made_of_two_types_stays_as_it_was_when_one_is_decoded_again(
    world: World, engine: Any, again: Any
) -> None:
    world.decoder()
    gate = Definition.objects.create(kind="decoder", name="gate", type=world.gate_type)
    publish(gate, DECODER.replace("decoder pod", "decoder gate"), None)
    world.route('route "both"\n  on pod, gate\n  gather highest = max_of(level, 1 h)\n')
    world.arrive((0, 0, payload(3.0)))
    work_off(engine)
    before = of_sites(world, "highest")
    assert before == [("site-reach", 0, 3.0)]
    start, end = START - timedelta(seconds=1), START + timedelta(days=1)
    DecodeAgain.objects.create(type=world.type, start=start, end=end)
    decode_again(again, engine, 2)
    assert of_sites(world, "highest") == before
