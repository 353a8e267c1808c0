"""One message, or one wrong clock, never stands in the way of the others."""

from __future__ import annotations

import struct
import unicodedata

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum import pipeline
from oculum.answers import answer
from oculum.batches import Failure, Group, Payloads
from oculum.decoding.decode import decode
from oculum.history.events import Newest, build_events, eras, newest_after
from oculum.history.fleet import Fleet
from oculum.history.following import SET_BACK_US
from oculum.language.decoders import check_decoder
from oculum.pipeline import decode_batch
from oculum.text import harmless
from tests.often import examples

TEXT = (
    "decoder d for bytes, big endian\n  byte 0  level  u16 / 10  m\n  byte 2  count  u8\n"
    '  byte 3  mode  u8  missing "off" raw 0\n  derive step = wrapped(count - before(count), 8)\n'
)
PLAN, _ = check_decoder(TEXT)


def payload(level: int, count: int) -> bytes:
    return struct.pack(">HBB", level, count, level % 3)


@settings(max_examples=examples(60), deadline=None)
@given(st.lists(st.tuples(st.integers(0, 999), st.booleans(), st.integers(0, 2)), min_size=1, max_size=30), st.data())
def test_a_message_at_which_decoding_fails_is_refused_and_its_neighbours_are_read(
    messages: list[tuple[int, bool, int]], data: st.DataObject
) -> None:
    """With a decoder that breaks at chosen messages: the others read as if nothing had been before them there."""
    assert PLAN is not None and PLAN.needs_before
    raw = [payload(1000 if bad else level, i) for i, (level, bad, _) in enumerate(messages)]
    device = [d for *_, d in messages]
    before = np.array(
        [max((j for j in range(i) if device[j] == d), default=-1) for i, d in enumerate(device)], np.int64
    )
    context = data.draw(st.integers(0, len(raw) - 1))
    batch = Payloads.of(raw, [0] * len(raw), None, None, before)

    def breaking(plan: object, payloads: Payloads, trace: object = None) -> object:
        rows = [payloads.row(i) for i in range(len(payloads))]
        if any(row[:2] == b"\x03\xe8" for row in rows):
            raise ZeroDivisionError("a fault of the decoder")
        return decode(PLAN, payloads, trace)  # type: ignore[arg-type]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(pipeline, "decode", breaking)
        found = decode_batch(PLAN, batch, 0, None, context)
    for row in range(context, len(raw)):
        given_ = answer(found, row - context)
        if messages[row][1]:
            assert given_["error"]["code"] == "failed" and "ZeroDivisionError" in given_["error"]["message"]
            continue
        chosen = np.array([b for b in [before[row]] if b >= 0 and not messages[b][1]] + [row], np.int64)
        alone = decode_batch(PLAN, batch.taken(chosen), 0, None, len(chosen) - 1)
        assert given_ == answer(alone, 0)


@settings(max_examples=examples(100), deadline=None)
@given(st.lists(st.integers(-(10**10), 10**10), max_size=40), st.integers(0, 10**10))
def test_the_clock_of_arrivals_goes_back_only_where_it_was_set_back(steps: list[int], clock: int) -> None:
    received = np.cumsum(np.array([10**12, *steps], np.int64))
    found = eras(received, clock)
    wanted, now = [], clock
    for stamp in received.tolist():
        now = stamp if stamp < now - SET_BACK_US else max(now, stamp)
        wanted.append(now)
    assert [m for *_, arrival in found for m in arrival.tolist()] == wanted
    assert [a for a, *_ in found] == [0, *(b for _, b, _ in found)][: len(found)] and found[-1][1] == len(received)


def test_what_was_measured_by_a_clock_that_was_wrong_does_not_stay_newest() -> None:
    """A reading from far ahead is forgotten by the first arrival of the right time, and by no other."""
    plan, _ = check_decoder("decoder d for bytes, big endian\n  byte 0  level  u8  m\n")
    assert plan is not None
    day = 86_400 * 10**6

    def group(at: int) -> list[Group]:
        return decode(plan, Payloads.of([b"\x05"], [at])).groups

    def fresh(at: int, known: int) -> bool:
        newest = Fleet.of({(1, "level"): Newest(9.0, known)})
        one = np.ones(1, np.int64)
        return bool(newest_after(build_events(group(at), one, np.array([at], np.int64), newest, one)))

    assert fresh(10 * day, 9 * day) and not fresh(10 * day, 10 * day + 1)
    assert not fresh(10 * day, 10 * day + SET_BACK_US) and fresh(10 * day, 110 * day)


@given(st.text(), st.integers(1, 40))
def test_what_a_stranger_wrote_is_kept_as_what_it_says(text: str, longest: int) -> None:
    shown = harmless(text, longest)
    assert not any(unicodedata.category(c) in ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp") for c in shown)
    if text.isascii() and text.isprintable() and len(text) <= longest:
        assert shown == text
    failure = Failure("unknown layout", f"`{text}` is no mode", 3)
    assert len(failure.message) <= 300 and "\0" not in failure.message and failure.message.encode()
