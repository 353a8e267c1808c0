"""One batch: decoded, taken through its routes, put in order, held against its conditions.

The same call runs live, in trials and when history is decoded again; what it is given as state and
what is done with its result make the difference.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from .alarms.room import Room
from .alarms.watched import Transition
from .batches import FIRST_REASON, Column, Decoded, Failure, Group, Part, Payloads, Trace
from .decoding.decode import decode
from .history.events import Events, Newest, build_events, newest_after
from .history.fleet import Fleet
from .language.decoders.plan import DecoderPlan
from .routing.routed import Headers, Routed
from .routing.router import Router
from .routing.table import Types

FUTURE_US = 5 * 60 * 1_000_000


@dataclass
class Effects:
    """What a batch does: columns of each lot, readings in their order, what happened to alarms."""

    decoded: list[Decoded] = field(default_factory=list)
    events: list[Events] = field(default_factory=list)
    transitions: list[Transition] = field(default_factory=list)
    routed: Routed = field(default_factory=Routed)

    @property
    def newest(self) -> dict[tuple[int, str], tuple[Newest, int]]:
        """What is newest after the batch, where that has changed: value, and the message's row."""
        return {key: value for events in self.events for key, value in newest_after(events).items()}

    def settle(self, newest: Fleet) -> None:
        """Takes the newest values on."""
        for events in self.events:
            newest.take(events)


def without_headers(row: int) -> Mapping[str, str]:
    return {}


Owners = Callable[[int, str], int | None]  # sender, name of a device: its number, where the sender may speak for it


def without_context(decoded: Decoded, context: int) -> Decoded:
    """A batch without its first messages, which were there only as the ones before."""
    if context == 0:
        return decoded
    groups = []
    for group in decoded.groups:
        kept = group.chosen(np.flatnonzero(group.rows >= context))
        groups.append(replace(kept, rows=kept.rows - context))
    parts = [replace(part, row=part.row - context) for part in decoded.parts if part.row >= context]
    return Decoded(
        groups,
        decoded.failures,
        decoded.failure[context:],
        decoded.byte[context:],
        decoded.reasons,
        decoded.unread[context:],
        parts,
    )


def owned(decoded: Decoded, sender: np.ndarray, owners: Owners) -> None:
    """Gives readings to the devices that the messages name; those of a device that the sender may not speak for are
    refused as a part.

    sender: int64 (n,), the device of each message. Sets `owner` of the groups.
    """
    known: dict[tuple[int, str], int | None] = {}
    told: set[tuple[int, str]] = set()
    for place, group in enumerate(decoded.groups):
        if group.device is None:
            continue
        own = sender[group.rows]
        keep = np.ones(len(own), bool)
        for i, name in enumerate(group.device.tolist()):
            if name is None:
                continue
            key = (int(own[i]), name)
            if key not in known:
                known[key] = owners(*key)
            found = known[key]
            if found is not None:
                own[i] = found
                continue
            keep[i] = False
            row = int(group.rows[i])
            if (row, name) not in told:
                told.add((row, name))
                decoded.parts.append(
                    Part(
                        row,
                        "device",
                        name,
                        Failure(
                            "not assigned",
                            f"the sender may not speak for `{name[:60]}`: no such device is assigned to it",
                            0,
                        ),
                    )
                )
        decoded.groups[place] = replace(group, owner=own).chosen(np.flatnonzero(keep))


def guarded(plan: DecoderPlan, payloads: Payloads, trace: Trace | None, context: int) -> Decoded:
    """A decoded batch without its context. A message at which decoding itself fails is refused, its neighbours are not.

    No message is known that makes it fail; one that does must not stand in the way of the others.
    """
    try:
        return without_context(decode(plan, payloads, trace), context)
    except Exception as error:
        if len(payloads) == 1:
            return _undone(error)
    rows = np.arange(context, len(payloads), dtype=np.int64)
    if len(rows) == 1:
        # What fails may be a message before it: it is read with its own alone, and then as one without any.
        before = payloads.before[rows] if payloads.before is not None else rows[:0]
        own = before[before >= 0] if context > 1 else rows[:0]
        return guarded(plan, payloads.taken(np.concatenate([own, rows])), None, len(own))
    halves = []
    for part in (rows[: len(rows) // 2], rows[len(rows) // 2 :]):
        before = payloads.before[part] if payloads.before is not None else np.zeros(0, np.int64)
        extra = np.setdiff1d(before[before >= 0], part)
        halves.append(guarded(plan, payloads.taken(np.concatenate([extra, part])), None, len(extra)))
    return _joined(*halves)


def _undone(error: Exception) -> Decoded:
    failure = Failure("failed", f"the decoder itself failed at this message: {type(error).__name__}: {error}", 0)
    place = np.zeros(1, np.int32)
    return Decoded([], [failure], place, place - 1, [], np.zeros(1, np.int64))


def _joined(first: Decoded, second: Decoded) -> Decoded:
    """Two decoded batches as one, the second behind the first."""
    count, failures, reasons = len(first.failure), len(first.failures), len(first.reasons)
    groups = list(first.groups)
    for group in second.groups:
        columns = {
            name: Column(c.values, np.where(c.state >= FIRST_REASON, c.state + reasons, c.state).astype(np.int16))
            for name, c in group.columns.items()
        }
        groups.append(replace(group, rows=group.rows + count, columns=columns))
    return Decoded(
        groups,
        first.failures + second.failures,
        np.concatenate([first.failure, np.where(second.failure >= 0, second.failure + failures, -1)]).astype(np.int32),
        np.concatenate([first.byte, second.byte]),
        first.reasons + second.reasons,
        np.concatenate([first.unread, second.unread]),
        first.parts + [replace(part, row=part.row + count) for part in second.parts],
    )


def decode_batch(
    plan: DecoderPlan, payloads: Payloads, oldest_us: int, trace: Trace | None = None, context: int = 0
) -> Decoded:
    """Decoded messages; one whose times lie too far before or after its arrival is refused.

    oldest_us: measured times before this moment are older than what is kept. The first `context` messages
    are there only as the ones before, and are not in the result.
    """
    decoded = guarded(plan, payloads, trace, context)
    received = payloads.received_us[context:]
    groups: list[Group] = []
    bad = np.zeros(len(received), bool)
    for group in decoded.groups:
        ahead = group.at > received[group.rows] + FUTURE_US
        behind = group.at < oldest_us
        for mask, text in (
            (ahead, "measured more than 5 min after it arrived"),
            (behind & ~ahead, "measured before the time that is kept"),
        ):
            rows = np.unique(group.rows[mask])
            rows = rows[decoded.failure[rows] < 0]
            if len(rows):
                decoded.failures.append(Failure("time", text, 0))
                decoded.failure[rows] = len(decoded.failures) - 1
                bad[rows] = True
    if bad.any():
        for group in decoded.groups:
            groups.append(group.chosen(np.flatnonzero(~bad[group.rows])))
        decoded.groups = groups
    return decoded


@dataclass(frozen=True)
class Lot:
    """Messages of a batch that one decoder reads. index: int64 (k,), their rows in the batch, rising.

    All of them are of senders of one type; the first `context` payloads are there only as the ones before.
    """

    plan: DecoderPlan
    payloads: Payloads
    index: np.ndarray
    context: int = 0


def process(
    lots: Sequence[Lot],
    device: np.ndarray,
    arrival: np.ndarray,
    ids: np.ndarray,
    newest: Fleet,
    type_of: Callable[[int], int],
    room: Room | None,
    until: int,
    oldest_us: int,
    owners: Owners | None = None,
    router: Router | None = None,
    headers: Headers = without_headers,
) -> Effects:
    """A batch through decoders, routes and conditions.

    device, arrival, ids: int64 (n,), the messages in order of arrival. type_of: a device's type. room: the conditions,
    None where none is looked at. All that was read of one type counts together, whichever decoder read it, so that
    the order of arrival holds. until: see `Room.advance`; oldest_us, owners: see `decode_batch` and `owned`. router:
    the routes, None where there are none; headers: what the transport says beside a message, by its row.
    """
    effects = Effects()
    type_of = Types(device, type_of)
    by_type: dict[int, list[Group]] = {}
    index = [lot.index for lot in lots]
    for lot in lots:
        decoded = decode_batch(lot.plan, lot.payloads, oldest_us, None, lot.context)
        if owners is not None:
            owned(decoded, device[lot.index], owners)
        effects.decoded.append(decoded)
    if router is not None:
        effects.routed = router.route(effects.decoded, index, device, arrival, type_of, headers)
    for rows, decoded in zip(index, effects.decoded, strict=True):
        for group in decoded.groups:
            for type_, part in of_types(group, rows, device, type_of):
                by_type.setdefault(type_, []).append(part)
    return evaluated(effects, by_type, device, arrival, ids, newest, room, until)


def evaluated(
    effects: Effects,
    by_type: Mapping[int, Sequence[Group]],
    device: np.ndarray,
    arrival: np.ndarray,
    ids: np.ndarray,
    newest: Fleet,
    room: Room | None,
    until: int,
) -> Effects:
    """Readings by device type, put in order and held against the conditions of a room."""
    events = {type_: build_events(groups, device, arrival, newest, ids) for type_, groups in by_type.items()}
    effects.events += events.values()
    if room is not None:
        row, heard = _told(by_type, device)
        effects.transitions = room.advance(events, heard, arrival[row], newest, until)
    return effects


def _told(by_type: Mapping[int, Sequence[Group]], device: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A message tells of its sender, and of every device that it has readings of: rows, rising, and devices."""
    rows, heard = [np.arange(len(device))], [device]
    for group in (group for groups in by_type.values() for group in groups):
        owner = group.owner
        if owner is None:
            continue
        other = np.flatnonzero(owner != device[group.rows])
        rows.append(group.rows[other])
        heard.append(owner[other])
    row, told = np.concatenate(rows), np.concatenate(heard)
    if len(row) == len(device):
        return row, told
    order = np.lexsort((told, row))
    row, told = row[order], told[order]
    fresh = np.append(True, (row[1:] != row[:-1]) | (told[1:] != told[:-1]))
    return row[fresh], told[fresh]


def of_types(
    group: Group, index: np.ndarray, device: np.ndarray, type_of: Callable[[int], int]
) -> list[tuple[int, Group]]:
    """A group by the types of the devices that its readings belong to, its rows those of the batch."""
    rows = index[group.rows]
    owner = group.owner if group.owner is not None else device[rows]
    types = Types.around(device, type_of).of(owner)
    placed = replace(group, rows=rows, device=None, owner=owner)
    if len(types) and (types == types[0]).all():
        return [(int(types[0]), placed)]
    return [(type_, placed.chosen(np.flatnonzero(types == type_))) for type_ in np.unique(types).tolist()]
