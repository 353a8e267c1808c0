"""The language: every mistake once, with its place and its remedy; one layout; bounds that hold."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Payloads
from oculum.decoding.decode import decode
from oculum.decoding.encode import EncodeError, encode
from oculum.language import limits
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition, parse
from oculum.language.expressions import Compared, Constant
from oculum.language.fields import FieldSpec
from oculum.language.problems import Span
from oculum.quantities import UnitError, convert, parse_unit
from tests.often import examples

from .test_decoding import decoders

ROOT = Path(__file__).resolve().parents[2]
FIELDS = {
    "water_temp": FieldSpec("water_temp", "number", "Cel"),
    "oxygen": FieldSpec("oxygen", "number", "mg/L"),
    "mode": FieldSpec("mode", "code", None, ((0, "asleep"), (1, "sampling"))),
    "fix": FieldSpec("fix", "position"),
    "slack": FieldSpec("slack", "flag"),
}
TYPES = {"buoy": (FIELDS, {"oxygen_min": "mg/L"})}


def mistakes(rule: str) -> list[str]:
    _, problems = check_condition(f'condition "c" priority low\n  on buoy\n  {rule}\n', TYPES)
    return [p.message for p in problems]


@pytest.mark.parametrize(
    "rule,message",
    [
        ("raise when watertemp > 30 Cel", "`watertemp` is not a field of `buoy`: did you mean `water_temp`?"),
        ("raise when water_temp > 30 [psu]", "`[psu]` is a practical salinity, but `Cel` is a temperature"),
        ("raise when water_temp > 30", "30 has no unit: write it with one, such as `30 Cel`"),
        (
            "raise when oxygen < setpoint oxygen_mim",
            "`oxygen_mim` is not a setpoint of `buoy`: did you mean `oxygen_min`?",
        ),
        ("raise when mode = `sampled`", "`sampled` is not one of the texts of this code: did you mean `sampling`?"),
        ('raise when mode = "sampling"', "the text of a code stands in backticks, as in mode = `normal`"),
        ("raise when oxygen", "found a number in mg/L, expected something true or false, such as a comparison"),
        ("raise when water_temp > 3 Cell", "`Cell` is not a unit: did you mean `Cel`?"),
        ("raise when oxygen < 4 mg/L held 5 kg", "`5 kg` is no duration: `kg` is a mass"),
        ("raise when oxygen < 4 mg/L deadband 1 Cel", "the deadband is a temperature, the limit is in mg/L"),
        ("raise when distance(fix, 3 m) > 3 m", "`distance` takes a position, found a number in m"),
        (
            "raise when water_temp + water_temp > 3 Cel",
            "two temperatures cannot be added. Where one of them is a difference, its line says so with the word"
            " `difference`; a mean is `a + (b - a) / 2`",
        ),
        ("raise when water_temp * 2 > 3 Cel deadband 1 Cel held 40 d", "a duration is at most 31 d"),
        ("raise when maximum(oxygen, 3 mg/L) > 4 mg/L", "`maximum` is not a function: did you mean `max`?"),
    ],
)
def test_one_mistake_one_error_with_the_remedy(rule: str, message: str) -> None:
    assert mistakes(rule) == [message]


def test_checking_goes_on_after_a_mistake() -> None:
    text = (
        'decoder d for bytes\n  byte 0  a  u8 Cell\n  byte 1 bits q  b  u8\n  byte 2  c  u8 / 0\n  reject "x" when'
        " a > 3 and b > 3\n  byte 3  e  u8\n"
    )
    _, problems = check_decoder(text)
    assert [(p.span.line, p.span.column) for p in problems] == [(2, 17), (3, 15), (4, 14)]


def test_unit_scales_are_converted_and_differences_told_apart() -> None:
    plan, problems = check_condition(
        'condition "c" priority low\n  on buoy\n  raise when water_temp > 86 [degF]\n', TYPES
    )
    assert plan is not None and not problems
    assert isinstance(plan.steps[0].rule, Compared) and isinstance(plan.steps[0].rule.right, Constant)
    assert plan.steps[0].rule.right.value == pytest.approx(30.0)
    assert mistakes("raise when water_temp - 3 Cel > water_temp") == []
    assert mistakes("raise when water_temp - water_temp > water_temp") == [
        "one is a temperature, the other a difference of temperatures; the line of a difference says so with the word"
        " `difference`"
    ]


@settings(deadline=None)  # the first conversion loads the units library
@given(
    st.floats(-200, 2000),
    st.sampled_from(
        [("Cel", "[degF]"), ("Cel", "K"), ("mg/L", "g/m3"), ("[kn_i]", "km/h"), ("bar", "kPa"), ("dB{mW}", "B")]
    ),
)
def test_units_convert_there_and_back(value: float, pair: tuple[str, str]) -> None:
    a, b = parse_unit(pair[0]), parse_unit(pair[1])
    assert convert(convert(value, a, b), b, a) == pytest.approx(value, rel=1e-9, abs=1e-9)


def test_units_known_values() -> None:
    def of(value: float, a: str, b: str) -> float:
        return convert(value, parse_unit(a), parse_unit(b))

    assert of(100, "Cel", "[degF]") == pytest.approx(212)
    assert of(1, "mg/L", "ug/mL") == pytest.approx(1)
    assert of(1, "[nmi_i]", "m") == 1852
    assert of(1, "h", "min") == pytest.approx(60)
    assert of(760, "mm[Hg]", "atm") == pytest.approx(1, rel=1e-6)
    for wrong in ("Celsius", "mg//L", "[psu", "kg m", "", "m99"):
        with pytest.raises(UnitError):
            parse_unit(wrong)
    with pytest.raises(UnitError):
        of(1, "kg", "m")


# layout ------------------------------------------------------------------------------
def bare(node: object) -> object:
    """A tree without places."""
    if isinstance(node, Span):
        return None
    if isinstance(node, tuple):
        return tuple(bare(n) for n in node)
    if is_dataclass(node):
        return (
            type(node).__name__,
            *(bare(getattr(node, f.name)) for f in fields(node) if not f.name.endswith("span")),
        )
    return node


@settings(max_examples=examples(75), deadline=None)
@given(decoders())
def test_layout_changes_nothing_but_the_layout(text: str) -> None:
    laid_out = format_definition(text)
    assert bare(parse(laid_out)[0]) == bare(parse(text)[0])
    assert format_definition(laid_out) == laid_out


RULES = st.recursive(
    st.sampled_from(
        [
            "oxygen < 3 mg/L",
            "slack",
            "water_temp > setpoint t",
            "mode = `sampling`",
            "fix is missing",
            "abs(oxygen - 2 mg/L) >= 1 mg/L",
            "not slack",
            "oxygen in { 1 mg/L, 2 mg/L }",
            "-oxygen ^ 2 < 4",
            "if slack then slack else true",
        ]
    ),
    lambda inner: st.builds(lambda a, word, b: f"({a}) {word} ({b})", inner, st.sampled_from(["and", "or"]), inner),
    max_leaves=6,
)


@settings(max_examples=examples(75), deadline=None)
@given(RULES)
def test_brackets_are_kept_where_they_count(rule: str) -> None:
    text = (
        f'condition "a \\"b\\"" priority low\n  on buoy with label a = "x", label b != "y"\n  raise when {rule}'
        f' deadband 1 V held 5 min\n  clear when {rule}\n  say "it is {{value}}"\n'
    )
    laid_out = format_definition(text)
    assert bare(parse(laid_out)[0]) == bare(parse(text)[0])
    assert format_definition(laid_out) == laid_out


def test_comments_stay_with_their_lines() -> None:
    text = (
        "# above all\ndecoder d for bytes   # the head\n  # about a\n  byte 0 a u8 # at a\n  when a > 3\n    #"
        " inside\n    next b u8\n# at the end\n"
    )
    assert (
        format_definition(text)
        == "# above all\ndecoder d for bytes  # the head\n  # about a\n  byte 0  a  u8  # at a\n  when a > 3\n    #"
        " inside\n    next  b  u8\n# at the end\n"
    )


@pytest.mark.parametrize("path", sorted((ROOT / "examples").glob("*.ocu")), ids=lambda p: p.name)
def test_examples_are_laid_out_canonically(path: Path) -> None:
    assert format_definition(path.read_text()) == path.read_text()


# bounds ------------------------------------------------------------------------------
HOSTILE = [
    "",
    "\x00",
    "decoder",
    "decoder d for bytes\n" + "  byte 0  a  u8\n" * 5000,
    "decoder d for bytes\n  byte 0  a  u8 " + "/ 10 " * 200,
    'condition "c" priority low\n  on buoy\n  raise when ' + "(" * 5000 + "slack",
    'condition "c" priority low\n  on buoy\n  raise when ' + "not " * 2000 + "slack",
    'condition "c" priority low\n  on buoy\n  raise when oxygen > ' + "9" * 300 + " mg/L",
    'condition "c" priority low\n  on buoy\n  raise when oxygen ^ 999 > 1',
    "decoder d for bytes\n" + "".join("  " * (i + 1) + "when true\n" for i in range(40)),
    "decoder d for bytes\n\tbyte 0 a u8",
    "decoder d for bytes\n  byte 0  a\u202eb  u8",
    "decoder d for bytes\n"
    + "".join("  " * (i + 1) + "repeat to end\n" for i in range(7))
    + "                next a u8",
    "decoder d for bytes\n  byte 99999999999999999999999  a  u8",
    "decoder d for bytes\n  byte 1.5  a  u8",
    "x" * (limits.SOURCE_CHARACTERS + 1),
]


@pytest.mark.parametrize("text", HOSTILE, ids=range(len(HOSTILE)))
def test_hostile_definitions_are_refused_with_words(text: str) -> None:
    for check in (lambda: check_decoder(text), lambda: check_condition(text, TYPES)):
        plan, problems = check()
        assert plan is None
        assert problems and all(p.message and p.span.line >= 1 for p in problems)
        assert len(problems) <= limits.ERRORS_SHOWN + 1


@settings(max_examples=examples(100), deadline=None)
@given(
    st.text(alphabet=st.sampled_from(list('decorbytsfn 0123456789\n"`#(){}<>=+-/*.,whenraiseu8_[]|^')), max_size=200),
    st.sampled_from(["", "decoder d for bytes\n  ", 'condition "c" priority low\n  on buoy\n  raise when ']),
)
def test_any_text_is_read_or_refused(text: str, head: str) -> None:
    for found in (check_decoder(head + text), check_condition(head + text, TYPES)):
        assert found[0] is not None or found[1]


def test_a_long_payload_takes_linear_time() -> None:
    plan, _ = check_decoder("decoder d for bytes\n  repeat to end, each 1 s earlier\n    next  a  u8\n")
    assert plan is not None
    decoded = decode(plan, Payloads.of([bytes(65_536), bytes(100)], [0, 0]))
    assert decoded.failures[decoded.failure[0]].message == "the repeat would run more than 4096 times"
    assert decoded.failure[1] < 0 and len(decoded.groups[0].rows) == 100


# back --------------------------------------------------------------------------------
LAYOUT = """decoder d for bytes, {order} endian
  byte 0 bits 7 to 3  a  u5
  byte 0 bits 2 to 0  m  code {{ 0 off, 1 on, 5 both }}
  next  t  i16 / 100  Cel  missing "none" raw 0x8000
  next  s  u24 / 10  V
  next 2 bytes bit 15  f  flag
  same bits 14 to 0  w  i15
  next  p  position i32 / 1e7, i32 / 1e7
  next  g  f32
  when m = `both`
    next  x  i64
  reject "check" as checksum unless crc16_modbus(bytes 0 to -3) = u16 little at byte -2
"""


@settings(max_examples=examples(75), deadline=None)
@given(
    st.sampled_from(["big", "little"]),
    st.integers(0, 31),
    st.sampled_from([0, 1, 5]),
    st.one_of(st.none(), st.integers(-32767, 32767)),
    st.integers(0, 2**24 - 1),
    st.booleans(),
    st.integers(-(2**14), 2**14 - 1),
    st.integers(-900_000_000, 900_000_000),
    st.integers(-1_800_000_000, 1_800_000_000),
    st.floats(width=32, allow_nan=False, allow_infinity=False),
    st.integers(-(2**63), 2**63 - 1),
)
def test_encode_then_decode_gives_the_values_back(
    order: str, a: Any, m: Any, t: Any, s: Any, f: Any, w: Any, lat: Any, lon: Any, g: Any, x: Any
) -> None:
    plan, problems = check_decoder(LAYOUT.format(order=order))
    assert plan is not None, problems

    def column(value: Any, state: int = 1, dtype: Any = float) -> Any:
        return Column(np.array([value], dtype), np.array([state], np.int16))

    given_values = {
        "a": column(a),
        "m": column(m),
        "t": column((t or 0) / 100, 2 if t is None else 1),
        "s": column(s / 10),
        "f": column(f),
        "w": column(w),
        "p": Column(np.array([[lat / 1e7, lon / 1e7]]), np.ones(1, np.int16)),
        "g": column(g),
        "x": column(x, dtype=np.int64),
    }
    (payload,) = encode(plan, given_values, ["none"], 1)
    decoded = decode(plan, Payloads.of([payload], [0]))
    assert decoded.failure[0] < 0, decoded.failures
    columns = decoded.groups[0].columns
    for name, column_given in given_values.items():
        if name == "x" and m != 5:
            assert columns["x"].state[0] == 0
            continue
        if name == "t" and t is None:
            assert decoded.reasons[columns["t"].state[0] - 2] == "none"
            continue
        assert np.array_equal(columns[name].values, column_given.values), name


def test_what_does_not_fit_is_refused_with_words() -> None:
    plan, _ = check_decoder("decoder d for bytes\n  byte 0  v  u8 / 50  V\n")
    assert plan is not None
    with pytest.raises(EncodeError, match="`v` would be stored as 300, which does not fit into 8 bits"):
        encode(plan, {"v": Column(np.array([6.0]), np.ones(1, np.int16))}, [], 1)


def test_distance_along_the_ground() -> None:
    from oculum.language.functions import distance_m

    assert distance_m(0.0, 0.0, 90.0, 0.0) == pytest.approx(10_001_965.729, abs=0.01)  # a quarter of the meridian
    assert distance_m(0.0, 0.0, 0.0, 1.0) == pytest.approx(111319.491, abs=0.01)
    assert distance_m(10.0, 179.5, 10.0, -179.5) == pytest.approx(distance_m(10.0, 0.0, 10.0, 1.0), abs=0.01)


def test_many_texts_are_read_at_the_same_time() -> None:
    from concurrent.futures import ThreadPoolExecutor

    text = "decoder d for bytes\n" + "".join(f"  when length > {n}\n    byte {n}  a{n}  u8\n" for n in range(40))
    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(check_decoder, [text] * 24))
    assert all(plan is not None and not problems for plan, problems in found)


def test_a_long_cell_pushes_no_others_to_the_right() -> None:
    text = (
        "decoder d for bytes, big endian\n  byte 0  mode  code { 0 idle, 1 filling, 2 circulating, 3 draining } "
        " hidden\n  byte 1  flow  u16 / 10  L/min\n  byte 3  heat  i8  Cel  within 0 to 40\n"
    )
    assert format_definition(text) == (
        "decoder d for bytes, big endian\n"
        "  byte 0  mode  code { 0 idle, 1 filling, 2 circulating, 3 draining }         hidden\n"
        "  byte 1  flow  u16 / 10  L/min\n"
        "  byte 3  heat  i8        Cel    within 0 to 40\n"
    )


@pytest.mark.parametrize(
    "lines",
    [
        "next 1 byte  a  text  size 1 byte",
        "open next 1 byte\n    next  a  u8",
        "open next 1 bytes\n    next  a  u8",
        "next 1 bytes  a  hex",
    ],
)
def test_one_byte_is_written_and_read_again(lines: str) -> None:
    text = format_definition(f"decoder d for bytes, big endian\n  {lines}\n")
    assert "next byte" in text and format_definition(text) == text
    plan, problems = check_decoder(text)
    assert plan is not None, problems
