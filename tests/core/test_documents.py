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
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.decoding.sources import plain_document
from oculum.language import limits
from oculum.language.decoders import check_decoder

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


@settings(max_examples=200, deadline=None)
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


@settings(max_examples=200, deadline=None)
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
