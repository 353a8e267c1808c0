"""What is newest, what is late, and in which order readings count: against a slow, obvious oracle."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import Column, Decoded, Group, Payloads
from oculum.history.events import Newest, build_events, newest_after
from oculum.history.fleet import Fleet
from oculum.language.decoders import check_decoder
from oculum.language.fields import FieldSpec
from oculum.pipeline import FUTURE_US, decode_batch
from tests.often import examples

pytestmark = pytest.mark.usefixtures("way")

A, B = FieldSpec("a", "number", "V"), FieldSpec("b", "number", "V")

# (device, [(at, a, b)]) a message; None means that the field is not in it.
messages_of = st.lists(
    st.tuples(
        st.integers(1, 3),
        st.lists(
            st.tuples(
                st.integers(0, 12), st.one_of(st.none(), st.integers(0, 9)), st.one_of(st.none(), st.integers(0, 9))
            ),
            min_size=1,
            max_size=4,
            unique_by=lambda r: r[0],
        ),
    ),
    min_size=1,
    max_size=14,
)


def decoded_of(messages: Any) -> Decoded:
    """Each message's first reading in one group, the others in a second, as a repeat gives them."""
    groups = []
    for part in (lambda i: i == 0, lambda i: i > 0):
        rows: list[int] = []
        at: list[int] = []
        values: dict[str, list[Any]] = {"a": [], "b": []}
        for row, (_, readings) in enumerate(messages):
            for i, (moment, a, b) in enumerate(readings):
                if part(i):
                    rows.append(row)
                    at.append(moment)
                    values["a"].append(a)
                    values["b"].append(b)
        columns = {
            name: Column(
                np.array([0.0 if v is None else float(v) for v in found]),
                np.array([0 if v is None else 1 for v in found], np.int16),
            )
            for name, found in values.items()
        }
        groups.append(Group((A, B), np.array(rows, np.int64), np.array(at, np.int64), columns))
    none = np.full(len(messages), -1, np.int32)
    return Decoded(groups, [], none, none, [], np.zeros(len(messages), np.int64))


@settings(max_examples=examples(200), deadline=None)
@given(
    messages_of,
    st.dictionaries(
        st.tuples(st.integers(1, 3), st.sampled_from("ab")), st.tuples(st.integers(0, 9), st.integers(0, 12))
    ),
)
def test_newest_values_follow_arrival_and_measured_time(messages: Any, known: Any) -> None:
    before = Fleet.of({key: Newest(float(value), at) for key, (value, at) in known.items()})
    device = np.array([d for d, _ in messages], np.int64)
    events = build_events(
        decoded_of(messages).groups, device, np.arange(len(messages), dtype=np.int64), before, np.arange(len(messages))
    )

    newest = {key: (float(value), at) for key, (value, at) in known.items()}
    wanted = []
    for row, (owner, readings) in enumerate(messages):
        for moment, a, b in sorted(readings, key=lambda r: r[0]):
            fresh = {}
            for name, value in (("a", a), ("b", b)):
                if value is not None and (newest.get((owner, name)) is None or moment >= newest[owner, name][1]):
                    newest[owner, name] = (float(value), moment)
                    fresh[name] = True
            wanted.append((owner, row, moment, fresh.get("a", False), fresh.get("b", False)))
    wanted.sort(key=lambda e: (e[0], e[1], e[2]))

    found = [
        (
            int(events.device[i]),
            int(events.message[i]),
            int(events.at[i]),
            bool(events.tracks["a"].fresh[i]),
            bool(events.tracks["b"].fresh[i]),
        )
        for i in range(len(events))
    ]
    assert found == wanted
    after = {key: (n.value, n.at) for key, n in before.items()} | {
        key: (n.value, n.at) for key, (n, _) in newest_after(events).items()
    }
    assert after == newest


def test_an_empty_batch_has_no_events() -> None:
    none = np.zeros(0, np.int64)
    assert len(build_events([], none, none, Fleet(), none)) == 0


TIMED = "decoder d for json\n  at t  sent  time iso hidden\n  stamp sent\n  at v  v  number\n"


def test_one_wrong_clock_refuses_its_message_and_no_other() -> None:
    plan, _ = check_decoder(TIMED)
    assert plan is not None
    received = 1_000_000_000_000_000  # 2001-09-09T01:46:40Z
    texts = ["2001-09-09T01:46:40Z", "2001-09-09T01:51:40Z", "2001-09-09T01:51:40.000001Z", "1999-01-01T00:00:00Z"]
    payloads = Payloads.of([b'{"t":"%s","v":1}' % t.encode() for t in texts], [received] * 4)
    decoded = decode_batch(plan, payloads, received - 86_400_000_000)
    assert FUTURE_US == 300_000_000
    assert decoded.good.tolist() == [True, True, False, False]
    messages = [decoded.failures[i].message for i in decoded.failure if i >= 0]
    assert messages == ["measured more than 5 min after it arrived", "measured before the time that is kept"]
    (group,) = decoded.groups
    assert group.rows.tolist() == [0, 1] and group.at.tolist() == [received, received + FUTURE_US]


def test_a_reading_without_a_time_stands_at_its_arrival() -> None:
    plan, _ = check_decoder(TIMED)
    assert plan is not None
    decoded = decode_batch(plan, Payloads.of([b'{"v":1}', b'{"t":null,"v":2}'], [5_000_000, 7_000_000]), 0)
    assert decoded.groups[0].at.tolist() == [5_000_000, 7_000_000]
