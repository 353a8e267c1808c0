"""The register over the API: sites, devices and their filters, people and tokens; and what is told of alarms and of the
fleet.
"""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

from tests.server.test_api import PASSWORD, V1, Client, send, signed_in
from tests.server.world import CONDITION, DECODER, START, World, payload, work_off


def asked(client: Client, path: str, **params: Any) -> Any:
    answer = client.get(V1 + path, params)
    assert answer.status_code == 200, answer.content
    return answer.json()


def names(found: dict[str, Any]) -> list[str]:
    return [d["name"] for d in found["results"]]


def at(seconds: float) -> str:
    return (START + timedelta(seconds=seconds)).isoformat()


# places and devices -----------------------------------------------------------------
def test_sites_are_a_tree_and_none_lies_in_itself(world: World) -> None:
    client = signed_in(world, "engineer")
    upper = send(client, "POST", "sites", {"name": "coast", "title": "The Coast", "zone": "Etc/GMT+2"})
    assert upper.status_code == 201, upper.content
    assert send(client, "PATCH", "sites/reach", {"parent": "coast"}).status_code == 200
    assert asked(client, "sites/reach")["parent"] == "coast"
    refused = send(client, "PATCH", "sites/coast", {"parent": "reach"})
    assert (refused.status_code, refused.json()["detail"]) == (400, "a site cannot lie in itself")
    assert send(client, "PATCH", "sites/coast", {"zone": "Nowhere/Much"}).status_code == 400
    # Devices of a place are also those of the places in it.
    assert len(names(asked(client, "devices", site="coast"))) == 5
    assert names(asked(client, "devices", site="nowhere")) == []


def test_devices_are_found_by_what_is_known_of_them(world: World, engine: Any) -> None:
    from server.records.fleet.models import Device

    client = signed_in(world, "viewer")
    Device.objects.filter(name="pod-2").update(labels={"stage": "growing"}, title="The third")
    world.decoder()
    world.arrive((1, 0, payload(3)), (0, 10, payload(3)), (2, 20, b"\x00"))
    work_off(engine)
    assert names(asked(client, "devices", label="stage=growing")) == ["pod-2"]
    assert names(asked(client, "devices", q="third pod")) == ["pod-2"]
    assert names(asked(client, "devices", gateway="gate-1")) == ["pod-3"]
    assert names(asked(client, "devices", type="gate")) == ["gate-1"]
    assert names(asked(client, "devices", order="heard"))[:3] != names(asked(client, "devices", order="name"))[:3]
    past = asked(client, "devices", to=at(30), state="undecodable")
    assert names(past) == ["pod-2"], past
    assert asked(client, "devices", limit=2, offset=2)["count"] == 5
    for wrong in ({"limit": 0}, {"limit": "x"}, {"offset": -1}):
        assert client.get(V1 + "devices", wrong).status_code == 400, wrong


def test_a_device_goes_only_if_nothing_hangs_on_it(world: World, engine: Any) -> None:
    client = signed_in(world, "engineer")
    world.decoder()
    world.arrive((0, 0, payload(3)))
    work_off(engine)
    assert "set its phase to retired instead" in send(client, "DELETE", "devices/pod-0").json()["detail"]
    assert "give them another gateway first" in send(client, "DELETE", "devices/gate-1").json()["detail"]
    assert send(client, "DELETE", "devices/pod-1").status_code == 204
    assert client.get(V1 + "devices/pod-1").status_code == 404
    assert send(client, "PATCH", "devices/pod-0", {"phase": "retired"}).status_code == 200
    assert "retired" in send(client, "POST", "devices/pod-0/key").json()["detail"]
    assert names(asked(client, "devices", phase="retired")) == ["pod-0"]
    told = [e["what"] for e in asked(client, "record")["results"]]
    assert "deleted device" in told


def test_a_type_keeps_its_key_and_its_setpoints_have_bounds(world: World) -> None:
    client = signed_in(world, "engineer")
    assert "stays as it is" in send(client, "PATCH", "types/pod", {"key": "pood"}).json()["detail"]
    assert send(client, "PUT", "types/pod/setpoints/level_mx", {"value": 3}).status_code == 404
    assert send(client, "PUT", "types/pod/setpoints/level_max", {"value": 1e16}).status_code == 400
    assert send(client, "PUT", "types/pod/setpoints/level_max", {"value": 7.5}).status_code in (200, 204)
    setpoints = asked(client, "devices/pod-0")["setpoints"]
    assert [(s["name"], s["value"]) for s in setpoints] == [("level_max", 7.5)]


def test_a_device_tells_the_limits_that_hold_for_it(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(3)))
    work_off(engine)
    (limit,) = asked(client, "devices/pod-0")["limits"]
    assert (limit["field"], limit["value"], limit["priority"]) == ("level", 5.0, "high")


# people -------------------------------------------------------------------------------
def test_people_tokens_and_leaving(world: World) -> None:
    admin = signed_in(world, "admin")
    new = {"username": "odd", "name": "Odd", "role": "viewer", "zone": "Etc/GMT+2"}
    assert "needs a password" in send(admin, "POST", "people", new).json()["detail"]
    assert send(admin, "POST", "people", {**new, "password": "short"}).status_code == 400
    assert send(admin, "POST", "people", {**new, "password": PASSWORD, "zone": "Nowhere/Much"}).status_code == 400
    made = send(admin, "POST", "people", {**new, "password": PASSWORD})
    assert made.status_code == 201 and "password" not in made.json()

    client = Client()
    assert (
        client.post(
            V1 + "sign-in", {"username": "odd", "password": PASSWORD}, content_type="application/json"
        ).status_code
        == 200
    )
    first = send(client, "POST", "tokens", {"name": "script", "role": "viewer"})
    assert first.status_code == 403 and "choose a password of your own first" in first.json()["detail"]
    own = {"old": PASSWORD, "new": "a password of one's own"}
    assert send(client, "POST", "me/password", own).json()["must_change_password"] is False
    token = send(client, "POST", "tokens", {"name": "script", "role": "viewer"}).json()
    bearer: dict[str, Any] = {"HTTP_AUTHORIZATION": f"Bearer {token['key']}"}
    assert Client().get(V1 + "me", **bearer).json()["username"] == "odd"
    assert "key" not in asked(client, "tokens")["results"][0] or not asked(client, "tokens")["results"][0]["key"]
    assert send(client, "DELETE", f"tokens/{token['id']}").status_code == 204
    assert Client().get(V1 + "me", **bearer).status_code == 401

    assert send(admin, "PATCH", f"people/{made.json()['id']}", {"password": "another long password"}).status_code == 200
    assert client.get(V1 + "me").status_code == 401, "a new password ends open sessions"
    assert (
        client.post(
            V1 + "sign-in", {"username": "odd", "password": "another long password"}, content_type="application/json"
        ).status_code
        == 200
    )
    assert send(client, "POST", "sign-out").status_code == 204
    assert client.get(V1 + "me").status_code == 401


# alarms and the fleet ------------------------------------------------------------------
def test_alarms_are_listed_noted_and_counted(world: World, engine: Any) -> None:
    client = signed_in(world, "operator")
    world.decoder()
    condition = world.condition()
    # Pod 0 is high for good, pod 1 for a while.
    world.arrive(
        *[(0, 60 * n, payload(8)) for n in range(6)], *[(1, 60 * n, payload(8 if n < 3 else 2)) for n in range(6)]
    )
    work_off(engine)
    found = asked(client, "alarms")
    assert [(a["device"], a["cleared_at"]) for a in found["results"]] == [("pod-0", None)] and found[
        "unacknowledged"
    ] == 1
    alarm = found["results"][0]["id"]
    span = {"from": at(-60), "to": at(600)}
    assert [a["device"] for a in asked(client, "alarms", show="all", **span)["results"]].count("pod-1") == 1
    assert asked(client, "alarms", device="pod-1")["count"] == 0
    assert asked(client, "alarms", condition=condition.pk)["count"] == 1
    assert client.get(V1 + "alarms", {"condition": "x"}).status_code == 400
    # In the past, what was open then.
    assert {a["device"] for a in asked(client, "alarms", to=at(120))["results"]} == {"pod-0", "pod-1"}

    assert send(client, "POST", "alarms/note", {"alarms": [alarm], "note": "  "}).status_code == 400
    said = {"alarms": [alarm], "note": "a boat is on its way"}
    assert send(client, "POST", "alarms/note", said).status_code == 200
    journal = asked(client, "journal", alarm=alarm)["results"]
    assert journal[0]["what"] == "noted" and journal[0]["note"] == "a boat is on its way"
    assert {e["device"] for e in asked(client, "journal", device="pod-1", **span)["results"]} == {"pod-1"}
    (summary,) = asked(client, "alarms/summary", **span)
    assert (summary["raised"], summary["devices"], summary["priority"]) == (2, 2, "high")


def test_the_overview_and_the_lookback_agree_with_the_messages(world: World, engine: Any) -> None:
    client = signed_in(world, "viewer")
    world.decoder()
    world.arrive((0, 0, payload(3)), (1, 5, payload(3)), (2, 10, b"\x00"))
    before = asked(client, "overview")
    assert before["engine_behind"] == 3
    work_off(engine)
    then = asked(client, "overview", to=at(30))
    assert (then["messages_per_minute"], then["refused_per_minute"], then["engine_behind"]) == (0.3, 0.1, 0)
    assert then["failing_types"] == ["pod"] and then["open_alarms"] == 0
    assert then["states"]["undecodable"] == 1 and then["states"]["reporting"] == 2
    band = asked(client, "lookback", **{"from": at(-3600), "to": at(3600)})
    assert sum(b["messages"] for b in band["buckets"]) == 3
    assert all(
        b["reporting"] + b["overdue"] + b["silent"] + b["undecodable"] <= band["devices"] for b in band["buckets"]
    )


# other ways to a decoder -----------------------------------------------------------------
def test_a_table_and_bytes_become_lines(world: World) -> None:
    client = signed_in(world, "engineer")
    table = "address;name;type;factor;unit\n0;Level;uint16;0.1;m\n2;Heat;int16;0.1;°C\nx;?;?;;\n"
    found = send(client, "POST", "from-table", {"text": table, "name": "pod", "source": "bytes", "order": "big"}).json()
    assert found["lines"] == 2 and len(found["unread"]) == 1
    assert "byte 0  level" in found["text"] and found["text"].startswith("decoder pod for bytes, big endian")
    assert (
        send(client, "POST", "from-table", {"text": "", "name": "pod", "source": "bytes", "order": "big"}).status_code
        == 400
    )

    world.arrive(*[(0, n, payload(n / 10)) for n in range(5)])
    ways = send(client, "POST", "guess", {"type": "pod", "device": "pod-0", "length": 4, "first": 0, "last": 1}).json()
    big = next(g for g in ways["guesses"] if (g["storage"], g["order"]) == ("u16", "big"))
    assert ways["messages"] == 5 and big["values"] == [0, 1, 2, 3, 4]
    assert send(
        client, "POST", "guess", {"type": "pod", "device": None, "length": 9, "first": 0, "last": 1}
    ).json() == {"guesses": [], "messages": 0}


def test_a_case_keeps_its_name_to_itself(world: World) -> None:
    client = signed_in(world, "engineer")
    definition = world.decoder(DECODER)
    world.condition(CONDITION)
    case = {"payload_hex": payload(3).hex(), "received_at": START.isoformat(), "expect": {"error": "too short"}}
    made = [
        send(client, "POST", f"definitions/{definition.pk}/cases", {**case, "name": name}).json()
        for name in ("one", "two")
    ]
    taken = send(client, "PATCH", f"definitions/{definition.pk}/cases/{made[0]['id']}", {"name": "two"})
    assert (taken.status_code, taken.json()["detail"]) == (409, "there is a case named “two” already")
    assert (
        send(client, "PATCH", f"definitions/{definition.pk}/cases/{made[0]['id']}", {"name": "three"}).json()["name"]
        == "three"
    )
    run = send(client, "POST", f"definitions/{definition.pk}/cases/run", {"text": DECODER}).json()
    assert run["failing"] == 2 and json.dumps(run)
