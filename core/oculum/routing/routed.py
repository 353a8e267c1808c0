"""Routes in force, and what they have done with a batch."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
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
class Piece:
    """What a line of each route of a bundle has done. base: the place of the first one's in the lines that are counted;
    what: SEEN, TOOK or FAILED; readings: int64 (m,), rising; member: int64, by reading, which of the routes took it.
    """

    base: int
    what: int
    readings: Ints
    member: Ints


@dataclass(frozen=True)
class Counted:
    """What lines have done to the readings of a device type. row, device: int64 (n,), the message of each reading (in
    the batch) and its device.
    """

    lines: list[tuple[int, int, int]]  # definition, version, line
    pieces: list[Piece]
    row: Ints
    device: Ints

    def each(self, definition: int | None = None) -> Iterator[tuple[tuple[int, int, int], int, Ints]]:
        """Line (of one definition, or of all), what it has done, and to which readings."""
        places = np.array([k for k, line in enumerate(self.lines) if definition in (None, line[0])], np.int64)
        for piece in self.pieces:
            member = piece.member[piece.readings]
            for k in np.intersect1d(places - piece.base, member).tolist():
                yield self.lines[piece.base + k], piece.what, piece.readings[member == k]


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
