"""A decoder made from SenML packs: everything that they say comes out, in the units of the standard."""

from __future__ import annotations

import json
import math
import re
import string
from typing import Any

import cbor2
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.drafting.from_senml import MOST, from_senml, is_senml, known_quantities, teaches
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition
from tests.often import examples

words = st.text(string.ascii_letters + string.digits + "._-", min_size=1, max_size=12).filter(lambda w: w[0].isalnum())
values = st.one_of(
    st.tuples(
        st.just("v"),
        st.integers(-(10**8), 10**8).map(lambda n: n / 100),
        st.sampled_from(["m", "Cel", "%RH", "l/s", "dBm", "lx", "quux", None]),
    ),
    st.tuples(st.just("vs"), st.text(string.ascii_letters, max_size=8), st.none()),
    st.tuples(st.just("vb"), st.booleans(), st.none()),
)


@settings(max_examples=examples(60), deadline=None)
@given(
    st.dictionaries(words, values, min_size=1, max_size=6),
    st.booleans(),
    st.sampled_from(["urn:dev:ow:10e2:", "gauge-3/", ""]),
)
@example(dict.fromkeys(("name", "unit", "received", "stamp", "index", "length"), ("v", 1.5, "m")), False, "")
@example(dict.fromkeys(("name", "when", "decoder", "missing", "n", "byte"), ("vs", "x", None)), True, "")
def test_every_quantity_of_a_pack_becomes_a_field(found: Any, binary: bool, base: Any) -> None:
    pack = [{"n": name, key: value, **({"u": unit} if unit else {})} for name, (key, value, unit) in found.items()]
    pack[0] = {"bn": base, **pack[0]}
    labels = {"bn": -2, "n": 0, "u": 1, "v": 2, "vs": 3, "vb": 4}
    payload = cbor2.dumps([{labels[k]: v for k, v in r.items()} for r in pack]) if binary else json.dumps(pack).encode()
    assert is_senml(payload)
    text = from_senml([payload], "thing")
    assert text is not None and format_definition(text) == text
    assert known_quantities(text) >= set(found) and not teaches(payload, text)
    plan, problems = check_decoder(text)
    assert plan is not None, problems
    readings = answer(decode(plan, Payloads.of([payload], [1_700_000_000_000_000])), 0)["readings"]
    assert [r["value"] for r in readings] == [value for _, value, _ in found.values()] or sorted(
        map(repr, (r["value"] for r in readings))
    ) == sorted(repr(int(v) if isinstance(v, float) and v.is_integer() else v) for _, v, _ in found.values())
    assert from_senml([payload], "thing", text) is None, "nothing is new"


def test_more_names_are_added_and_what_stands_stays() -> None:
    first = from_senml([b'[{"n":"level","u":"m","v":1}]'], "gauge")
    assert first is not None
    second = from_senml(
        [
            b'[{"n":"level","u":"m","v":1},{"n":"waves","vd":"AAAA"},{"n":"flow","u":"m3/s","v":1,"s":2},{"n":"at","v":3}]'
        ],
        "gauge",
        first,
    )
    assert second == format_definition(
        first.replace("  at level", "  # waves: bytes, whose meaning only a data sheet tells\n  at level")
        + "  at flow  flow  number  m3/s\n  at flow.sum  flow_total  number\n  at at  at  number\n"
    )


def test_a_pack_of_several_devices_is_divided() -> None:
    """What stands before the quantity names the device of each record; nothing is mixed, and a text made before learns
    it.
    """
    pack = json.dumps(
        [
            {"bn": "pod-1/", "n": "level", "u": "m", "v": 1},
            {"bn": "pod-2/", "n": "level", "u": "m", "v": 2},
            {"n": "heat", "u": "Cel", "v": 7},
        ]
    ).encode()
    alone = json.dumps([{"bn": "pod-1/", "n": "level", "u": "m", "v": 1}]).encode()
    first = from_senml([alone], "pod")
    assert first is not None and "\n  device " not in first and teaches(pack, first) and not teaches(alone, first)
    for text in (from_senml([pack], "pod"), from_senml([pack], "pod", first)):
        assert (
            text is not None and "\n  device " in text and format_definition(text) == text and not teaches(pack, text)
        )
        plan, problems = check_decoder(text)
        assert plan is not None, problems
        readings = answer(decode(plan, Payloads.of([pack], [0])), 0)["readings"]
        assert {(r["device"], r["field"], r["value"]) for r in readings} == {
            ("pod-1", "level", 1),
            ("pod-2", "level", 2),
            ("pod-2", "heat", 7),
        }
        assert from_senml([pack, alone], "pod", text) is None
    # Names of devices may be divided by colons; and a base that is no device of its own divides nothing.
    urns = json.dumps([{"n": "urn:dev:mac:01:level", "v": 1}, {"n": "urn:dev:mac:02:level", "v": 2}]).encode()
    assert 'device before_last(name, ":")' in (from_senml([urns], "pod") or "")
    mixed = json.dumps([{"n": "level", "v": 1}, {"n": "pod-1/heat", "v": 2}]).encode()
    whole = from_senml([mixed], "pod")
    assert whole is not None and "\n  device " not in whole and not teaches(mixed, whole)


def test_a_long_name_is_known_too() -> None:
    payload = json.dumps([{"n": "q" * 80, "v": 1}, {"n": "w" * 80, "vd": "AAAA"}, {"n": "level", "v": 2}]).encode()
    text = from_senml([payload], "thing")
    assert text is not None and text.count("\n  at ") == 2 and text.count("\n  # ") == 1
    assert not teaches(payload, text)
    assert from_senml([payload], "thing", text) is None


def test_it_is_bounded_and_takes_nothing_else() -> None:
    text = from_senml([json.dumps([{"n": f"q{i}", "v": i} for i in range(200)]).encode()], "thing")
    assert text is not None and text.count("\n  at ") == MOST
    assert from_senml([b"[]", b"{}", b"nonsense"], "thing") is None
    assert not any(map(is_senml, [b"", b"[]", b"[1]", b"{}", b'[{"n":1}]', b"\x81\x01", b"\xff"]))


any_text = st.text(st.characters(codec="utf-8"), max_size=20)
nasty = st.one_of(
    any_text,
    st.sampled_from(
        ['"', "#", "\\", "`", "\n", '" } \n  reject "all" when true\n', "{", "m\n  at x  y  number", "x" * 400]
    ),
    st.lists(st.sampled_from(list('"#\\`\n{}[] m/.é\u202e\0')), max_size=12).map("".join),
)


names = st.one_of(nasty, st.sampled_from(["level", "temp"]))
units = st.one_of(nasty, st.text("aAm0%/._*^()[]:+-", max_size=24), st.sampled_from(["m", "Cel"]))


@settings(max_examples=examples(250), deadline=None)
@given(
    st.lists(st.tuples(names, units, st.sampled_from(["v", "v", "vs", "vb", "vd"])), min_size=1, max_size=8),
    st.booleans(),
)
def test_what_a_stranger_sends_names_a_field_or_a_unit_and_does_no_more(found: Any, binary: bool) -> None:
    """Whatever the pack holds, the text is a flat list of reads that names quantities of the pack, or there is none."""
    values = {"v": 1.5, "vs": "a", "vb": True, "vd": "AAAA"}
    pack = [{"n": name, "u": unit, kind: values[kind]} for name, unit, kind in found]
    labels = {"n": 0, "u": 1, "v": 2, "vs": 3, "vb": 4, "vd": 8}
    payload = cbor2.dumps([{labels[k]: v for k, v in r.items()} for r in pack]) if binary else json.dumps(pack).encode()
    text = from_senml([payload], "thing")
    teaches(payload, text or "")
    if text is None:
        return
    plan, problems = check_decoder(text)
    assert plan is not None, problems
    assert format_definition(text) == text and not teaches(payload, text)
    names = {name for name, _, _ in found}
    assert known_quantities(text) <= {re.split("[/:]", name)[-1] for name in names}
    lines = [line.strip() for line in text.split("\n")[2:-1]]
    assert all(line.startswith(("at ", "device before_last(name, ", "# ")) for line in lines), text


@pytest.mark.parametrize(
    "record",
    [
        {0: "a", 2: 1.0, 6: float("nan")},
        {0: "a", 2: 1.0, 6: float("inf")},
        {0: "a", 2: 1.0, 6: -float("inf")},
        {0: "a", 2: 1.0, 6: 10**40},
        {0: "a", 2: 1.0, -3: float("nan")},
        {0: "a", 2: 10**400},
        {0: "a", 2: 1.0, -5: 10**400},
        {0: "a", 2: float("nan")},
        {0: "a", 5: 10**400, -6: 1.0},
        {0: "a", 2: 1e308, -5: 1e308},
    ],
)
def test_numbers_that_are_none_are_refused_or_missing_and_nothing_fails(record: Any) -> None:
    payload = cbor2.dumps([record])
    assert not is_senml(payload) or from_senml([payload], "thing") is not None
    plan, _ = check_decoder("decoder d for senml\n  at a  value  number\n")
    assert plan is not None
    found = answer(decode(plan, Payloads.of([payload], [0])), 0)
    assert "error" in found or all(r.get("missing") or math.isfinite(r["value"]) for r in found["readings"]), found


LEVEL = "decoder d for senml\n  at level  level  number  m\n"


def answered(payload: bytes) -> dict[str, Any]:
    plan, problems = check_decoder(LEVEL)
    assert plan is not None, problems
    return answer(decode(plan, Payloads.of([payload], [1_700_000_000_000_000])), 0)


def test_a_record_may_say_only_what_holds_for_those_behind_it() -> None:
    pack = [
        {"bn": "urn:dev:ow:1:", "bt": 1_699_999_000, "bu": "m"},
        {"n": "level", "v": 2},
        {"bv": 10},
        {"n": "level", "v": 1},
    ]
    readings = answered(json.dumps(pack).encode())["readings"]
    assert [(r["value"], r["at"]) for r in readings] == [(2.0, "2023-11-14T21:56:40Z"), (11.0, "2023-11-14T21:56:40Z")]
    assert answered(json.dumps(pack[:1]).encode())["readings"] == []
    assert answered(b"[]")["readings"] == []


@pytest.mark.parametrize(
    ("records", "said"),
    [
        ([{}], "record 1 has 0 values, expected one"),
        ([{"bn": "a/", "n": "level"}], "record 1 has 0 values, expected one"),
        ([{"bn": "a/", "u": "m"}], "record 1 has 0 values, expected one"),
    ],
)
def test_a_record_without_a_value_is_refused(records: list[Any], said: str) -> None:
    assert answered(json.dumps(records).encode())["error"] == {
        "code": "malformed",
        "message": said,
        "line": 1,
        "byte": 0,
    }


@pytest.mark.parametrize(
    ("value", "number"),
    [(cbor2.CBORTag(4, [-2, 250]), 2.5), (cbor2.CBORTag(5, [-1, 5]), 2.5), (cbor2.CBORTag(30, [5, 2]), 2.5)],
)
def test_numbers_of_cbor_may_be_fractions(value: Any, number: float) -> None:
    answer = answered(cbor2.dumps([{0: "level", 1: "m", 2: value, 6: cbor2.CBORTag(4, [-1, -5])}]))
    assert [r["value"] for r in answer["readings"]] == [number]
    assert answer["readings"][0]["at"] == "2023-11-14T22:13:19.5Z"
