"""Routes: readings a second with none, one, a hundred and a thousand of them published, on one core.

Ten thousand devices of five types, twenty groups of each by a label, eight values a message. A thousand routes are
two hundred a type, on one group each: ten apply to each reading. Each reading is decoded, goes through the routes, is
put in order and made into a row of the store; what the database itself takes is left out, so that it hides nothing.
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from oculum.batches import Payloads
from oculum.history.fleet import Fleet
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.kinds import Surroundings
from oculum.language.routes import check_route
from oculum.pipeline import Lot, process
from oculum.register.world import Device, World
from oculum.routing import compiled
from oculum.routing.routed import TOOK, InForce
from oculum.routing.router import Router

from .instance import say

DEVICES, TYPES, GROUPS, FIELDS = 10_000, 5, 20, 8
LISTED = (0, 1, 100, 1000)
# What routes do, in turn: clean, correct, derive, thin out, look back.
LINES = (
    '  when v0 > {n} V\n    drop "too high" v0\n',
    "  correct v1 = v1 * 1.01 + 0.{n} V\n",
    "  when v2 > 3 V\n    correct v2 = clamp(v2, 0 V, {n} V)\n",
    "  derive sum_{k} = v3 + v4 + {n} V\n",
    "  thin v5 by 2 % every 1 h\n",
    '  when total(v6, 30 min) > {n} V\n    mark busy "yes"\n',
    '  when label(group) = "g3" and v7 < {n} V\n    correct v7 = 0 V\n',
    '  when v0 < 1 V or v1 < 1 V\n    mark low "yes"\n  otherwise\n    mark low "no"\n',
    '  when v3 is missing\n    drop "nothing without it" v4\n',
    "  thin v4 by 0.1 V\n",
)


def decoder() -> DecoderPlan:
    rows = "".join(f"  byte {2 * k}  v{k}  u16 / 1000  V\n" for k in range(FIELDS))
    plan, problems = check_decoder(f"decoder t for bytes, big endian\n{rows}", {})
    assert plan is not None, problems
    return plan


def routes(count: int, around: Surroundings) -> list[InForce]:
    found = []
    for k in range(count):
        type_, group = k % TYPES, (k // TYPES) % GROUPS
        line = LINES[(k // (TYPES * GROUPS)) % len(LINES)].format(n=5 + k % 7, k=k % 10)
        text = f'route "r{k}"\n  on t{type_} with label group = "g{group}"\n{line}'
        plan, problems = check_route(text, around)
        assert plan is not None, problems
        found.append(InForce(k + 1, k + 1, (type_ + 1,), plan))
    return found


class Stream:
    """Batches in which every device has one message, ten minutes apart."""

    def __init__(self) -> None:
        self.plan = decoder()
        fields = {spec.name: spec for spec in self.plan.all_fields}
        self.around = Surroundings({f"t{n}": fields for n in range(TYPES)})
        self.world = World(
            {
                d: Device(d, f"d{d}", d % TYPES + 1, None, {"group": f"g{d // TYPES % GROUPS}"}, None, 600_000_000)
                for d in range(1, DEVICES + 1)
            }
        )
        self.device = np.arange(1, DEVICES + 1, dtype=np.int64)
        self.types = self.device % TYPES + 1
        self.rng = np.random.default_rng(14)
        self.begin = 1_700_000_000_000_000

    def lots(self, turn: int) -> tuple[list[Lot], np.ndarray]:
        at = self.begin + turn * 600_000_000 + np.arange(DEVICES) * 50_000
        values = self.rng.integers(0, 9_000, (DEVICES, FIELDS)).astype(">u2")
        found = []
        for type_ in range(1, TYPES + 1):
            index = np.flatnonzero(self.types == type_)
            body = [row.tobytes() for row in values[index]]
            found.append(Lot(self.plan, Payloads.of(body, at[index]), index))
        return found, at


class Measured:
    """So many routes, and what they have been through."""

    def __init__(self, stream: Stream, count: int) -> None:
        self.stream, self.count = stream, count
        self.router = Router(stream.world)
        self.router.set(routes(count, stream.around))
        self.newest = Fleet()
        self.turn, self.done, self.took, self.spent = 0, 0, 0, 0.0

    def step(self) -> None:
        """A batch: every device once."""
        from server.store.rows import build_rows

        stream = self.stream
        lots, at = stream.lots(self.turn)
        ids = np.arange(self.turn * DEVICES, (self.turn + 1) * DEVICES, dtype=np.int64)
        router = self.router if self.count else None
        began = time.perf_counter()
        effects = process(lots, stream.device, at, ids, self.newest, lambda d: d % TYPES + 1, None, 0, 0, None, router)
        effects.settle(self.newest)
        for lot, decoded in zip(lots, effects.decoded, strict=True):
            for group in decoded.groups:
                build_rows(group, decoded.reasons, 1, 1, stream.device[lot.index], ids[lot.index], at[lot.index])
        if self.turn:  # the first batch finds everything cold
            self.spent += time.perf_counter() - began
            self.done += DEVICES * FIELDS
            self.took += sum(len(p.readings) for one in effects.routed.counted for p in one.pieces if p.what == TOOK)
        self.turn += 1


def measure(seconds: float) -> dict[str, Any]:
    """All in turn, a batch each, so that what slows the machine down slows all of them."""
    compiled.ready()
    stream = Stream()
    measured = [Measured(stream, count) for count in LISTED]
    while min(one.spent for one in measured) < seconds:
        for one in measured:
            one.step()
    figures: dict[str, float] = {}
    for one in measured:
        figures[f"readings_per_s_{one.count}"] = round(one.done / one.spent)
        say(
            f"{one.count:5} routes: {one.done / one.spent:12,.0f} readings a second;"
            f" {one.took / one.done * FIELDS:.1f} lines take each message"
        )
    ratios = {"with_1000_to_none": round(figures["readings_per_s_1000"] / figures["readings_per_s_0"], 3)}
    ratios["with_100_to_none"] = round(figures["readings_per_s_100"] / figures["readings_per_s_0"], 3)
    return {"figures": figures, "ratios": ratios}
