"""The table of setpoints: where each value comes from, many set at once, as a file, what it was, how it stands."""

from __future__ import annotations

import csv
import io
from typing import Any

import pytest

from server.records.fleet.models import Device, Setpoint, Site
from tests.server.test_api import Client, send, signed_in
from tests.server.world import CONDITION, World, payload, work_off

V1 = "/api/v1/types/pod/"


@pytest.fixture
def client(world: World) -> Client:
    """Two sites, one in the other; pods 0 and 1 at the inner one; pod 1 with a limit of its own."""
    inner = Site.objects.create(name="cove", title="Cove", parent=world.site)
    Device.objects.filter(name__in=["pod-0", "pod-1"]).update(site=inner)
    found = signed_in(world, "operator")
    for place, value in (({"site": "reach"}, 7.0), ({"device": "pod-1"}, 3.0)):
        assert send(found, "PUT", "types/pod/setpoints/level_max", {"value": value, **place}).status_code == 200
    return found


def table(client: Client, **query: str) -> dict[str, tuple[float, bool, str]]:
    """By place its value, whether it is its own, and where it comes from."""
    answer = client.get(V1 + "setpoints", query).json()
    cells = {row["name"]: row["cells"]["level_max"] for row in answer["rows"]}
    return {name: (c["value"], c["own"], c["source_title"]) for name, c in cells.items()}


def test_each_value_says_where_it_comes_from(client: Client) -> None:
    assert table(client) == {
        "pod": (5.0, True, "Pod"),
        "reach": (7.0, True, "The Reach"),
        "cove": (7.0, False, "The Reach"),
        "pod-0": (7.0, False, "The Reach"),
        "pod-1": (3.0, True, "Pod 1"),
        "pod-2": (7.0, False, "The Reach"),
        "pod-3": (7.0, False, "The Reach"),
    }
    rows = client.get(V1 + "setpoints").json()["rows"]
    assert [(r["kind"], r["name"], r["depth"]) for r in rows[:3]] == [
        ("type", "pod", 0), ("site", "reach", 0), ("site", "cove", 1)
    ]  # fmt: skip
    assert {*table(client, own="true")} == {"pod", "reach", "cove", "pod-1"}
    assert {*table(client, search="od 2")} == {"pod", "pod-2"}


def test_many_are_set_at_once_or_none(client: Client, world: World) -> None:
    changes: list[dict[str, Any]] = [
        {"name": "level_max", "value": 9, "device": "pod-0"},
        {"name": "level_max", "value": None, "device": "pod-1"},
        {"name": "level_max", "value": 8, "site": "cove"},
    ]
    assert send(client, "PUT", "types/pod/setpoints", {"changes": changes}).status_code == 200
    found = table(client)
    assert found["pod-0"] == (9.0, True, "Pod 0") and found["pod-1"] == (8.0, False, "Cove")
    wrong = [{"name": "level_max", "value": 1, "device": "pod-2"}, {"name": "depth", "value": 1}]
    assert send(client, "PUT", "types/pod/setpoints", {"changes": wrong}).status_code == 404
    assert table(client)["pod-2"] == (7.0, False, "The Reach"), "none of them is set"
    viewer = signed_in(world, "viewer")
    assert send(viewer, "PUT", "types/pod/setpoints", {"changes": changes}).status_code == 403


def test_a_file_comes_out_and_goes_in_line_by_line(client: Client) -> None:
    text = client.get(V1 + "setpoints-file").content.decode()
    rows = list(csv.reader(io.StringIO(text)))
    assert rows[0] == ["of", "name", "title", "level_max"]
    assert {tuple(row[:2]): row[3] for row in rows[1:]} == {
        ("type", "pod"): "5", ("site", "reach"): "7", ("site", "cove"): "", ("device", "pod-0"): "",
        ("device", "pod-1"): "3", ("device", "pod-2"): "", ("device", "pod-3"): "",
    }  # fmt: skip
    unchanged = send(client, "POST", "types/pod/setpoints-file", {"text": text}).json()
    assert {row["becomes"] for row in unchanged} == {"unchanged"}
    own = "of,name,level_max\ndevice,pod-0,4.5\ndevice,pod-1,\n\ndevice,pod-9,1\nbuoy,pod-1,1\nsite,cove,many\n"
    own += "type,pod,\n"
    for dry_run in (True, False):
        answer = send(client, "POST", "types/pod/setpoints-file", {"text": own, "dry_run": dry_run}).json()
        assert [(row["line"], row["becomes"], row["says"]) for row in answer] == [
            (2, "changed", "level_max none → 4.5"),
            (3, "changed", "level_max 3 → as above"),
            (5, "refused", "there is no device `pod-9` of this type"),
            (6, "refused", "found `buoy`, expected `type`, `site` or `device`"),
            (7, "refused", "level_max: found `many`, expected a number"),
            (8, "refused", "level_max: a type has a value for each of its setpoints"),
        ]
        assert Setpoint.objects.filter(device__name="pod-0").exists() != dry_run
    for head, why in (("a,b\n", "expected columns"), ("of,name,depth\n", "`depth` is not a setpoint of pod")):
        refused = send(client, "POST", "types/pod/setpoints-file", {"text": head})
        assert refused.status_code == 400 and why in refused.json()["detail"]


def test_who_set_what_is_told(client: Client) -> None:
    rows = client.get(V1 + "setpoints-history", {"setpoint": "level_max"}).json()
    assert [(r["of"], r["name"], r["value"], r["who"]) for r in rows] == [
        ("device", "pod-1", 3.0, "operator"), ("site", "reach", 7.0, "operator"), ("type", "pod", 5.0, None)
    ]  # fmt: skip
    assert [r["value"] for r in client.get(V1 + "setpoints-history", {"of": "type"}).json()] == [5.0]
    assert [r["value"] for r in client.get(V1 + "setpoints-history", {"device": "pod-1"}).json()] == [3.0]
    assert client.get(V1 + "setpoints-history", {"device": "pod-9"}).status_code == 404


def test_a_limit_is_held_against_the_devices_own_past(client: Client, world: World, engine: Any) -> None:
    assert client.get(V1 + "setpoints-past").json() == []
    world.decoder()
    world.condition(CONDITION)
    world.arrive(*((0, 60 * n, payload(n)) for n in range(10)), *((1, 60 * n, payload(2)) for n in range(4)))
    work_off(engine)
    [column] = client.get(V1 + "setpoints-past").json()
    assert (column["setpoint"], column["field"], column["sign"]) == ("level_max", "level", ">")
    assert column["devices"] == {
        "pod-0": {"low": 0.0, "high": 9.0, "beyond": pytest.approx(0.2)},
        "pod-1": {"low": 2.0, "high": 2.0, "beyond": 0.0},
    }
