"""The list of devices: columns that people choose, the order of what they say, and selections under a name."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from server.records.fleet.models import Device, Selection
from tests.server.test_api import V1, send, signed_in
from tests.server.world import START, World, payload, work_off


@pytest.fixture
def told(world: World, engine: Any) -> World:
    """Pods of which each says another level, the third nothing, and the first is refused half of the time."""
    world.decoder()
    for pod, stage in zip(world.pods, ("b", "a", "", "c"), strict=True):
        Device.objects.filter(pk=pod.pk).update(labels={"stage": stage} if stage else {})
    sent = [(pod, 600.0 * k, payload(level)) for pod, level in ((0, 5), (1, 9), (2, 1)) for k in range(6)]
    world.arrive(*sorted([*sent, *((0, 600.0 * k + 1, b"\x00") for k in range(6))], key=lambda m: m[1]))
    work_off(engine)
    return world


def asked(client: Any, order: str, *columns: str) -> list[dict[str, Any]]:
    query = {"type": "pod", "order": order, "column": list(columns), "from": START.isoformat()}
    answer = client.get(V1 + "devices", {**query, "to": (START + timedelta(hours=1)).isoformat()})
    assert answer.status_code == 200, answer.content
    return list(answer.json()["results"])


def test_the_list_is_in_the_order_of_what_a_column_says(told: World) -> None:
    client = signed_in(told, "viewer")
    columns = ("decoded", "value:level", "label:stage")
    rows = asked(client, "value:level", *columns)
    assert [(r["name"], r["columns"]["value:level"]) for r in rows] == [
        ("pod-2", 1.0),
        ("pod-0", 5.0),
        ("pod-1", 9.0),
        ("pod-3", None),
    ]
    assert [r["name"] for r in asked(client, "-value:level")] == ["pod-1", "pod-0", "pod-2", "pod-3"], "none is last"
    assert [r["name"] for r in asked(client, "decoded")][0] == "pod-0"
    assert next(r for r in rows if r["name"] == "pod-0")["columns"]["decoded"] == 0.5
    assert [r["columns"]["label:stage"] for r in asked(client, "label:stage", *columns)] == ["a", "b", "c", None]
    assert [r["name"] for r in asked(client, "-label:stage")][:3] == ["pod-3", "pod-0", "pod-1"]
    now = client.get(V1 + "devices", {"type": "pod", "column": ["value:level", "delay"], "order": "name"}).json()
    assert now["units"] == {"value:level": "m", "delay": "s"}
    assert [r["columns"]["value:level"] for r in now["results"]] == [5.0, 9.0, 1.0, None]
    for name in ("size", "value:", "label:"):
        answer = client.get(V1 + "devices", {"column": name})
        assert answer.status_code == 400 and f"found `{name}`" in answer.json()["detail"]
        assert client.get(V1 + "devices", {"order": name}).status_code == 400
    assert client.get(V1 + "devices", {"column": [f"label:{n}" for n in range(9)]}).status_code == 400


def test_a_selection_is_kept_under_its_name_for_everybody(told: World) -> None:
    operator, viewer = signed_in(told, "operator"), signed_in(told, "viewer")
    body = {"query": {"type": "pod", "q": "stage=a", "order": "-delay", "site": ""}, "columns": ["value:level"]}
    assert send(viewer, "PUT", "selections/my pods", body).status_code == 403
    assert send(operator, "PUT", "selections/my pods", body).status_code == 200
    (one,) = viewer.get(V1 + "selections").json()
    assert (one["name"], one["by"]) == ("my pods", "operator")
    assert one["query"] == {"type": "pod", "q": "stage=a", "order": "-delay"} and one["columns"] == ["value:level"]
    found = viewer.get(V1 + "devices", {**one["query"], "column": one["columns"]}).json()
    assert [r["name"] for r in found["results"]] == ["pod-1"]
    assert send(operator, "PUT", "selections/my pods", {"query": {"state": "silent"}}).status_code == 200
    assert Selection.objects.get().query == {"state": "silent"}, "under one name there is one"
    for wrong, says in (
        ({"query": {"colour": "red"}}, "found `colour`"),
        ({"query": {}, "columns": ["size"]}, "found `size`"),
        ({"query": "all"}, "dictionary"),
    ):
        answer = send(operator, "PUT", "selections/other", wrong)
        assert answer.status_code == 400 and says in answer.content.decode()
    assert send(operator, "DELETE", "selections/my pods").status_code == 204
    assert send(operator, "DELETE", "selections/my pods").status_code == 404
    assert viewer.get(V1 + "selections").json() == []


def test_selections_of_alarms_have_names_and_parts_of_their_own(told: World) -> None:
    operator, viewer = signed_in(told, "operator"), signed_in(told, "viewer")
    mine = {"query": {"priority": "critical", "site": "pier", "longer": "3600"}}
    assert send(operator, "PUT", "selections/my own", {"query": {"type": "pod"}}).status_code == 200
    assert send(operator, "PUT", "selections/my own?of=alarms", mine).status_code == 200
    assert [one["query"] for one in viewer.get(V1 + "selections", {"of": "alarms"}).json()] == [mine["query"]]
    assert [one["query"] for one in viewer.get(V1 + "selections").json()] == [{"type": "pod"}]
    wrong = send(operator, "PUT", "selections/other?of=alarms", {"query": {"gateway": "gate-1"}})
    assert wrong.status_code == 400 and "found `gateway`, expected q, priority" in wrong.content.decode()
    assert "found `people`" in viewer.get(V1 + "selections", {"of": "people"}).json()["detail"]
    assert send(operator, "DELETE", "selections/my own?of=alarms").status_code == 204
    assert len(viewer.get(V1 + "selections").json()) == 1, "that of devices stays"
