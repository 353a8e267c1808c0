"""All that people have written as files: out, on an empty Oculum in again, and out the same to the byte."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import pytest
from django.db import connection

from server.api.archive.applying import apply
from server.api.archive.files import files_of, items
from server.records.definitions.models import Definition
from server.records.fleet.models import DeviceType, Site
from server.records.people.models import Person, Record
from server.records.telling.models import Outlet
from server.rules.refusal import Refused
from tests.server.conftest import EMPTY
from tests.server.test_api import V1, send, signed_in
from tests.server.test_routes import CLEAN, SEND, THIN, harbour
from tests.server.world import CONDITION, World


def written() -> dict[str, str]:
    return files_of(items())


def becomes(files: dict[str, str], person: Any, dry_run: bool = True, remove: bool = False) -> dict[str, str]:
    plan = apply(files, person, dry_run, remove)
    return {f"{c.kind} {c.name}": c.becomes for c in plan.changes if c.becomes != "unchanged"}


def test_what_goes_out_goes_into_an_empty_oculum_and_out_the_same(instance: Any) -> None:
    """The whole of the demo."""
    from demo.load import load_records

    load_records()
    before = written()
    assert {"types/raft_buoy.json", "routes/01-no-fix-is-no-place.ocu", "tables/bottle samples.csv"} <= before.keys()
    assert len(before) > 40 and not any("secret" in text for text in before.values())
    with connection.cursor() as cursor:
        cursor.execute(EMPTY)
    person = Person.objects.create(username="ines", role="admin")
    plan = apply(before, person, False, False)
    assert not plan.refused, [(c.path, c.why) for c in plan.refused]
    assert {c.becomes for c in plan.changes} == {"created"}
    assert written() == before
    again = apply(before, person, False, True)
    assert {c.becomes for c in again.changes} == {"unchanged"}


@pytest.fixture
def files(world: World) -> dict[str, str]:
    world.decoder()
    harbour()
    for text in (CLEAN, THIN, SEND):
        world.route(text)
    world.condition(CONDITION)
    return written()


def test_a_dry_run_says_what_would_become_and_changes_nothing(world: World, files: dict[str, str]) -> None:
    person = world.person("admin")
    path = "routes/01-no-level-above-the-rim.ocu"
    changed = files | {path: files[path].replace("5.4 m", "5 m")}
    del changed["routes/02-levels-that-move.ocu"]
    assert becomes(changed, person) == {"route no level above the rim": "changed", "route levels that move": "left"}
    plan = apply(changed, person, True, False)
    change = next(c for c in plan.changes if c.becomes == "changed")
    assert "-  when level > 5.4 m" in change.difference and "+  when level > 5 m" in change.difference
    assert written() == files

    assert becomes(changed, person, False, True)["route levels that move"] == "removed"
    assert written().keys() == files.keys() - {"routes/02-levels-that-move.ocu", "routes/03-to-the-harbour.ocu"} | {
        "routes/02-to-the-harbour.ocu"
    }
    live = Definition.objects.get(name="no level above the rim").live
    assert live is not None and live.number == 2 and live.why == "applied from an archive"


def test_one_faulty_file_keeps_all_of_it_out_and_is_named(world: World, files: dict[str, str]) -> None:
    person = world.person("admin")
    path = "routes/01-no-level-above-the-rim.ocu"
    changed = files | {
        path: files[path].replace("level >", "levle >"),
        "conditions/level-is-high.ocu": files["conditions/level-is-high.ocu"].replace("held 60 s", "held 90 s"),
    }
    plan = apply(changed, person, False, False)
    refused = {c.path: c.why for c in plan.refused}
    assert refused.keys() == {path} and refused[path].startswith("line 3: `levle` is not a field of `pod`")
    assert written() == files and not Record.objects.filter(what="applied").exists()


def test_routes_take_the_order_of_the_archive(world: World, files: dict[str, str]) -> None:
    person = world.person("admin")
    moved = dict(files)
    moved["routes/00-first.ocu"] = moved.pop("routes/03-to-the-harbour.ocu")
    apply(moved, person, False, False)
    names = [d.name for d in Definition.objects.filter(kind="route").order_by("place")]
    assert names == ["to the harbour", "no level above the rim", "levels that move"]


@pytest.mark.parametrize(
    ("path", "text", "says"),
    [
        ("readme.txt", "hello", "readme.txt: there is no such file in an archive"),
        ("sites.csv", "a,b\n1,2\n", "sites.csv: line 1: found `a,b`, expected name"),
        ("fences.geojson", "{", "fences.geojson: this cannot be read"),
        ("routes/x.ocu", "nothing\n", 'routes/x.ocu: expected `route "name"`'),
        ("conditions/x.md", "do this\n", "conditions/x.md: there is no condition"),
    ],
)
def test_files_that_cannot_be_read_are_named(world: World, path: str, text: str, says: str) -> None:
    with pytest.raises(Refused) as caught:
        apply({path: text}, world.person("admin"), True, False)
    assert caught.value.sentence.startswith(says)


def test_who_looks_after_a_site_is_kept_and_stays_where_an_archive_does_not_say(world: World) -> None:
    person = world.person("admin")
    Site.objects.create(name="quay", title="Quay", caretaker="the office, channel 9", attended="06:00 to 22:00")
    kept = written()["sites.csv"]
    assert '"the office, channel 9",06:00 to 22:00' in kept
    Site.objects.filter(name="quay").update(caretaker="", attended="")
    apply({"sites.csv": kept}, person, False, False)
    assert Site.objects.get(name="quay").caretaker == "the office, channel 9"
    before = "name,title,parent,zone,latitude,longitude\nquay,The quay,,UTC,,\n"
    apply({"sites.csv": before}, person, False, False)
    found = Site.objects.get(name="quay")
    assert (found.title, found.attended) == ("The quay", "06:00 to 22:00")


def test_it_goes_through_the_api_by_an_administrator_only(world: World, files: dict[str, str]) -> None:
    viewer, admin = signed_in(world, "viewer"), signed_in(world, "admin")
    assert viewer.get(V1 + "archive").json()["files"] == files
    changed = files | {"types/pod.json": files["types/pod.json"].replace('"title": "Pod"', '"title": "Level pod"')}
    assert send(viewer, "POST", "archive", {"files": changed}).status_code == 403
    with zipfile.ZipFile(io.BytesIO(viewer.get(V1 + "archive/file").content)) as packed:
        assert {name.removeprefix("oculum/"): packed.read(name).decode() for name in packed.namelist()} == files
    dry = send(admin, "POST", "archive", {"files": changed}).json()
    assert not dry["applied"] and DeviceType.objects.get(key="pod").title == "Pod"
    done = send(admin, "POST", "archive", {"files": changed, "dry_run": False}).json()
    assert done["applied"] and DeviceType.objects.get(key="pod").title == "Level pod"
    less = {path: text for path, text in files.items() if path != "outlets.json"}
    refused = send(admin, "POST", "archive", {"files": less, "dry_run": False, "remove": True}).json()
    assert not refused["applied"] and Outlet.objects.count() == 1
    assert next(c for c in refused["changes"] if c["becomes"] == "refused")["why"] == "to the harbour uses this outlet"
