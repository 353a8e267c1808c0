"""Whatever a device sends, by the real broker and by HTTP, into the real engine: what was taken is there once, and no
process of Oculum ends, stands still or trips over it.

More of it, or other: `OCULUM_FUZZ_SEED=7 OCULUM_FUZZ_MESSAGES=140 ./oculum test operation`.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import socket
from collections import Counter
from collections.abc import Iterator
from typing import Any

import cbor2
import httpx
import numpy as np
import pytest

from benchmarks.fuzz import mutated
from demo import world
from demo.load import load_records
from demo.payloads import payloads
from demo.signals import DAY_US, SEED, Story, now_us, plan_of, sending_times
from server.records.fleet.models import Device, DeviceType
from server.rules.registering import give_key, registry_changed, wait_for_broker
from tests import wire
from tests.instance import until
from tests.wire import Closed, Wire

from .conftest import Running

RANDOM_SEED = int(os.environ.get("OCULUM_FUZZ_SEED", "1"))
MESSAGES = int(os.environ.get("OCULUM_FUZZ_MESSAGES", "60"))  # of each sender; the broker lets 200 pass in a minute
PARTS = ["postgres", "broker", "keeper", "web", "intake", "engine", "again", "delivery"]
PACKS = [f"pack-{n}" for n in range(8)]
NASTY = [
    "",
    '"',
    "`",
    "#",
    "\n",
    "\r\n# x",
    "{",
    "}",
    "\\",
    "'",
    '" as unknown',
    "a" * 400,
    "é",
    "潮",
    "\u202e",
    "\u0000",
    "\ud800",
    "null",
    "decoder",
    "when",
    "sec",
    "%",
    "Cel",
    "m",
    "²",
    "٣",
    " ",
    "up/#",
    "+",
    "$SYS",
    "../..",
    "urn:dev:ow:10e2073a01080063",
    "oculum-mark",
    "x:y",
    "1e400",
    "-0",
]
NUMBERS = [
    0,
    1,
    -1,
    1.5,
    1e300,
    -1e300,
    1e15,
    2**53 + 1,
    2**63,
    -(2**63),
    2**64,
    10**40,
    5e-324,
    float("nan"),
    float("inf"),
    float("-inf"),
]


def word(rng: random.Random) -> str:
    return "".join(rng.choice([*NASTY, "ab", "-1", "_"]) for _ in range(rng.choice((1, 1, 1, 2, 3))))


def pack(rng: random.Random) -> bytes:
    """A SenML pack (RFC 8428) or nearly one, as JSON or as CBOR, with what nobody expects in it."""
    labels = {"bn": -2, "bt": -3, "bu": -4, "bv": -5, "n": 0, "u": 1, "v": 2, "vs": 3, "vb": 4, "t": 6, "vd": 8}

    def value(name: str) -> Any:
        if rng.random() < 0.1:
            return rng.choice([None, True, [], {}, [1, 2], "text", *NUMBERS])
        if name in ("bn", "n", "u", "bu", "vs", "vd"):
            return word(rng)
        return rng.choice(NUMBERS) if rng.random() < 0.4 else round(rng.uniform(-50, 50), 2)

    records: list[Any] = []
    for _ in range(rng.choice((0, 1, 1, 2, 3, 8, 60))):
        names = rng.sample(list(labels), rng.randrange(1, 6))
        record: dict[Any, Any] = {name: value(name) for name in {*names, "n", rng.choice(["v", "vs", "vb"])}}
        record["n"] = rng.choice(["level", "temp", record["n"]])
        records.append(record)
    if rng.random() < 0.4:
        with contextlib.suppress(Exception):  # half a pair of surrogates is nothing that CBOR can say
            return cbor2.dumps([{labels[k]: v for k, v in r.items()} for r in records])
    made = json.dumps(records if rng.random() < 0.95 else rng.choice([records[:1], {}, None, [[]]]))
    return made.encode()[:60_000]


def payloads_of(rng: random.Random) -> Iterator[tuple[str, bytes]]:
    """Sender and payload: of every type of the demo as its devices send them, most of them changed; and packs."""
    end = now_us()
    story = Story(end, SEED)
    by_type: dict[str, list[world.Unit]] = {}
    for unit in world.fleet():
        by_type.setdefault(unit.type, []).append(unit)
    assert set(by_type) == set(world.DECODERS)
    for units in by_type.values():
        for unit in rng.sample(units, min(3, len(units))):
            times = sending_times(story, unit, end - 3 * DAY_US, end)
            times = np.sort(np.array(rng.sample(times.tolist(), min(12, len(times))), np.int64))
            real = payloads(story, unit, plan_of(unit.type), times)
            yield from ((unit.name, payload) for payload in real[:4])
            yield from ((unit.name, mutated(rng.choice(real), rng, real)) for _ in range(MESSAGES))
    for name in PACKS:
        yield from ((name, pack(rng)) for _ in range(MESSAGES))


def properties(rng: random.Random) -> bytes:
    """Properties of a PUBLISH (MQTT 5.0, 3.3.2.3); rarely some that are none."""
    pairs = [(word(rng), word(rng) * rng.choice((1, 1, 50))) for _ in range(rng.choice((0, 0, 1, 3, 20)))]
    with_mark = [("oculum-mark", rng.choice(["0" * 16 + "-1-1", "f" * 16 + "-9-9", "x"]))] if rng.random() < 0.1 else []
    told = [("unit", "3"), ("start", rng.choice(["100", "-1", "9" * 30, "²"]))] if rng.random() < 0.3 else []
    sound = [(n, v) for n, v in (*told, *pairs, *with_mark) if "\0" not in n + v and "\ud800" not in n + v]
    made = wire.user_properties(sound)
    for extra in (
        b"\x01\x01",
        b"\x02\x00\x01\x00\x00",
        b"\x03" + wire.text("text/plain"),
        b"\x09" + wire.text(rng.randbytes(9)),
    ):
        if rng.random() < 0.2:
            made += extra
    return made[:60_000] if len(made) < 60_000 else b""


class Fuzz:
    """What was sent, and what must have become of it."""

    def __init__(self, running: Running, rng: random.Random, keys: dict[str, str]) -> None:
        self.running, self.rng, self.keys = running, rng, keys
        self.port = running.instance.broker_port
        self.gateway = {unit.name: unit.gateway for unit in world.fleet()}
        self.must: dict[bytes, str] = {}  # acknowledged: the sender's name
        self.must_not: set[bytes] = set()  # sent to where the sender has nothing to say, or refused in words
        self.seen: set[bytes] = set()
        self.closed = 0

    def fresh(self, payload: bytes) -> bool:
        """Every payload once, so that it is known again by itself."""
        new = payload not in self.seen
        self.seen.add(payload)
        return new

    def connect(self, name: str, will: tuple[str, bytes] | None = None) -> Wire:
        client_id = self.rng.choice([name, "", "oculum-intake", "oculum", word(self.rng), "x" * 60_000])
        try:
            return Wire(self.port, wire.connecting(name, self.keys[name], client_id, will))
        except Closed:  # an id that is no text (MQTT 5.0, 1.5.4) is the broker's to refuse
            return Wire(self.port, wire.connecting(name, self.keys[name], name, will))

    def topic(self, name: str) -> tuple[str, bool]:
        """Where to, and whether the sender may."""
        rng = self.rng
        through = self.gateway.get(name)
        own = f"up/{through}/for/{name}" if through else f"up/{name}"
        chance = rng.random()
        if chance < 0.6:
            return own, True
        tail = word(rng).replace("\0", "").replace("\ud800", "").replace("#", "").replace("+", "")
        if chance < 0.85:
            return own + "/" + rng.choice([tail, tail, "for", "for/x", "/" * 60, "y" * 5000]), True
        others = [f"up/{name}x", "up", "up/buoy-01" if name != "buoy-01" else "up/buoy-02", "oculum/taken", "down/x"]
        return rng.choice([*others, "oculum/refused", f"UP/{name}", "x" * 3000]), False

    def by_broker(self, messages: list[tuple[str, bytes]]) -> None:
        wires: dict[str, Wire] = {}
        for name, payload in messages:
            if not self.fresh(payload):
                continue
            topic, own = self.topic(name)
            speaker = self.gateway.get(name) or name
            if not own:
                self.must_not.add(payload)
            try:
                if speaker not in wires:
                    wires[speaker] = self.connect(speaker)
                told = self.rng.randbytes(8) if self.rng.random() < 0.02 else properties(self.rng)
                if wires[speaker].publish(topic, payload, self.rng.choice((0, 1, 1, 1, 1, 2)), told) and own:
                    self.must[payload] = name
            except Closed:
                self.closed += 1
                wires.pop(speaker).__exit__()
        for connection in wires.values():
            connection.__exit__()

    def by_http(self, messages: list[tuple[str, bytes]]) -> None:
        with httpx.Client(base_url=self.running.instance.address, timeout=30) as client:
            for name, payload in messages:
                speaker = self.gateway.get(name) or name
                if not self.fresh(payload):
                    continue
                whom = name if self.rng.random() < 0.7 else word(self.rng).encode("utf-8", "replace").decode()
                headers: list[tuple[bytes, bytes]] = [(b"authorization", f"Bearer {self.keys[speaker]}".encode())]
                if self.rng.random() < 0.3:
                    raw = word(self.rng).encode("utf-8", "replace").replace(b"\n", b"").replace(b"\r", b"")
                    headers.append(
                        (b"oculum-" + self.rng.choice([b"unit", b"topic", b"a" * 90]), raw.replace(b"\0", b"").strip())
                    )
                answer = client.post("/in/", params={"for": whom}, content=payload, headers=headers)
                assert answer.status_code < 500, (answer.text, headers)
                if answer.status_code == 202:
                    self.must[payload] = name
                else:
                    assert answer.headers["content-type"] == "application/problem+json" and answer.json()["detail"]
                    self.must_not.add(payload)

    def wills(self, names: list[str]) -> None:
        """Senders that die, with last words for topics of their own and of others."""
        for n, name in enumerate(names):
            foreign, own = b"a foreign will %d" % n, b"a will %d" % n
            self.must_not.add(foreign)
            self.connect(name, ("up/buoy-01", foreign)).__exit__()
            self.connect(name, (f"up/{name}", own)).__exit__()

    def noise(self, count: int) -> None:
        """Bytes that are no MQTT, and packets of it that are broken, before and after signing in."""
        rng = self.rng
        name = PACKS[0]
        sound = [
            wire.connecting(name, self.keys[name], name, ("up/" + name, b"will")),
            wire.publishing(f"up/{name}", b"noise", 1, properties(rng)),
            wire.packet(0x82, b"\0\1\0", wire.text("up/#"), b"\1"),
            wire.packet(0x62, b"\0\1"),
            wire.packet(0xF0, b"\0\0"),
        ]
        for n in range(count):
            with (
                socket.create_connection(("127.0.0.1", self.port), timeout=10) as connection,
                contextlib.suppress(OSError),
            ):
                if n % 2:
                    connection.sendall(sound[0])
                for _ in range(5):
                    nearly = mutated(rng.choice(sound), rng, sound)
                    connection.sendall(nearly if rng.random() < 0.8 else rng.randbytes(50))
                connection.shutdown(socket.SHUT_WR)
                while connection.recv(4096):
                    pass


@pytest.fixture
def keys(running: Running) -> dict[str, str]:
    """The demo's fleet, decoders and conditions, and devices of a type that has no decoder."""
    from django.db import transaction

    with transaction.atomic():
        load_records()
        for name in PACKS:
            kind = DeviceType.objects.create(key=name.replace("-", "_"), title=name, cadence_s=60)
            Device.objects.create(name=name, title=name, type=kind)
        mine = {name: give_key(Device.objects.get(name=name)) for name in PACKS}
        registry_changed(accounts=True)
    assert wait_for_broker(20)
    return {**(running.instance.private("demo-keys.json") or {}), **mine}


def lines(running: Running, part: str) -> list[str]:
    found = running.folder / "log" / f"{part}.log"
    return found.read_text(errors="replace").splitlines() if found.exists() else []


def test_whatever_a_device_sends_nothing_ends_and_nothing_is_lost(running: Running, keys: dict[str, str]) -> None:
    rng = random.Random(RANDOM_SEED)
    before = {part: running.pid(part) for part in PARTS}
    logged = {part: len(lines(running, part)) for part in PARTS}
    ((first,),) = running.ask("select coalesce(max(id), 0) from message")
    fuzz = Fuzz(running, rng, keys)
    messages = list(payloads_of(rng))
    rng.shuffle(messages)
    cut = len(messages) * 2 // 3
    fuzz.by_broker(messages[:cut])
    fuzz.by_http(messages[cut:])
    fuzz.wills(PACKS)
    fuzz.noise(120)
    assert len(fuzz.must) > len(messages) // 2, "most of what was sent is taken"
    # One last message of each, behind which nothing of the others waits.
    last = {name: b"last of " + name.encode() for name in PACKS}
    for name, payload in last.items():
        with Wire(fuzz.port, wire.connecting(name, keys[name], name)) as connection:
            assert connection.publish(f"up/{name}", payload)

    def stored() -> Counter[bytes] | None:
        rows = running.ask("select payload from message where id > %s", first)
        found = Counter(bytes(row[0]) for row in rows)
        return found if all(found[payload] for payload in (*fuzz.must, *last.values())) else None

    found = until(stored, "all that was acknowledged to be stored", 60)
    assert [p for p in fuzz.must if found[p] != 1] == [], "once each"
    assert [p for p in fuzz.must_not if found[p]] == [], "nothing that was refused"
    until(lambda: running.wait_whole().stream.waiting == 0, "the engine to have worked all of it off", 120)
    # Each is counted by the engine once, and what a gateway tells of a buoy for the buoy as well.
    unequal = running.ask(
        "select d.name, l.messages, a.messages, m.messages from fleet_device d"
        " cross join lateral (select count(*) as messages from message where device_id = d.id and id > %s) m"
        " left join latest l on l.device_id = d.id"
        " left join lateral (select sum(messages) as messages from activity where device_id = d.id) a on true"
        " where m.messages > 0 and (l.messages is distinct from a.messages or l.messages < m.messages"
        " or (d.gateway_id is null and l.messages <> m.messages))",
        first,
    )
    assert unequal == []
    assert running.ask("select reason from refused where code = 'failed' and message_id > %s", first) == []
    assert {part: running.pid(part) for part in PARTS} == before, "nothing has ended"
    for part in ("keeper", "web", "intake", "engine"):
        traces = [line for line in lines(running, part)[logged[part] :] if "Traceback" in line or "ERROR" in line]
        assert not traces, "\n".join([part, *lines(running, part)[logged[part] :][-60:]])
