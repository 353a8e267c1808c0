"""Replaying a folder: what the examples must give, a readable difference, and mistakes told by file, line, column."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from oculum.replay import FileError, Told, differences, play, read_folder

FOLDERS = sorted((Path(__file__).resolve().parent.parent.parent / "examples" / "replay").iterdir())


def files_of(folder: Path) -> dict[str, str]:
    return {p.name: p.read_text() for p in folder.iterdir() if p.suffix in (".csv", ".ocu", ".geojson")}


@pytest.mark.parametrize("folder", FOLDERS, ids=lambda p: p.name)
def test_an_example_gives_what_stands_beside_it(folder: Path) -> None:
    found = [one.as_dict() for one in play(read_folder(files_of(folder)))]
    expected = [json.loads(line) for line in (folder / "expected.jsonl").read_text().splitlines()]
    assert [{**one, "value": 0} for one in found] == [{**one, "value": 0} for one in expected], "in this order"
    assert differences(found, expected) == []
    assert {one["what"] for one in found} >= {"raised", "cleared"}


def test_a_difference_says_what_came_and_what_did_not() -> None:
    folder = FOLDERS[0].parent / "silent-gateway"
    found = [one.as_dict() for one in play(read_folder(files_of(folder)))]
    expected = [dict(found[0], at="2026-07-04T19:11:00Z"), *found[2:]]
    lines = differences(found, expected)
    assert len(lines) == 3
    assert lines[0].startswith("- 2026-07-04T19:11:00Z  gateway-01") and "there is one at 2026-07-04T19:10" in lines[0]
    assert [line[0] for line in lines[1:]] == ["+", "+"]
    assert differences(found, [{"device": one["device"]} for one in found if "device" in one][:3])[0].startswith("+")


def test_from_and_until_cut_what_is_told_and_what_is_played() -> None:
    folder = read_folder(files_of(FOLDERS[0].parent / "silent-gateway"))
    whole = list(play(folder))
    since = 1_783_195_200_000_000  # 2026-07-04T20:00:00Z
    assert [t.at for t in play(folder, since)] == [t.at for t in whole if t.at >= "2026-07-04T20:00:00Z"]
    early = [t for t in play(folder, None, since) if t.at < "2026-07-04T20:00:00Z"]
    assert early == [t for t in whole if t.at < "2026-07-04T20:00:00Z"]


BASE: dict[str, str] = {
    "types.csv": "type,cadence_s\npod,60\n",
    "fields.csv": "type,field,kind,unit\npod,level,number,m\n",
    "devices.csv": "device,type\npod-1,pod\n",
    "readings.csv": "device,field,measured_at,received_at,value\n"
    "pod-1,level,2026-01-01T00:00:00Z,2026-01-01T00:00:00Z,3\n",
    "c.ocu": 'condition "high" priority high\n  on pod\n  raise when level > 2 m\n',
}


@pytest.mark.parametrize(
    ("name", "text", "where", "says"),
    [
        ("types.csv", "type,cadence_s\npod,soon\n", (2, "cadence_s"), "found `soon`, expected a number"),
        ("types.csv", "kind\npod\n", (1, "type"), "this column is missing"),
        ("types.csv", "type,colour\npod,red\n", (1, "colour"), "not a column of this table"),
        ("types.csv", "type\npod,1\n", (2, ""), "found 2 cells, expected 1"),
        ("fields.csv", "type,field,kind,unit\npod,level,figure,m\n", (2, "kind"), "expected one of number"),
        ("fields.csv", "type,field,kind,unit\npod,level,number,metre\n", (2, "unit"), "expected a UCUM code"),
        ("devices.csv", "device,type\npod-1,pot\n", (2, "type"), "expected a type of types.csv: pod"),
        ("devices.csv", "device,type,site\npod-1,pod,here\n", (2, "site"), "expected a site of sites.csv"),
        ("sites.csv", "site,zone\nhere,Nowhere/Town\n", (2, "zone"), "expected a time zone"),
        ("setpoints.csv", "scope,of,setpoint,value,unit\nfleet,pod,x,1,m\n", (2, "scope"), "type, site or device"),
        (
            "readings.csv",
            BASE["readings.csv"].replace("level", "depth"),
            (2, "field"),
            "expected a field of `pod`: level",
        ),
        ("readings.csv", BASE["readings.csv"].replace("00Z,3", "00,3"), (2, "received_at"), "a time with its zone"),
        ("downtime.csv", "start,end\n2026-01-02T00:00:00Z,2026-01-01T00:00:00Z\n", (2, "end"), "after the start"),
        ("fences.geojson", '{"features": [{}]}', (1, ""), "feature 1"),
        ("payloads.jsonl", '{"device": "pod-1"}', (1, ""), "`payload_hex` or `payload_text`"),
    ],
)
def test_a_mistake_is_told_with_file_line_and_column(name: str, text: str, where: Any, says: str) -> None:
    with pytest.raises(FileError) as caught:
        read_folder(BASE | {name: text})
    assert (caught.value.file, caught.value.line, caught.value.column) == (name, *where)
    assert says in caught.value.message


def test_payloads_go_through_the_folders_decoder() -> None:
    files = {k: v for k, v in BASE.items() if k not in ("readings.csv", "fields.csv")}
    files["pod.ocu"] = "decoder pod for bytes, big endian\n  byte 0  level  u16 / 10  m\n"
    line = '{{"device": "pod-1", "payload_hex": "{}", "received_at": "2026-01-01T00:0{}:00Z"}}\n'
    files["payloads.jsonl"] = line.format("0005", 0) + line.format("0020", 1) + line.format("0010", 2)
    found = [(t.at, t.what, t.value) for t in play(read_folder(files)) if isinstance(t, Told)]
    assert found == [("2026-01-01T00:01:00Z", "raised", 3.2), ("2026-01-01T00:02:00Z", "cleared", 1.6)]
