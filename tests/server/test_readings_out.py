"""Readings for programs: rows by pages, parts of a span, the newest; every example of the document runs."""

from __future__ import annotations

import csv
import io
from datetime import timedelta
from typing import Any

import pyarrow as pa
import pyarrow.parquet
import pytest

from server.api.history.views import cell_of
from tests.server.test_api import Client, signed_in
from tests.server.world import START, World, payload, work_off

HOUR = timedelta(hours=1)


@pytest.fixture
def client(world: World, engine: Any) -> Client:
    """Pod 0 each minute, its level rising by a tenth; pod 1 with one level that is missing."""
    world.decoder()
    world.arrive(
        *[(0, n * 60.0, payload(n / 10)) for n in range(60)],
        (1, 3600.0, payload(6553.5)),
        (1, 3660.0, payload(7, -3)),
    )
    work_off(engine)
    return signed_in(world, "viewer")


def asked(client: Client, path: str, **query: Any) -> Any:
    answer = client.get(f"/api/v1/{path}", {"from": START.isoformat(), "to": (START + 2 * HOUR).isoformat(), **query})
    assert answer.status_code == 200, answer.content
    return answer.json()


@pytest.mark.parametrize("order", ["asc", "desc"])
def test_pages_are_all_rows_once(client: Client, order: str) -> None:
    whole = asked(client, "history", type="pod", field=["level", "temp"], order=order)
    assert len(whole["results"]) == 62 and whole["next"] is None and whole["units"] == {"level": "m", "temp": "Cel"}
    times = [row["at"] for row in whole["results"]]
    assert times == sorted(times, reverse=order == "desc")
    paged, after = [], None
    while True:
        query: dict[str, str] = {"after": after} if after else {}
        part = asked(client, "history", type="pod", field=["level", "temp"], order=order, limit=7, **query)
        paged += part["results"]
        after = part["next"]
        if after is None:
            break
    assert paged == whole["results"]
    one = next(row for row in whole["results"] if row["device"] == "pod-1")
    assert one["values"].keys() <= {"level", "temp"}


def test_parts_of_a_span(client: Client) -> None:
    query = {"device": "pod-0", "field": "level", "every": "10m"}
    for how, first in (("mean", 0.45), ("min", 0.0), ("max", 0.9), ("sum", 4.5), ("count", 10), ("last", 0.9)):
        (one,) = asked(client, "history", aggregate=how, **query)["series"]
        assert one["value"][0] == pytest.approx(first) and one["count"] == [10] * 6
        assert one["at"][:2] == [(START + k * 10 * HOUR / 60).isoformat().replace("+00:00", "Z") for k in (0, 1)]
    (steps,) = asked(client, "history", aggregate="time_weighted_mean", **query)["series"]
    assert steps["value"][0] == pytest.approx(0.45) and steps["value"][-1] == pytest.approx(5.9), "the last value holds"
    told = asked(client, "history", aggregate="mean", points=2, device="pod-0", field="level")
    assert told["every_s"] == 3600 and told["series"][0]["count"] == [60]


@pytest.mark.parametrize("kind", ["arrow", "parquet"])
def test_as_columns(client: Client, kind: str) -> None:
    """What other programs for tables read is what JSON says."""
    span = {"from": START.isoformat(), "to": (START + 2 * HOUR).isoformat()}
    query: dict[str, Any] = {**span, "device": ["pod-0", "pod-1"], "field": ["level", "temp"]}

    def table(**more: str) -> Any:
        answer = client.get("/api/v1/history", {**query, **more, "as": kind})
        assert answer.status_code == 200 and kind in answer["Content-Disposition"]
        body = io.BytesIO(answer.getvalue())
        return pa.ipc.open_stream(body).read_all() if kind == "arrow" else pyarrow.parquet.read_table(body)

    rows = client.get("/api/v1/history", {**query, "limit": 1000}).json()["results"]
    found = table()
    assert found.schema.field("at").type == pa.timestamp("us", "UTC")
    told = [
        (r["device"], r["at"].isoformat().replace("+00:00", "Z"), str(r["message"]), r["level"], r["temp"])
        for r in found.to_pylist()
    ]
    assert told == [
        (r["device"], r["at"], r["message"], r["values"].get("level"), r["values"].get("temp")) for r in rows
    ]
    assert len(told) > 5
    parts = table(aggregate="max", every="1h").to_pylist()
    series = client.get("/api/v1/history", {**query, "aggregate": "max", "every": "1h"}).json()["series"]
    assert [(r["device"], r["field"], r["value"], r["count"]) for r in parts] == [
        (one["device"], one["field"], value, count)
        for one in series
        for value, count in zip(one["value"], one["count"], strict=True)
    ]


def test_as_csv(client: Client) -> None:
    span = {"from": START.isoformat(), "to": (START + 2 * HOUR).isoformat(), "as": "csv"}
    answer = client.get("/api/v1/history", {**span, "type": "pod", "field": ["level", "temp"]})
    rows = list(csv.reader(io.StringIO(answer.getvalue().decode())))
    assert rows[0] == ["device", "at", "received_at", "level [m]", "temp [Cel]"] and len(rows) == 63
    assert rows[-2][3:] == ["", "12.0"] and rows[-1][0] == "pod-1"
    answer = client.get(
        "/api/v1/history", {**span, "device": "pod-0", "field": "level", "aggregate": "max", "every": "1h"}
    )
    assert answer.getvalue().decode().splitlines()[1].startswith("pod-0,level,m,")


def test_the_newest(client: Client) -> None:
    told = asked(client, "newest", type="pod", field="level")
    assert told["count"] == 4 and [row["device"] for row in told["results"]] == [f"pod-{n}" for n in range(4)]
    assert told["results"][1]["values"]["level"] == {
        "value": 7.0,
        "at": (START + timedelta(seconds=3660)).isoformat().replace("+00:00", "Z"),
        "unit": "m",
    }
    assert told["results"][2] == {"device": "pod-2", "received_at": None, "values": {}}


@pytest.mark.parametrize(
    ("query", "code", "words"),
    [
        ({"device": "pod-9", "field": "level"}, 404, "there is no `pod-9`"),
        ({"device": "pod-0", "field": "levle"}, 404, "`levle` is not a field"),
        ({"device": "pod-0"}, 400, "expected 1 to 16 names"),
        ({"device": "pod-0", "field": "level", "aggregate": "median"}, 400, "expected none, min"),
        ({"device": "pod-0", "field": "level", "aggregate": "mean"}, 400, "either `every`"),
        ({"device": "pod-0", "field": "level", "aggregate": "mean", "every": "0m"}, 400, "expected a whole number of"),
        ({"device": "pod-0", "field": "level", "aggregate": "mean", "every": "1s"}, 400, "more than 5000 parts"),
        ({"device": "pod-0", "field": "level", "after": "@"}, 400, "pass what `next` said"),
        ({"device": "pod-0", "field": "level", "order": "up"}, 400, "expected asc or desc"),
        ({"device": "pod-0", "field": "level", "as": "xml"}, 400, "expected json, csv, arrow, parquet"),
        ({"device": "pod-0", "field": "level", "limit": "0"}, 400, "from 1 to 10000"),
    ],
)
def test_what_cannot_be_asked(client: Client, query: dict[str, str], code: int, words: str) -> None:
    span = {"from": START.isoformat(), "to": (START + 2 * HOUR).isoformat()}
    answer = client.get("/api/v1/history", {**span, **query})
    assert answer.status_code == code and words in answer.json()["detail"]


def test_no_text_of_a_device_is_taken_for_a_formula() -> None:
    assert cell_of("=1+1", "text") == "'=1+1" and cell_of("-7", "integer") == "-7" and cell_of([1.5, -2], "position")
