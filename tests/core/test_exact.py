"""No value is wrong without a word: codes, whole numbers of 64 bits, differences, places."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.commands import CommandError, encode_command
from oculum.decoding.decode import decode
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition
from oculum.language.fields import FieldSpec

from .test_decoding import plan_of
from .test_storages import readings, refused

pytestmark = pytest.mark.usefixtures("way")
HEAD = "decoder d for bytes, big endian\n"


def warned(text: str) -> list[str]:
    plan, problems = check_decoder(HEAD + text)
    assert plan is not None, problems
    return [problem.message for problem in problems]


def mistaken(text: str) -> list[str]:
    plan, problems = check_decoder(HEAD + text)
    assert plan is None
    return [problem.message for problem in problems if problem.severity == "error"]


# codes ---------------------------------------------------------------------------------
def test_a_table_that_is_a_lines_own_moves_nothing() -> None:
    """Such a line is read with all others in one pass."""
    for codes, moves in (("{ 0 off, 1 on, 2 standby }", False), ("{ 0 off, 1 on, 2 on }", True)):
        step: Any = plan_of(HEAD + f"  byte 0  mode  code u8 {codes}\n").steps[0]
        assert bool(step.moved) is moves


TWO_TABLES = HEAD + (
    "  byte 0 bit 0  tested  flag  hidden\n"
    "  when tested\n"
    "    byte 1  kind  code u8 { 1 test, 2 off }\n"
    "    derive was_test = kind = `test`\n"
    "  otherwise\n"
    "    byte 1  kind  code u8 { 1 opened, 3 off }\n"
    "  derive opened = kind = `opened`\n"
    "  derive off = kind = `off`\n"
)


@pytest.mark.parametrize(
    ("message", "kind"),
    [
        ("0101", "test"), ("0102", "off"), ("0103", None), ("0001", "opened"), ("0002", None), ("0003", "off"),
    ],
)  # fmt: skip
def test_each_line_of_a_name_has_its_own_texts(message: str, kind: str | None) -> None:
    found = readings(TWO_TABLES, bytes.fromhex(message))
    assert found["kind"] == (kind or "code without a text")
    if kind is not None:
        assert (found["opened"], found["off"]) == (kind == "opened", kind == "off")
        assert found.get("was_test") == ((kind == "test") if message.startswith("01") else None)


def test_texts_of_documents_and_what_stands_for_all_others() -> None:
    text = (
        "decoder d for json\n  at f  f  flag  hidden\n"
        "  when f\n    at k  kind  code { 1 test, otherwise odd }\n"
        "  otherwise\n    at k  kind  code { 1 opened, otherwise strange }\n"
    )
    for f, k, wanted in ((1, 1, "test"), (1, 2, "odd"), (0, 1, "opened"), (0, 2, "strange")):
        assert readings(text, json.dumps({"f": bool(f), "k": k}).encode()) == {"kind": wanted}


def test_several_numbers_of_one_text_are_one_code() -> None:
    text = (
        HEAD + "  byte 0  kind  code u8 { 0 off, 1 on, 2 off }\n  derive off = kind = `off`\n  derive n = raw(kind)\n"
    )
    assert [readings(text, bytes([n])) for n in range(3)] == [
        {"kind": "off", "off": True, "n": 0},
        {"kind": "on", "off": False, "n": 1},
        {"kind": "off", "off": True, "n": 2},
    ]


def test_a_code_that_is_computed_has_one_table() -> None:
    text = (
        "  byte 0 bit 0  f  flag\n  byte 1  a  code u8 { 1 x, 2 y }\n"
        "  when f\n    derive k = a\n  otherwise\n    byte 2  k  code u8 { 1 x, 3 z }\n"
    )
    assert mistaken(text.replace("    derive k = a\n  otherwise\n    byte 2  k  code u8 { 1 x, 3 z }\n", (
        "    byte 2  k  code u8 { 1 x, 3 z }\n  otherwise\n    derive k = a\n"
    ))) == ["`k` has other texts in another line: a code that is computed takes another name"]  # fmt: skip


def test_a_unit_chosen_by_a_value_of_bytes() -> None:
    text = HEAD + "  byte 0  u  u8  hidden\n  byte 1  t  i16 / 10  by u { 0 Cel, 1 [degF] }  into Cel\n"
    assert readings(text, bytes.fromhex("0000fa")) == {"t": 25}
    assert readings(text, bytes.fromhex("010140")) == {"t": 0}
    assert refused(text, bytes.fromhex("020140")) == "malformed"


# whole numbers -------------------------------------------------------------------------
WIDE = HEAD + (
    "  next  c  u64\n  next  e  i64  W.h\n  next  k  u8\n"
    "  derive same = c\n  derive more = c + k\n  derive less = c - k * 3\n  derive times = e * k\n"
    "  derive odd = mod(c, 2)\n  derive low = floor(c)\n  derive negative = -e\n  derive stored = raw(c)\n"
    "  derive above = c > 9007199254740992\n  derive just = c = 9007199254740993\n  derive over = e >= 5 W.h\n"
    "  derive either = if k > 5 then c else k\n  derive least = min(c, k)\n  derive turned = upward(c, 10000)\n"
    "  derive known = first_known(c, 0)\n"
)


@given(st.integers(0, 2**64 - 1), st.integers(-(2**63), 2**63 - 1), st.integers(0, 255))
@example(2**64 - 1, -(2**63), 255)
@example(2**53 + 1, 2**53 + 1, 1)
@example(2**53, 5, 0)
def test_whole_numbers_keep_all_their_digits(c: int, e: int, k: int) -> None:
    found = readings(WIDE, c.to_bytes(8, "big") + e.to_bytes(8, "big", signed=True) + bytes([k]))

    def kept(value: int) -> int | str:
        return value if -(2**63) <= value < 2**64 else "not a number"

    assert found == {
        "c": c, "e": e, "k": k, "same": c, "more": kept(c + k), "less": c - k * 3, "times": kept(e * k), "odd": c % 2,
        "low": c, "negative": -e, "stored": c, "above": c > 2**53, "just": c == 2**53 + 1, "over": e >= 5,
        "either": c if k > 5 else k, "least": min(c, k), "turned": c % 10_000, "known": c,
    }  # fmt: skip


def test_what_cannot_keep_them_is_said() -> None:
    for line in ("derive x = c / 2", "derive x = sqrt(c)", "derive x = c * 0.5", "derive x = c ^ 2"):
        assert any("about 15 of their digits" in m for m in warned(f"  next  c  u64\n  {line}\n")), line
    assert any("about 15 digits" in m for m in warned("  next  c  u64  W.h  into kW.h\n"))
    assert any("about 15" in m for m in warned("  next  c  u64 / 1000  kW.h\n"))
    assert warned("  next  c  u64  W.h\n  derive x = mod(c + 1 W.h, 7 W.h)\n") == []


@pytest.mark.parametrize("other", ["u32", "i32"])
def test_all_lines_of_a_name_keep_them_where_one_does(other: str) -> None:
    text = HEAD + (
        f"  byte 0 bit 0  f  flag  hidden\n  when f\n    byte 1  c  u64\n  otherwise\n    byte 1  c  {other}\n"
        '  derive d = c - 1\n  derive t = "{c}"\n'
    )
    top = 2**64 - 1
    assert readings(text, b"\1" + b"\xff" * 8) == {"c": top, "d": top - 1, "t": str(top)}
    small = -1 if other == "i32" else 2**32 - 1
    assert readings(text, b"\0" + b"\xff" * 4) == {"c": small, "d": small - 1, "t": str(small)}
    assert mistaken(
        "  byte 0 bit 0  f  flag\n  when f\n    byte 1  c  u64\n  otherwise\n    byte 1  c  u32 / 10\n"
    ) == [
        "`c` is a whole number of more than 53 bits in one line, and none in another: two lines of one name must agree"
    ]


def test_wide_numbers_of_documents_with_a_unit() -> None:
    text = "decoder d for json\n  at c  c  u64  W.h\n  derive d = c + 1 W.h\n"
    assert readings(text, b'{"c": 9007199254740993}') == {"c": 2**53 + 1, "d": 2**53 + 2}


def test_the_change_of_a_counter() -> None:
    """`wrapped` is the nearest change, up or down; `upward` counts up, and turns over at any number."""
    text = (
        HEAD + "  byte 0  a  u8\n  byte 1  b  u8\n  derive near = wrapped(a - b, 8)\n  derive up = upward(a - b, 200)\n"
    )
    found: list[dict[str, Any]] = [readings(text, bytes(pair)) for pair in ((1, 200), (200, 1), (5, 198), (7, 7))]
    assert [(r["near"], r["up"]) for r in found] == [(57, 1), (-57, 199), (63, 7), (0, 0)]


# places --------------------------------------------------------------------------------
def times(text: str, payload: bytes) -> list[tuple[str, object, str]]:
    found = answer(decode(plan_of(text), Payloads.of([payload], [NOON])), 0)
    return sorted((r["field"], r["value"], r["at"][11:19]) for r in found["readings"])


NOON = 1_772_366_400_000_000  # 2026-03-01T12:00:00Z


def test_a_stamp_counts_for_the_whole_message_wherever_it_stands() -> None:
    lines = [
        "  repeat 2 times, each 10 min earlier\n    next  a  u8\n    repeat 1 times\n      next  b  u8\n",
        "  byte 4  c  u8\n",
        "  byte 5  d  u8  stamped received - 1 min\n",
        "  byte 5  e  u8  stamped first_known(gone, gone)\n",
        "  repeat 1 times\n    next  f  u8\n    stamp received - 5 min\n",
    ]
    head = HEAD + '  byte 0  gone  time u8 s since "2020-01-01"  missing "none" raw 1  hidden\n'
    stamp = "  stamp received - 1 h\n"
    bodies = ["".join([*lines[:k], stamp, *lines[k:]]) for k in range(len(lines) + 1)]
    found = [times(head + body, bytes([1, 2, 3, 4, 5, 6, 7])) for body in bodies]
    assert found[0] == [
        ("a", 2, "11:00:00"), ("a", 4, "10:50:00"), ("b", 3, "11:00:00"), ("b", 5, "10:50:00"), ("c", 5, "11:00:00"),
        ("d", 6, "11:59:00"), ("e", 6, "11:00:00"), ("f", 7, "11:55:00"),
    ]  # fmt: skip
    assert all(one == found[0] for one in found)


def test_what_speaks_of_the_stamp_stands_behind_it() -> None:
    assert mistaken("  derive age = received - stamp\n  byte 0  n  u8\n  stamp received - 1 h\n") == [
        "line 2 speaks of `stamp` already: this line must stand before it"
    ]


@pytest.mark.parametrize(
    ("text", "payload", "wanted"),
    [
        ("  byte 0  n  u8\n  skip 5 bytes\n", "0102", "too short"),
        ("  byte 0  n  u8\n  skip 5 bytes\n", "010203040506", {"n": 1}),
        ("  byte 0  n  u8\n  skip n bytes\n  next  w  u8\n", "010203", {"n": 1, "w": 3}),
        ("  byte 0  n  u8\n  skip n bytes\n", "ff01", "too short"),
        ("  byte 0  n  i8\n  skip n bytes\n  next  w  u8\n", "ff05", "malformed"),
        ("  byte 0  n  u8\n  skip (0 - 1) bytes\n  next  w  u8\n", "0105", "malformed"),
        ('  byte 0  n  u8  missing "none" raw 0\n  skip n bytes\n  next  w  u8\n', "0005", "malformed"),
        ("  byte 0  n  u8\n  skip 12 bits\n  next bits  w  u4\n", "01ab0c", {"n": 1, "w": 12}),
        ("  byte 0  n  u8\n  skip 12 bits\n", "01ab", "too short"),
    ],
)
def test_what_is_skipped_is_there(text: str, payload: str, wanted: object) -> None:
    if isinstance(wanted, str):
        assert refused(HEAD + text, bytes.fromhex(payload)) == wanted
    else:
        assert readings(HEAD + text, bytes.fromhex(payload)) == wanted


def test_texts_of_a_size_take_as_many_bytes() -> None:
    text = HEAD + "  byte 1  name  text  padded size 6 bytes\n  next  mark  hex  size 2 bytes\n"
    assert readings(text, b"\x01buoy  \xab\xcd") == {"name": "buoy", "mark": "abcd"}
    assert refused(text, b"\x01buoy") == "too short"
    assert mistaken("  bytes 0 to 2  x  text  size 4 bytes\n") == ["the address takes 3 bytes, `size` asks for 4"]
    assert mistaken("  next 0 bytes bit 0  f  flag\n") == ["the next 0 bytes hold no number: write `next`"]


def test_padding_is_taken_off_in_texts_too() -> None:
    text = 'decoder d for text\n  pattern "x=(?P<a>.*)"\n  group a  t  text  padded\n'
    assert readings(text, b"x=ab  ") == {"t": "ab"}


# commands ------------------------------------------------------------------------------
COMMAND = HEAD + (
    "  byte 0  v  u8\n  command set\n"
    "    next  address  u8  within 1 to 100{word}\n    next  warmth  i16 / 10 - 5  Cel{word}\n"
    '    next  at  time u32 s since "2020-01-01"{word}\n'
)
GOOD = {"address": 2, "warmth": "20.1", "at": "2020-01-01T00:00:10Z"}


def test_a_parameter_between_two_steps_is_refused_unless_the_nearest_is_asked_for() -> None:
    strict, near = (plan_of(COMMAND.format(word=word)) for word in ("", "  nearest"))
    assert encode_command(strict, "set", GOOD).hex() == encode_command(near, "set", GOOD).hex() == "0200fb0000000a"
    for name, value, said, written in (
        ("address", 1.5, "`address` is 1.5; the steps beside it are 1 and 2", "0200fb0000000a"),
        ("warmth", "20.14", "`warmth` is 20.14; the steps beside it are 20.1 and 20.2", "0200fb0000000a"),
        ("at", "2020-01-01T00:00:09.5Z", "which lies between two steps of its clock", "0200fb0000000a"),
    ):
        with pytest.raises(CommandError, match=said) as found:
            encode_command(strict, "set", {**GOOD, name: value})
        assert found.value.code == "off step"
        assert encode_command(near, "set", {**GOOD, name: value}).hex() == written


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("derive x = 5 within 1 to 3", "a value that a command derives takes no clauses: they would do nothing"),
        ('next  p  u8  missing "x" raw 1', "a parameter takes `within`, `one of`"),
        ("next  p  u8  hidden", "a parameter takes `within`, `one of`"),
        ("next  u8 = u16 at byte 4", "a command writes and has no bytes to read"),
    ],
)
def test_what_a_command_would_ignore_is_a_mistake(line: str, said: str) -> None:
    assert any(said in m for m in mistaken(f"  byte 0  v  u8\n  command set\n    next  a  u8\n    {line}\n"))


def test_nearest_is_for_commands() -> None:
    assert mistaken("  byte 0  v  u8  nearest\n") == [
        "`nearest` is for parameters of commands: what lies between two steps goes to the nearer one"
    ]


# layout --------------------------------------------------------------------------------
LAID_OUT = (
    "decoder d for bytes, big endian\n"
    "  # before\n"
    "  byte 0x10  k  code u16 {  # head\n"
    "    # own\n"
    "    0x7FFF test,  # first\n"
    "    0x0001 other, 2 more,\n"
    '    otherwise "No Such"  # last\n'
    "  }  hidden  # tail\n"
    "  byte 3     x  u8  Cel\n"
    "  table t to lx {\n"
    "    0 0, 64 1.2,\n"
    "    160 3.9  # end\n"
    "  }\n"
    "  table u { 0 0, 1 1 }\n"
    "  records tag u8, size u8\n"
    "  record 0x21  y  u8\n"
)


def test_the_layout_keeps_how_numbers_are_written_and_tables_in_rows() -> None:
    assert format_definition(LAID_OUT) == LAID_OUT
    loose = LAID_OUT.replace("  # first", "# first").replace("    0x0001", "  0x0001").replace("}  hidden", "} hidden")
    assert format_definition(loose) == LAID_OUT
    path = "decoder d for json\n  at 8 .1        x  number\n  at 0x10        y  number\n  at a.8 .0x1.b  z  number\n"
    assert format_definition(path) == path
    assert check_decoder(path)[0] is not None


# texts ---------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("way", "values"),
    [
        ("decimal comma", {"1,013": 1.013, "-7": -7, "1.013": None, "1.5": None, "1.013,5": None}),
        ("decimal comma or point", {"1,013": 1.013, "1.013": 1.013, "-7": -7, "1.013,5": None}),
        (
            "decimal comma grouped",
            {"1,013": 1.013, "1.013": 1013, "12.345.678,9": 12345678.9, "1.5": None, "1.01,5": None},
        ),
        ("", {"1.013": 1.013, "1,013": None, "1e2": 100}),
    ],
)
def test_how_numbers_are_written(way: str, values: dict[str, float | None]) -> None:
    text = f'decoder d for text\n  columns by ";"\n  column 1  x  number  {way}\n'
    for written, value in values.items():
        if value is None:
            assert refused(text, written.encode()) == "malformed", written
        else:
            assert readings(text, written.encode()) == {"x": value}


@pytest.mark.parametrize(
    ("encoding", "good", "bad"),
    [
        ("base64", ("AQ==", "AQ", "AP-_", "AP+/"), ("AQ=", "A===", "AQ====", "A Q=", "AP+_", "A", "A*==")),
        ("hex", ("01", "01 02", "0aFF"), ("0 1", "010", " 01", "01 ", "01  02", "0x01", "0g")),
    ],
)
def test_what_is_neither_base64_nor_hex_is_refused(encoding: str, good: tuple[str, ...], bad: tuple[str, ...]) -> None:
    text = f"decoder d for json\n  open at d as {encoding}\n    byte 0  x  u8\n"
    for written in good:
        assert "x" in readings(text, json.dumps({"d": written}).encode()), written
    for written in bad:
        assert refused(text, json.dumps({"d": written}).encode()) == "malformed", written


def test_a_time_beyond_the_calendar_is_missing() -> None:
    text = HEAD + '  next  t  time u64 s since "1970-01-01"\n'
    assert readings(text, (253_402_300_799).to_bytes(8, "big")) == {"t": "9999-12-31T23:59:59Z"}
    assert readings(text, (253_402_300_800).to_bytes(8, "big")) == {"t": "no date of the calendar"}


@pytest.mark.parametrize(
    ("text", "line"),
    [
        ("  byte 0  v  u8\n  open bytes 0 to -1\n    byte 0  x  u8\n  next  w  u8\n", 5),
        ("  byte 0  v  u8\n  open bytes 1 to -2\n    rest  x  hex\n    next  y  u8\n  next  w  u8\n", 5),
        ("  byte 0  v  u8\n  repeat to end, each 1 min earlier\n    next  x  u8\n  next  w  u16\n", 5),
        ("  rest  v  hex\n  byte 0  x  u8\n  next  w  u8\n", 0),
        ("  byte 0  v  u8\n  open bytes 1 to -2\n    byte 0  x  u8\n  next  w  u8\n", 0),
        (
            "  byte 0  v  u8\n  repeat to end, each 1 min earlier\n    next  x  u8\n  next  w  u16\n"
            '  reject "sum" unless u16 at byte -2 = sum16(bytes 0 to -3)\n',
            0,
        ),
    ],
)
def test_a_next_for_which_nothing_is_left_is_told(text: str, line: int) -> None:
    plan, problems = check_decoder(HEAD + text)
    assert plan is not None
    assert [p.span.line for p in problems if "nothing is left here" in p.message] == ([line] if line else [])


# what is said more shortly ----------------------------------------------------------------
def test_times_are_compared_with_times_and_with_written_ones() -> None:
    text = HEAD + (
        '  next  t  time u32 s since "2020-01-01"\n  next  u  time u32 s since "2020-01-01"\n  derive later = u > t\n'
        '  derive old = t < "2020-01-01T00:00:05Z"\n  derive same = t = u\n  derive ahead = u >= received\n'
    )
    for t, u in ((1, 2), (2, 1), (7, 7)):
        found = readings(text, t.to_bytes(4, "big") + u.to_bytes(4, "big"))
        assert (found["later"], found["old"], found["same"], found["ahead"]) == (u > t, t < 5, u == t, True)
    assert mistaken('  next  t  time u32 s since "2020-01-01"\n  derive old = t < "yesterday"\n') == [
        '"yesterday" is no time with its zone, such as "2026-03-02T09:10:00Z"'
    ]


def test_what_is_known_is_asked_for() -> None:
    text = HEAD + '  byte 0  v  u8  missing "open" raw 255\n  derive there = v is known\n  derive gone = v is missing\n'
    assert readings(text, b"\x05") == {"v": 5, "there": True, "gone": False}
    assert readings(text, b"\xff") == {"v": "open", "there": False, "gone": True}


def test_codes_have_ranges() -> None:
    text = HEAD + '  byte 0  k  code u8 { 0 off, 3 to 5 "low gear", 0x80 to 0xFF test }\n  derive test = k = `test`\n'
    names = [readings(text, bytes([n]))["k"] for n in range(256)]
    low = dict.fromkeys((3, 4, 5), "low gear")
    wanted = [{0: "off", **low}.get(n, "test" if n > 127 else "code without a text") for n in range(256)]
    assert names == wanted
    assert readings(text, b"\xc3")["test"] is True
    assert mistaken("  byte 0  k  code u8 { 5 to 3 low }\n") == ["the range goes downwards: write `3 to 5`"]
    assert mistaken("  byte 0  k  code u8 { 3 to 5 low, 4 high }\n") == ["a number stands twice in this code"]
    assert mistaken("  byte 0  k  code u8 { 3 to 300 low }\n") == ["300 does not fit into 8 bits"]


def test_flags_may_be_inverted() -> None:
    text = HEAD + "  byte 0 bit 0  f  flag inverted\n  byte 0 bit 1  g  flag\n  derive both = f and g\n"
    assert [readings(text, bytes([n])) for n in range(4)] == [
        {"f": not n & 1, "g": bool(n & 2), "both": n == 2} for n in range(4)
    ]
    document = "decoder d for json\n  at f  f  flag inverted\n"
    assert readings(document, b'{"f": true}') == {"f": False}
    command = (
        HEAD + "  byte 0  v  u8\n  command set\n    next byte bit 7  f  flag inverted\n    same bits 6 to 0  n  u7\n"
    )
    assert encode_command(plan_of(command), "set", {"f": True, "n": 3}).hex() == "03"
    assert encode_command(plan_of(command), "set", {"f": False, "n": 3}).hex() == "83"


@given(st.integers(-(2**63), 2**63 - 1))
@example(-(2**63))
@example(2**63 - 1)
@example(0)
def test_zigzag_numbers(value: int) -> None:
    text = HEAD + "  next  v  zigzag varint\n  command set\n    next  v  zigzag varint\n"
    written = encode_command(plan_of(text), "set", {"v": value})
    number, shift = 0, 0
    for byte in written:
        number |= (byte & 0x7F) << shift
        shift += 7
    assert (number >> 1) ^ -(number & 1) == value
    assert readings(text, written) == {"v": value}


def test_texts_know_line_ends_and_tabs() -> None:
    text = 'decoder d for json\n  at a  a  text\n  reject "two\\tlines" when a = "x\\ny\\\\"\n'
    assert refused(text, json.dumps({"a": "x\ny\\"}).encode()) == "malformed"
    assert readings(text, b'{"a": "x"}') == {"a": "x"}
    assert readings('decoder d for text\n  columns by "\\t"\n  column 2  v  number\n', b"1\t2") == {"v": 2}


def test_a_name_may_begin_with_a_value() -> None:
    text = HEAD + "  byte 0  g  code u8 { 0 inner, 1 outer }  hidden\n  byte 1  {g}_temp  u8  Cel\n"
    assert readings(text, b"\1\x05") == {"outer_temp": 5}
    by = "decoder d for json\n  at u  u  text  hidden\n  at g  g  text  hidden\n"
    by += '  at v  {g}_temp  number  by u { "C" Cel, "F" [degF] }  into Cel\n'
    assert readings(by, b'{"u": "F", "g": "Inner 2", "v": 41}') == {"inner_2_temp": 5}
    assert readings(by, b'{"u": "C", "g": "2", "v": 4}') == {"x_2_temp": 4}
    assert mistaken("  byte 0  g  u8  hidden\n  byte 1  {g}_temp  u8\n") == [
        "a name begins with a letter, and `g` is a number"
    ]


def test_a_check_may_go_as_far_as_the_message_says() -> None:
    text = HEAD + '  byte 0  n  u8\n  reject "sum" as checksum unless sum8(bytes 1 to n) = u8 at byte -1\n'
    assert readings(text, bytes([2, 1, 2, 3])) == {"n": 2}
    assert refused(text, bytes([2, 1, 2, 4])) == "checksum"
    assert refused(text, bytes([9, 1, 2, 3])) == "too short"
    one = HEAD.replace("endian", "endian, counted from 1") + (
        '  byte 1  n  u8\n  reject "sum" as checksum unless sum8(bytes 2 to (n + 1)) = u8 at byte -1\n'
    )
    assert readings(one, bytes([2, 1, 2, 3])) == {"n": 2}
    assert format_definition(one) == one
    open_ = HEAD + '  byte 0  n  u8  missing "none" raw 0\n  reject "sum" when sum8(bytes 1 to n) != u8 at byte -1\n'
    assert readings(open_, bytes([0, 1, 2, 9])) == {"n": "none"}, "what is not known refuses nothing"


def test_long_messages_are_taken_within_the_bound_on_readings() -> None:
    text = HEAD + "  byte 0  n  u8\n  repeat to end, each 1 min earlier\n    next  v  u8\n"
    assert len(times(text, bytes(4097))) == 4097
    assert refused(text, bytes(4098)) == "malformed"
    both = text + "    next  w  u8\n"
    assert len(times(both, bytes(4097))) == 4097
    assert refused(both, bytes(4099)) == "malformed"
    records = HEAD + "  byte 0  n  u8\n  records bytes 1 to -1, tag u8, size u8\n  record 0  v  u8\n"
    assert readings(records, b"\0" + b"\0\1\5" * 4096) == {"n": 0, "v": 5}
    assert refused(records, b"\0" + b"\0\1\5" * 4097) == "malformed"


def test_values_may_be_left_out_or_refuse_their_message() -> None:
    text = HEAD + (
        "  byte 0  a  u8  left out raw 255\n  byte 1  b  u8  refused as unknown layout raw 254, 255\n"
        "  byte 2  c  u8  left out when a = 1\n  derive d = a + b\n"
    )
    assert readings(text, bytes([5, 6, 7])) == {"a": 5, "b": 6, "c": 7, "d": 11}
    assert readings(text, bytes([255, 6, 7])) == {"b": 6, "c": 7}
    assert readings(text, bytes([1, 6, 7])) == {"a": 1, "b": 6, "d": 7}
    assert refused(text, bytes([5, 255, 7])) == "unknown layout"
    assert format_definition(text) == format_definition(format_definition(text))
    single = HEAD + "  bytes 0 to 3  f  f32  refused raw nan, inf, -inf\n"
    assert readings(single, bytes.fromhex("3f800000")) == {"f": 1}
    assert [refused(single, bytes.fromhex(bad)) for bad in ("7fc00000", "7f800000", "ff800000")] == ["malformed"] * 3
    document = (
        "decoder d for json\n  at a  a  number  left out raw null, absent, -1\n"
        '  at b  b  text  refused raw null missing "none" raw "n/a"\n'
    )
    assert readings(document, b'{"a": 1, "b": "x"}') == {"a": 1, "b": "x"}
    assert readings(document, b'{"a": null, "b": "n/a"}') == {"b": "none"}
    assert readings(document, b'{"a": -1}') == {}
    assert refused(document, b'{"a": 1, "b": null}') == "malformed"


def test_texts_are_held_against_patterns() -> None:
    text = 'decoder d for json\n  at a  a  text\n  reject "no serial" unless matches(a, "[A-Z]{2}[0-9]+")\n'
    assert readings(text, b'{"a": "AB12"}') == {"a": "AB12"}
    assert refused(text, b'{"a": "AB12x"}') == "malformed"
    for wrong, said in (('"[A-Z"', "the pattern cannot be read"), ("a", "`matches` takes its pattern as a text")):
        plan, problems = check_decoder(text.replace('"[A-Z]{2}[0-9]+"', wrong))
        assert plan is None and problems[0].message.startswith(said)


def test_a_value_goes_on_from_its_own_of_the_turn_before() -> None:
    text = HEAD + (
        "  next  first  i16  mm  hidden\n  repeat to end, each 1 min later\n    next  change  i8  mm  hidden\n"
        "    derive level = first_known(previous(level), first) + change\n  derive last = last_of(level)\n"
    )
    assert readings(text, bytes.fromhex("006401fe05"))["last"] == 104
    plan = plan_of(text)
    assert {f.name: f.unit for f in plan.all_fields} == {"level": "mm", "last": "mm"}


def test_readings_may_keep_the_unit_in_which_they_came() -> None:
    text = HEAD + (
        "  byte 0 bit 0  f     u1  hidden\n  byte 1        temp  u8  by f { 0 Cel, 1 [degF] } as sent\n"
        "  derive warm = temp > 20 Cel\n"
    )
    plan = plan_of(text)
    rows = [bytes([0, 25]), bytes([1, 50]), bytes([1, 80]), bytes([0, 5])]
    decoded = decode(plan, Payloads.of(rows, [0] * 4))
    found = [{r["field"]: (r["value"], r["unit"]) for r in answer(decoded, i)["readings"]} for i in range(4)]
    assert [row["temp"] for row in found] == [(25, "Cel"), (50, "[degF]"), (80, "[degF]"), (5, "Cel")]
    assert [row["warm"][0] for row in found] == [True, False, True, False]
    declared, _ = check_decoder(text, {"temp": FieldSpec("temp", "number", "K")})
    assert declared is not None, "where the type says a unit, values are converted to it"
    (first, *_) = answer(decode(declared, Payloads.of(rows[1:2], [0])), 0)["readings"]
    assert (first["value"], first["unit"]) == (283.15, "K")


def test_numbers_may_come_as_numbers_or_as_texts() -> None:
    text = "decoder d for json\n  at a  a  number or text  Cel\n  at b  b  integer or text / 10\n"
    for payload in (b'{"a": 1.5, "b": 7}', b'{"a": "1.5", "b": "7"}'):
        assert readings(text, payload) == {"a": 1.5, "b": 0.7}
    for bad in (b'{"a": "x"}', b'{"a": true}', b'{"b": 1.5}', b'{"b": "1.5"}', b'{"a": [1]}'):
        assert refused(text, bad) == "malformed"


@pytest.mark.parametrize("place", range(12))
def test_a_half_byte_that_is_no_digit_is_never_read(place: int) -> None:
    digits = "190302091000"
    broken = digits[:place] + "a" + digits[place + 1 :]
    text = HEAD + '  bytes 0 to 5  at  time digits "YYMMDDhhmmss"\n'
    assert readings(text, bytes.fromhex(digits)) == {"at": "2019-03-02T09:10:00Z"}
    assert refused(text, bytes.fromhex(broken)) == "malformed"


@pytest.mark.parametrize("head", ["", "  byte 0  a  u8\n", "  when bcd2 at byte 0 >= 0\n    byte 0  a  u8\n"])
def test_nor_is_it_in_an_expression(head: str) -> None:
    text = HEAD + head + "  derive c = (bcd4 at byte 1) + 1\n"
    assert readings(text, bytes.fromhex("001234"))["c"] == 1235
    assert refused(text, bytes.fromhex("00123a")) == "malformed"
    assert refused(text, bytes.fromhex("00a234")) == "malformed"


# messages --------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("line", "said", "column", "fix"),
    [
        ("byte 1  x  u8  Cel  withn 1 to 2", "found `withn`: did you mean `within`?", 23, "within"),
        ("byte 1  x  foo", "found `foo`: expected how it is stored, such as `u16 / 10`", 14, None),
        ("byte 1  x  u99", "`u99` is no storage: `u` has 1 to 64 bits", 14, None),
        ("byte 1  Humidity  u8", "names are lower case: `humidity`?", 11, "humidity"),
        ("bite 1  x  u8", "found `bite`: did you mean `byte`?", 3, "byte"),
        ("derive x = (1 + 2", "`)` is missing: this `(` is not closed", 14, None),
        ("byte 1  k  code u8 { 0 off, 1 on", "`}` is missing: this `{` is not closed", 22, None),
        ('reject "x" when a => 3', "`=>` is written `>=`", 21, ">="),
        ('reject "x" when a == 3', "`==` is written `=`", 21, "="),
        ("derive x = 3 +", "the line ends too early: expected a value such as", 17, None),
        ('reject "a\\db" when a = 3', "`\\d` means nothing in a text", 12, "\\\\d"),
        ("byte 1  x  u8Cel", "`u8Cel` is read as two words: write `u8 Cel`", 14, "u8 Cel"),
        ("byte 1 bit 7  x  flagg", "found `flagg`: did you mean `flag`?", 20, "flag"),
        ("byte 1  x  u8  hiddenn", "found `hiddenn`: did you mean `hidden`?", 18, "hidden"),
        ('reject "abc when a = 3', 'the text is not closed: `"` is missing', 10, None),
        ("byte 1  x  u8  hidden foo", "found `foo`: expected a clause such as `within 0 to 5` or `hidden`", 25, None),
    ],
)
def test_a_mistake_is_told_with_what_was_meant(line: str, said: str, column: int, fix: str | None) -> None:
    """One mistake, one error, however the text goes on."""
    for behind in ("", "  byte 2  y  u8\n  when a > 3\n    byte 3  z  u8\n"):
        plan, problems = check_decoder(f"{HEAD}  byte 0  a  u8\n  {line}\n{behind}")
        assert plan is None
        (one,) = problems
        assert one.message.startswith(said) and (one.span.line, one.span.column, one.fix) == (3, column, fix)
        assert "..." not in one.message and "(a unit)" not in one.message


OXYGEN: Any = {"buoy": ({"oxygen": FieldSpec("oxygen", "number", "mg/L")}, {})}


@pytest.mark.parametrize(
    ("rule", "said", "place", "fix"),
    [
        ("oxygen < 5", "5 has no unit: write it with one, such as `5 mg/L`", (23, 24), "5 mg/L"),
        ("oxygen < 5 mg/L deadband 0.5", "the deadband has no unit: write `0.5 mg/L`", (39, 42), "0.5 mg/L"),
        ("oxygen < 5 mg/L held 10 mins", "`mins` is written `min`", (38, 42), "min"),
        ("oxygen < 5 ppm", "`ppm` is written `[ppm]`", (25, 28), "[ppm]"),
        (
            "oxygen < 5 mg/L held 10",
            "the line ends too early: expected a unit behind the number, such as `min` or `m`",
            (37, 38),
            None,
        ),
        ("(oxygen < 5 mg/L", "`)` is missing: this `(` is not closed", (14, 15), None),
    ],
)
def test_a_cure_replaces_the_word_that_is_wrong(rule: str, said: str, place: tuple[int, int], fix: str | None) -> None:
    plan, problems = check_condition(f'condition "c" priority low\n  on buoy\n  raise when {rule}\n', OXYGEN)
    assert plan is None
    assert [(p.message, p.span.column, p.span.end_column, p.fix) for p in problems] == [(said, *place, fix)]


@pytest.mark.parametrize(
    ("body", "line", "said"),
    [
        ("derive c = d + 1\nbyte 1  d  u8", 3, "`d` is given further down, in line 4: put that line above this one"),
        ("derive c = c + 1", 3, "`c` is what this line itself gives"),
        (
            "when a > 3\n  byte 1  b  u8\notherwise\n  derive c = b + 1",
            6,
            "`b` is given in line 4, in a block that this line is not part of",
        ),
        ("when q > 3\n  byte 1  b  u8\nderive c = b", 3, "`q` is not a field of `d`"),
        ("choose q\n  is 3\n    byte 1  b  u8\nderive c = b", 3, "`q` is not a field of `d`"),
        ("repeat q times, each 1 s later\n  next  b  u8\nderive c = max_of(b)", 3, "`q` is not a field of `d`"),
        (
            "when a > 3\n  byte 1  b  u8 / 2  Cel\notherwise\n  byte 1  b  u8  K",
            6,
            "`b` is number in Cel above: two lines of one name must agree; write `into Cel` behind it, or give this one"
            " another name",
        ),
        (
            "when a > 3\n  byte 1  b  u8 / 2  Cel\notherwise\n  byte 1  b  u8  m",
            6,
            "`b` is number in Cel above: two lines of one name must agree; give this one another name",
        ),
        (
            "\n".join("  " * depth + "when a > 3" for depth in range(9)) + "\n" + "  " * 9 + "byte 1  b  u8",
            11,
            "blocks nest at most 8 deep: this one is too many",
        ),
    ],
)
def test_a_name_is_told_by_where_it_stands(body: str, line: int, said: str) -> None:
    rows = "".join(f"  {row}\n" for row in body.split("\n"))
    plan, problems = check_decoder(f"{HEAD}  byte 0  a  u8\n{rows}")
    assert plan is None
    assert [(p.span.line, p.message) for p in problems] == [(line, said)]


def test_a_line_that_is_not_indented_is_said_to_be_so() -> None:
    (problem,) = check_decoder(HEAD + "  byte 0  a  u8\nbyte 1  b  u8\n")[1]
    assert problem.message.startswith("this line is not indented") and problem.span.line == 3


def test_a_published_text_keeps_words_that_nothing_parts() -> None:
    text = HEAD + "  byte 0 bit 7  a  flaghidden\n  derive b = a\n"
    assert check_decoder(text)[0] is None
    assert check_decoder(text, published=True)[0] is not None
