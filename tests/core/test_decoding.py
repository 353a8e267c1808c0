"""The columnar decoder equals the slow one, on random decoders and random bytes; batches hide nothing."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import FIRST_REASON, PRESENT, Decoded, Payloads, Trace
from oculum.checks import CRCS
from oculum.decoding.checksums import check
from oculum.decoding.decode import decode
from oculum.history.events import plain
from oculum.language.decoders import check_decoder
from oculum.language.decoders.analysis import untaken
from oculum.language.decoders.lines import Decoder
from oculum.language.definitions import parse
from tests.often import examples

from .oracle import decode_slowly

pytestmark = pytest.mark.usefixtures("way")

ROOT = Path(__file__).resolve().parents[2]


def plan_of(text: str) -> Any:
    plan, problems = check_decoder(text)
    assert plan is not None, [(p.span.line, p.message) for p in problems]
    return plan


def flat(decoded: Decoded, row: int) -> list[tuple[str, float | None, int]]:
    """The readings of one row as (field, value or None, time)."""
    found = []
    for group in decoded.groups:
        for i in np.flatnonzero(group.rows == row).tolist():
            for spec in group.fields:
                column = group.columns[spec.name]
                if column.state[i] == 0:
                    continue
                value = plain(column.values[i]) if column.state[i] == PRESENT else None
                found.append((spec.name, value, int(group.at[i])))
    return sorted(found, key=lambda r: (r[0], r[2]))


# random decoders -------------------------------------------------------------------
@st.composite
def numbers(draw: Any, prefix: str, index: int, relative: bool) -> str:
    name = f"{prefix}{index}"
    width = draw(st.integers(1, 8))
    order = draw(st.sampled_from(["", " big", " little"]))
    letter = draw(st.sampled_from("ui"))
    tail = ""
    if draw(st.booleans()):
        high = draw(st.integers(0, min(width * 8 - 1, 52)))
        low = draw(st.integers(0, high))
        size = high - low + 1
        where = f"next {width} bytes" if relative else f"bytes {draw(st.integers(0, 12))} to "
        if not relative:
            first = int(where.split()[1])
            where = f"bytes {first} to {first + width - 1}"
        place = f"{where} bits {high} to {low}"
    else:
        size = width * 8
        place = "next" if relative else f"byte {draw(st.integers(0, 12))}"
    storage = f"{letter}{size}{order}"
    scale = draw(st.sampled_from(["", " / 100", " * 0.01", " * 5", " / 10 + 2", " * 2 - 7"]))
    unit = draw(st.sampled_from(["", " Cel", " V", " mg/L"]))
    if draw(st.booleans()) and size <= 52:
        mark = draw(st.integers(0, 2**size - 1))
        tail += f' missing "mark" raw {mark}'
    if draw(st.integers(0, 3)) == 0:
        low_value = draw(st.integers(-50, 50))
        tail += f" within {low_value} to {low_value + draw(st.integers(0, 20_000))}"
    return f"{place}  {name}  {storage}{scale}{unit}{tail}"


@st.composite
def decoders(draw: Any) -> str:
    order = draw(st.sampled_from(["big", "little"]))
    lines = [f"decoder d for bytes, {order} endian"]
    names: list[str] = []
    for i in range(draw(st.integers(1, 4))):
        lines.append("  " + draw(numbers("a", i, draw(st.booleans()))))
        names.append(f"a{i}")
    ruled = draw(st.sampled_from(names))
    if draw(st.booleans()):
        lines.insert(
            len(lines),
            f'  reject "odd" as {draw(st.sampled_from(["unknown layout", "checksum", "malformed"]))}'
            f" {draw(st.sampled_from(['when', 'unless']))} n0 > {draw(st.integers(0, 255))}",
        )
        lines.insert(1, "  byte 0  n0  u8")
    if draw(st.booleans()):
        lines.insert(1, "  byte 1  n1  u8")
        lines.append(f"  when n1 {draw(st.sampled_from(['<', '>', '=', '!=']))} {draw(st.integers(0, 255))}")
        lines.append("    " + draw(numbers("b", 0, True)))
        if draw(st.booleans()):
            lines.append("  otherwise")
            lines.append("    " + draw(numbers("c", 0, True)))
    if draw(st.booleans()):
        lines.append("  skip 1 bytes")
    kind = draw(st.integers(0, 2))
    if kind == 1:
        lines.append("  repeat to end, each 10 min earlier")
        lines.append("    " + draw(numbers("r", 0, True)))
        lines.append("    next  r1  u8")
    elif kind == 2:
        lines.insert(1, "  byte 2  n2  u8 within 0 to 9")
        lines.append("  repeat n2 times up to 6, each 2 min later")
        lines.append("    " + draw(numbers("r", 0, True)))
    assert ruled
    return "\n".join(lines) + "\n"


@settings(max_examples=examples(150), deadline=None)
@given(
    decoders(),
    st.lists(st.one_of(st.binary(max_size=40), st.binary(min_size=20, max_size=20)), min_size=1, max_size=12),
)
def test_columnar_equals_slow_decoder(text: str, payloads: list[bytes]) -> None:
    plan, problems = check_decoder(text)
    if plan is None:
        # The random text may compare a quantity with a bare number; the checker is right to refuse it.
        assert all("unit" in p.message or "fits" in p.message or "fit" in p.message for p in problems), problems
        return
    node, _, _ = parse(text)
    assert isinstance(node, Decoder)
    received = np.arange(len(payloads), dtype=np.int64) * 1_000_000
    decoded = decode(plan, Payloads.of(payloads, received))
    for row, payload in enumerate(payloads):
        code, readings = decode_slowly(node, payload)
        mine = decoded.failures[decoded.failure[row]].code if decoded.failure[row] >= 0 else None
        assert mine == code, (text, payload.hex())
        if code is None:
            last: dict[tuple[str, int], Any] = {}
            for name, reading in readings:
                value = None if reading.value is None else reading.value
                last[name, int(received[row]) + reading.offset_us] = value
            found = {(name, at): value for name, value, at in flat(decoded, row)}
            assert found.keys() == last.keys(), (text, payload.hex())
            for key, want in last.items():
                got = found[key]
                assert (got is None) == (want is None), (key, text, payload.hex())
                if want is not None:
                    assert got == pytest.approx(float(want), rel=1e-12, abs=1e-12)


@settings(max_examples=examples(80), deadline=None)
@given(decoders(), st.lists(st.binary(max_size=40), min_size=2, max_size=10), st.integers(1, 9))
def test_neighbours_do_not_matter(text: str, payloads: list[bytes], cut: int) -> None:
    plan, _ = check_decoder(text)
    if plan is None:
        return
    received = np.arange(len(payloads), dtype=np.int64)
    together = decode(plan, Payloads.of(payloads, received))
    for row, payload in enumerate(payloads):
        alone = decode(plan, Payloads.of([payload], received[row : row + 1]))
        assert flat(alone, 0) == flat(together, row)
        assert (alone.failure[0] < 0) == (together.failure[row] < 0)


# data sheets ------------------------------------------------------------------------
def vectors(name: str) -> list[dict]:
    return json.loads((ROOT / "tests" / "data" / f"{name}.json").read_text())


def expected_code(spec: Any, value: Any) -> Any:
    return dict(spec.codes)[int(value)] if spec.kind == "code" else bool(value) if spec.kind == "flag" else value


@pytest.mark.parametrize("vector", vectors("raft_buoy_fw1"), ids=lambda v: v["id"])
def test_raft_buoy_sheet(vector: dict) -> None:
    plan = plan_of((ROOT / "examples" / "raft_buoy.ocu").read_text())
    decoded = decode(plan, Payloads.of([bytes.fromhex(vector["payload_hex"])], [0]))
    expect = vector["expect"]
    if "error" in expect:
        assert decoded.failures[decoded.failure[0]].code == expect["error"]
        return
    assert decoded.failure[0] < 0, decoded.failures
    want = {r["field"]: r for r in expect["readings"]}
    (group,) = decoded.groups
    for spec in group.fields:
        column = group.columns[spec.name]
        # The sheet speaks of two fields, the product of one position.
        parts = [("latitude", 0), ("longitude", 1)] if spec.kind == "position" else [(spec.name, None)]
        for name, part in parts:
            if column.state[0] == 0:
                assert name not in want
                continue
            reading = want.pop(name)
            if reading["value"] is None:
                assert decoded.reasons[column.state[0] - FIRST_REASON] == reading["missing"]
            else:
                value = column.values[0] if part is None else column.values[0][part]
                assert expected_code(spec, value) == reading["value"]
                assert (spec.unit if spec.kind == "number" else None) == (
                    reading["unit"] if spec.kind == "number" else None
                )
    assert not want


@pytest.mark.parametrize(
    "vector", [v for v in vectors("work_boat") if "readings" in v["expect"]], ids=lambda v: v["id"]
)
def test_work_boat_sheet_in_part(vector: dict) -> None:
    """The fields that the example reads are exactly those of the sheet; it reads a part of them."""
    plan = plan_of((ROOT / "examples" / "work_boat.ocu").read_text())
    received = np.datetime64(vector["received_at"].rstrip("Z"), "us").astype(np.int64)
    decoded = decode(plan, Payloads.of([vector["payload_text"].encode()], [int(received)]))
    assert decoded.failure[0] < 0, decoded.failures
    want = {r["field"]: r for r in vector["expect"]["readings"]}
    (group,) = decoded.groups
    for spec in group.fields:
        column = group.columns[spec.name]
        if column.state[0] == 0:
            assert spec.name not in want or spec.kind == "position"
            continue
        if spec.kind == "position":
            if column.state[0] == PRESENT:
                assert [want["latitude"]["value"], want["longitude"]["value"]] == column.values[0].tolist()
            continue
        reading = want[spec.name]
        if reading["value"] is None:
            assert decoded.reasons[column.state[0] - FIRST_REASON] in (reading["missing"], "null")
            continue
        value = expected_code(spec, column.values[0])
        assert (
            value == pytest.approx(reading["value"], rel=1e-11, abs=1e-12)
            if isinstance(reading["value"], float | int) and not isinstance(reading["value"], bool)
            else value == reading["value"]
        )
        if spec.name != "position_accuracy":  # stands at the fix's own time in the sheet, at the message's here
            assert int(group.at[0]) == np.datetime64(reading["at"].rstrip("Z"), "us").astype(np.int64)


@pytest.mark.parametrize(
    "name,value",
    [
        ("crc8_smbus", 0xF4),
        ("crc8_maxim", 0xA1),
        ("crc16_modbus", 0x4B37),
        ("crc16_arc", 0xBB3D),
        ("crc16_ibm3740", 0x29B1),
        ("crc16_xmodem", 0x31C3),
        ("crc16_kermit", 0x2189),
        ("crc32", 0xCBF43926),
    ],
)
def test_check_sums_of_the_catalogue(name: str, value: int) -> None:
    """Every CRC gives its published check value over "123456789"."""
    assert name in CRCS
    data = np.frombuffer(b"xx123456789yyyyyyyyyy", np.uint8)
    assert check(name, data, np.array([2, 2]), np.array([9, 1]))[0] == value


@given(st.binary(max_size=60))
def test_json_decoder_survives_any_bytes(payload: bytes) -> None:
    plan = plan_of("decoder d for json\n  at a.b  x  number\n  at c[1]  y  text\n  at t  z  time iso\n")
    decoded = decode(plan, Payloads.of([payload, b'{"a":{"b":2.5},"c":[0,"w"],"t":"2000-01-01T00:00:00Z"}'], [0, 0]))
    assert decoded.failure[1] < 0
    assert {n: v for n, v, _ in flat(decoded, 1)} == {"x": 2.5, "y": "w", "z": 946_684_800_000_000}


@pytest.mark.parametrize(
    "payload,message",
    [
        (b'{"a":{"b":"hot"}}', "`a.b` is a text `hot`, expected a number"),
        (b'{"a":{"b":true}}', "`a.b` is true or false `True`, expected a number"),
        (b'{"a":{"b":9007199254740993}}', "`a.b` is a number `9007199254740993`, expected a number of at most 53 bits"),
        (b"[" * 40 + b"]" * 40, "the document nests more than 32 deep"),
        (b'{"a"', "not JSON"),
        (b"7", "found a number, expected an object or a list"),
        (b"", "the payload is empty"),
    ],
)
def test_json_refusals_say_what_was_found(payload: bytes, message: str) -> None:
    decoded = decode(plan_of("decoder d for json\n  at a.b  x  number\n"), Payloads.of([payload], [0]))
    assert decoded.failures[decoded.failure[0]].message.startswith(message)


def test_the_place_of_a_value_is_that_in_its_own_message() -> None:
    """Also with another message before it in the batch; and lines that it did not take are told."""
    plan = plan_of(
        "decoder d for bytes, big endian\n  byte 0  kind  u8\n  choose kind\n    is 1\n      byte 1  a  u8\n    is"
        " 2\n      byte 1  b  u8\n  byte 2  c  u8\n"
    )
    trace = Trace(row=1)
    decode(plan, Payloads.of([b"\x01\x02\x03", b"\x02\x05\x06"], [0, 0]), trace)
    assert {m["name"]: m["places"][0]["first"] for m in trace.marks} == {"kind": 0, "b": 1, "c": 2}
    assert untaken(plan.steps, trace.lines) == {4, 5}


def test_what_a_check_reads_is_told_and_is_not_left_over() -> None:
    text = (
        'decoder d for registers, big endian\n  origin 10\n  reject "the sum is wrong" as checksum unless'
        " sum16_words(registers 10 to 11) = u16 at register 12\n  register 10  a  u16\n  register 11  b  u16\n"
    )
    trace = Trace(row=1)
    payload = bytes.fromhex("000100020003")
    decoded = decode(plan_of(text), Payloads.of([payload, payload], [0, 0]), trace)
    assert decoded.good.all() and decoded.unread.tolist() == [0, 0]
    assert [(m["line"], m["places"][0]["first"], m["places"][0]["last"]) for m in trace.looked] == [(3, 4, 5)]
    assert trace.checked == {3}
    plain_text = 'decoder d for bytes, big endian\n  reject "no" unless u8 at byte 0 = 1\n  byte 1  a  u8\n'
    trace = Trace()
    decode(plan_of(plain_text), Payloads.of([b"\x01\x02"], [0]), trace)
    assert [m["places"][0]["first"] for m in trace.looked] == [0] and not trace.checked


def test_values_of_a_text_have_their_stretch_of_it() -> None:
    """Lines, columns in columns and groups of a pattern; counted in bytes, also behind letters that take two."""
    plan = plan_of(
        'decoder d for text\n  repeat lines\n    columns by ";"\n    column 1  who  text\n    column 2 to -1  rest_of'
        '  text\n    repeat columns 2 to -1\n      columns by " "\n      column 2  v_{index}  number\n'
    )
    payload = "é;a 1;b 22\nx;c 333".encode()
    trace = Trace(row=1)
    decode(plan, Payloads.of([b"other;a 9", payload], [0, 0]), trace)
    found = [(m["name"], payload[p["first"] : p["last"] + 1].decode()) for m in trace.marks for p in m["places"]]
    assert found == [
        ("who", "é"),
        ("who", "x"),
        ("rest_of", "a 1;b 22"),
        ("rest_of", "c 333"),
        ("v_1", "1"),
        ("v_2", "22"),
        ("v_1", "333"),
    ]
    plan = plan_of('decoder d for text\n  pattern "(?P<a>[a-z]+)=(?P<b>[0-9]+)"\n  group b  b  number\n')
    trace = Trace()
    decode(plan, Payloads.of(["…key=42".encode()], [0]), trace)
    assert [(p["first"], p["last"]) for m in trace.marks for p in m["places"]] == [(7, 8)]


def test_the_text_of_a_code_takes_the_code_of_the_other_arm() -> None:
    plan = plan_of(
        "decoder d for bytes, big endian\n  byte 0  a  code { 3 low, 5 high, 9 odd }\n  derive m = if a = `odd` then"
        " `low` else a\n"
    )
    decoded = decode(plan, Payloads.of([b"\x03", b"\x05", b"\x09"], [0, 0, 0]))
    assert decoded.groups[0].columns["m"].values.tolist() == [3.0, 5.0, 3.0]
    assert next(spec for spec in decoded.groups[0].fields if spec.name == "m").codes == (
        (3, "low"),
        (5, "high"),
        (9, "odd"),
    )


def test_a_place_that_is_not_on_the_earth_is_missing() -> None:
    binary, _ = check_decoder("decoder d for bytes, big endian\n  byte 0  fix  position f64, f64\n")
    document, _ = check_decoder("decoder d for json\n  at a, b  fix  position number, number\n")
    for lat, lon, there in ((90.0, -180.0, True), (1e300, 0.0, False), (-90.5, 0.0, False), (0.0, 180.1, False)):
        rows = {binary: struct.pack(">dd", lat, lon), document: json.dumps({"a": lat, "b": lon}).encode()}
        for plan, payload in rows.items():
            assert plan is not None
            (reading,) = answer(decode(plan, Payloads.of([payload], [0])), 0)["readings"]
            assert (reading.get("value") == [lat, lon]) == there and (reading.get("missing") is None) == there, reading
