"""The map: where devices are and were; fences brought in and out, what they have been, what they would have seen."""

from __future__ import annotations

import json
import struct
from datetime import timedelta
from typing import Any

import pytest

from server.records.fleet.models import Device, Fence
from server.rules.registering import registry_changed
from tests.server.test_api import Client, send, signed_in
from tests.server.world import START, World, work_off

V1 = "/api/v1/"
DECODER = """decoder pod for bytes, big endian
  byte 0  level  u8  m
  byte 1  fix  position i32 / 1e7, i32 / 1e7
"""
SQUARE = {
    "type": "Feature",
    "geometry": {
        "type": "Polygon",
        "coordinates": [[[-42.7, 37.4], [-42.6, 37.4], [-42.6, 37.5], [-42.7, 37.5], [-42.7, 37.4]]],
    },
    "properties": {},
}
IN, OUT = (37.45, -42.65), (37.3, -42.65)


def at(lat: float, lon: float) -> bytes:
    return struct.pack(">Bii", 1, round(lat * 1e7), round(lon * 1e7))


@pytest.fixture
def moved(world: World, engine: Any) -> World:
    """Pod 0 goes in, comes out and goes in; pod 1 stays out, and says 0,0 in between; pod 2 never says where it is."""
    world.decoder(DECODER)
    world.arrive(
        (0, 0, at(*OUT)),
        (0, 60, at(*IN)),
        (1, 90, at(*OUT)),
        (0, 120, at(*OUT)),
        (1, 150, at(0, 0)),
        (0, 180, at(*IN)),
    )
    Device.objects.filter(name="pod-1").update(latitude=37.301, longitude=-42.65)
    registry_changed(None)
    work_off(engine)
    return world


def on_map(client: Client, **query: str) -> dict[str, dict[str, Any]]:
    answer = client.get(V1 + "map", query)
    assert answer.status_code == 200, answer.content
    return {d["name"]: d for d in answer.json()["devices"]}


def test_devices_are_where_they_were_at_a_moment(moved: World) -> None:
    client = signed_in(moved, "viewer")
    now = on_map(client)
    assert {*now} == {"pod-0", "pod-1"}
    assert (now["pod-0"]["latitude"], now["pod-0"]["longitude"]) == IN
    assert now["pod-1"]["latitude"] == 37.3 and now["pod-1"]["away_m"] == pytest.approx(110.98, abs=0.01), "0,0 is none"
    assert client.get(V1 + "map").json()["without"] == 3
    then = on_map(client, to=(START + timedelta(seconds=130)).isoformat())
    assert then["pod-0"]["latitude"] == OUT[0]
    before = on_map(client, to=(START - timedelta(seconds=1)).isoformat())
    assert not before, "it was given its position later"
    late = on_map(client, to=(START + timedelta(days=10)).isoformat())
    assert late["pod-1"]["at"] is None, "a position of last week says nothing, the one that it was given stands"


def test_open_alarms_stand_on_the_map(moved: World, engine: Any) -> None:
    moved.condition('condition "deep" priority high\n  on pod\n  raise when level > 0 m\n')
    moved.condition('condition "in" priority critical\n  on pod\n  raise when distance(fix, home) > 100 m\n')
    moved.arrive((0, 240, at(*IN)), (1, 241, at(*OUT)))
    work_off(engine)
    client = signed_in(moved, "operator")
    found = on_map(client)
    assert [(found[n]["priority"], found[n]["taken"]) for n in ("pod-0", "pod-1")] == [
        ("high", False),
        ("critical", False),
    ]
    assert client.get(V1 + "map").json()["swing_m"] == {"pod": 100.0}
    ids = [a["id"] for a in client.get(V1 + "alarms").json()["results"]]
    assert send(client, "POST", "alarms/acknowledge", {"alarms": ids}).status_code == 200
    assert on_map(client)["pod-0"]["taken"]


def test_a_track_is_the_way_of_a_device(moved: World) -> None:
    client = signed_in(moved, "viewer")
    span = {"from": (START - timedelta(hours=1)).isoformat(), "to": (START + timedelta(seconds=150)).isoformat()}
    found = client.get(V1 + "map/track", {"device": "pod-0", **span}).json()
    assert [(lat, lon) for lat, lon, _ in found["points"]] == [OUT, IN, OUT] and found["count"] == 3
    assert [t - START.timestamp() for _, _, t in found["points"]] == [0, 60, 120]
    assert client.get(V1 + "map/track", {"device": "pod-1", **span}).json()["count"] == 1
    assert client.get(V1 + "map/track", {"device": "nobody", **span}).status_code == 404


def test_long_tracks_are_thinned_out_to_their_end(world: World, engine: Any) -> None:
    world.decoder(DECODER)
    world.arrive(*((0, n, at(37 + n / 1e5, -42)) for n in range(4000)))
    work_off(engine)
    span = {"from": START.isoformat(), "to": (START + timedelta(hours=2)).isoformat()}
    found = signed_in(world, "viewer").get(V1 + "map/track", {"device": "pod-0", **span}).json()
    assert len(found["points"]) <= 1501 and found["count"] == 3999 and found["points"][-1][0] == 37.03999


def test_what_is_drawn_below_is_sound_geojson(world: World) -> None:
    from shapely.geometry import shape

    ground = json.loads(signed_in(world, "viewer").get(V1 + "map/ground").content)
    shapes = [shape(f["geometry"]) for f in ground["features"] if f["properties"]["kind"] == "land"]
    assert len(shapes) > 5 and all(s.is_valid for s in shapes[:3])


# fences ------------------------------------------------------------------------------
def crossed(client: Client, feature: dict[str, Any], seconds: int) -> dict[str, Any]:
    span = {"start": START - timedelta(hours=1), "end": START + timedelta(seconds=seconds)}
    body = {"feature": feature, **{k: v.isoformat() for k, v in span.items()}}
    answer = send(client, "POST", "fences/crossings", body)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


def test_who_crossed_a_fence_and_who_is_inside(moved: World) -> None:
    client = signed_in(moved, "viewer")
    found = crossed(client, SQUARE, 3600)
    rows = [(row["device"], row["what"]) for row in found["crossings"]]
    assert rows == [("pod-0", "went in"), ("pod-0", "came out"), ("pod-0", "went in")] and found["count"] == 3
    assert [(i["device"], i["since"][:19]) for i in found["inside"]] == [
        ("pod-0", (START + timedelta(seconds=180)).isoformat()[:19])
    ]
    wide = json.loads(json.dumps(SQUARE).replace("37.4]", "37.2]"))
    assert crossed(client, wide, 3600)["count"] == 0, "a moved corner is tried: all of them are inside all the time"
    assert {i["device"] for i in crossed(client, wide, 3600)["inside"]} == {"pod-0", "pod-1"}
    body = {"feature": SQUARE, "start": START.isoformat(), "end": (START + timedelta(days=40)).isoformat()}
    assert "31 days" in send(client, "POST", "fences/crossings", body).json()["detail"]
    wrong = {"feature": {"geometry": {"type": "Line"}}, "start": START.isoformat(), "end": START.isoformat()}
    assert send(client, "POST", "fences/crossings", wrong).status_code == 400


def test_a_fence_says_who_speaks_of_it_how_large_it_is_and_what_it_was(moved: World) -> None:
    client = signed_in(moved, "engineer")
    made = send(client, "POST", "fences", {"name": "ring", "feature": SQUARE}).json()
    assert made["used_by"] == [] and made["area_m2"] == pytest.approx(98.2e6, rel=0.01)
    moved.condition('condition "inside" priority low\n  on pod\n  raise when inside(fix, "ring")\n')
    [listed] = client.get(V1 + "fences").json()["results"]
    assert [u["name"] for u in listed["used_by"]] == ["inside"]
    other = json.loads(json.dumps(SQUARE).replace("37.5", "37.6"))
    assert send(client, "PATCH", f"fences/{made['id']}", {"feature": other}).status_code == 200
    versions = client.get(V1 + f"fences/{made['id']}/versions").json()
    assert [(v["number"], v["who"], v["feature"]["geometry"]) for v in versions] == [
        (2, "engineer", other["geometry"]),
        (1, "engineer", SQUARE["geometry"]),
    ]
    assert send(client, "DELETE", f"fences/{made['id']}").status_code == 409


def test_a_file_of_fences_goes_in_feature_by_feature_and_comes_out_again(world: World) -> None:
    client = signed_in(world, "engineer")

    def named(name: Any, feature: dict[str, Any] = SQUARE) -> dict[str, Any]:
        return {**feature, "properties": {"name": name, "note": "kept"}}

    bow = [[[0, 0], [1, 1], [1, 0], [0, 1], [0, 0]]]
    features = [
        named("north"),
        named("south"),
        {"type": "Feature", "geometry": SQUARE["geometry"], "properties": {}},
        named("bow", {"type": "Feature", "geometry": {"type": "Polygon", "coordinates": bow}}),
        named("line", {"type": "Feature", "geometry": {"type": "LineString", "coordinates": [[0, 0], [1, 1]]}}),
        7,
    ]
    tried = send(client, "POST", "fences/file", {"features": features, "dry_run": True}).json()
    assert [row["becomes"] for row in tried] == ["added", "added", *["refused"] * 4] and not Fence.objects.exists()
    rows = send(client, "POST", "fences/file", {"features": features}).json()
    assert rows == tried
    assert [row["why"] for row in rows[2:5]] == [
        "it has no name: a property `name` with a text is expected",
        "this is no fence: the outline is none: Self-intersection[0.5 0.5]",
        "this is no fence: found a LineString, expected a Polygon, a MultiPolygon or a Point with `radius_m`",
    ]
    out = json.loads(client.get(V1 + "fences/file").content)
    assert [f["properties"]["name"] for f in out["features"]] == ["north", "south"]
    assert out["features"][0]["geometry"] == SQUARE["geometry"] and out["features"][0]["properties"]["note"] == "kept"
    again = send(client, "POST", "fences/file", {"features": out["features"]}).json()
    assert [row["becomes"] for row in again] == ["unchanged", "unchanged"]
    out["features"][1]["geometry"] = {"type": "Point", "coordinates": [1, 2]}
    out["features"][1]["properties"]["radius_m"] = 50
    changed = send(client, "POST", "fences/file", {"features": out["features"]}).json()
    assert [row["becomes"] for row in changed] == ["unchanged", "changed"]
    assert Fence.objects.get(name="south").revision == 2
    viewer = signed_in(world, "viewer")
    assert send(viewer, "POST", "fences/file", {"features": []}).status_code == 403
