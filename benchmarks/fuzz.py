"""Random and mutated payloads and definitions: counts what was tried, and everything that broke or took too long."""

from __future__ import annotations

import json
import random
import sys
import time
import traceback
from pathlib import Path
from typing import Any

import numpy as np

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.definitions import format_definition
from oculum.language.problems import DefinitionError

ROOT = Path(__file__).resolve().parent.parent
SHEETS = ROOT / "examples" / "sheets"
LIMIT_S = 0.1


def vectors(name: str) -> list[tuple[bytes, dict[str, str]]]:
    path = ROOT / "tests" / "data" / "sheets" / f"{name}.jsonl"
    found = []
    for line in path.read_text().splitlines() if path.exists() else []:
        case = json.loads(line)
        raw = bytes.fromhex(case["payload_hex"]) if "payload_hex" in case else case["payload_text"].encode()
        found.append((raw, case.get("headers", {})))
    return found


def mutated(raw: bytes, rng: random.Random, others: list[bytes]) -> bytes:
    """A payload with some of its bytes changed, cut, doubled, or joined with another's."""
    data = bytearray(raw)
    for _ in range(rng.choice((1, 1, 2, 3, 8))):
        at = rng.randrange(len(data) + 1)
        match rng.randrange(7):
            case 0 if data:
                data[at % len(data)] ^= 1 << rng.randrange(8)
            case 1:
                del data[at : at + rng.randrange(1, 9)]
            case 2:
                data[at:at] = rng.randbytes(rng.randrange(1, 9))
            case 3:
                data[at:at] = data[: rng.randrange(1, 64)]
            case 4 if data:
                data[at % len(data)] = rng.choice((0, 0x7F, 0x80, 0xFF))
            case 5:
                data = data[:at] + rng.choice(others)[at:]
            case _:
                data = data * rng.choice((1, 1, 2, 40)) if len(data) < 2000 else data[: rng.randrange(len(data))]
    return bytes(data[:65_536])


WORDS = [
    "u8",
    "i16",
    "f32",
    "varint",
    "next",
    "same bits 3 to 0",
    "byte -1",
    "repeat to end",
    "when true",
    "{",
    "}",
    "(",
    ")",
    '"',
    "`x`",
    "0xFFFF",
    "1e30",
    "-1",
    "to",
    "bits",
    "rest",
    "\n",
    "  ",
    "#",
    "é",
    "\x00",
]


def rewritten(text: str, rng: random.Random) -> str:
    """A definition with some of its words or lines changed, taken out, doubled or moved."""
    lines = text.split("\n")
    for _ in range(rng.choice((1, 1, 2, 4))):
        at = rng.randrange(len(lines))
        match rng.randrange(5):
            case 0:
                del lines[at]
            case 1:
                lines.insert(rng.randrange(len(lines) + 1), lines[at])
            case 2:
                words = lines[at].split(" ")
                words[rng.randrange(len(words))] = rng.choice(WORDS)
                lines[at] = " ".join(words)
            case 3:
                words = lines[at].split(" ")
                del words[rng.randrange(len(words))]
                lines[at] = " ".join(words)
            case _:
                lines[at] = lines[at].replace(str(rng.randrange(10)), str(rng.choice((0, 1, 255, 65_536, 10**20))), 1)
        lines = lines or [""]
    return "\n".join(lines)


class Tally:
    def __init__(self) -> None:
        self.payloads = self.refused = self.definitions = self.sound = 0
        self.crashes: list[str] = []
        self.hangs: list[str] = []
        self.slowest = 0.0

    def payload(self, plan: DecoderPlan, raw: bytes, headers: dict[str, str]) -> None:
        self.payloads += 1
        batch = Payloads.of([raw], [1_772_442_600_000_000], [headers])
        for turn in range(3):
            began = time.perf_counter()
            try:
                decoded = decode(plan, batch)
                answer(decoded, 0)
                self.refused += int(turn == 0 and decoded.failure[0] >= 0)
            except Exception:
                self.crashes.append(f"{plan.name} {raw[:200].hex()}\n{traceback.format_exc(limit=-2)}")
                return
            taken = time.perf_counter() - began
            if taken <= LIMIT_S:
                self.slowest = max(self.slowest, taken)
                return
        self.hangs.append(f"{plan.name} {len(raw)} bytes {raw[:100].hex()}: {taken * 1000:.0f} ms")

    def definition(self, text: str) -> DecoderPlan | None:
        self.definitions += 1
        try:
            plan, problems = check_decoder(text, others=plan_of)
            assert plan is not None or problems, "refused without a word"
            if plan is not None:
                self.sound += 1
                laid = format_definition(text)
                assert format_definition(laid) == laid, "the layout is not stable"
            return plan
        except DefinitionError:
            return None
        except Exception:
            self.crashes.append(f"{text}\n{traceback.format_exc(limit=-3)}")
            return None


PLANS: dict[str, DecoderPlan | None] = {}


def plan_of(name: str) -> DecoderPlan | None:
    if name not in PLANS:
        path = SHEETS / f"{name}.ocu"
        PLANS[name] = check_decoder(path.read_text(), others=plan_of)[0] if path.exists() else None
    return PLANS[name]


def measure(seconds: float, seed: int | None = None) -> dict[str, Any]:
    seed = int(time.time()) if seed is None else seed
    rng = random.Random(seed)
    np.random.default_rng(seed)
    names = sorted(path.stem for path in SHEETS.glob("*.ocu"))
    texts = {name: (SHEETS / f"{name}.ocu").read_text() for name in names}
    known = {name: vectors(name) for name in names}
    every = [raw for own in known.values() for raw, _ in own]
    tally = Tally()
    until = time.perf_counter() + seconds
    print(f"seed {seed}", file=sys.stderr)
    while time.perf_counter() < until:
        name = rng.choice(names)
        plan = plan_of(name)
        assert plan is not None
        for _ in range(40):
            raw, headers = rng.choice(known[name])
            tally.payload(
                plan,
                mutated(raw, rng, every)
                if rng.random() < 0.85
                else rng.randbytes(rng.choice((0, 1, 2, 7, 30, 300, 5000))),
                headers,
            )
        for _ in range(4):
            changed = tally.definition(rewritten(texts[name], rng))
            if changed is not None:
                for _ in range(3):
                    raw, headers = rng.choice(known[name])
                    tally.payload(changed, raw if rng.random() < 0.5 else mutated(raw, rng, every), headers)
    for line in (*tally.crashes[:5], *tally.hangs[:5]):
        print(line, file=sys.stderr)
    return {
        "figures": {
            "payloads": tally.payloads,
            "payloads_refused": tally.refused,
            "definitions": tally.definitions,
            "definitions_sound": tally.sound,
            "crashes": len(tally.crashes),
            "hangs": len(tally.hangs),
            "slowest_message_ms": tally.slowest * 1000,
            "seed": seed,
        },
        "ratios": {},
    }
