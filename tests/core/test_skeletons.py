"""Documents that differ in their values alone: read without being built, they give what the parser gives."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
import orjson
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding import skeletons
from oculum.decoding.decode import decode
from oculum.decoding.sources import GONE
from oculum.language.decoders import check_decoder
from tests.often import examples

TEXT = """decoder d for json
  at t    sent   time iso         hidden
  stamp sent
  at a    a      number           [kn_i]
  at b    b      number           deg     missing "no fix" raw "n/a"
  at n.c  c      integer
  at n.d  d      text             missing "off" raw "off"
  at n.e  e      flag             required
  at w    w      u64
  at x    x      number or text   m
  at f    f      form
"""
GOOD = ["t", "a", "b", "n", "w", "x", "f", "c", "d", "e"]
NUMBERS = st.from_regex(r"\A-?(0|[1-9][0-9]{0,24})(\.[0-9]{1,24})?([eE][+-]?[0-9]{1,3})?\Z")
ANY = st.one_of(
    NUMBERS,
    st.text(max_size=8).map(json.dumps),
    st.text(max_size=8).map(lambda text: json.dumps(text, ensure_ascii=False)),
    st.sampled_from(["true", "false", "null", "-0", "-0.0", "1e400", '"n/a"', '"off"', "9007199254740993", "[]", "{}"]),
)
BROKEN = st.sampled_from(
    ["01", "1.", ".5", "+1", "-", "1e", "tru", "nul", "NaN", '"\x01"', '"\\x"', '"\\ud800"', '"a', ""]
)


@contextmanager
def fewest(count: int) -> Iterator[None]:
    before, skeletons.FEWEST = skeletons.FEWEST, count
    try:
        yield
    finally:
        skeletons.FEWEST = before


@st.composite
def batches(draw: st.DrawFn) -> list[bytes]:
    """Documents of up to three skeletons, most of them with what the lines expect."""
    blanks = [draw(st.sampled_from(["", " ", "\n  "])) for _ in range(3)]
    orders = [draw(st.permutations(["t", "a", "b", "n", "w", "x", "f", "more"])) for _ in range(3)]
    gone = [draw(st.sets(st.sampled_from(["a", "b", "c", "d", "x"]), max_size=1)) for _ in range(3)]
    odd = draw(st.integers(0, 8))
    found = []
    for _ in range(draw(st.integers(8, 14))):
        k = draw(st.integers(0, 2))
        values = {
            "t": '"2026-03-02T09:15:20Z"', "a": draw(NUMBERS), "b": draw(st.sampled_from(["271.5", '"n/a"', "3"])),
            "c": "7", "d": '"on"', "e": "true", "w": "18446744073709551615", "x": draw(st.sampled_from(['"1.5"', "2"])),
            "f": draw(st.sampled_from(["1", "1.0", "null"])), "more": draw(st.sampled_from(['[1, {"a": "é"}]', "1e3"])),
        }  # fmt: skip
        if draw(st.integers(0, 8)) < odd:
            values[draw(st.sampled_from(list(values)))] = draw(ANY)
        if draw(st.integers(0, 40)) == 0:
            values[draw(st.sampled_from(list(values)))] = draw(BROKEN)
        gap = blanks[k]
        inner = f",{gap}".join(f'"{key}":{values[key]}' for key in ("c", "d", "e") if key not in gone[k])
        values["n"] = "{" + inner + "}"
        body = f",{gap}".join(f'{gap}"{key}":{gap}{values[key]}' for key in orders[k] if key not in gone[k])
        raw = ("{" + body + "}").encode("utf-8", "surrogatepass")
        if draw(st.integers(0, 60)) == 0:
            raw = raw[: draw(st.integers(0, len(raw)))]
        found.append(raw)
    return found


@settings(max_examples=examples(150))
@given(batches())
def test_what_is_read_is_what_the_parser_gives(raws: list[bytes]) -> None:
    plan, problems = check_decoder(TEXT)
    assert plan is not None, problems
    told = []
    for count in (1, 10**9):
        with fewest(count):
            decoded = decode(plan, Payloads.of(raws, [1_790_000_000_000_000] * len(raws)))
            told.append([answer(decoded, row) for row in range(len(raws))])
    assert told[0] == told[1]


@given(st.lists(NUMBERS | st.floats(allow_nan=False, allow_infinity=False).map(repr), min_size=1, max_size=8))
@example(
    ["9007199254740992", "9007199254740993", "0.1", "123456789012345678e-22", "4503599627370497.5", "1e22", "1e23"]
)
def test_numbers_to_the_last_digit(texts: list[str]) -> None:
    raws = [b'{"a":%b}' % text.encode() for text in texts]
    found = read(raws)
    try:
        wanted = [orjson.loads(raw)["a"] for raw in raws]
    except orjson.JSONDecodeError:
        assert found is None, "a number beyond all bounds"
        return
    assert found is not None
    listed = found[("a",)].listed
    assert [(type(v), repr(v)) for v in listed] == [(type(v), repr(v)) for v in wanted]


def read(raws: list[bytes], *paths: tuple[str, ...]) -> dict[tuple[str, ...], skeletons.Column] | None:
    ends = np.cumsum([len(raw) for raw in raws])
    with fewest(1):
        starts = np.concatenate([[0], ends[:-1]])
        return skeletons.read(np.frombuffer(b"".join(raws), np.uint8), starts, ends, paths or [("a",)])


@pytest.mark.parametrize(
    "raws",
    [
        [b'{"a": 1}', b'{"a": 1} {'],
        [b'{"a": 1, "a": 2}'],
        [b'{"a": [1]}'],
        [b'{"a": {"b": 1}}'],
        [b"[1]"],
        [b"1"],
        [b""],
        [b'{"a": 1, "b": "\xff"}', b'{"a": 1, "b": "x"}'],
        [b'{"a": 1, "b": "x"}', b'{"a": 1, "b": "\xff"}'],
        [b'{"a": 1, "b": "x"}', b'{"a": 1, "b": "\\q"}'],
        [b'{"k%d": 1}' % n for n in range(20)],
    ],
)
def test_what_is_left_to_the_parser(raws: list[bytes]) -> None:
    assert read(raws) is None


def test_documents_of_several_skeletons_and_what_they_lack() -> None:
    raws = [b'{"a":1,"b":{"c":"x"}}', b'{"b": {"c": "y"}}', b'{"a":2.5,"b":{"c":"z"}}', b'{"b":{},"a":null}']
    found = read(raws, ("a",), ("b", "c"))
    assert found is not None
    a, c = found[("a",)], found[("b", "c")]
    assert a.listed == [1, GONE, 2.5, None] and c.listed == ["x", "y", "z", GONE]
    assert a.of(np.array([2, 0])).listed == [2.5, 1]
    below: Any = read([b'{"b":null}'], ("b", "c"))
    assert below is None, "a path through a value is the parser's"
