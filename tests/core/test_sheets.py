"""Sixteen data sheets: every vector and every command, exactly; alone, and all of a sheet in one batch."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from oculum.answers import answer, differences
from oculum.batches import Payloads
from oculum.clocks import iso_us
from oculum.decoding.commands import CommandError, decode_command, encode_command
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.definitions import format_definition

pytestmark = pytest.mark.usefixtures("way")

ROOT = Path(__file__).resolve().parents[2]
SHEETS = ROOT / "examples" / "sheets"
VECTORS = ROOT / "tests" / "data" / "sheets"
NAMES = sorted(path.stem for path in SHEETS.glob("*.ocu"))
PLANS: dict[str, DecoderPlan] = {}


def plan_of(name: str) -> DecoderPlan | None:
    if name not in PLANS:
        plan, problems = check_decoder((SHEETS / f"{name}.ocu").read_text(), others=plan_of)
        assert plan is not None, problems
        assert not problems, "a sheet is written without a remark"
        PLANS[name] = plan
    return PLANS[name]


def lines(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []


def payload(vector: dict[str, Any]) -> bytes:
    return bytes.fromhex(vector["payload_hex"]) if "payload_hex" in vector else vector["payload_text"].encode()


def same(found: Any, wanted: Any) -> bool:
    if isinstance(found, bool | str) or found is None or isinstance(wanted, bool | str) or wanted is None:
        return type(found) is type(wanted) and found == wanted
    if isinstance(wanted, int):
        return found == wanted
    return abs(found - wanted) <= max(1e-12, 1e-11 * abs(wanted))


def key(reading: dict[str, Any]) -> tuple[str, str, int]:
    return reading.get("device", ""), reading["field"], iso_us(reading["at"])


def holds(result: dict[str, Any], expect: dict[str, Any]) -> None:
    if "error" in expect:
        assert "error" in result, result
        assert result["error"]["code"] == expect["error"], result["error"]
        assert result["error"]["message"]
        return
    assert "readings" in result, result
    found = {key(r): r for r in result["readings"]}
    wanted = {key(r): r for r in expect["readings"]}
    assert len(found) == len(result["readings"]), "device, field and time are unique"
    assert found.keys() == wanted.keys()
    for k, reading in found.items():
        assert same(reading["value"], wanted[k]["value"]), (k, reading, wanted[k])
        assert (reading["unit"], reading.get("missing")) == (wanted[k]["unit"], wanted[k].get("missing")), k
    refused = [{n: p[n] for n in ("part", "device", "error") if n in p} for p in result.get("refused", [])]
    assert refused == expect.get("refused", [])


def batch(vectors: list[dict[str, Any]]) -> tuple[Payloads, list[int]]:
    """Vectors one after the other, each behind the message before it if it has one; and the row of each."""
    payloads: list[bytes] = []
    received: list[int] = []
    headers: list[dict[str, str]] = []
    constants: list[dict[str, Any]] = []
    before: list[int] = []
    rows: list[int] = []
    for vector in vectors:
        for raw, earlier in [
            *([(bytes.fromhex(vector["previous_hex"]), -1)] if "previous_hex" in vector else []),
            (payload(vector), None),
        ]:
            before.append(len(payloads) - 1 if earlier is None and "previous_hex" in vector else -1)
            payloads.append(raw)
            received.append(iso_us(vector["received_at"]))
            headers.append(vector.get("headers", {}))
            constants.append(vector.get("constants", {}))
        rows.append(len(payloads) - 1)
    return Payloads.of(payloads, received, headers, constants, np.array(before)), rows


@pytest.mark.parametrize("name", NAMES)
def test_the_sheet_is_laid_out(name: str) -> None:
    text = (SHEETS / f"{name}.ocu").read_text()
    assert format_definition(text) == text


@pytest.mark.parametrize(
    "name,vector", [pytest.param(n, v, id=f"{n}-{v['id']}") for n in NAMES for v in lines(VECTORS / f"{n}.jsonl")]
)
def test_vector(name: str, vector: dict[str, Any]) -> None:
    plan = plan_of(name)
    assert plan is not None
    payloads, rows = batch([vector])
    holds(answer(decode(plan, payloads), rows[0]), vector["expect"])


@pytest.mark.parametrize("path", sorted((ROOT / "examples" / "cases").glob("*.jsonl")), ids=lambda p: p.stem)
def test_the_cases_that_the_demo_keeps(path: Path) -> None:
    plan = plan_of(path.stem)
    assert plan is not None
    for case in lines(path):
        payloads, rows = batch([case])
        assert not differences(answer(decode(plan, payloads), rows[0]), case["expect"]), case["name"]


@pytest.mark.parametrize("name", NAMES)
def test_a_batch_gives_what_each_message_gives(name: str) -> None:
    """Bad messages beside good ones, short beside long: none changes its neighbours."""
    plan = plan_of(name)
    assert plan is not None
    vectors = lines(VECTORS / f"{name}.jsonl")
    payloads, rows = batch(vectors * 2)
    decoded = decode(plan, payloads)
    for row, vector in zip(rows, vectors * 2, strict=True):
        holds(answer(decoded, row), vector["expect"])


@pytest.mark.parametrize(
    "name,command",
    [pytest.param(n, c, id=f"{n}-{c['id']}") for n in NAMES for c in lines(VECTORS / f"{n}.commands.jsonl")],
)
def test_command(name: str, command: dict[str, Any]) -> None:
    plan = plan_of(name)
    assert plan is not None
    if "error" in command["expect"]:
        with pytest.raises(CommandError) as refused:
            encode_command(plan, command["command"], command["params"], command.get("constants"))
        assert refused.value.code == command["expect"]["error"]
        return
    written = encode_command(plan, command["command"], command["params"], command.get("constants"))
    assert written.hex() == command["expect"]["payload_hex"]
    read = {
        r["field"]: r["value"]
        for r in answer(decode_command(plan, command["command"], written, command.get("constants")), 0)["readings"]
    }
    for parameter, value in command["params"].items():
        if command["id"] == "clock-second-pass":
            continue  # which pass it is stands in a byte of its own, which follows from the time
        if isinstance(value, str | bool):
            assert str(read[parameter])[:19] == str(value)[:19]
        else:
            assert abs(read[parameter] - value) <= 10.001, "no further off than half a step"


def test_all_sheets_and_all_vectors_are_there() -> None:
    assert len(NAMES) == 16
    assert sum(len(lines(VECTORS / f"{n}.jsonl")) for n in NAMES) == 501
    assert sum(len(lines(VECTORS / f"{n}.commands.jsonl")) for n in NAMES) == 76
