"""Commands: what is given, what is left out, lists, and payloads of every kind."""

from __future__ import annotations

import json
from typing import Any

import cbor2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.decoding.commands import CommandError, encode_command
from oculum.decoding.writing import deterministic
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.definitions import format_definition
from tests.often import examples

HEAD = "decoder d for bytes, big endian\n  byte 0  v  u8\n"


def plan_of(body: str) -> DecoderPlan:
    text = HEAD + body
    plan, problems = check_decoder(text)
    assert plan is not None and not problems, [(p.span.line, p.message) for p in problems]
    assert check_decoder(format_definition(text))[0] == plan, "laying a text out changes nothing"
    return plan


def refusal(plan: DecoderPlan, values: dict[str, Any], name: str = "set") -> tuple[str, str]:
    with pytest.raises(CommandError) as found:
        encode_command(plan, name, values)
    return found.value.code, str(found.value)


def hexa(plan: DecoderPlan, **values: Any) -> str:
    return encode_command(plan, "set", values).hex(" ")


# what is given and what is not ----------------------------------------------------------
OPTIONAL = """\
  command set
    byte 0 bit 0  u1 = minutes is known
    same bit 1  u1 = label is known
    next  minutes  u16  min  within 1 to 240  optional
    when label is known
      next  u8 = size_of(label)
    rest  label  text  size 1 to 8 bytes  optional
    next  u8 = sum8(bytes 0 to -1)
"""


def test_flags_say_which_parameters_were_given() -> None:
    plan = plan_of(OPTIONAL)
    assert hexa(plan) == "00 00"
    assert hexa(plan, minutes=10) == "01 00 0a 0b"
    assert hexa(plan, label="mä") == "02 03 6d c3 a4 d9"
    assert hexa(plan, minutes=None, label="a") == "02 01 61 64"
    assert refusal(plan, {"minutes": 0}) == ("out of range", "`minutes` is 0; 1 to 240 min is allowed")
    assert refusal(plan, {"label": ""}) == ("out of range", "`label` has 0 bytes; 1 to 8 are allowed")
    assert refusal(plan, {"label": 7}) == ("wrong kind", "`label` is a text, found 7")


CHOICE = """\
  command set
    next  mode  code u8 { 1 fast, 2 slow }
    choose mode
      is `fast`
        next  rate  u8  within 1 to 10
      is `slow`
        next  pause  u16  s
    reject "too slow for the pump" when pause > 100 s
"""


def test_a_parameter_of_an_arm_that_is_not_taken_is_refused_not_dropped() -> None:
    plan = plan_of(CHOICE)
    assert hexa(plan, mode="fast", rate=3) == "01 03"
    assert hexa(plan, mode="slow", pause=100) == "02 00 64"
    assert refusal(plan, {"mode": "slow", "pause": 101}) == ("rejected", "too slow for the pump")
    assert refusal(plan, {"mode": "slow"}) == ("missing parameter", "`pause` is not given")
    assert refusal(plan, {"mode": "fast", "rate": 3, "pause": 9})[0] == "not used"


def test_a_limit_below_another_is_refused_with_the_reason_of_the_line() -> None:
    plan = plan_of(
        '  command set\n    next  low  u8\n    next  high  u8\n    reject "low stands above high" unless low < high\n'
    )
    assert hexa(plan, low=1, high=2) == "01 02"
    assert refusal(plan, {"low": 2, "high": 2}) == ("rejected", "low stands above high")


# texts, digits, runs of bytes ----------------------------------------------------------
RUNS = """\
  command set
    next hex = "02"
    next text = "P{count:04}{level:.2}{serial:04X}"
    next 6 bytes  name  text  padded
    next 2 bytes  key  hex
    skip 1 byte
    next  size  unsigned 2 to 4 bytes
    parameter count  integer  within 0 to 9999
    parameter level  number  m
    parameter serial  integer  within 0 to 65535
"""


def test_texts_decimal_digits_and_runs_of_bytes() -> None:
    plan = plan_of(RUNS.replace("next  size  unsigned 2 to 4 bytes", "next  size  varint"))
    found = encode_command(
        plan, "set", {"count": 7, "level": "2.345", "serial": 171, "name": "bo", "key": "00ff", "size": 300}
    )
    assert found == b"\x02P00072.3500ABbo\0\0\0\0\x00\xff\x00\xac\x02"
    assert refusal(plan, {"count": 7, "level": 1, "serial": 1, "name": "b", "key": "0", "size": 1})[0] == "wrong kind"
    long = {"count": 7, "level": 1, "serial": 1, "name": "abcdefg", "key": "00ff", "size": 1}
    assert refusal(plan, long) == ("out of range", "`name` has 7 bytes; 0 to 6 are allowed")
    assert refusal(plan, {**long, "name": "a", "count": 1.5})[0] == "off step"


def test_a_number_of_as_many_bytes_as_it_takes() -> None:
    plan = plan_of("  command set\n    next  u8 = 1\n    rest  size  unsigned 2 to 4 bytes\n")
    assert [hexa(plan, size=n) for n in (1, 65_536)] == ["01 00 01", "01 01 00 00"]
    assert refusal(plan, {"size": 2**32}) == ("out of range", "4294967296 does not fit into 4 bytes")


# lists -------------------------------------------------------------------------------
LIST = """\
  command set
    next  u8 = count_of(slots)
    next  u8 = max_of(level)
    repeat over slots 1 to 3 times
      next  u8 = index
      next  start  u16  min  within 0 to 1439
      next  level  u8  %  within 0 to 100  optional
"""


def test_a_list_is_a_parameter() -> None:
    plan = plan_of(LIST)
    slots = [{"start": 60, "level": 10}, {"start": 120}]
    assert hexa(plan, slots=slots) == "02 0a 01 00 3c 0a 02 00 78"
    assert refusal(plan, {"slots": []}) == ("out of range", "`slots` has 0 entries; 1 to 3 are allowed")
    assert refusal(plan, {}) == ("out of range", "`slots` has 0 entries; 1 to 3 are allowed")
    assert refusal(plan, {"slots": [{"start": 1440}]}) == (
        "out of range",
        "entry 1 of `slots`: `start` is 1440; 0 to 1439 min is allowed",
    )
    assert refusal(plan, {"slots": [{"begin": 1}]}) == (
        "unknown parameter",
        "entry 1 of `slots`: `begin` is no parameter of `slots`; it takes level, start",
    )
    assert refusal(plan, {"slots": [5]}) == ("wrong kind", "entry 1 of `slots` gives start, level by name")
    assert refusal(plan, {"slots": 5})[0] == "wrong kind"


def test_an_entry_of_one_parameter_may_be_a_plain_value() -> None:
    plan = plan_of("  command set\n    repeat over levels 0 to 4 times\n      next  level  u8\n")
    assert hexa(plan, levels=[1, 2]) == hexa(plan, levels=[{"level": 1}, {"level": 2}]) == "01 02"
    assert hexa(plan) == ""


# documents and texts ----------------------------------------------------------------
DOCUMENT = """\
  command set as {form}
    at cmd = "set"
    at cfg.interval  minutes  number * 60  min  within 0.5 to 240
    at cfg.mode  mode  text  one of "eco", "boost"  default "eco"
    at cfg.lamp  lamp  flag  words {{ "on" 1, "off" 0 }}  optional
    at cfg.until  until  time iso  optional
    at cfg.many = count_of(slots) > 1
    at cfg.text  digits  number from text  optional
    repeat at plan over slots 0 to 4 times
      at from  start  integer  min
      at level  level  number  %  optional
"""
GIVEN = {
    "minutes": "0.5",
    "lamp": True,
    "until": "2026-03-02T09:10:00+01:00",
    "slots": [{"start": 1}, {"start": 2, "level": 2.5}],
    "digits": 3.5,
}
WRITTEN = {
    "cmd": "set",
    "cfg": {
        "interval": 0.5 / 60,
        "mode": "eco",
        "lamp": "on",
        "until": "2026-03-02T08:10:00Z",
        "many": True,
        "text": "3.5",
    },
    "plan": [{"from": 1}, {"from": 2, "level": 2.5}],
}


@pytest.mark.parametrize("form", ["json", "cbor"])
def test_a_document(form: str) -> None:
    plan = plan_of(DOCUMENT.format(form=form))
    found = encode_command(plan, "set", GIVEN)
    assert (json.loads(found) if form == "json" else cbor2.loads(found)) == WRITTEN
    small = encode_command(plan, "set", {"minutes": 60})
    assert (json.loads(small) if form == "json" else cbor2.loads(small)) == {
        "cmd": "set",
        "cfg": {"interval": 1, "mode": "eco", "many": False},
        "plan": [],
    }
    assert refusal(plan, {"minutes": 1, "mode": "fast"}) == (
        "unknown choice",
        "`mode` is one of eco, boost; found fast",
    )


def test_a_text() -> None:
    plan = plan_of(
        "  command set as text\n    parameter address  integer  within 1 to 247\n    parameter warmth  number  Cel\n"
        '    text = "SET {address:03} {warmth:05.1}"\n    derive check = sum8(bytes 0 to -1)\n'
        '    text = "*{check:02X}\\r\\n"\n'
    )
    body = b"SET 005 -02.3"
    assert encode_command(plan, "set", {"address": 5, "warmth": "-2.25"}) == body + b"*%02X\r\n" % (sum(body) % 256)


@settings(deadline=None, max_examples=examples(100))
@given(
    st.recursive(
        st.booleans() | st.integers(-(2**63), 2**64 - 1) | st.floats(allow_nan=False) | st.text(max_size=30),
        lambda inner: (
            st.lists(inner, max_size=30) | st.dictionaries(st.text(max_size=3) | st.integers(-300, 300), inner)
        ),
        max_leaves=40,
    )
)
def test_cbor_is_written_in_one_way(value: Any) -> None:
    """RFC 8949, 4.2.1: what is read back is the same, keys rise by their bytes, and no head is longer than it must."""
    written = deterministic(value)
    assert cbor2.loads(written) == value
    assert deterministic(cbor2.loads(written)) == written
    if isinstance(value, dict):
        keys = [deterministic(key) for key in cbor2.loads(written)]
        assert keys == sorted(keys)
    if isinstance(value, int) and not isinstance(value, bool):
        shortest = value if value >= 0 else -1 - value
        wanted = 1 if shortest < 24 else 2 if shortest < 2**8 else 3 if shortest < 2**16 else 5
        assert len(written) == (wanted if shortest < 2**32 else 9)


# mistakes in the text ------------------------------------------------------------------
MISTAKES = [
    ("next  a  u8\n    next  a  u8", "`a` stands already in line 4"),
    ("byte -1  a  u8", "a command writes at `next`, `same`, `byte 3` and by bits"),
    ("next  a  u8  default 3  optional", "a parameter with a default is never left out: `optional` would do nothing"),
    ('next 4 bytes  a  text  one of "x", "y"  default "z"', '"z" is none of the texts of `one of`'),
    ('next  a  u8  one of "x"', "`one of` is for texts; a code has its texts in braces"),
    ("next  a  u8  hidden", "a parameter takes `within`"),
    ("next  u8 = left", "`left` speaks of a message that arrives; a command is written"),
    ("next  u8 = before(v)", "`before` speaks of what arrived before; a command is written"),
    ("at cfg.a = 1", "`at` has no place in a command as bytes: write `next u8 = 1`"),
    ("text = 3", "`text =` takes a text, as in"),
    ("stamp received", "a command has parameters, lines with `=`"),
    ("repeat 3 times\n      next  a  u8", "a command repeats over a parameter that is a list"),
    ("repeat over a 3 to 2 times\n      next  b  u8", "a list has 0 to 256 entries, the smaller number first"),
    ("next  position  position i32, i32", "a parameter is a number, a flag, a code, a time or a text"),
    ("rest  a  text  padded", "`padded` fills up to a size: say which, as in `next 8 bytes`"),
    ("skip 3 bits", "a command leaves whole bytes empty: `skip 2 bytes`"),
    ("frame from 0x7E to 0x7F", "a frame that is written needs an escape"),
]


@pytest.mark.parametrize("line,message", MISTAKES)
def test_a_mistake_in_a_command_is_told_once(line: str, message: str) -> None:
    _, problems = check_decoder(HEAD + f"  command set\n    {line}\n")
    assert len(problems) == 1 and problems[0].message.startswith(message), [p.message for p in problems]


@pytest.mark.parametrize(
    "line,message",
    [
        ("at a  x  number\n    at a.b = 1", "line 4 writes there already"),
        ("at list[id = 3].b = 1", "a command writes to names and numbers of a document"),
        ("next  u8 = 1", "a number in bytes has no place in a command as json"),
        ("repeat over a 1 to 2 times\n      at b  c  number", "say where the list stands"),
    ],
)
def test_a_mistake_in_a_document(line: str, message: str) -> None:
    _, problems = check_decoder(HEAD + f"  command set as json\n    {line}\n")
    assert len(problems) == 1 and problems[0].message.startswith(message), [p.message for p in problems]


@pytest.mark.parametrize(
    "line", ["parameter a  number", "byte 1  a  u8  default 3", "byte 1  b  u8  optional", 'text = "a"']
)
def test_a_decoder_has_no_lines_of_commands(line: str) -> None:
    plan, problems = check_decoder(HEAD + f"  {line}\n")
    assert plan is None and len(problems) == 1 and "command" in problems[0].message
