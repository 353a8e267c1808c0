"""Cases of a decoder: messages with what must come out of them, run with every draft."""

from __future__ import annotations

from typing import Any

import numpy as np

from oculum.answers import answer, differences
from oculum.batches import Payloads
from oculum.language.decoders.plan import DecoderPlan
from oculum.pipeline import guarded
from server.records.definitions.models import Case, Definition

MOST = 500


def run(plan: DecoderPlan, cases: list[Case]) -> list[dict[str, Any]]:
    """Each case with what it has otherwise than expected; all of them in one batch."""
    payloads: list[bytes] = []
    received: list[int] = []
    headers: list[dict[str, str]] = []
    constants: list[dict[str, Any]] = []
    before: list[int] = []
    rows: list[int] = []
    for case in cases:
        for raw in [bytes(case.previous), bytes(case.payload)] if case.previous is not None else [bytes(case.payload)]:
            before.append(-1)
            payloads.append(raw)
            received.append(round(case.received_at.timestamp() * 1e6))
            headers.append({str(k): str(v) for k, v in case.headers.items()})
            constants.append(case.constants)
        if case.previous is not None:
            before[-1] = len(payloads) - 2
        rows.append(len(payloads) - 1)
    if not payloads:
        return []
    batch = Payloads.of(payloads, received, headers, constants, np.array(before, np.int64))
    decoded = guarded(plan, batch, None, 0)
    found = []
    for case, row in zip(cases, rows, strict=True):
        gives = answer(decoded, row)
        told = differences(gives, case.expect)
        if isinstance(gives.get("error"), dict):
            gives = {"error": gives["error"]["code"]}
        found.append({"id": case.pk, "name": case.name, "passed": not told, "differences": told[:20], "gives": gives})
    return found


def failing(definition: Definition, plan: DecoderPlan) -> list[str]:
    """Names of the cases that a plan does not pass."""
    return [r["name"] for r in run(plan, list(definition.cases.order_by("name")[:MOST])) if not r["passed"]]
