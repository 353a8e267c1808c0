"""Notes on devices: each at its moment, in the lookback, removed by whoever wrote it or by an engineer."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from tests.server.test_api import V1, send, signed_in
from tests.server.world import START, World


def asked(client: Any, **span: str) -> Any:
    answer = client.get(V1 + "devices/pod-0/notes", span)
    assert answer.status_code == 200, answer.content
    return answer.json()


def test_notes_stand_at_their_moments_beside_the_versions_of_the_decoder(world: World) -> None:
    client = signed_in(world, "operator")
    world.decoder()
    for hours in (1, 2, 30):
        body = {"text": f"cleaned {hours}", "at": (START + timedelta(hours=hours)).isoformat()}
        assert send(client, "POST", "devices/pod-0/notes", body).status_code == 201
    day = {"from": START.isoformat(), "to": (START + timedelta(hours=24)).isoformat()}
    found = asked(client, **day)
    assert [note["text"] for note in found["results"]] == ["cleaned 2", "cleaned 1"] and found["count"] == 2
    assert all(note["own"] and note["who"] == "operator" for note in found["results"])
    assert found["versions"] == [], "published now, not in that span"
    assert [v["number"] for v in asked(client)["versions"]] == [1]


def test_who_may_remove_a_note(world: World) -> None:
    operator, viewer, engineer = (signed_in(world, role) for role in ("operator", "viewer", "engineer"))
    assert send(viewer, "POST", "devices/pod-0/notes", {"text": "seen"}).status_code == 403
    mine = send(operator, "POST", "devices/pod-0/notes", {"text": "mine"}).json()["id"]
    theirs = send(engineer, "POST", "devices/pod-0/notes", {"text": "theirs"}).json()["id"]
    assert send(operator, "DELETE", f"devices/pod-0/notes/{theirs}").status_code == 403
    assert send(operator, "DELETE", f"devices/pod-1/notes/{mine}").status_code == 404
    assert send(operator, "DELETE", f"devices/pod-0/notes/{mine}").status_code == 204
    assert not asked(viewer)["results"][0]["own"]
    assert send(engineer, "DELETE", f"devices/pod-0/notes/{theirs}").status_code == 204
    assert asked(viewer)["count"] == 0
    assert [r[0] for r in world.ask("select what from access_record where about = 'pod-0' order by id")] == [
        *["wrote a note"] * 2,
        *["removed a note"] * 2,
    ]


def test_a_note_says_something(world: World) -> None:
    client = signed_in(world, "operator")
    for wrong in ({"text": ""}, {"text": " "}, {"text": "x" * 501}, {"text": "ok", "at": "yesterday"}, {}):
        assert send(client, "POST", "devices/pod-0/notes", wrong).status_code == 400, wrong
    assert send(client, "POST", "devices/nobody/notes", {"text": "x"}).status_code == 404
