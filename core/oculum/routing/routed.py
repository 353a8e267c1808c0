"""Routes in force, and what they have done with a batch."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..arrays import Ints
from ..language.routes.plan import RoutePlan

SEEN, TOOK, FAILED = 0, 1, 2
Headers = Callable[[int], Mapping[str, str]]  # what the transport says beside a message, by its row


@dataclass(frozen=True)
class InForce:
    """A route in force. key: its definition; types: the numbers of the device types, in the order of the plan."""

    key: int
    version: int
    types: tuple[int, ...]
    plan: RoutePlan


@dataclass(frozen=True)
class Counted:
    """What lines have done to which readings. line: int64 (m,), places in `lines`; what: int8 (m,), SEEN, TOOK or
    FAILED; row: the message in the batch; device: int64 (m,).
    """

    lines: tuple[tuple[int, int, int], ...]  # definition, version, line
    line: Ints
    what: np.ndarray
    row: Ints
    device: Ints


@dataclass(frozen=True)
class Sent:
    """One reading to an outlet: field to value and unit, as it stood at the line."""

    outlet: str
    key: int
    version: int
    line: int
    device: int
    row: int
    at: int
    values: dict[str, Any]
    marks: dict[str, str]


@dataclass
class Routed:
    """What routes have done with a batch. steps: what each line did to which reading, where that was asked for."""

    counted: list[Counted] = field(default_factory=list)
    sent: list[Sent] = field(default_factory=list)
    steps: list[dict[str, Any]] = field(default_factory=list)
