"""The register at a past moment: what is answered of then is what was answered then."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any

from django.db import connection
from django.test import Client

from server.records.definitions.models import Definition, Version
from server.records.fleet.models import Device
from server.rules.publishing import give_first, hold, publish, put_in_force, retire, switch_off, switch_on, withdraw
from server.rules.registering import set_setpoint
from server.rules.routes import reorder
from server.rules.selection import Selection
from server.store.as_of import as_of
from tests.server.test_api import send, signed_in
from tests.server.world import CONDITION, DECODER, World

V1 = "/api/v1/"
SQUARE = {
    "type": "Feature",
    "properties": {},
    "geometry": {"type": "Polygon", "coordinates": [[[0, 0], [0, 1], [1, 1], [1, 0], [0, 0]]]},
}
IDENTITY = ["name", "title", "type", "site", "site_title", "gateway"]
DEVICE = [*IDENTITY, "labels", "phase", "cadence_s"]
SITE = ["name", "title", "parent", "zone", "device_count"]
RULED = ["name", "retired", "off_why", "rolling_out"]


def told(client: Client, at: datetime | None) -> dict[str, Any]:
    """What the interface says of the register, now or of a moment."""
    to = {"to": at.isoformat()} if at else {}

    def get(path: str, **more: Any) -> Any:
        answer = client.get(V1 + path, {**more, **to})
        assert answer.status_code == 200, answer.content
        return answer.json()

    def some(rows: list[dict[str, Any]], names: list[str]) -> list[dict[str, Any]]:
        return [{name: row.get(name) for name in names} for row in rows]

    pod = get("devices/pod-0")
    definitions = get("definitions")["results"]
    return {
        "devices": some(get("devices", order="name")["results"], DEVICE),
        "retired": some(get("devices", phase="retired")["results"], DEVICE),
        "of the shore": some(get("devices", site="shore", order="name")["results"], DEVICE),
        "wet": some(get("devices", label="stage=wet", order="name")["results"], DEVICE),
        "by a word": some(get("devices", q="shore", order="name")["results"], DEVICE),
        "pod": {
            k: pod[k]
            for k in (*DEVICE, "latitude", "setpoints", "limits", "zone", "decoder_version", "decoder_because")
        },
        "sites": some(get("sites")["results"], SITE),
        "fences": some(get("fences")["results"], ["name", "feature"]),
        "definitions": [{**{k: d[k] for k in RULED}, "live": d["live"] and d["live"]["number"]} for d in definitions],
        "routes": [(r["definition"]["name"], r["place"], bool(r["definition"]["live"])) for r in get("routes")["rows"]],
        "on the map": sorted(d["name"] for d in get("map")["devices"]),
        "bands": [(b["key"], b["title"], b["devices"]) for b in get("watch/bands", by="site")["bands"]],
    }


def test_what_is_answered_of_then_is_what_was_answered_then(world: World) -> None:
    client = signed_in(world, "engineer")
    decoder, condition = world.decoder(), world.condition()
    routes = [world.route(f'route "{n}"\n  on pod\n  when level > {n} m\n    drop "{n}" level\n') for n in (800, 900)]

    def patch(path: str, **body: Any) -> None:
        answer = send(client, "PATCH", path, body)
        assert answer.status_code == 200, answer.content

    def fence(**body: Any) -> None:
        found = client.get(V1 + "fences").json()["results"]
        if found:
            patch(f"fences/{found[0]['id']}", **body)
        else:
            assert send(client, "POST", "fences", {"name": "ring", "feature": SQUARE}).status_code == 201

    def fresh(one: Definition) -> Definition:
        return Definition.objects.get(pk=one.pk)

    def version(number: int) -> Version:
        return decoder.versions.get(number=number)

    pods = world.pods
    changes: list[Callable[[], Any]] = [
        lambda: send(client, "POST", "sites", {"name": "shore", "title": "The shore", "parent": "reach"}),
        lambda: patch("devices/pod-0", site="shore", labels={"stage": "wet"}, title="Pod of the shore"),
        lambda: patch("sites/shore", title="Long shore", zone="Etc/GMT-3"),
        lambda: patch("devices/pod-1", phase="retired", gateway="gate-1", cadence_s=30),
        lambda: fence(),
        lambda: fence(name="Ring", feature=SQUARE | {"properties": {"radius": 1}}),
        lambda: publish(fresh(decoder), DECODER.replace("u16 / 10", "u16 / 5"), None),
        lambda: hold(pods[0], version(1), "it is old", None),
        lambda: give_first(fresh(decoder), version(1), Selection(site=world.site.pk, share=50), None),
        lambda: hold(pods[0], None, "", None),
        lambda: withdraw(fresh(decoder), None),
        lambda: patch("devices/pod-0", site="reach", labels={"stage": "dry"}, latitude=3.0, longitude=4.0),
        lambda: send(client, "DELETE", "sites/shore"),
        lambda: put_in_force(fresh(decoder), 1, None),
        lambda: switch_off(fresh(condition), datetime.fromisoformat("2190-01-01T00:00:00+00:00"), "storm", None),
        lambda: switch_on(fresh(condition), None),
        lambda: publish(fresh(condition), CONDITION.replace("1 m", "2 m"), None),
        lambda: reorder([routes[1].pk, routes[0].pk], None),
        lambda: retire(fresh(condition), None),
        lambda: retire(fresh(routes[0]), None),
        lambda: patch("devices/pod-1", phase="in service", gateway=None, labels={"stage": "wet"}),
    ]
    values: list[Callable[[], Any]] = [
        lambda v=v, place=place: set_setpoint(world.type, "level_max", v, None, **place)  # type: ignore[misc]
        for v, place in (
            (9.0, {}),
            (6.0, {"site": world.site.pk}),
            (7.0, {"device": pods[0].pk}),
            (None, {"device": pods[0].pk}),
        )
    ]
    seen = []
    for change in [*changes[:8], *values, *changes[8:]]:
        answer = change()
        assert getattr(answer, "status_code", 200) < 300, answer.content
        ((now,),) = world.ask("select clock_timestamp()")
        seen.append((now, told(client, None)))
    unseen = [number for number, ((_, one), (_, other)) in enumerate(pairwise(seen)) if one == other]
    assert not unseen, "each change shows somewhere"
    for at, was in reversed(seen):
        found = told(client, at)
        assert found == was, {k: (found[k], was[k]) for k in was if found[k] != was[k]}


def test_the_past_is_left_when_something_fails_in_it(world: World) -> None:
    ((before,),) = world.ask("select clock_timestamp()")
    Device.objects.filter(pk=world.pods[0].pk).update(title="another")
    with connection.cursor() as cursor:
        try:
            with as_of(before):
                raise KeyError
        except KeyError:
            pass
        with as_of(before - timedelta(days=1)), as_of(before), as_of(None):
            cursor.execute("select current_setting('search_path')")
            assert cursor.fetchone() == ("as_of, public",)
        cursor.execute("select current_setting('search_path')")
        assert cursor.fetchone() == ('"$user", public',)
