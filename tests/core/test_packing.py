"""What is packed comes back bit for bit, whatever it is, and takes little where devices are as they are."""

from __future__ import annotations

import numpy as np
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from oculum.arrays import objects
from oculum.history.packing import Block, PackingError, pack, unpack

WHOLE = st.one_of(st.integers(-(2**63), 2**63 - 1), st.integers(0, 5), st.integers(0, 10**6).map(lambda n: n * 1000))
NUMBER = st.one_of(
    st.just(np.nan),
    st.floats(allow_nan=False),
    st.integers(-(10**7), 10**7).map(lambda n: n / 100),
    st.sampled_from([0.0, -0.0, np.inf, -np.inf, 2.0**53, 2.0**53 + 2, 5e-324, 1.7976931348623157e308]),
)
TEXT = st.one_of(st.none(), st.text(max_size=6), st.sampled_from(["open", "shut"]))


@st.composite
def blocks(draw: st.DrawFn) -> Block:
    count, width = draw(st.integers(0, 20)), draw(st.integers(0, 4))

    def whole() -> np.ndarray:
        return np.array(draw(st.lists(WHOLE, min_size=count, max_size=count)), np.int64)

    nums = np.array(draw(st.lists(NUMBER, min_size=count * width, max_size=count * width)), float)
    texts = [objects(draw(st.lists(TEXT, min_size=count, max_size=count))) for _ in range(draw(st.integers(0, 2)))]
    gone = st.lists(st.one_of(st.none(), st.binary(max_size=5)), min_size=count, max_size=count)
    missing = objects(draw(gone)) if draw(st.booleans()) else None
    return Block(whole(), whole(), whole(), whole(), nums.reshape(count, width), texts, missing)


def bits(values: np.ndarray) -> list[int]:
    """Of numbers; all that are none are one."""
    return np.where(np.isnan(values), 0, np.ascontiguousarray(values).view(np.int64)).tolist()  # type: ignore[no-any-return]


@given(blocks())
def test_what_is_packed_comes_back(block: Block) -> None:
    found, _ = unpack([pack(block)])
    for name in ("at", "received", "message", "version"):
        assert getattr(found, name).tolist() == getattr(block, name).tolist(), name
    assert found.nums.shape == block.nums.shape
    assert bits(found.nums) == bits(block.nums)
    assert (np.isnan(found.nums) == np.isnan(block.nums)).all()
    assert [t.tolist() for t in found.texts] == [t.tolist() for t in block.texts]
    assert (found.missing is None) == (block.missing is None)
    assert found.missing is None or found.missing.tolist() == block.missing.tolist()  # type: ignore[union-attr]


@given(blocks(), st.sets(st.integers(0, 3)))
def test_some_columns_are_read_alone(block: Block, wanted: set[int]) -> None:
    found, _ = unpack([pack(block)], wanted, texts=False)
    for k in range(block.nums.shape[1]):
        own = block.nums[:, k] if k in wanted else np.full(len(block), np.nan)
        assert bits(found.nums[:, k]) == bits(own)
    assert found.at.tolist() == block.at.tolist() and found.texts == [] and found.missing is None


@st.composite
def of_one_layout(draw: st.DrawFn) -> list[Block]:
    """Blocks of as many columns as the first."""
    first = draw(blocks())
    more = draw(st.lists(blocks(), max_size=4))
    return [first, *(b for b in more if b.nums.shape[1] == first.nums.shape[1] and len(b.texts) == len(first.texts))]


@given(of_one_layout())
def test_many_are_read_one_behind_another(some: list[Block]) -> None:
    found, rows = unpack([pack(block) for block in some])
    assert rows.tolist() == np.cumsum([0, *map(len, some)]).tolist()
    for block, first, last in zip(some, rows, rows[1:], strict=False):
        own = found.rows(slice(first, last))
        assert own.at.tolist() == block.at.tolist() and own.received.tolist() == block.received.tolist()
        assert bits(own.nums) == bits(block.nums)
        assert [t.tolist() for t in own.texts] == [t.tolist() for t in block.texts]
        gone = [None] * len(block) if block.missing is None else block.missing.tolist()
        assert (own.missing.tolist() if own.missing is not None else [None] * len(block)) == gone


@given(blocks(), st.lists(st.tuples(st.integers(0, 400), st.integers(0, 255)), min_size=1, max_size=3), st.booleans())
def test_bytes_that_were_changed_give_readings_or_a_refusal(
    block: Block, changes: list[tuple[int, int]], short: bool
) -> None:
    raw = bytearray(zstandard.ZstdDecompressor().decompress(pack(block)))
    for place, value in changes:
        raw[place % len(raw)] = value
    other = zstandard.ZstdCompressor().compress(bytes(raw[:-3] if short else raw))
    try:
        found, rows = unpack([pack(block), other])
    except PackingError:
        return
    assert len(found) == rows[-1] and found.at[: len(block)].tolist() == block.at.tolist()


@given(st.one_of(st.binary(max_size=60), blocks().map(lambda b: pack(b)[:-3])))
def test_other_bytes_are_refused_in_words(body: bytes) -> None:
    with pytest.raises(PackingError, match="expected packed readings"):
        unpack([body])


def test_a_day_of_a_device_takes_a_fraction() -> None:
    """A message in ten minutes, give or take a second, of eight values with two decimals that wander."""
    random = np.random.default_rng(3)
    count = 144
    at = 1_700_000_000_000_000 + np.arange(count) * 600_000_000 + random.integers(0, 1000, count) * 1000
    nums = np.round(np.cumsum(random.normal(0, 0.3, (count, 8)), axis=0) + 20, 2)
    block = Block(at, at + 1_500_000, np.arange(count) * 5000 + 7, np.full(count, 3), nums, [], None)
    assert len(pack(block)) < 2.2 * count * 8
