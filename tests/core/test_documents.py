"""JSON, CBOR and SenML from strangers: every broken payload is refused with its reason, and shown as far as it can
be.
"""

from __future__ import annotations

import io
import json
import math
from datetime import UTC, datetime
from typing import Any

import cbor2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding import loops, sources
from oculum.decoding.decode import decode
from oculum.decoding.sources import plain_document, read_cbor
from oculum.language import limits
from oculum.language.decoders import check_decoder
from tests.often import examples


def tagged(number: int, content: Any) -> bytes:
    return cbor2.dumps({"a": cbor2.CBORTag(number, content)})


CBOR = "decoder d for cbor\n  at a  x  number\n"
JSON = "decoder d for json\n  at a  x  number\n"
SENML = "decoder d for senml\n  at level  level  number  m\n"


def answered(text: str, payload: bytes) -> dict[str, Any]:
    plan, problems = check_decoder(text)
    assert plan is not None, problems
    return answer(decode(plan, Payloads.of([payload], [0])), 0)


def deep(depth: int) -> bytes:
    return b"\xa1\x61\x61" + b"\x81" * depth + b"\x01"


@pytest.mark.parametrize(
    "payload,code,message",
    [
        (b"", "too short", ""),
        (b"\xa1\x61\x61", "too short", "the CBOR ends before it is complete"),
        (b"\xa1\x61\x61\x19\x01", "too short", "the CBOR ends before it is complete"),
        (b"\xa1\x61\x61\x01\x00", "malformed", "1 byte stands behind the end of the CBOR"),
        (b"\xa1\x61\x61\xff", "malformed", "a break stands where none belongs"),
        (b"\xbf\x61\x61\xff", "malformed", "a map ends between a key and its value"),
        (b"\xa1\x61\x61\x7f\x01\xff", "malformed", "a piece of a text is none"),
        (b"\xa1\x61\x61\xd8\x1c\x01", "malformed", "tag 28 (a reference to another part) is not taken"),
        (b"\xa1\x61\x61\xd8\x19\x01", "malformed", "tag 25 (a reference to another part) is not taken"),
        (b"\xa1\x61\x61\xf8\x10", "malformed", "a simple value is written too long"),
        (b"\xa1\x61\x61\x1c", "malformed", "the bytes are not well-formed CBOR"),
        (deep(limits.CBOR_DEPTH + 1), "malformed", f"the document nests more than {limits.CBOR_DEPTH} deep"),
        (b"\xa1\x61\x61\x9b\x00\x00\x00\xff\xff\xff\xff\xff", "too short", "the CBOR ends before it is complete"),
        (b"\xa1\x61\x61\x61\xff", "malformed", "not CBOR"),
        (b"\x01", "malformed", "found a number, expected an object or a list"),
        (b"\xa1\x61\x61\x61x", "malformed", "`a` is a text `x`, expected a number"),
        (b"\xa1\x61\x61\x41x", "malformed", "`a` is bytes, expected a number"),
        (b"\xa1\x61\x61\xc1\x1b\xff\xff\xff\xff\xff\xff\xff\xff", "malformed", "not CBOR"),
    ],
)
def test_cbor_that_is_none(payload: bytes, code: str, message: str) -> None:
    error = answered(CBOR, payload)["error"]
    assert error["code"] == code and error["message"].startswith(message), error


@pytest.mark.parametrize(
    "payload,code,message",
    [
        (b"", "too short", ""),
        (b'{"a": ', "malformed", "not JSON"),
        (b'{"a": 1}}', "malformed", "not JSON"),
        (b"\xff\xfe", "malformed", ""),
        (b'{"a": NaN}', "malformed", "not JSON"),
        (b"[" * 200 + b"]" * 200, "malformed", "the document nests more than"),
        (b'{"a": "' + b"[" * 300 + b'"}', "malformed", "`a` is a text"),  # brackets in a text nest nothing
        (b"7", "malformed", "found a number, expected an object or a list"),
        (b'{"a": true}', "malformed", "`a` is true or false"),
        (b'{"a": {}}', "malformed", "`a` is an object"),
    ],
)
def test_json_that_is_none(payload: bytes, code: str, message: str) -> None:
    error = answered(JSON, payload)["error"]
    assert error["code"] == code and message in error["message"], error


@pytest.mark.parametrize(
    "pack,message",
    [
        ([{"v": 1}], 'record 1 has no name that SenML allows: ""'),
        ([{"n": "a b", "v": 1}], 'record 1 has no name that SenML allows: "a b"'),
        ([{"n": "level", "v": "x"}], "`v` of record 1 is a text"),
        ([{"bn": 5, "n": "level", "v": 1}], "`bn` of record 1 is a number"),
        ([{"n": "level", "v": True}], "`v` of record 1 is true or false"),
        ([{"n": "level", "u": "m", "v": 1, "t": 1e300}], "the time of record 1 is out of all bounds"),
        ([5], "a SenML pack is a list of records"),
        ({"n": "level"}, ""),
        ([{"n": "level", "v": 1}] * 5000, f"the pack has more than {limits.ELEMENTS} records"),
        ([{"n": "level", "u": "Cel", "v": 1}], "found the unit `Cel`, expected `m`"),
        ([{"n": "level", "v": 1}], "the record has no unit, expected `m`"),
        ([{"n": "level", "u": "m", "vs": "x"}], "expected number"),
    ],
)
def test_senml_that_is_none(pack: Any, message: str) -> None:
    for payload in (json.dumps(pack).encode(), cbor2.dumps(pack)):
        if payload[:1] == b"\xa1":
            continue  # labels of SenML in CBOR are numbers: a map with names is looked at as any other
        error = answered(SENML, payload).get("error")
        assert error is not None and message in error["message"], error


# what is shown --------------------------------------------------------------------------
leaves = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(2**70), 2**70),
    st.floats(),
    st.text(max_size=8),
    st.binary(max_size=8),
    st.just(cbor2.undefined),
    st.just(datetime(2026, 3, 2, tzinfo=UTC)),
)
documents = st.recursive(
    leaves,
    lambda inner: st.one_of(
        st.lists(inner, max_size=4),
        st.dictionaries(st.one_of(st.text(max_size=4), st.integers(0, 9)), inner, max_size=4),
    ),
    max_leaves=12,
)


@settings(max_examples=examples(100), deadline=None)
@given(documents)
def test_every_document_can_be_shown_as_json(document: Any) -> None:
    """Also bytes, times, numbers of any length and what is no number: the screen gets JSON that any reader takes."""
    shown = plain_document("cbor", cbor2.dumps(document))
    again = json.loads(json.dumps(shown, allow_nan=False))
    assert again == shown

    def alike(value: Any, told: Any) -> bool:
        match value:
            case bool() | None:
                return told is value
            case int():
                return told == (value if abs(value) <= 2**53 else f"whole {value}")
            case float():
                return told == (value if math.isfinite(value) else str(value))
            case bytes():
                return told == f"bytes {value.hex()}"
            case str():
                return told == value
            case list():
                return len(told) == len(value) and all(map(alike, value, told))
            case dict():
                return all(str(k) in told for k in value)
        return isinstance(told, str)

    assert alike(document, shown)


@settings(max_examples=examples(100), deadline=None)
@given(st.binary(max_size=40))
def test_a_scan_lets_only_cbor_through_that_can_be_read(payload: bytes) -> None:
    """What is refused before it is read, the reader refuses as well; what is read is read to its end."""
    shown = plain_document("cbor", payload)
    try:
        stream = io.BytesIO(payload)
        cbor2.CBORDecoder(stream).decode()
        whole = stream.tell() == len(payload)
    except Exception:
        whole = False
    if shown is not None:
        assert whole


def test_text_is_no_document() -> None:
    assert plain_document("text", b"a;b") is None and plain_document("bytes", b"\x01") is None
    assert plain_document("senml", b'[{"n":"a","v":1}]') == [{"n": "a", "v": 1}]
    assert plain_document("json", b"{") is None


@pytest.mark.parametrize(
    ("payload", "value"),
    [
        (tagged(1000, 5), 5.0),
        (tagged(100, 20_000), 20_000.0),
        (tagged(43_000, cbor2.CBORTag(261, 1.5)), 1.5),
        (tagged(4, [-2, 27_315]), 273.15),
        (tagged(5, [-1, 3]), 1.5),
        (tagged(30, [1, 4]), 0.25),
        (tagged(2, b"\x01\x00"), 256.0),
        (b"\xd9\xd9\xf7" + cbor2.dumps({"a": 7}), 7.0),
    ],
)
def test_the_content_counts_behind_a_tag_that_means_nothing(payload: bytes, value: float) -> None:
    assert [r["value"] for r in answered(CBOR, payload)["readings"]] == [value]


@pytest.mark.parametrize(
    ("payload", "said"),
    [
        (tagged(2, b"\xff" * 129), "a whole number has more than 128 bytes"),
        (tagged(3, b"\xff" * 60_000), "a whole number has more than 128 bytes"),
        (b"\xa1\x61\x61\xc2\x5f\x41\x01\xff", "a whole number has more than 128 bytes"),
        (tagged(2, b"\xff" * 128), "expected a number of at most 53 bits"),
        (tagged(4, [10**18, 3]), "decimal fraction"),
        (tagged(30, [1, 0]), "rational"),
        (tagged(1, 5), "`a` is a time (tag 0 or 1), expected a number"),
        (tagged(258, [1]), "`a` is a list, expected a number"),
    ],
)
def test_a_number_that_is_none_is_refused(payload: bytes, said: str) -> None:
    error = answered(CBOR, payload)["error"]
    assert error["code"] == "malformed" and said in error["message"]


@given(
    st.recursive(
        st.integers() | st.text() | st.booleans() | st.none(), lambda c: st.lists(c) | st.dictionaries(st.text(), c)
    ),
    st.data(),
)
def test_tags_change_nothing(document: Any, data: st.DataObject) -> None:
    """A document with tags strewn over it that mean nothing is read as the one without them."""

    def strewn(part: Any) -> Any:
        if isinstance(part, list):
            part = [strewn(x) for x in part]
        elif isinstance(part, dict):
            part = {key: strewn(value) for key, value in part.items()}
        number = data.draw(st.sampled_from([None, None, 6, 23, 24, 255, 32, 35, 37, 100, 258, 1004, 70_000, 2**40]))
        return part if number is None else cbor2.CBORTag(number, part)

    assert read_cbor(cbor2.dumps(strewn(document))) == read_cbor(cbor2.dumps(document))


# many at once -------------------------------------------------------------------------
SHAPE = """decoder d for {source}
  at t  sent  time iso  hidden
  stamp sent
  at nav.sog  speed  number  [kn_i]
  at nav.cog  course  number  deg  missing "no fix" raw "n/a"
  at state  state  text
  at n  n  integer
"""
LEAF: st.SearchStrategy[Any] = st.sampled_from(
    [1, 2.5, "n/a", None, True, "x", [], {}, 2**60, "2026-03-02T09:15:20Z", "2026-13-02T09:15:20Z"]
)


@st.composite
def messages(draw: st.DrawFn) -> tuple[str, list[bytes]]:
    """Documents of one shape, some with other values in it, some cut, doubled or run together."""
    source = draw(st.sampled_from(["json", "cbor"]))
    found = []
    for n in range(draw(st.integers(8, 14))):
        document: Any = {
            "t": "2026-03-02T09:15:20Z",
            "nav": {"sog": n / 2, "cog": draw(st.sampled_from([271.5, "n/a"]))},
            "state": "under_way",
            "n": n,
        }
        match draw(st.integers(0, 11)):
            case 0:
                document[draw(st.sampled_from(["t", "nav", "state", "n"]))] = draw(LEAF)
            case 1:
                document["nav"]["cog"] = draw(LEAF)
            case 2:
                del document[draw(st.sampled_from(["t", "nav", "state", "n"]))]
            case 3:
                document = draw(LEAF)
            case 4:
                for _ in range(40):
                    document = {"nav": document}
        raw = json.dumps(document).encode() if source == "json" else cbor2.dumps(document)
        match draw(st.integers(0, 9)):
            case 0:
                raw = raw[: draw(st.integers(0, len(raw)))]
            case 1:
                raw += draw(st.sampled_from([b",", b"]", b',"', raw, b"," + raw, b"}", b"\x00", b"\xff"]))
            case 2:
                raw = draw(st.sampled_from([b"[", b'"', b"{", b"[1,", b"\x9f", b"\xc1", b"\xd8\x20"])) + raw
        found.append(raw)
    return source, found


@given(messages())
def test_many_at_once_give_what_each_gives_alone(drawn: tuple[str, list[bytes]]) -> None:
    source, raws = drawn
    plan, problems = check_decoder(SHAPE.format(source=source))
    assert plan is not None, problems
    together = decode(plan, Payloads.of(raws, [0] * len(raws)))
    for row, raw in enumerate(raws):
        alone = decode(plan, Payloads.of([raw], [0]))
        assert answer(together, row) == answer(alone, 0)


@settings(max_examples=examples(150))
@given(
    st.binary(max_size=40) | st.recursive(LEAF, lambda x: st.lists(x) | st.dictionaries(st.text(), x)).map(cbor2.dumps)
)
def test_plain_cbor_is_what_the_closer_look_takes_as_it_is(raw: bytes) -> None:
    for loop in (loops.plain_cbor, loops.compiled(loops.plain_cbor)):
        plain = np.zeros(1, bool)
        data = np.frombuffer(raw + b"\0", np.uint8)
        ends = np.array([len(raw)])
        with np.errstate(over="ignore"):
            loop(data, np.zeros(1, np.int64), ends, 65_536, np.zeros(32, np.int64), plain)
        if plain[0]:
            assert sources._cbor_scan(raw) == (len(raw), [])
