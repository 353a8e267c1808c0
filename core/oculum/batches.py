"""What flows through the core: payloads in, columns of readings out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .arrays import Bytes, Ints, Shorts, Truths, Values
from .language.fields import FieldSpec
from .text import harmless

LONGEST_SENTENCE = 300
ABSENT, PRESENT, FIRST_REASON = 0, 1, 2
PAD = 16


@dataclass(frozen=True)
class Payloads:
    """Messages of one batch: row i is data[starts[i]:ends[i]], received at received_us[i] (UTC, µs).

    data: uint8, with 16 spare bytes at its end; starts, ends, received_us: int64 (n,). headers: what the
    transport knows beside each message (`topic` among it); constants: those of each message's device.
    before: int64 (n,), the row of the message before of the same device, or -1.
    """

    data: Bytes
    starts: Ints
    ends: Ints
    received_us: Ints
    headers: Sequence[Mapping[str, str]] | None = None
    constants: Sequence[Mapping[str, Any]] | None = None
    before: Ints | None = None

    def __len__(self) -> int:
        return len(self.starts)

    @classmethod
    def of(
        cls,
        payloads: Sequence[bytes],
        received_us: Iterable[int] | np.ndarray,
        headers: Sequence[Mapping[str, str]] | None = None,
        constants: Sequence[Mapping[str, Any]] | None = None,
        before: Ints | None = None,
    ) -> Payloads:
        """One flat buffer of the payloads, in their order."""
        lengths = np.fromiter((len(p) for p in payloads), np.int64, len(payloads))
        ends = np.cumsum(lengths)
        data = np.frombuffer(b"".join(payloads) + bytes(PAD), np.uint8)
        received = (
            received_us if isinstance(received_us, np.ndarray) else np.fromiter(received_us, np.int64, len(payloads))
        )
        return cls(data, ends - lengths, ends, received, headers, constants, before)

    def taken(self, rows: Ints) -> Payloads:
        """Some of the messages, in their order. rows: int64 (k,), rising; whose message before is left out has none."""
        chosen = rows.tolist()
        before = None
        if self.before is not None:
            place = np.full(len(self) + 1, -1, np.int64)
            place[rows] = np.arange(len(rows))
            before = place[self.before[rows]]
        return Payloads(
            self.data,
            self.starts[rows],
            self.ends[rows],
            self.received_us[rows],
            [self.headers[i] for i in chosen] if self.headers is not None else None,
            [self.constants[i] for i in chosen] if self.constants is not None else None,
            before,
        )

    def row(self, index: int) -> bytes:
        return self.data[self.starts[index] : self.ends[index]].tobytes()


@dataclass
class Column:
    """Values of one field with a state each: 0 absent, 1 a value, 2 and up missing for reasons[state - 2].

    values: float64 (n,) for numbers, flags and codes; int64 µs for times; int64 or uint64 for integers
    of more than 53 bits; float64 (n, 2) for positions; object (n,) for texts. state: int16 (n,).
    """

    values: Values
    state: Shorts

    def taken(self, rows: Ints) -> Column:
        return Column(self.values[rows], self.state[rows])


@dataclass(frozen=True)
class Failure:
    """Why a message was refused: a code, a sentence, the line of the decoder.

    A sentence may hold what a sender gave: it is harmless, and at most 300 characters long.
    """

    code: str
    message: str
    line: int

    def __post_init__(self) -> None:
        object.__setattr__(self, "message", harmless(self.message, LONGEST_SENTENCE)[:LONGEST_SENTENCE])


@dataclass
class Group:
    """Readings that share rows and times: those of the message itself, or of one repeat.

    rows: int64 (m,) into the batch; at: int64 (m,) measured times in µs. device: object (m,), the name of
    the device where the message tells one, None where it is the sender; None for the sender throughout.
    """

    fields: tuple[FieldSpec, ...]
    rows: Ints
    at: Ints
    columns: dict[str, Column]
    device: Ints | None = None
    owner: Ints | None = None  # int64 (m,): the device that each reading belongs to, where it is not the sender

    def chosen(self, keep: Ints) -> Group:
        """Some of the readings. keep: int64 (k,), places in the rows."""
        return Group(
            self.fields,
            self.rows[keep],
            self.at[keep],
            {name: column.taken(keep) for name, column in self.columns.items()},
            self.device[keep] if self.device is not None else None,
            self.owner[keep] if self.owner is not None else None,
        )


@dataclass(frozen=True)
class Part:
    """A part of a good message that was refused by itself: row of the batch, its name, its device, why."""

    row: int
    name: str
    device: str | None
    failure: Failure


@dataclass
class Decoded:
    """A decoded batch. failure: int32 (n,), an index into `failures` or -1; byte: where it was found."""

    groups: list[Group]
    failures: list[Failure]
    failure: Shorts
    byte: Shorts
    reasons: list[str]
    unread: Ints  # bytes after the last one read, 0 where none
    parts: list[Part] = field(default_factory=list)

    @property
    def good(self) -> Truths:
        return self.failure < 0


@dataclass
class Trace:
    """For the message in one row: which bits, or which place in a document, each value came from; which lines it took.

    looked: bits that an expression reads, by line; checked: lines that compute a check.
    """

    row: int = 0
    marks: list[dict[str, Any]] = field(default_factory=list)
    lines: set[int] = field(default_factory=set)
    looked: list[dict[str, Any]] = field(default_factory=list)
    checked: set[int] = field(default_factory=set)
