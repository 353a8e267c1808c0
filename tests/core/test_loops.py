"""The compiled loops against slow obvious ones, and against themselves uncompiled."""

from __future__ import annotations

import math
import struct
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import Payloads
from oculum.decoding import loops
from oculum.decoding.decode import decode
from oculum.decoding.level import NO_TEXT, NOT_FINITE
from oculum.language.decoders import check_decoder
from tests.often import examples

NAN32 = struct.pack("<f", math.nan)


@pytest.fixture(scope="module", autouse=True)
def always_compiled(way: str) -> None:
    """What is said here holds either way."""


def plan_of(text: str) -> Any:
    plan, problems = check_decoder(text)
    assert plan is not None, [(p.span.line, p.message) for p in problems]
    return plan


def column(decoded: Any, name: str) -> list[Any]:
    """The values of a field, with the reason in the place of a missing one and None where there is none."""
    found = decoded.groups[0].columns[name]
    return [
        None if s == 0 else v if s == 1 else decoded.reasons[s - 2]
        for v, s in zip(found.values.tolist(), found.state.tolist(), strict=True)
    ]


# lines -------------------------------------------------------------------------------
def lines_decoded(line: str, payloads: list[bytes]) -> list[Any]:
    decoded = decode(
        plan_of(f"decoder d for bytes, little endian\n  {line}\n"), Payloads.of(payloads, [0] * len(payloads))
    )
    assert decoded.good.all(), decoded.failures
    return column(decoded, "x")


def test_codes_from_nought_on_end_at_the_last() -> None:
    line = "byte 0  x  code u8 { 0 off, 1 on }"
    assert lines_decoded(line, [b"\x00", b"\x01", b"\x02", b"\xff"]) == [0.0, 1.0, NO_TEXT, NO_TEXT]


def test_codes_with_gaps_are_looked_up() -> None:
    line = "byte 0  x  code u8 { 1 calm, 4 swell, 9 storm, 200 wreck }"
    assert lines_decoded(line, [bytes([n]) for n in (0, 1, 2, 4, 9, 10, 200, 201)]) == [
        NO_TEXT,
        1.0,
        NO_TEXT,
        4.0,
        9.0,
        NO_TEXT,
        200.0,
        NO_TEXT,
    ]


def test_a_mark_comes_before_the_range_and_before_what_is_no_number() -> None:
    marked = 'byte 0  x  f32  missing "not fitted" raw nan  within 0 to 10'
    floats = [NAN32, struct.pack("<f", math.inf), struct.pack("<f", 11.0), struct.pack("<f", 2.5)]
    assert lines_decoded(marked, floats) == ["not fitted", NOT_FINITE, "outside 0 to 10", 2.5]
    assert lines_decoded("byte 0  x  f32", floats[:2]) == [NOT_FINITE, NOT_FINITE]


@settings(max_examples=examples(75), deadline=None)
@given(st.integers(1, 8), st.booleans(), st.booleans(), st.data())
def test_numbers_of_every_width_and_order(width: int, little: bool, signed: bool, data: st.DataObject) -> None:
    most = min(8 * width, 53)
    high = data.draw(st.integers(0, 8 * width - 1))
    low = data.draw(st.integers(max(0, high - most + 1), high))
    payloads = data.draw(st.lists(st.binary(min_size=width + 2, max_size=width + 2), min_size=1, max_size=9))
    bits = high - low + 1
    place = f"bytes 1 to {width} bits {high} to {low}" if width > 1 else f"byte 1 bits {high} to {low}"
    text = (
        f"decoder d for bytes, {'little' if little else 'big'} endian\n  {place}  x  {'i' if signed else 'u'}{bits}\n"
    )
    plan, problems = check_decoder(text)
    if plan is None and bits == 1:
        return  # a bit is a flag, whatever its storage
    assert plan is not None, problems
    decoded = decode(plan, Payloads.of(payloads, [0] * len(payloads)))
    wanted = []
    for payload in payloads:
        pattern = int.from_bytes(payload[1 : width + 1], "little" if little else "big") >> low & (1 << bits) - 1
        wanted.append(float(pattern - (1 << bits) if signed and pattern >> (bits - 1) else pattern))
    assert column(decoded, "x") == wanted


def test_what_is_read_behind_a_refusal_stands_only_where_nothing_is_refused() -> None:
    text = (
        'decoder d for bytes, big endian\n  byte 0  kind  u8  hidden\n  reject "another kind" as unknown layout'
        ' unless kind = 1\n  next  x  u16 / 10\n  reject "too far" when x > 100\n  next  y  u8\n'
    )
    decoded = decode(
        plan_of(text), Payloads.of([b"\x01\x00\x10\x05", b"\x02\x00\x10\x05", b"\x01\xff\xff\x05"], [0, 0, 0])
    )
    assert [decoded.failures[f].message if f >= 0 else None for f in decoded.failure.tolist()] == [
        None,
        "another kind",
        "too far",
    ]
    assert (column(decoded, "x"), column(decoded, "y")) == ([1.6], [5.0])


def test_a_refusal_sees_how_much_is_left_where_it_stands() -> None:
    text = (
        'decoder d for bytes, big endian\n  next  x  u8\n  reject "not three more" when left != 3 and bits_left !='
        ' 0\n  next  y  u8\n  reject "not two more" unless left = 2\n  next  z  u16\n'
    )
    decoded = decode(plan_of(text), Payloads.of([b"\x01\x02\x00\x03"] * 3, [0, 0, 0]))
    assert decoded.good.all(), decoded.failures
    assert (column(decoded, "x"), column(decoded, "y"), column(decoded, "z")) == ([1.0] * 3, [2.0] * 3, [3.0] * 3)


def test_records_of_another_size_stop_only_their_own_messages() -> None:
    text = (
        "decoder d for bytes, big endian\n  records tag u8, size u8\n  record 1  a  u8\n  record 2  b  u16\n "
        " record 3  c  u8\n"
    )
    good, odd = bytes([1, 1, 7, 2, 2, 1, 0, 3, 1, 9]), bytes([1, 1, 7, 2, 1, 1, 3, 1, 9])
    decoded = decode(plan_of(text), Payloads.of([good, odd, good[:3]], [0, 0, 0]))
    assert [f < 0 for f in decoded.failure.tolist()] == [True, False, True]
    assert "record 2 has 1 bytes; `b` takes 2" in decoded.failures[0].message
    assert [column(decoded, name) for name in "abc"] == [[7.0, 7.0], [256.0, None], [9.0, None]]


# loops -------------------------------------------------------------------------------
WIDTHS = st.sampled_from([0, 1, 1, 1, 2, 3, 4, 8])
SOME_ROWS = st.lists(st.binary(max_size=24), min_size=1, max_size=6)


@settings(max_examples=examples(150), deadline=None)
@given(SOME_ROWS, WIDTHS, WIDTHS, st.booleans(), st.sets(st.integers(0, 300), max_size=4), st.integers(1, 6))
def test_a_walk_over_records_is_the_same_compiled(
    contents: list[bytes], tag: int, size: int, little: bool, tags: set[int], most: int
) -> None:
    payloads = Payloads.of(contents, [0] * len(contents))
    wanted = np.array(sorted(tags), np.int64)
    by_byte = np.full(256, -1, np.int64)
    for slot, number in enumerate(wanted.tolist()):
        if number < 256:
            by_byte[number] = slot
    results = []
    for loop, data in (
        (loops.records, memoryview(payloads.data.tobytes())),
        (loops.compiled(loops.records), payloads.data),
    ):
        starts, ends = (
            np.full((len(wanted), len(contents)), -1, np.int64),
            np.full((len(wanted), len(contents)), -1, np.int64),
        )
        found, wrong = np.zeros((4, 200), np.int64), np.zeros(len(contents), np.int8)
        order = np.array([int(little)] * 2)
        total = loop(
            data,
            np.arange(len(contents)),
            payloads.starts,
            payloads.ends,
            np.array([tag, size]),
            order,
            by_byte,
            -1,
            wanted,
            most,
            starts,
            ends,
            found,
            wrong,
        )
        results.append((total, starts.tolist(), ends.tolist(), found.tolist(), wrong.tolist()))
    assert results[0] == results[1]
    total, _, _, ways, _ = results[0]
    for row, first, last in zip(ways[0][:total], ways[2][:total], ways[3][:total], strict=True):
        assert payloads.starts[row] <= first <= last <= payloads.ends[row]


@pytest.mark.parametrize(
    ("content", "problem"),
    [
        (b"\x80", loops.CUT),
        (b"\xff" * 11 + b"\x00", loops.ENDLESS),
        (b"\xff" * 9 + b"\x02\x00", loops.ENDLESS),
        (b"\xff" * 9 + b"\x01\x00", 0),  # the largest number of 64 bits, of a record that nobody reads
        (b"\x01\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01", loops.OVERLONG),
        (b"\x01\x00" * 3, loops.TOO_MANY),
    ],
)
def test_what_is_wrong_with_numbers_of_a_record(content: bytes, problem: int) -> None:
    none, wrong = np.zeros((0, 1), np.int64), np.zeros(1, np.int8)
    first = np.zeros(1, np.int64)
    for loop in (loops.records, loops.compiled(loops.records)):
        data: Any = np.frombuffer(content + bytes(16), np.uint8)
        data = memoryview(data) if loop is loops.records else data
        loop(
            data,
            first,
            first,
            first + len(content),
            first.repeat(2),
            first.repeat(2),
            np.full(256, -1),
            -1,
            first[:0],
            2,
            none,
            none,
            np.zeros((4, 0), np.int64),
            wrong,
        )
        assert wrong[0] == problem


@settings(max_examples=examples(100), deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(0, 5), st.integers(0, 5), st.integers(0, 99), st.integers(-(10**9), 10**9)), max_size=5
    ),
    st.integers(1, 40),
    st.integers(-(10**9), 10**9),
    st.booleans(),
)
def test_elements_of_repeats(rows: list[tuple[int, int, int, int]], size: int, each: int, until: bool) -> None:
    counts, more, begin, at = (np.array([row[k] for row in rows], np.int64) for k in range(4))
    totals = counts + more  # of which only so many are there
    wanted = []
    for row, (count, extra, first, now) in enumerate(rows):
        for n in range(count):
            turn = n - (count + extra - 1) if until else n
            wanted.append([row, n + 1, first + n * size, now + turn * each])
    for loop in (loops.elements, loops.compiled(loops.elements)):
        found = np.zeros((4, len(wanted)), np.int64)
        assert loop(np.arange(len(rows)), counts, totals, begin, size, at, each, until, *found) == len(wanted)
        assert found.T.tolist() == wanted


def test_more_rows_than_a_portion() -> None:
    count = 2 * loops.PORTION + 7
    decoded = decode(
        plan_of('decoder d for bytes, big endian\n  byte 0  x  u16 / 4  missing "mark" raw 1025\n'),
        Payloads.of([n.to_bytes(2, "big") for n in range(count)], [0] * count),
    )
    assert column(decoded, "x") == ["mark" if n == 1025 else n / 4 for n in range(count)]
