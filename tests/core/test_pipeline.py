"""A batch through several decoders: however the stream is cut, the same readings count and the same alarms come."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.alarms.room import Room
from oculum.alarms.watched import Watched
from oculum.batches import Payloads
from oculum.history.fleet import Fleet
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.fields import FieldSpec
from oculum.pipeline import Lot, process
from oculum.register.world import Device, World
from tests.often import examples

SECOND = 1_000_000
TENTHS = "decoder pod for bytes, big endian\n  byte 0  level  u16 / 10  m\n"
FIFTHS = "decoder pod for bytes, big endian\n  byte 0  level  u16 / 5  m\n  byte 0  other  u8\n"
GATE = (
    "decoder gate for bytes, big endian\n  repeat to end\n    next  number  u8  hidden\n    device"
    ' "pod-{number}"\n    next  level  u16 / 10  m\n'
)
PLANS = [check_decoder(text)[0] for text in (TENTHS, FIFTHS, GATE)]
RULE = (
    'condition "high" priority high\n  on pod\n  raise when level > 5 m held 3 s\n  clear when level < 4 m held 2 s\n'
)
PODS, GATEWAY, POD, GATE_TYPE = (1, 2, 3), 9, 10, 20

# (sender, second, level a pod): pods 1 and 2 run the first version, pod 3 the second; the gateway speaks for pods.
arrivals = st.lists(
    st.tuples(
        st.sampled_from([1, 2, 3, GATEWAY]), st.integers(0, 2), st.lists(st.integers(0, 90), min_size=1, max_size=3)
    ),
    min_size=1,
    max_size=16,
)


def payload(sender: int, levels: list[int]) -> bytes:
    if sender == GATEWAY:
        return b"".join(struct.pack(">BH", pod, level) for pod, level in zip(PODS, levels, strict=False))
    return struct.pack(">H", levels[0])


def run(messages: list[tuple[int, int, list[int]]], cuts: set[int]) -> tuple[object, object]:
    condition, _ = check_condition(RULE, {"pod": ({"level": FieldSpec("level", "number", "m")}, {})})
    assert condition is not None and all(p is not None for p in PLANS)
    room = Room(World({d: Device(d, f"pod-{d}", POD) for d in PODS} | {GATEWAY: Device(GATEWAY, "gate", GATE_TYPE)}))
    room.watch(Watched(1, 1, POD, condition))
    type_of: Callable[[int], int] = lambda d: GATE_TYPE if d == GATEWAY else POD  # noqa: E731
    newest = Fleet()
    transitions = []
    clock, start = 1_000 * SECOND, 0
    moments = []
    for _, gap, _ in messages:
        clock += gap * SECOND
        moments.append(clock)
    for end in [*sorted(cuts & set(range(1, len(messages)))), len(messages)]:
        part = messages[start:end]
        device = np.array([d for d, _, _ in part], np.int64)
        arrival = np.array(moments[start:end], np.int64)
        lots = []
        for number, plan in enumerate(PLANS):
            index = np.flatnonzero([(2 if d == GATEWAY else 1 if d == 3 else 0) == number for d, _, _ in part])
            if len(index) and plan is not None:
                lots.append(
                    Lot(plan, Payloads.of([payload(part[i][0], part[i][2]) for i in index], arrival[index]), index)
                )
        owners = lambda sender, name: int(name.split("-")[1])  # noqa: E731
        effects = process(
            lots,
            device,
            arrival,
            np.arange(start, end),
            newest,
            type_of,
            room,
            int(arrival[-1]),
            0,
            owners,
        )
        effects.settle(newest)
        transitions += [(t.at, t.subject, t.raised, t.cause.message, t.cause.value) for t in effects.transitions]
        start = end
    return {key: (found.value, found.at) for key, found in newest.items()}, sorted(transitions)


@settings(max_examples=examples(150), deadline=None)
@given(arrivals, st.sets(st.integers(1, 15)))
def test_any_cutting_gives_what_single_messages_give(messages: Any, cuts: Any) -> None:
    """Two versions of one type's decoder and a gateway that speaks for the same devices, mixed in one stream."""
    assert run(messages, cuts) == run(messages, set(range(1, len(messages))))


def test_what_a_name_is_may_differ_between_versions() -> None:
    """The newest of them wins nothing by that: values of another kind are left out, and nothing breaks."""
    text, _ = check_decoder("decoder pod for json\n  at level  level  text\n")
    assert text is not None and PLANS[0] is not None
    arrival = np.array([SECOND, 2 * SECOND], np.int64)
    lots = [
        Lot(PLANS[0], Payloads.of([b"\x00\x07"], arrival[:1]), np.array([0])),
        Lot(text, Payloads.of([b'{"level":"seven"}'], arrival[1:]), np.array([1])),
    ]
    effects = process(lots, np.array([1, 3]), arrival, np.array([5, 6]), Fleet(), lambda _: POD, None, 2 * SECOND, 0)
    assert effects.newest[1, "level"][0].value == 0.7
