"""The one entrance to decoding."""

from __future__ import annotations

from ..batches import Decoded, Payloads, Trace
from ..language.plan import DecoderPlan
from .binary import decode_bytes
from .documents import decode_json


def decode(plan: DecoderPlan, payloads: Payloads, trace: Trace | None = None) -> Decoded:
    """A batch of messages through a checked decoder; a single message is a batch of one."""
    if plan.source == "bytes":
        return decode_bytes(plan, payloads, trace)
    return decode_json(plan, payloads, trace)
