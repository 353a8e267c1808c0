"""The desk of a condition: what a draft compares, what it would have raised beside the version in force, and at other
limits; and what people know of the past.
"""

from __future__ import annotations

import asyncio
import json
import random
from collections.abc import Iterable
from datetime import timedelta
from typing import Any

import psycopg
import pytest
from django.utils import timezone

from oculum.language.conditions.plan import ConditionPlan
from server.rules.publishing import check
from server.rules.registering import set_setpoint
from server.trials.conditions import condition_trial
from server.trials.limits import suggested
from server.trials.tracing import condition_trace
from tests.server.test_api import send, signed_in
from tests.server.world import CONDITION, START, World, payload, spans_of, work_off

END = START + timedelta(hours=3)
TEXT = 'condition "tried" priority low\n  on pod\n  raise when '


def planned(world: World, text: str) -> ConditionPlan:
    plan, problems = check("condition", text, world.type)
    assert isinstance(plan, ConditionPlan), problems
    return plan


def last(steps: Iterable[dict[str, Any]]) -> Any:
    *_, end = steps
    return end["result"]


@pytest.fixture
def past(world: World, engine: Any) -> list[tuple[int, int, float]]:
    """(pod, second, level) of three hours of three pods, a reading a minute in turn."""
    rng = random.Random(3)
    world.decoder()
    level, sent = [3.0, 4.0, 5.0], []
    for n in range(180):
        pod = n % 3
        level[pod] = round(min(max(level[pod] + rng.uniform(-1.5, 1.5), 0), 9), 1)
        sent.append((pod, 60 * n, level[pod]))
    world.arrive(*((pod, at, payload(value)) for pod, at, value in sent))
    work_off(engine)
    world.type.refresh_from_db()
    return sent


def test_the_curves_are_what_is_compared(world: World, past: list[tuple[int, int, float]]) -> None:
    """A mean over ten minutes beside its plain sum over the readings that lie in the window."""
    plan = planned(world, TEXT + "mean(level, 10 min) > setpoint level_max or level > 8 m\n")
    found = last(condition_trace(plan, world.type, world.pods[0].pk, START, END, {}))
    mean, plain = found["curves"]
    own = [(at, value) for pod, at, value in past if pod == 0]
    assert (mean["words"], mean["unit"], plain["words"]) == ("mean(level, 10 min)", "m", "level")
    assert [t - START.timestamp() for t in mean["t"]] == [at for at, _ in own]
    assert plain["v"] == [value for _, value in own] and set(plain["limit"]) == {8.0} and set(mean["limit"]) == {5.0}
    slow = []
    for at, _ in own:
        window = [value for other, value in own if at - 600 < other <= at]
        slow.append(sum(window) / len(window))
    assert mean["v"] == pytest.approx(slow)
    over = [at for (at, value), m in zip(own, slow, strict=True) if m > 5 or value > 8]
    held = [(h["from"], h["to"]) for h in found["holds"]]
    for at, _ in own:
        moment = START + timedelta(seconds=at)
        assert any(a <= moment < b for a, b in held) == (at in over)
    assert [(a["raised_at"], a["cleared_at"]) for a in found["alarms"]] == [
        (a, b if b < END else None) for a, b in held
    ], "without a delay and a deadband an alarm is open as long as its rule holds"


def test_a_silence_rises_until_something_arrives(world: World, past: list[tuple[int, int, float]]) -> None:
    plan = planned(world, TEXT + "silent(5 min)\n")
    found = last(condition_trace(plan, world.type, world.pods[1].pk, START, END, {}))
    [curve] = found["curves"]
    assert (curve["words"], curve["unit"]) == ("silence", "s")
    arrivals = [at for pod, at, _ in past if pod == 1]
    assert len(curve["t"]) == 2 * len(arrivals) + 1
    assert curve["v"][2:6] == [180, 0, 180, 0] and set(curve["limit"]) == {300.0}
    assert curve["v"][-1] == END.timestamp() - START.timestamp() - arrivals[-1]


def test_curves_of_a_site(world: World, past: list[tuple[int, int, float]]) -> None:
    plan = planned(world, 'condition "s" priority low\n  on each site of pod\n  raise when max_of(level) > 7 m\n')
    found = last(condition_trace(plan, world.type, world.site.pk, START, END, {}))
    newest: dict[int, float] = {}
    slow = []
    for pod, _, value in past:
        newest[pod] = value
        slow.append(max(newest.values()))
    assert found["curves"][0]["v"] == slow


def test_long_curves_are_thinned_out_and_keep_their_peaks(world: World, engine: Any) -> None:
    world.decoder()
    world.arrive(*((0, n, payload(9.9 if n == 4321 else (n % 50) / 10)) for n in range(6000)))
    work_off(engine)
    world.type.refresh_from_db()
    plan = planned(world, TEXT + "level > 9 m\n")
    [curve] = last(condition_trace(plan, world.type, world.pods[0].pk, START, END, {}))["curves"]
    assert len(curve["t"]) <= 1501 and max(curve["v"]) == 9.9 and curve["t"] == sorted(curve["t"])


def test_a_draft_is_held_against_the_version_in_force(world: World, past: list[tuple[int, int, float]]) -> None:
    before = planned(world, TEXT + "level > 5 m\n")
    plan = planned(world, TEXT + "level > 6 m\n")
    found = last(condition_trial(plan, world.type, START, END, before))
    alone = {p: spans_of(last(condition_trial(p, world.type, START, END))) for p in (plan, before)}
    key = lambda s: (s["device"], s["raised_at"], s["cleared_at"])  # noqa: E731
    assert {key(s) for s in spans_of(found)} == {key(s) for s in alone[plan]}

    def meets(one: dict[str, Any], others: list[dict[str, Any]]) -> bool:
        return any(
            o["device"] == one["device"]
            and (o["cleared_at"] or END) >= one["raised_at"]
            and o["raised_at"] <= (one["cleared_at"] or END)
            for o in others
        )

    against = found["against"]
    assert against["raised"] == len(alone[before]) and against["new"] == 0, "a higher limit raises nothing new"
    assert against["gone"] == sum(not meets(one, alone[plan]) for one in alone[before]) > 0
    assert against["same"] + against["changed"] == len(alone[plan]) and against["changed"] > 0
    assert sum(len(row["gone"]) for row in found["rows"]) == against["gone"]
    for row in found["rows"]:
        lasting = [((s["cleared_at"] or END) - s["raised_at"]).total_seconds() for s in row["spans"]]
        assert row["raised"] == len(lasting) and row["in_alarm_s"] == pytest.approx(sum(lasting))
        pairs = zip(row["spans"], row["spans"][1:], strict=False)
        assert row["again"] == sum(b["raised_at"] - a["cleared_at"] <= timedelta(hours=1) for a, b in pairs)
    assert {*found["never"]} == {"Pod 3"} | {p.title for p in world.pods if p.name not in {s["device"] for s in
                                                                                           alone[plan]}}  # fmt: skip


def test_a_setpoint_is_supposed(world: World, past: list[tuple[int, int, float]], engine: Any) -> None:
    """As if the type had had another limit; a device's own one stays."""
    set_setpoint(world.type, "level_max", 1.0, None, device=world.pods[1].pk)
    world.arrive((1, 10_790, payload(3.0)))
    work_off(engine)
    plan = planned(world, TEXT + "level > setpoint level_max\n")
    number = planned(world, TEXT + "level > 7 m\n")
    supposed = last(condition_trial(plan, world.type, START, END, None, {"level_max": 7.0}))
    plain = last(condition_trial(number, world.type, START, END))
    of = lambda found, name: [s for s in spans_of(found) if s["device"] == name]  # noqa: E731
    for name in ("pod-0", "pod-2"):
        assert [s["raised_at"] for s in of(supposed, name)] == [s["raised_at"] for s in of(plain, name)]
    limits = {row["device"]: (row["limit"], row["own_limit"]) for row in supposed["rows"]}
    assert limits["pod-1"] == (1.0, True) and supposed["own_limits"] == 1
    assert all(limits[name] == (7.0, False) for name in limits if name != "pod-1")


def test_a_suggested_point_is_the_trial_at_that_limit(world: World, past: list[tuple[int, int, float]]) -> None:
    text = TEXT + "level > 6 m held 2 min\n"
    found = last(suggested(text, planned(world, text), world.type, START, END))
    assert found["values"] == 180 and found["unit"] == "m" and found["percentiles"] == sorted(found["percentiles"])
    assert {p["held_s"] for p in found["points"]} == {0.0, 120.0, 360.0}
    assert 6.0 in {p["value"] for p in found["points"]} and len({p["value"] for p in found["points"]}) > 5
    for point in found["points"]:
        held = f" held {point['held_s']:.0f} s" if point["held_s"] else ""
        other = planned(world, TEXT + f"level > {point['value']} m{held}\n")
        alone = last(condition_trial(other, world.type, START, END))
        assert (point["raised"], point["devices"]) == (alone["raised"], alone["devices_raised"])
        assert point["a_day"] == pytest.approx(alone["raised"] * 8)


def lines(answer: Any) -> dict[str, Any]:
    async def read() -> bytes:
        return b"".join([part async for part in answer.streaming_content])

    found: dict[str, Any] = json.loads(asyncio.run(read()).splitlines()[-1])
    return found


def test_what_people_marked_is_held_against_every_draft(world: World, past: list[tuple[int, int, float]]) -> None:
    condition = world.condition(TEXT + "level > 5 m\n")
    client, viewer = signed_in(world, "operator"), signed_in(world, "viewer")
    path = f"definitions/{condition.pk}/incidents"

    def trial(text: str) -> dict[str, Any]:
        body = {"text": text, "start": START.isoformat(), "end": END.isoformat()}
        found: dict[str, Any] = send(viewer, "POST", f"definitions/{condition.pk}/trial", body).json()["condition"]
        return found

    first, second, *_ = spans_of(trial(TEXT + "level > 5 m\n"))
    marked = []
    for one, real in ((first, True), (second, False)):
        body = {"device": one["device"], "begin": one["raised_at"], "end": one["cleared_at"], "real": real}
        answer = send(client, "POST", path, body)
        assert answer.status_code == 201, answer.content
        marked.append(answer.json()["id"])
    said = {i["id"]: i for i in trial(TEXT + "level > 5 m\n")["incidents"]}
    assert [(said[m]["real"], said[m]["raised"]) for m in marked] == [(True, True), (False, True)]
    said = {i["id"]: i for i in trial(TEXT + "level > 20 m\n")["incidents"]}
    assert [said[m]["raised"] for m in marked] == [False, False]
    body = {"text": TEXT + "level > 5 m\n", "start": END.isoformat(), "end": (END + timedelta(hours=1)).isoformat()}
    other = send(viewer, "POST", f"definitions/{condition.pk}/trial", body).json()["condition"]
    assert [i["raised"] for i in other["incidents"]] == [None, None], "the trial does not reach over them"
    again = {"device": first["device"], "begin": first["raised_at"], "end": first["cleared_at"], "real": False}
    assert send(client, "POST", path, again).status_code == 201
    listed = viewer.get("/api/v1/" + path).json()["results"]
    assert len(listed) == 2 and not any(i["real"] for i in listed), "the later word counts"
    assert send(viewer, "POST", path, again).status_code == 403
    assert send(client, "DELETE", f"{path}/{listed[0]['id']}").status_code == 204
    for wrong, why in (
        ({"device": "nobody"}, "no device and no site"),
        ({"end": "2000-01-01T00:00:00Z"}, "begins before it ends"),
        ({"end": "2100-01-01T00:00:00Z"}, "still to come"),
    ):
        answer = send(client, "POST", path, again | wrong)
        assert answer.status_code in (400, 404) and why in json.dumps(answer.json()), answer.content


def test_the_check_says_where_limits_can_be_taken_hold_of(world: World, past: list[tuple[int, int, float]]) -> None:
    text = 'condition "t" priority low\n  on pod\n  raise when mean(temp, 1 h) > 290 K deadband 0.5 K held 20 min\n'
    client = signed_in(world, "viewer")
    [limit] = send(client, "POST", "check", {"kind": "condition", "text": text, "type": "pod"}).json()["limits"]
    row = text.split("\n")[limit["line"] - 1]
    assert row[limit["column"] - 1 : limit["end_column"] - 1] == "290 K"
    assert (limit["words"], limit["number"], limit["unit"]) == ("mean(temp, 1 h)", 290, "K")
    assert (limit["deadband"], limit["band_unit"], limit["held_s"], limit["priority"]) == (0.5, "K", 1200, "low")


def test_the_desk_asks_over_the_wire(world: World, past: list[tuple[int, int, float]]) -> None:
    condition = world.condition(CONDITION)
    client = signed_in(world, "viewer")
    body = {"text": CONDITION, "start": START.isoformat(), "end": END.isoformat()}
    path = f"definitions/{condition.pk}"
    found = lines(send(client, "POST", f"{path}/trace", body | {"device": "pod-0"}))
    assert found["result"]["curves"][0]["words"] == "level"
    found = lines(send(client, "POST", f"{path}/suggest", body))
    assert found["result"]["setpoint"] == "level_max" and found["result"]["points"]
    refused = send(client, "POST", f"{path}/trace", body | {"device": "nobody"})
    assert refused.status_code == 404
    long = body | {"start": (END - timedelta(days=40)).isoformat(), "device": "pod-0"}
    assert send(client, "POST", f"{path}/trace", long).json()["detail"] == "a trial reaches over 31 days at most"
    wrong = send(client, "POST", f"{path}/suggest", body | {"text": TEXT + "silent(5 min)\n"})
    assert "compares nothing" in lines(wrong)["error"]["detail"]


def test_a_condition_is_switched_off_for_a_time_and_comes_back_by_itself(world: World, engine: Any) -> None:
    """Its alarm is cleared with the reason; nothing is raised meanwhile; then the newest readings are looked at."""
    world.decoder()
    condition = world.condition(TEXT + "level > 5 m\n")
    world.arrive((0, 0, payload(7)))
    work_off(engine)
    client = signed_in(world, "engineer")
    until = timezone.now() + timedelta(days=2)
    body = {"until": until.isoformat(), "why": "the pump is being changed"}
    told = send(client, "POST", f"definitions/{condition.pk}/off", body).json()
    assert (told["off_why"], told["off_who"]) == (body["why"], "engineer") and told["live"] is not None
    work_off(engine)
    journal = world.ask("select what, note from alarms_journalentry order by id")
    assert journal[-1] == ("cleared", "switched off: the pump is being changed")
    world.arrive((1, 60, payload(8)))
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm where cleared_at is null") == [(0,)]
    engine.load()
    work_off(engine)
    assert world.ask("select count(*) from alarms_alarm where cleared_at is null") == [(0,)], "also after a restart"
    with psycopg.connect(world.url) as connection:
        connection.execute("update definitions_definition set off_until = now() - interval '1 second'")
    work_off(engine)
    work_off(engine)
    found = world.ask(
        "select d.name from alarms_alarm a join fleet_device d on d.id = a.device_id where cleared_at is null"
    )
    assert {name for (name,) in found} == {"pod-0", "pod-1"}
    assert client.get(f"/api/v1/definitions/{condition.pk}").json()["off_until"] is None
    for wrong in ({"until": "2000-01-01T00:00:00Z"}, {"until": "2100-01-01T00:00:00Z"}, {"why": ""}):
        assert send(client, "POST", f"definitions/{condition.pk}/off", body | wrong).status_code == 400
    assert send(client, "POST", f"definitions/{condition.pk}/off", body).status_code == 200
    assert send(client, "DELETE", f"definitions/{condition.pk}/off").json()["off_until"] is None
    operator = signed_in(world, "operator")
    assert send(operator, "POST", f"definitions/{condition.pk}/off", body).status_code == 403
