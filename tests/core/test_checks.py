"""Check sums over ranges of every length at once, against one bit at a time."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.checks import CRCS
from oculum.decoding.checksums import check
from oculum.decoding.numbers import PAD, Strided
from tests.often import examples

SUMS = {
    "sum8": lambda d: sum(d) & 0xFF,
    "negated8": lambda d: -sum(d) & 0xFF,
    "sum16": lambda d: sum(d) & 0xFFFF,
    "xor8": lambda d: int(np.bitwise_xor.reduce(np.frombuffer(d, np.uint8))) if d else 0,
}


def by_bits(data: bytes, width: int, polynomial: int, start: int, reflected: bool, final: int) -> int:
    register, top = start, 1 << (width - 1)
    for byte in data:
        for k in range(8):
            bit = byte >> (k if reflected else 7 - k) & 1
            carry = bool(register & top) ^ bool(bit)
            register = (register << 1 & (1 << width) - 1) ^ (polynomial if carry else 0)
    if reflected:
        register = int(f"{register:0{width}b}"[::-1], 2)
    return register ^ final


def fletcher(data: bytes) -> int:
    first = second = 0
    for byte in data:
        first = (first + byte) % 255
        second = (second + first) % 255
    return second << 8 | first


def slowly(name: str, data: bytes, parameters: tuple[int, ...]) -> int:
    if name in SUMS:
        return SUMS[name](data)
    if name == "fletcher16":
        return fletcher(data)
    if name == "crc":
        width, polynomial, start, reflected, final = parameters
        return by_bits(data, width, polynomial, start, bool(reflected), final)
    crc = CRCS[name]
    assert crc.reflect_in == crc.reflect_out
    return by_bits(data, crc.width, crc.polynomial, crc.start, crc.reflect_in, crc.final)


@st.composite
def checks(draw: st.DrawFn) -> tuple[str, tuple[int, ...]]:
    name = draw(st.sampled_from([*SUMS, "fletcher16", *CRCS, "crc"]))
    if name != "crc":
        return name, ()
    width = draw(st.sampled_from([8, 16, 24, 32]))
    numbers = st.integers(0, 2**width - 1)
    return name, (width, draw(numbers), draw(numbers), int(draw(st.booleans())), draw(numbers))


@settings(max_examples=examples(75), deadline=None)
@given(checks(), st.lists(st.binary(max_size=70), min_size=1, max_size=6), st.sampled_from([1, 45]))
def test_many_lengths_at_once(asked: tuple[str, tuple[int, ...]], ranges: list[bytes], more: int) -> None:
    """Few lengths go one by one, many all together; the answer is that of each range alone."""
    name, parameters = asked
    ranges = ranges + [bytes(range(n)) for n in range(more)]
    lengths = np.array([len(r) for r in ranges], np.int64)
    starts = np.cumsum(lengths) - lengths
    data = np.frombuffer(b"".join(ranges) + bytes(PAD), np.uint8)
    assert check(name, data, starts, lengths, parameters).tolist() == [slowly(name, r, parameters) for r in ranges]


@settings(max_examples=examples(60), deadline=None)
@given(checks(), st.integers(0, 300), st.integers(1, 5), st.integers(0, 2**32))
def test_one_length_in_a_table(asked: tuple[str, tuple[int, ...]], length: int, count: int, seed: int) -> None:
    """Rows that follow each other, also those longer than the tables that are kept."""
    name, parameters = asked
    raw = np.random.default_rng(seed).integers(0, 256, count * (length + 3)).astype(np.uint8).tobytes()
    data = np.frombuffer(raw + bytes(PAD), np.uint8)
    found = check(name, data, Strided(2, length + 3, count), length, parameters)
    assert found.tolist() == [slowly(name, raw[2 + k * (length + 3) :][:length], parameters) for k in range(count)]


@pytest.mark.parametrize("size", [4095, 4096, 4097, 65_536])
def test_long_sums_stay_within_their_numbers(size: int) -> None:
    raw = b"\xff" * size
    data = np.frombuffer(raw + bytes(PAD), np.uint8)
    for name in ("fletcher16", "sum16", "sum8"):
        assert check(name, data, np.array([0]), size).tolist() == [slowly(name, raw, ())]
