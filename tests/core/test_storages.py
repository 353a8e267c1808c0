"""Storages, structures and commands held against plain whole-number arithmetic, on random values."""

from __future__ import annotations

import json
import math
import struct
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo

import cbor2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.clocks import calendar_us, iso_us, local_to_utc
from oculum.decoding.commands import CommandError, decode_command, encode_command
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition
from tests.often import examples

from .test_decoding import decoders, flat, plan_of

pytestmark = pytest.mark.usefixtures("way")


def readings(text: str, payload: bytes, **more: object) -> dict[str, object]:
    found = answer(decode(plan_of(text), Payloads.of([payload], [0], **more)), 0)  # type: ignore[arg-type]
    assert "readings" in found, found
    return {r["field"]: r["value"] if "missing" not in r else r["missing"] for r in found["readings"]}


def refused(text: str, payload: bytes) -> str:
    return answer(decode(plan_of(text), Payloads.of([payload], [0])), 0)["error"]["code"]


@settings(max_examples=examples(75), deadline=None)
@given(decoders(), st.integers(0, 30), st.lists(st.binary(min_size=30, max_size=30), min_size=1, max_size=8))
def test_the_short_way_gives_the_same(text: str, length: int, raws: list[bytes]) -> None:
    """Messages of one length go the short way; one odd message among them sends all the ordinary way."""
    plan, _ = check_decoder(text)
    if plan is None:
        return
    payloads = [raw[:length] for raw in raws]
    times = np.zeros(len(payloads) + 1, np.int64)
    even, odd = (
        decode(plan, Payloads.of(payloads, times[:-1])),
        decode(plan, Payloads.of([*payloads, raws[0] + b"x"], times)),
    )
    for row in range(len(payloads)):
        assert answer(even, row) == answer(odd, row), text
        assert flat(even, row) == flat(odd, row)


@given(st.integers(1, 64), st.data())
def test_whole_numbers_of_every_kind(bits: int, data: st.DataObject) -> None:
    size = (bits + 7) // 8 * 8
    pattern = data.draw(st.integers(0, 2**bits - 1))
    payload = pattern.to_bytes(size // 8, "big")
    top = pattern >> (bits - 1)
    wanted = {
        "u": pattern,
        "i": pattern - (top << bits),
        "sm": (-1 if top else 1) * (pattern & ((1 << (bits - 1)) - 1)),
        "oc": pattern - (2**bits - 1) if top else pattern,
    }
    for letter, value in wanted.items():
        if bits == 1 and letter != "u":
            continue
        place = f"bytes 0 to {size // 8 - 1}" + (f" bits {bits - 1} to 0" if bits != size else "")
        found = readings(f"decoder d for bytes, big endian\n  {place}  x  {letter}{bits}\n", payload)["x"]
        assert found == value or (abs(value) > 2**53 and math.isclose(float(str(found)), value, rel_tol=1e-15)), (
            letter,
            bits,
        )


@given(st.integers(-(10**7) + 1, 10**7 - 1), st.booleans())
def test_packed_decimals(value: int, plus: bool) -> None:
    sign = "d" if value < 0 else "c" if plus else "f"
    payload = bytes.fromhex(f"{abs(value):07d}{sign}")
    assert readings("decoder d for bytes\n  byte 0  x  packed7 / 100  V\n", payload)["x"] == pytest.approx(value / 100)
    assert (
        readings("decoder d for bytes\n  byte 0  x  bcd6\n", bytes.fromhex(f"{abs(value) % 10**6:06d}"))["x"]
        == abs(value) % 10**6
    )


def test_half_bytes_that_are_no_digits() -> None:
    assert refused("decoder d for bytes\n  byte 0  x  bcd2\n", b"\x1a") == "malformed"
    assert refused("decoder d for bytes\n  byte 0  x  packed1\n", b"\x11") == "malformed"


@given(
    st.floats(width=32, allow_nan=False),
    st.sampled_from(["big", "little"]),
    st.sampled_from(["", " low word first", " high word first"]),
)
def test_word_orders(value: float, order: str, words: str) -> None:
    """A B C D, C D A B, D C B A and B A D C: every order of bytes and words of a number."""
    a, b, c, d = struct.pack(">f", value)
    layout = {
        ("big", ""): (a, b, c, d),
        ("big", " high word first"): (a, b, c, d),
        ("big", " low word first"): (c, d, a, b),
        ("little", ""): (d, c, b, a),
        ("little", " low word first"): (d, c, b, a),
        ("little", " high word first"): (b, a, d, c),
    }[order, words]
    found = readings(f"decoder d for bytes, {order} endian\n  byte 0  x  f32{words}\n", bytes(layout))["x"]
    assert found == "not a number" if not math.isfinite(value) else found == pytest.approx(value, rel=1e-14)


def leb(value: int, signed: bool, extra: int = 0) -> bytes:
    out = bytearray()
    while True:
        byte, value = value & 0x7F, value >> 7
        if (value == 0 and not (signed and byte & 0x40)) or (signed and value == -1 and byte & 0x40):
            fill = 0x7F if signed and byte & 0x40 else 0
            out.append(byte | (0x80 if extra else 0))
            return bytes(out) + bytes([fill | 0x80] * (extra - 1) + [fill] if extra else [])
        out.append(byte | 0x80)


@given(st.integers(0, 2**64 - 1), st.integers(-(2**63), 2**63 - 1), st.integers(0, 2))
def test_numbers_of_variable_length(unsigned: int, signed: int, extra: int) -> None:
    first, second = leb(unsigned, False), leb(signed, True)
    first = leb(unsigned, False, extra) if len(first) + extra <= 10 else first
    found = readings("decoder d for bytes\n  next  a  varint\n  next  b  signed varint\n", first + second)
    assert (found["a"], found["b"]) == (unsigned, signed)


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 255)), max_size=30), st.integers(0, 7))
def test_streams_of_bits(values: list[tuple[int, int]], lead: int) -> None:
    """Numbers of 2 and 8 bits one after the other, behind a number of other bits."""
    bits = "1" * lead + "".join(f"{a:02b}{b:08b}" for a, b in values)
    payload = bytes([len(values)]) + int(bits.ljust((len(bits) + 7) // 8 * 8, "0") or "0", 2).to_bytes(
        (len(bits) + 7) // 8, "big"
    )
    head = f"  skip {lead} bits\n" if lead else ""
    text = (
        f"decoder d for bytes\n  byte 0  n  u8  hidden\n{head}  repeat n times up to 40\n    next bits "
        f" a{{index}}_  u2\n    next bits  b{{index}}_  u8\n"
    )
    found = readings(text.replace("a{index}_", "a_{index}").replace("b{index}_", "b_{index}"), payload)
    assert found == {name: v for i, (a, b) in enumerate(values, 1) for name, v in ((f"a_{i}", a), (f"b_{i}", b))}


@given(st.lists(st.integers(-100, 100), min_size=1, max_size=40), st.integers(-1000, 1000))
def test_running_sums(steps: list[int], first: int) -> None:
    payload = struct.pack(">h", first) + bytes(s & 0xFF for s in steps)
    text = """decoder d for bytes, big endian
  byte 0  start  i16  hidden
  repeat to end
    next  step  i8  hidden
    derive level_{index} = first_known(previous(level_{index}), start) + step
"""
    total, wanted = first, {}
    for i, step in enumerate(steps, 1):
        total += step
        wanted[f"level_{i}"] = total
    text = (
        text.replace("previous(level_{index})", "previous(sum)")
        .replace("    derive level_{index} = ", "    derive sum = ")
        .rstrip()
        + " hidden\n    derive level_{index} = sum\n"
    )
    text = text.replace(
        "    next  step  i8  hidden\n", "    next  step  i8  hidden\n    when index = 0\n      next  sum  u8  hidden\n"
    )
    assert readings(text, payload) == wanted


@given(st.lists(st.one_of(st.none(), st.integers(0, 1000)), max_size=8))
def test_aggregates_over_repeats(values: list[int | None]) -> None:
    payload = b"".join(struct.pack(">H", 0xFFFF if v is None else v) for v in values)
    text = """decoder d for bytes, big endian
  repeat to end
    next  x_{index}  u16  missing "gone" raw 0xFFFF
  derive total = sum_of(x_{index})
  derive highest = max_of(x_{index})
  derive lowest = min_of(x_{index})
  derive mean = mean_of(x_{index})
  derive first = first_of(x_{index})
  derive last = last_of(x_{index})
  derive many = count_of(x_{index})
  derive large = count_of(x_{index} > 500)
  derive some = any_of(x_{index} > 500)
"""
    found = readings(text, payload)
    known = [v for v in values if v is not None]
    assert found["many"] == len(values) and found["large"] == sum(v > 500 for v in known)
    assert found["total"] == ("gone" if None in values else sum(known))
    for name, value in (
        ("highest", max),
        ("lowest", min),
        ("mean", lambda k: Fraction(sum(k), len(k))),
        ("first", lambda k: k[0]),
        ("last", lambda k: k[-1]),
    ):
        assert found[name] == "not a number" if not known else found[name] == pytest.approx(float(value(known)))  # type: ignore[operator]


@given(
    st.lists(st.binary(max_size=6), min_size=1, max_size=6),
    st.binary(max_size=4).map(lambda b: b.replace(b"\x7e", b"")),
)
def test_stuffed_frames(contents: list[bytes], noise: bytes) -> None:
    stuffed = b"".join(
        b"\x7e"
        + b"".join(bytes([0x7D, b ^ 0x20]) if b in (0x7E, 0x7D, 0x7F) else bytes([b]) for b in c)
        + b"\x7f"
        + noise
        for c in contents
    )
    text = (
        "decoder d for bytes\n  repeat frames from 0x7E to 0x7F escape 0x7D xor 0x20\n    derive size_{index} ="
        " length\n    rest  text_{index}  hex\n"
    )
    found = readings(text, noise + stuffed)
    for i, content in enumerate(contents, 1):
        assert (found[f"size_{i}"], found[f"text_{i}"]) == (len(content), content.hex())


@given(st.integers(0, 2**24 - 1), st.integers(-(2**23), 2**23 - 1))
def test_counters_that_wrap(before: int, change: int) -> None:
    after = (before + change) % 2**24
    plan = plan_of(
        "decoder d for bytes, big endian\n  byte 0  pulses  u24\n  derive moved = wrapped(pulses - before(pulses),"
        " 24)\n"
    )
    decoded = decode(
        plan, Payloads.of([n.to_bytes(3, "big") for n in (before, after)], [0, 0], before=np.array([-1, 0]))
    )
    assert {r["field"]: r["value"] for r in answer(decoded, 1)["readings"]}["moved"] == change
    assert {r["field"]: r.get("missing") for r in answer(decoded, 0)["readings"]}["moved"] == "no earlier message"


@given(st.integers(0, 0xFFFF), st.integers(-20_000, 20_000))
def test_clocks_that_wrap_are_taken_nearest_to_arrival(raw: int, off: int) -> None:
    moment = 1_700_000_000 // 65_536 * 65_536 + raw
    plan = plan_of(
        'decoder d for bytes, big endian\n  byte 0  clock  time u16 s since "1970-01-01" wrapping  hidden\n  stamp'
        " clock\n  byte 0  x  u16\n"
    )
    decoded = decode(plan, Payloads.of([raw.to_bytes(2, "big")], [(moment + off) * 1_000_000]))
    assert int(decoded.groups[0].at[0]) == moment * 1_000_000


@given(st.integers(0, 86_399), st.integers(-40_000, 40_000))
def test_clocks_without_a_date(second: int, off: int) -> None:
    day = 1_772_409_600
    text = f"{second // 3600:02d}{second // 60 % 60:02d}{second % 60:02d}"
    plan = plan_of(
        'decoder d for bytes\n  bytes 0 to 2  clock  time digits "hhmmss"  hidden\n  stamp clock\n  byte 0  x  u8\n'
    )
    decoded = decode(plan, Payloads.of([bytes.fromhex(text)], [(day + second + off) * 1_000_000]))
    assert int(decoded.groups[0].at[0]) == (day + second) * 1_000_000


@given(
    st.datetimes(min_value=datetime(1990, 1, 1), max_value=datetime(2060, 1, 1)),
    st.sampled_from(["Atlantic/Azores", "Australia/Lord_Howe", "UTC", "Asia/Kathmandu"]),
    st.booleans(),
)
def test_local_times(naive: Any, zone: str, again: bool) -> None:
    """Held against the standard library's zones, one moment at a time."""
    place = ZoneInfo(zone)
    naive = naive.replace(microsecond=0)
    first, second = naive.replace(tzinfo=place), naive.replace(tzinfo=place, fold=1)
    twice = first.utcoffset() > second.utcoffset()
    wanted = (second if twice and again else first).astimezone(UTC)
    local, good = calendar_us(naive.year, naive.month, naive.day, naive.hour, naive.minute, naive.second)
    assert good.all()
    assert local_to_utc(local, zone, np.array([again]))[0] == (wanted - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(
        microseconds=1
    )


COMMAND = """decoder d for bytes, {order} endian
  byte 0  x  u8
  command set
    next  whole  {storage}
    next  amount  i16 / 100  Cel  within -300 to 300
    next  ratio  f32
    next byte bit 7  on  flag
    same bits 6 to 0  kind  code {{ 1 steady, 2 flash }}  default flash
    next  count  varint
    next  change  signed varint
    next  digits  bcd6 / 10  L
    next  packed  packed3 / 10  Cel
    next  since  time u32 s since "2000-01-01"
    next  u8 = sum8(bytes 0 to -1)
"""


@settings(deadline=None)
@given(
    st.sampled_from(["big", "little"]),
    st.sampled_from(["u8", "u16", "u24", "u32", "i8", "i24", "i32", "sm16", "oc16", "bcd6", "u32 low word first"]),
    st.data(),
)
def test_encode_then_decode_gives_the_parameters_back(order: str, storage: str, data: st.DataObject) -> None:
    plan = plan_of(COMMAND.format(order=order, storage=storage))
    bits = int("".join(c for c in storage.split()[0] if c.isdigit()))
    low, high = {
        "u": (0, 2**bits - 1),
        "i": (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1),
        "s": (1 - 2 ** (bits - 1), 2 ** (bits - 1) - 1),
        "o": (1 - 2 ** (bits - 1), 2 ** (bits - 1) - 1),
        "b": (0, 10**bits - 1),
    }[storage[0]]
    given_values = {
        "whole": data.draw(st.integers(low, high)),
        "amount": data.draw(st.integers(-30_000, 30_000)) / 100,
        "ratio": data.draw(st.floats(-1e6, 1e6, width=32)),
        "on": data.draw(st.booleans()),
        "kind": data.draw(st.sampled_from(["steady", "flash"])),
        "count": data.draw(st.integers(0, 2**53)),
        "change": data.draw(st.integers(-(2**53), 2**53)),
        "digits": data.draw(st.integers(0, 999_999)) / 10,
        "packed": data.draw(st.integers(-999, 999)) / 10,
        "since": "2026-03-02T09:10:00Z",
    }
    written = encode_command(plan, "set", given_values)
    back = {r["field"]: r["value"] for r in answer(decode_command(plan, "set", written), 0)["readings"]}
    for name, value in given_values.items():
        assert back[name] == value or back[name] == pytest.approx(value, rel=1e-14), name
    assert iso_us(str(back["since"])) == iso_us("2026-03-02T09:10:00Z")
    assert written[-1] == sum(written[:-1]) % 256
    with pytest.raises(CommandError):
        encode_command(plan, "set", {**given_values, "whole": high + 1})


@settings(max_examples=examples(100), deadline=None)
@given(decoders())
def test_the_layout_is_stable_and_changes_nothing(text: str) -> None:
    laid = format_definition(text)
    assert format_definition(laid) == laid
    plan, problems = check_decoder(text)
    again, problems_again = check_decoder(laid)
    assert (plan is None) == (again is None) and [p.message for p in problems] == [p.message for p in problems_again]


@settings(max_examples=examples(75), deadline=None)
@given(
    st.one_of(
        st.integers(-(2**64), 2**65), st.sampled_from([2**53, 2**53 + 1, 2**63 - 1, 2**63, 2**64 - 1, 2**64, -(2**63)])
    ),
    st.booleans(),
    st.sampled_from(["json", "cbor", "text"]),
)
def test_whole_numbers_of_documents_keep_all_their_digits(number: int, as_text: bool, source: str) -> None:
    """As numbers or as texts, up to 64 bits; what is larger, or has the wrong sign, is refused."""
    value: object = str(number) if as_text else number
    payload = {
        "json": lambda: json.dumps({"a": value}).encode(),
        "cbor": lambda: cbor2.dumps({"a": value}),
        "text": lambda: f"{number};x".encode(),
    }[source]()
    where = '  columns by ";"\n  column 1' if source == "text" else "  at a"
    for storage, low, high in (("u64", 0, 2**64), ("i64", -(2**63), 2**63)):
        text = f'decoder d for {source}\n{where}  x  {storage}  missing "none" raw 7\n'
        if not low <= number < high:
            assert refused(text, payload) == "malformed"
        elif number == 7 and not as_text and source != "text":
            assert readings(text, payload) == {"x": "none"}
        else:
            assert readings(text, payload)["x"] == number
    if abs(number) > 2**53 and not as_text and source != "text":
        assert refused(f"decoder d for {source}\n{where}  x  integer\n", payload) == "malformed"
