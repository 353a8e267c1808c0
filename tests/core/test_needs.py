"""What data sheets ask for: each need by an example, what can be drawn by lot against a slow, obvious way."""

from __future__ import annotations

import json
import struct
from datetime import UTC, datetime
from decimal import Decimal
from fractions import Fraction
from typing import Any

import cbor2
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition

RECEIVED = 1_790_000_000_000_000
BIG = "decoder d for bytes, big endian\n"
JSON = "decoder d for json\n"


def answers(text: str, *payloads: bytes) -> list[dict[str, Any]]:
    plan, problems = check_decoder(text)
    assert plan is not None, [(p.span.line, p.message) for p in problems]
    assert check_decoder(format_definition(text))[0] == plan, "laying a text out changes nothing"
    decoded = decode(plan, Payloads.of(list(payloads), [RECEIVED] * len(payloads)))
    return [answer(decoded, row) for row in range(len(payloads))]


def values(found: dict[str, Any]) -> dict[str, Any]:
    return {r["field"]: r["value"] for r in found["readings"]}


def refusal(found: dict[str, Any]) -> tuple[str, str]:
    return found["error"]["code"], found["error"]["message"]


# bytes -------------------------------------------------------------------------------
@given(st.lists(st.tuples(st.integers(1, 3), st.binary(max_size=3), st.integers(0, 3)), max_size=8), st.integers(0, 4))
def test_filler_bytes_among_records_mean_nothing(records: list[tuple[int, bytes, int]], before: int) -> None:
    text = BIG + "  records tag u8, size u8{filler}\n" + "".join(f"  record {n}  r{n}  hex\n" for n in (1, 2, 3))
    plain = b"".join(bytes([tag, len(body)]) + body for tag, body, _ in records)
    filled = bytes(before) + b"".join(bytes([tag, len(body)]) + body + bytes(gap) for tag, body, gap in records)
    (wanted,) = answers(text.format(filler=""), plain + b"\x09\x00")
    (found,) = answers(text.format(filler=", filler 0x00"), filled + b"\x09\x00")
    assert values(found) == values(wanted)


FRAMES = BIG + "  byte 0  n  u8\n  repeat {how} from 0xF5 to 0xFA escape 0xF7 xor 0x20{strict}\n    byte 0  a  u8\n"


def test_strict_frames_and_frames_from_where_the_cursor_stands() -> None:
    rest = FRAMES.format(how="rest frames", strict=" strict")
    good, before, behind, broken = (bytes.fromhex(x) for x in ("f5f501fa", "0100f501fa", "01f501fa00", "01f501"))
    found = answers(rest, good, before, behind, broken)
    assert values(found[0]) == {"n": 0xF5, "a": 1}
    assert [refusal(a) for a in found[1:]] == [
        ("malformed", "something stands outside of the frames"),
        ("malformed", "something stands outside of the frames"),
        ("too short", "the frame has no end"),
    ]
    forgiving = FRAMES.format(how="rest frames", strict="")
    assert [values(a) for a in answers(forgiving, before, behind)] == [{"n": 1, "a": 1}] * 2
    assert values(answers(FRAMES.format(how="frames", strict=""), bytes.fromhex("f501fa"))[0]) == {"n": 0xF5, "a": 1}


def test_a_check_over_what_this_turn_has_read_so_far() -> None:
    text = BIG + (
        "  byte 0  head  u8\n  repeat to end, each 1 s later\n    next  n  u8\n    next n bytes  t  text\n"
        '    derive s = sum8(bytes so far) hidden\n    next  c  u8 hidden\n    reject "bad" as checksum unless s = c\n'
    )
    good = bytes.fromhex("99 02 4142 85 01 41 42")
    found = answers(text, good, good[:-1] + b"\x43")
    assert [r["value"] for r in found[0]["readings"] if r["field"] == "t"] == ["AB", "A"]
    assert refusal(found[1]) == ("checksum", "bad")


def test_a_check_inside_a_line_of_text() -> None:
    text = (
        'decoder d for text\n  repeat lines\n    pattern "\\\\$(?P<b>[^*]*)\\\\*(?P<c>[0-9A-F]{2})"\n'
        "    group c  chk  integer from hex  hidden\n    group b  body  text\n"
        '    reject "bad" as checksum unless xor8(bytes 1 to -4) = chk\n'
    )
    good, bad = answers(text, b"$AB*03\n", b"$AB*04\n")
    assert values(good) == {"body": "AB"} and refusal(bad) == ("checksum", "bad")


@given(st.integers(0, 2**32 - 1))
def test_rules_read_with_every_storage(number: int) -> None:
    low, high = number & 0xFFFF, number >> 16
    text = BIG + f'  reject "x" unless u32 low word first at byte 0 = {number}\n  byte 0  a  u32 low word first\n'
    assert values(answers(text, struct.pack(">HH", low, high))[0]) == {"a": number}
    registers = "decoder d for registers\n  register 0  a  u16\n  derive b = u32 low word first at register 0\n"
    assert values(answers(registers, struct.pack(">HH", low, high))[0]) == {"a": low, "b": number}


@given(st.floats(width=32, allow_nan=False, allow_infinity=False))
def test_the_upper_half_of_a_single(number: float) -> None:
    stored = struct.pack(">f", number)[:2]
    (wanted,) = struct.unpack(">f", stored + b"\0\0")
    (found,) = answers(BIG + "  byte 0  a  bf16\n", stored)
    assert values(found) == pytest.approx({"a": wanted}, rel=1e-14)


def test_a_century_and_an_offset_for_the_digits_of_a_clock() -> None:
    text = BIG + '  byte 0  t  time digits "YYMMDDhhmmss" century 1970 local "+02:00"\n'
    found = answers(text, *(bytes.fromhex(x) for x in ("700101020000", "690101020000", "260228120000")))
    assert [values(a)["t"] for a in found] == ["1970-01-01T00:00:00Z", "2069-01-01T00:00:00Z", "2026-02-28T10:00:00Z"]
    text = JSON + '  at z  zone  text  hidden\n  at t  t  time text "YYYY-MM-DD hh:mm" local zone\n'
    good, bad = answers(text, b'{"z": "-03:30", "t": "2026-01-01 00:00"}', b'{"z": "Mars", "t": "2026-01-01 00:00"}')
    assert values(good) == {"t": "2026-01-01T03:30:00Z"} and refusal(bad)[0] == "malformed"


# repeats ------------------------------------------------------------------------------
@given(st.lists(st.tuples(st.none() | st.integers(-3, 3), st.none() | st.sampled_from("abc")), max_size=8))
def test_the_value_where_another_is_highest_and_how_many_differ(pairs: list[tuple[int | None, str | None]]) -> None:
    text = JSON + (
        "  repeat at a\n    at r  r  number  hidden\n    at g  g  text  hidden\n  at k  k  number\n"
        "  derive best = at_max_of(r, g)\n  derive worst = at_min_of(r, g)\n  derive many = different_of(g)\n"
        "  derive last = last_of(g) left out when count_of(g) = 0\n"
    )
    (found,) = answers(text, json.dumps({"k": 1, "a": [{"r": r, "g": g} for r, g in pairs]}).encode())
    known = [(r, g) for r, g in pairs if r is not None]
    best = next((g for r, g in known if r == max(r for r, _ in known)), None)
    worst = next((g for r, g in known if r == min(r for r, _ in known)), None)
    wanted = {"k": 1, "best": best, "worst": worst, "many": len({g for _, g in pairs if g is not None})}
    if pairs:
        wanted["last"] = next((g for _, g in reversed(pairs) if g is not None), None)
    assert values(found) == wanted


# documents ----------------------------------------------------------------------------


def test_a_text_is_a_unit_itself() -> None:
    text = JSON + '  at u  u  text  hidden\n  at v  p  number  by u { "kPa" kPa, "mm" mm[Hg], otherwise as written }\n'
    payloads = [json.dumps({"u": u, "v": 2}).encode() for u in ("kPa", "bar", "Pa", "mm", "MPa", "Cel", "x" * 99)]
    found = answers(text, *payloads)
    assert [values(a)["p"] for a in found[:5]] == pytest.approx([2, 200, 0.002, 2 * 0.133322387415, 2000])
    assert refusal(found[5])[1] == "found `Cel` as the unit, expected kPa, mm, or a unit that is converted into kPa"
    assert refusal(found[6])[0] == "malformed" and len(refusal(found[6])[1]) < 120
    warm = JSON + '  at u  u  text  hidden\n  at v  t  number  by u { "C" Cel, otherwise as written }\n'
    found = answers(warm, b'{"u": "K", "v": 300}', '{"u": "°F", "v": 122}'.encode())
    assert [values(a)["t"] for a in found] == pytest.approx([26.85, 50])


def test_undefined_is_nothing_in_lists_and_maps() -> None:
    text = "decoder d for cbor\n  repeat at x\n    at v  a  number\n  at y.z  b  number\n  at k  k  integer\n"
    payloads = [cbor2.dumps({"x": no, "y": no, "k": 5}) for no in (None, cbor2.undefined)]
    assert [values(a) for a in answers(text, *payloads)] == [{"k": 5}] * 2


# SenML --------------------------------------------------------------------------------
ANY = (
    "decoder d for senml, labels malformed, records required\n"
    '  derive q = after_last(name, "/") hidden\n'
    '  at .  {q}  number  by unit { "Cel" Cel, otherwise as written }\n'
    "  at .  {q}_share  number  %\n  at .  {q}_text  text\n"
)


def test_a_line_for_records_of_any_name_takes_those_of_its_kind_and_unit() -> None:
    pack = [
        {"bn": "d/", "n": "t", "u": "Cel", "v": 5},
        {"n": "k", "u": "K", "v": 273.15},
        {"n": "h", "u": "%", "v": 7},
        {"n": "s", "vs": "x"},
        {"n": "f", "vb": True},
    ]
    (found,) = answers(ANY, json.dumps(pack).encode())
    assert values(found) == {"t": 5, "k": 0, "h_share": 7, "s_text": "x"}


def test_how_labels_and_empty_packs_are_refused_can_be_said() -> None:
    label, empty, base = (json.dumps(p).encode() for p in ([{"n": "x", "v": 1, "m_": 2}], [], [{"bn": "x"}]))
    found = answers(ANY, label, empty, base)
    assert [refusal(a) for a in found] == [
        ("malformed", "the record asks for `m_` to be understood"),
        ("malformed", "the pack has no record"),
        ("malformed", "the pack has no record"),
    ]
    found = answers(ANY.replace(", labels malformed, records required", ""), label, empty)
    assert refusal(found[0])[0] == "unknown layout" and found[1]["readings"] == []
    plan, problems = check_decoder("decoder d for json, records required\n  at a  a  number\n")
    assert plan is None and [p.message for p in problems] == ["`labels` and `records required` are for SenML"]


# texts --------------------------------------------------------------------------------
@given(st.integers(-9999, 9999), st.integers(0, 3))
def test_numbers_in_texts_have_decimals_digits_and_hexadecimal_digits(hundredths: int, decimals: int) -> None:
    text = JSON + "  at v  v  number  hidden\n  at n  n  integer  hidden\n"
    text += f'  derive t = "{{v:06.{decimals}}}|{{n:04X}}"\n'
    (found,) = answers(text, json.dumps({"v": hundredths / 100, "n": abs(hundredths)}).encode())
    written, _, hexa = values(found)["t"].partition("|")
    assert abs(float(written) - hundredths / 100) <= 0.5 * 10**-decimals + 1e-9
    assert len(written) >= 6 and len(written.partition(".")[2]) == decimals
    assert hexa == f"{abs(hundredths):04X}"


# sentences ----------------------------------------------------------------------------
def test_inside_a_frame_or_a_part_the_sentence_speaks_of_it() -> None:
    frames = BIG + "  repeat frames from 0xF5 to 0xFA\n    byte 0  a  u8\n    byte 2  b  u8\n"
    part = BIG + "  open bytes 1 to 2\n    length 4\n    byte 0  a  u8\n"
    assert refusal(answers(frames, bytes.fromhex("f501fa"))[0])[1] == "the frame has 1 byte; `b` stands in byte 2"
    assert refusal(answers(part, bytes(4))[0])[1] == "the part has 2 bytes, expected 4"


def test_a_byte_that_only_a_rule_reads_is_no_unread_one() -> None:
    text = BIG + '  length 6\n  byte 0  n  u32\n  reject "x" unless crc16_modbus(bytes 0 to 3) = u16 at byte 4\n'
    assert check_decoder(text)[1] == []


# tags and forms ----------------------------------------------------------------------
CBOR = "decoder d for cbor\n"


@pytest.mark.parametrize(
    ("value", "form"),
    [
        (5, "integer"),
        (2**70, "integer"),
        (5.0, "float"),
        (Decimal("5.0"), "fraction"),
        (Fraction(5, 2), "fraction"),
        (True, "flag"),
        ("5", "text"),
        (b"5", "bytes"),
        ([5], "list"),
        ({"a": 5}, "map"),
        (None, "null"),
        (cbor2.undefined, "undefined"),
        (datetime(2026, 5, 1, tzinfo=UTC), "time"),
        (cbor2.CBORTag(4000, 5), "integer"),
    ],
)
def test_whole_numbers_are_told_from_others(value: Any, form: str) -> None:
    (found,) = answers(CBOR + "  at v  how  form\n", cbor2.dumps({"v": value}))
    assert values(found) == {"how": form}


def test_a_form_decides_how_a_number_counts() -> None:
    text = JSON + (
        "  at t  how  form  hidden\n"
        '  when how = "integer"\n    at t  t  number / 10  Cel\n'
        '  when how = "float"\n    at t  t  number  Cel\n'
    )
    found = answers(text, b'{"t": 215}', b'{"t": 21.5}', b'{"t": null}', b"{}")
    assert [values(a) for a in found] == [{"t": 21.5}, {"t": 21.5}, {}, {}]


def test_a_tag_can_be_asked_for() -> None:
    text = CBOR + (
        "  at .  layout  tag  required as unknown layout  hidden\n"
        '  reject "another layout" as unknown layout unless layout = 65001\n'
        "  at a  a  number\n"
        "  repeat at list\n    at .  kind_{index}  tag\n    at .  value_{index}  number\n"
        "  at list[1]  second  tag\n"
    )
    tag = cbor2.CBORTag
    inner = {"a": tag(7000, 4), "list": tag(9, [tag(2**60 + 1, 1), 2, tag(8, tag(10, 3))])}
    found = answers(text, *(cbor2.dumps(x) for x in (tag(65001, inner), tag(65002, inner), inner)))
    assert values(found[0]) == {
        "a": 4, "kind_1": 2**60 + 1, "value_1": 1, "value_2": 2, "kind_3": 8, "value_3": 3
    }  # fmt: skip
    assert [refusal(a) for a in found[1:]] == [
        ("unknown layout", "another layout"),
        ("unknown layout", "`.` has no tag"),
    ]


DOCUMENT = st.recursive(
    st.integers(-9, 9) | st.floats(-9, 9),
    lambda inner: st.fixed_dictionaries({}, optional={"a": inner, "b": inner, "list": st.lists(inner, max_size=3)}),
    max_leaves=12,
)


@given(st.dictionaries(st.sampled_from(["a", "b", "list"]), DOCUMENT), st.data())
def test_tags_that_are_kept_change_no_other_line(document: dict[str, Any], data: Any) -> None:
    def strewn(part: Any) -> Any:
        if isinstance(part, dict):
            part = {key: strewn(inner) for key, inner in part.items()}
        elif isinstance(part, list):
            part = [strewn(inner) for inner in part]
        return cbor2.CBORTag(data.draw(st.integers(4000, 4003)), part) if data.draw(st.booleans()) else part

    text = CBOR + (
        "  at a  a  number or text\n  at a.a  a_a  number\n  at list[0]  first  form\n"
        "  repeat at list\n    at a  inner_{index}  number\n    at b.a  deep_{index}  form\n"
    )
    raw = cbor2.dumps(strewn(document))
    plain, kept = answers(text, raw), answers(text + "  at b  of_b  tag  hidden\n", raw)
    assert kept == plain


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (JSON + "  at a  n  tag\n", "values of JSON have no tags; CBOR's have"),
        (CBOR + "  header x  n  form\n", "`form` is read at a path of a document: `at value  n  form`"),
    ],
)
def test_where_tags_and_forms_are_none(text: str, message: str) -> None:
    assert message in [p.message for p in check_decoder(text)[1]]
