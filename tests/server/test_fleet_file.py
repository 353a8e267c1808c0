"""Many devices at once: as a file, out and in, chosen ones changed together, what is refused, and taking it back."""

from __future__ import annotations

import csv
import io
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from server.records.definitions.models import Version
from server.records.fleet.models import Device, DeviceType, Setpoint, Site
from server.records.people.models import Record
from server.rules.fleet_lines import labels_text, read_labels
from server.rules.publishing import hold
from server.rules.registering import set_setpoint
from tests.often import examples
from tests.server.test_api import V1, Client, send, signed_in
from tests.server.world import World, payload, work_off

HEAD = "device,title,type,site,gateway,phase,cadence_s,latitude,longitude,labels,setpoints\n"


@pytest.fixture
def engineer(world: World) -> Client:
    return signed_in(world, "engineer")


def out(client: Client, **query: str) -> str:
    return client.get(V1 + "fleet/file", query).content.decode()


def bring(client: Client, text: str, dry_run: bool = False) -> dict[str, Any]:
    answer = send(client, "POST", "fleet/file", {"text": text, "dry_run": dry_run})
    assert answer.status_code == 200, answer.content
    return answer.json()


def test_what_goes_out_comes_in_unchanged_and_can_be_changed_and_taken_back(world: World, engineer: Client) -> None:
    Device.objects.filter(name="pod-0").update(labels={"owner": "Maud; and=Jory", "stage": "spat"}, latitude=1.5)
    Device.objects.filter(name="pod-0").update(longitude=-2.25)
    text = out(engineer, type="pod")
    assert text.startswith(HEAD) and len(text.splitlines()) == 5
    same = bring(engineer, text)
    assert (same["unchanged"], same["changed"], same["created"], same["refused"]) == (4, 0, 0, 0)
    Site.objects.create(name="cove", title="Cove", parent=world.site)
    new = "pod-9,Pod 9,pod,cove,gate-1,commissioning,30,1,2,stage=market\n"
    wanted = HEAD + "pod-1,The first,pod,cove,,in service,45,,,stage=growing\n" + new
    look = bring(engineer, wanted, dry_run=True)
    assert (look["created"], look["changed"]) == (1, 1) and not Device.objects.filter(name="pod-9").exists()
    told = {line["name"]: line["says"] for line in look["lines"]}
    assert told["pod-1"] == "title Pod 1 → The first, site reach → cove, cadence_s none → 45, label stage growing"
    place = world.ask("select max(id) from control_event")[0][0]
    done = bring(engineer, wanted)
    made = Device.objects.select_related("type", "site", "gateway").get(name="pod-9")
    assert (made.type.key, str(made.site and made.site.name), made.cadence_s) == ("pod", "cove", 30)
    assert made.gateway == world.gateway
    assert world.ask("select count(*) from control_event where id > %s", place) == [(1,)], "all at one place"
    assert Device.objects.get(name="pod-1").revision == 2
    assert Record.objects.filter(what="brought in").count() == 1
    back = bring(engineer, done["undo"])
    assert back["changed"] == 1
    first = Device.objects.get(name="pod-1")
    assert (first.title, first.site, first.cadence_s, first.labels) == ("Pod 1", world.site, None, {})


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("pod-1,,nothing,,,,,,,", "type: there is no device type `nothing`"),
        ("pod-1,,,nowhere,,,,,,", "site: there is no site `nowhere`"),
        ("pod-1,,,,pod-2,,,,,", "gateway: there is no gateway `pod-2`"),
        ("pod-1,,,,,broken,,,,", 'phase: "broken" is not a valid choice.'),
        ("pod-1,,,,,,often,,,", "cadence_s: found `often`, expected a whole number of seconds"),
        ("pod-1,,,,,,,north,2,", "latitude: found `north`, expected a number of degrees"),
        ("pod-1,,,,,,,95,2,", "latitude:"),
        ("pod-1,,,,,,,5,,", "latitude: a position has both, latitude and longitude"),
        ("pod-1,,,,,,,,,stage", "labels: found `stage`, expected `key=value;key=value`"),
        ("pod-1,,,,,,,,,,level_max", "setpoints: found `level_max`, expected `name=number;name=number`"),
        ("pod-1,,,,,,,,,,level_max=high", "setpoints: found `high` for level_max, expected a number"),
        ("pod-1,,,,,,,,,,level_max=nan", "setpoints: found `nan` for level_max, expected a number"),
        ("pod-1,,,,,,,,,,depth_max=3", "setpoints: found `depth_max`, expected one of level_max"),
        ("gate-1,,,,,,,,,,depth_max=3", "setpoints: found `depth_max`, expected none: the type has no setpoints"),
        ("pod-1,,,,,,,,,a b=c", "labels: a device has at most 32 labels"),
        ("Pod One,Pod,pod,,,,,,,", "name: a name has 2 to 63 letters"),
        ("oculum-7,Pod,pod,,,,,,,", "name: names that begin with `oculum` are Oculum's own"),
        ("gate-1,,,,gate-1,,,,,", "gateway: it would speak through itself"),
        ("pod-1,,,,,,,,,,,", "found 12 cells, expected 11"),
        ("fresh,Fresh,,,,,,,,", "type: a device that is not there yet needs one"),
    ],
)
def test_a_line_that_cannot_be_is_refused_and_the_others_are_taken(engineer: Client, line: str, why: str) -> None:
    found = bring(engineer, f"{HEAD}{line}\npod-2,Another,,,,,,,,\n")
    assert found["refused"] == 1 and found["changed"] == 1
    assert found["lines"][0]["becomes"] == "refused" and found["lines"][0]["says"].startswith(why)
    assert Device.objects.get(name="pod-2").title == "Another"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("title\n", "line 1: found `title`, expected columns among device"),
        ("device,colour\n", "line 1: found `colour`"),
        ("device,site,site\n", "line 1: a column stands twice"),
    ],
)
def test_a_head_that_cannot_be_read_is_refused(engineer: Client, text: str, says: str) -> None:
    answer = send(engineer, "POST", "fleet/file", {"text": text})
    assert answer.status_code == 400 and says in answer.content.decode()


def test_columns_that_are_left_out_stay_as_they_are(world: World, engineer: Client) -> None:
    Device.objects.filter(name="pod-1").update(labels={"stage": "spat"})
    found = bring(engineer, "device,cadence_s\npod-1,90\npod-1,80\n")
    assert found["lines"][0]["says"] == "the device stands in the file twice"
    one = Device.objects.get(name="pod-1")
    assert (one.cadence_s, one.labels, one.site) == (90, {"stage": "spat"}, world.site)


def test_chosen_devices_are_changed_together_and_by_what_a_query_selects(world: World, engineer: Client) -> None:
    Site.objects.create(name="cove", title="Cove", parent=world.site)
    Device.objects.filter(name="pod-1").update(labels={"stage": "spat", "owner": "Maud"})
    body = {"devices": ["pod-1", "pod-2", "pod-77"], "site": "cove", "labels": {"stage": "market", "owner": None}}
    look = send(engineer, "POST", "fleet/change", body | {"dry_run": True}).json()
    assert (look["changed"], look["refused"]) == (2, 1)
    assert look["lines"][0]["says"] == "there is no such device"
    assert look["lines"][1]["says"] == "site reach → cove, label stage spat → market, label owner taken off"
    assert Device.objects.get(name="pod-1").site == world.site
    done = send(engineer, "POST", "fleet/change", body).json()
    assert Device.objects.get(name="pod-1").labels == {"stage": "market"}
    assert bring(engineer, done["undo"])["changed"] == 2
    assert Device.objects.get(name="pod-1").labels == {"stage": "spat", "owner": "Maud"}
    answer = send(engineer, "POST", "fleet/change?type=pod&label=stage=spat", {"devices": None, "phase": "maintenance"})
    assert answer.json()["changed"] == 1
    assert list(Device.objects.filter(phase="maintenance").values_list("name", flat=True)) == ["pod-1"]


def test_setpoints_of_their_own_are_given_to_many_and_taken_back(world: World, engine: Any, engineer: Client) -> None:
    def own() -> dict[str, float]:
        return dict(Setpoint.objects.filter(device__isnull=False).values_list("device__name", "value"))

    work_off(engine)
    set_setpoint(world.type, "level_max", 4.5, None, device=world.pods[1].pk)
    body = {"devices": ["pod-1", "pod-2", "gate-1"], "setpoints": {"level_max": 6.25}}
    look = send(engineer, "POST", "fleet/change", body | {"dry_run": True}).json()
    told = {line["name"]: line["says"] for line in look["lines"]}
    assert told == {
        "gate-1": "setpoints: found `level_max`, expected none: the type has no setpoints",
        "pod-1": "level_max 4.5 → 6.25",
        "pod-2": "level_max 6.25 of its own",
    }
    assert own() == {"pod-1": 4.5}
    done = send(engineer, "POST", "fleet/change", body).json()
    assert own() == {"pod-1": 6.25, "pod-2": 6.25}
    work_off(engine)
    limits = [engine.registry.world.limit(pod.pk, "level_max") for pod in world.pods[:3]]
    assert limits == [5.0, 6.25, 6.25]
    assert bring(engineer, done["undo"])["changed"] == 2 and own() == {"pod-1": 4.5}
    back = send(engineer, "POST", "fleet/change", {"devices": ["pod-1"], "setpoints": {"level_max": None}}).json()
    assert back["lines"][0]["says"] == "level_max no more of its own" and own() == {}
    assert "level_max=4.5" in back["undo"]


def test_a_device_of_another_type_is_held_no_longer(world: World, engineer: Client) -> None:
    definition = world.decoder()
    DeviceType.objects.create(key="other", title="Other")
    version = Version.objects.get(definition=definition)
    hold(world.pods[1], version, "tried", None)
    bring(engineer, "device,type\npod-1,other\n")
    assert world.ask("select body->>'version' from control_event where kind = 'hold' order by id") == [
        (str(version.pk),),
        (None,),
    ]


def test_it_counts_in_the_stream(world: World, engine: Any, engineer: Client) -> None:
    """A condition on devices with a label watches those that have it from then on."""
    world.decoder()
    world.condition('condition "high" priority high\n  on pod with label stage = "market"\n  raise when level > 4 m\n')
    world.arrive((0, 0, payload(5.0)), (1, 0, payload(5.0)))
    work_off(engine)
    send(engineer, "POST", "fleet/change", {"devices": ["pod-1"], "labels": {"stage": "market"}})
    work_off(engine)
    assert world.ask("select d.name from alarms_alarm a join fleet_device d on d.id = a.device_id") == [("pod-1",)]


def test_who_may(world: World) -> None:
    viewer = signed_in(world, "viewer")
    assert send(viewer, "POST", "fleet/file", {"text": HEAD}).status_code == 403
    assert send(viewer, "POST", "fleet/change", {"devices": []}).status_code == 403
    assert len(list(csv.reader(io.StringIO(out(viewer))))) == 6


NAMES = st.text("abcdefgh_", min_size=1, max_size=5)
TEXTS = st.text(st.characters(exclude_categories=["C", "Z"]), min_size=1, max_size=8)


@settings(max_examples=examples(100), deadline=None)
@given(st.dictionaries(NAMES, TEXTS, max_size=5))
def test_labels_as_text_are_the_same_labels(labels: dict[str, str]) -> None:
    assert read_labels(labels_text(labels)) == labels
