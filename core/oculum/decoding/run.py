"""Walking a decoder over a batch: every step is done for all rows at once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..batches import ABSENT, FIRST_REASON, Decoded, Part, Payloads
from ..language import limits
from ..language.decoders.plan import (
    ApartStep,
    ChooseStep,
    ColumnsStep,
    DecoderPlan,
    DeriveStep,
    DeviceStep,
    HandStep,
    LengthStep,
    MissingStep,
    OpenStep,
    OriginStep,
    PatternStep,
    ReadStep,
    RecordsStep,
    RejectStep,
    RepeatStep,
    SkipStep,
    SpanStep,
    StampStep,
    Step,
    ValueStep,
    WhenStep,
)
from ..language.evaluate import as_floats, within_64_bits
from ..language.expressions import Constant, Ex
from . import block, envelopes, records, repeats, sources, values
from .level import Batch, Level, Window, empty_values, kept, ones
from .reading import Reading

Decode = Callable[[DecoderPlan, Payloads], Decoded]


class Run(Reading):
    """One decoder on its way over one batch. `decode` hands parts on to other decoders."""

    def __init__(self, batch: Batch, decode: Decode, keep_raw: frozenset[str]) -> None:
        super().__init__(batch, keep_raw)
        self.decode = decode

    # the walk ----------------------------------------------------------------
    def run(self, level: Level, steps: tuple[Step, ...], rows: np.ndarray) -> np.ndarray:
        """All steps for these rows; returns those that are still good."""
        batch = self.batch
        done = 0
        for index, step in enumerate(steps):
            if isinstance(step, ReadStep):
                if index < done:
                    continue
                if len(rows) == level.count and batch.trace is None:
                    ordinary = kept(step, "_block", lambda at=index: block.beginning(steps, at, self.keep_raw))  # type: ignore[misc]
                    if ordinary is not None and (reach := block.read(level, ordinary)):
                        done = index + reach
                        continue
            elif isinstance(step, RecordsStep):
                kept(step, "_looked_up", lambda: (records.tags_read(steps), records.listed(steps)))
            elif (
                isinstance(step, RejectStep)
                and len(rows) == level.count
                and batch.trace is None
                and block.passes(level, step)
            ):
                continue
            if len(rows) == 0:
                break
            deaths = batch.deaths
            self.step(level, step, rows)
            if batch.deaths != deaths:
                rows = rows[level.alive[rows]]
        return rows

    def step(self, level: Level, step: Step, rows: np.ndarray) -> None:
        trace = self.batch.trace
        if trace is not None and (level.message(rows) == trace.row).any():
            trace.lines.add(step.line)
        match step:
            case ReadStep():
                self.read(level, step, rows)
            case ValueStep():
                values.read(self, level, step, rows)
            case SpanStep():
                self.span(level, step, rows)
            case DeriveStep():
                if step.late:
                    if not step.hidden:
                        level.given.setdefault(step.name, step.spec)
                    level.late.append((step, rows))
                else:
                    self.derive(level, step, rows)
            case MissingStep():
                if step.late:
                    level.late.append((step, rows))
                else:
                    self.miss(level, step, rows)
            case RejectStep():
                if step.rule is None:
                    level.fail(rows, step.failure, step.reason, step.line)
                    return
                true, _ = self.truth(step.rule, level, rows)
                hit = ~true if step.unless else true
                if hit.any():
                    rows = rows[hit]
                    level.fail(rows[level.alive[rows]], step.failure, step.reason, step.line)
            case StampStep():
                found = self.value(step.value, level, rows)
                known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
                level.stamp(rows[known], np.broadcast_to(found.values, (len(rows),))[known])
            case DeviceStep():
                self.device(level, step, rows)
            case LengthStep():
                self.length(level, step, rows)
            case SkipStep():
                self.skip(level, step, rows)
            case WhenStep():
                true, false = self.truth(step.rule, level, rows)
                kept = level.window.last
                if true.any():
                    self.run(level, step.body, rows if true.all() else rows[true])
                level.window.last = kept
                if step.otherwise and false.any():
                    rows = rows[false]
                    self.run(level, step.otherwise, rows[level.alive[rows]])
                level.window.last = None
            case ChooseStep():
                open_ = np.ones(len(rows), bool)
                for rule, body in step.arms:
                    true, _ = self.truth(rule, level, rows)
                    chosen = open_ & true
                    open_ &= ~true
                    if chosen.any():
                        some = rows[chosen]
                        self.run(level, body, some[level.alive[some]])
                if step.otherwise and open_.any():
                    some = rows[open_]
                    self.run(level, step.otherwise, some[level.alive[some]])
            case RepeatStep():
                repeats.repeat(self, level, step, rows)
            case ApartStep():
                self.apart(level, step, rows)
            case OpenStep():
                self.open(level, step, rows)
            case RecordsStep():
                records.split(level, step, rows, *step.__dict__["_looked_up"])
            case HandStep():
                self.hand(level, step, rows)
            case OriginStep():
                found_at, known = self.numbers(step.value, level, rows)
                window = level.window
                if window.origin is None:
                    window.origin = np.zeros(level.count, np.int64)
                window.origin[rows] = np.clip(np.where(known, found_at, 0), -(2**31), 2**31).astype(np.int64)
                level.fail(rows[~known], "malformed", "the first register is not known", step.line)
            case ColumnsStep():
                sources.split_columns(level, rows, step.by)
            case PatternStep():
                sources.match_pattern(level, rows, step.text, step.line)
            case _:
                raise AssertionError(step)

    # statements ------------------------------------------------------------------
    def derive(self, level: Level, step: DeriveStep, rows: np.ndarray) -> None:
        found = self.value(step.value, level, rows)
        kind = step.spec.kind
        count = len(rows)
        if kind == "text":
            result = np.broadcast_to(np.asarray(found.values, object), (count,)).copy()
        elif kind == "time":
            result = np.broadcast_to(np.asarray(found.values, np.int64), (count,)).copy()
        elif kind == "position":
            result = np.broadcast_to(np.asarray(found.values, float), (count, 2)).copy()
        elif step.spec.wide:
            result, found = within_64_bits(step.value, found, count)
        else:
            result = np.broadcast_to(np.asarray(as_floats(step.value, found), float), (count,)).copy()
        state: np.ndarray
        if isinstance(found.state, np.ndarray):
            own = found.state.astype(np.int16)
            state = np.broadcast_to(own, (count,))
        else:
            state = ones(count) if found.state == 1 else np.full(count, int(found.state), np.int16)
        if step.cleaning.sentinels or step.cleaning.low is not None or step.cleaning.convert is not None:
            result, state = self.clean(level, step, rows, result, state, [], False)
            if len(state) != count:
                rows = rows[level.alive[rows]]
                count = len(rows)
        state = self.batch.state_of(state, count)
        level.put(step.spec, rows, result, state)
        if not step.hidden:
            level.given.setdefault(step.name, step.spec)
        if step.cleaning.stamped is not None:
            self.stamp_field(level, step.name, step.cleaning.stamped, rows)
        if self.batch.trace is not None:
            for row in rows.tolist():
                self.note(level, row, step.line, step.name, [], None)

    def miss(self, level: Level, step: MissingStep, rows: np.ndarray) -> None:
        true, _ = self.truth(step.rule, level, rows)
        rows = rows[true]
        if not len(rows):
            return
        code = self.batch.reason(step.reason)
        for spec in step.specs:
            level.given.setdefault(spec.name, spec)
            column = level.columns.get(spec.name)
            before = column.state[rows] if column is not None else np.zeros(len(rows), np.int16)
            hit = rows[before < FIRST_REASON]
            kept = column.values[hit] if column is not None else None
            if kept is None:
                kept = empty_values(spec, len(hit))
            level.put(spec, hit, kept, np.full(len(hit), code, np.int16))

    def device(self, level: Level, step: DeviceStep, rows: np.ndarray) -> None:
        found = self.value(step.value, level, rows)
        known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
        names = np.broadcast_to(np.asarray(found.values, object), (len(rows),))
        if level.device is None:
            level.device = np.full(level.count, None, object)
        long = np.array(
            [
                bool(k) and not 1 <= len(n) <= limits.DEVICE_CHARACTERS
                for k, n in zip(known.tolist(), names.tolist(), strict=True)
            ],
            bool,
        )
        level.device[rows] = np.where(known & ~long, names, np.array(None, object))
        level.fail(
            rows[long], "malformed", f"the name of a device has 1 to {limits.DEVICE_CHARACTERS} characters", step.line
        )

    def length(self, level: Level, step: LengthStep, rows: np.ndarray) -> None:
        window = level.window
        if (
            isinstance(step.low, Constant)
            and window.table is not None
            and window.table[2] == step.low.value
            and (step.high is None or step.high is step.low)
        ):
            return
        low, low_known = self.numbers(step.low, level, rows)
        high, high_known = (
            (low, low_known)
            if step.high is step.low
            else self.numbers(step.high, level, rows)
            if step.high is not None
            else (low, np.zeros(len(rows), bool))
        )
        lengths = (window.end - window.start)[rows]
        exact = step.high is step.low
        for bad, code, side in (
            (low_known & (lengths < low), window.short, low),
            (high_known & (lengths > high), "malformed", high),
        ):
            if not bad.any():
                continue
            for length, want in {(int(a), int(b)) for a, b in zip(lengths[bad][:4096], side[bad][:4096], strict=True)}:
                some = rows[bad & (lengths == length) & (side == want)]
                word = (
                    "" if exact else "at least " if side is low and code != "malformed" or length < want else "at most "
                )
                level.fail(
                    some[level.alive[some]],
                    code,
                    f"{window.called} has {length} byte{'' if length == 1 else 's'}, expected {word}{want}",
                    step.line,
                    min(length, want),
                )
            rest = rows[bad]
            level.fail(rest[level.alive[rest]], code, f"{window.called} has another length than expected", step.line)

    def skip(self, level: Level, step: SkipStep, rows: np.ndarray) -> None:
        window = level.window
        if (
            isinstance(step.count, int)
            and step.unit_bits == 8
            and window.offset is not None
            and len(rows) == level.count
        ):
            to = window.offset + step.count
            if window.safe >= to or bool((window.lengths >= to).all()):
                window.seek(to)
                return
        count: Any = step.count
        if isinstance(step.count, Ex):
            found, known = self.numbers(step.count, level, rows)
            level.fail(rows[~known], "malformed", "how far to skip is not known", step.line)
            back = known & (found < 0)
            level.fail(rows[back], "malformed", "the message says to skip backwards", step.line)
            kept = known & ~back
            rows, count = rows[kept], np.clip(found[kept], 0, 8 * limits.PAYLOAD_BYTES).astype(np.int64)
        at = window.cursor[rows]
        if step.unit_bits == 8:
            at = (at + 7) >> 3 << 3
        to = at + count * step.unit_bits
        short = to > window.end[rows] * 8
        if short.any():
            behind = (to[short] >> 3) - window.start[rows[short]]
            level.too_short(rows[short], np.maximum(behind - 1, 0), 1, step.line, "what is skipped")
        window.cursor[rows[~short]] = to[~short]

    def apart(self, level: Level, step: ApartStep, rows: np.ndarray) -> None:
        """A block that is refused by itself: what it has given is taken back for the rows that fail in it."""
        outer = level.boundary
        refused = np.full(level.count, -1, np.int64)
        level.boundary = (step.word, refused)
        devices = self.devices(level)
        devices = devices.copy() if devices is not None else None
        kept_children = {repeat: list(children) for repeat, children in level.children.items()}
        handed = len(level.handed)
        pending = level.window.pending
        if pending is not None:
            for row in rows.tolist():
                wrong = pending[row]
                if wrong is not None:
                    level.fail(np.array([row]), wrong[0], wrong[1], step.line)
            rows = level.living(rows)
        self.run(level, step.body, rows)
        level.boundary = outer
        bad = np.flatnonzero(refused >= 0)
        if not len(bad):
            return
        owners = level.message(bad)
        index = level.index[bad].tolist() if level.index is not None else [1] * len(bad)
        for row, message, place in zip(bad.tolist(), owners.tolist(), index, strict=True):
            self.batch.parts.append(
                Part(
                    message,
                    f"{step.word} {place}",
                    devices[row] if devices is not None else None,
                    self.batch.failures[refused[row]],
                )
            )
        level.alive[bad] = True
        for name in step.given:
            column = level.columns.get(name)
            if column is not None:
                column.state = column.state.copy()
                column.state[bad] = ABSENT
        for repeat, children in level.children.items():
            for child in children:
                if child not in kept_children.get(repeat, []) and child.up is not None:
                    child.alive &= refused[child.up] < 0
        level.handed[handed:] = [(done, mapped) for done, mapped in level.handed[handed:]]
        for k in range(handed, len(level.handed)):
            done, mapped = level.handed[k]
            level.handed[k] = (done, np.where(refused[mapped] < 0, mapped, -1))

    def devices(self, level: Level) -> np.ndarray | None:
        """The device of every row, None where it is the sender."""
        above = None
        if level.parent is not None and level.up is not None:
            outer = self.devices(level.parent)
            above = outer[level.up] if outer is not None else None
        if level.device is None:
            return above
        if above is None:
            return level.device
        return np.where(np.array([d is None for d in level.device], bool), above, level.device)

    # windows -----------------------------------------------------------------------
    def open(self, level: Level, step: OpenStep, rows: np.ndarray) -> None:
        outer = level.window
        if step.extent is not None:
            rows, begin, stop = self.extent(level, step.extent, rows, step.line, "the part", step.once, step.required)
            window = Window("bytes", outer.data, outer.start.copy(), outer.start.copy(), "malformed")
            window.start[rows], window.end[rows] = begin, stop
            window.own = outer.own
            if step.source != "bytes":
                rows = sources.parse_window(self.batch, level, window, step.source, rows, step.line)
        else:
            assert step.at is not None
            if step.encoding in ("json", "cbor", "text", "bytes"):
                rows, texts = envelopes.texts(self, level, step.at, rows, step.line, step.required)
            else:
                rows, texts = envelopes.encoded(
                    self, level, step.at, step.encoding or "", rows, step.line, step.required
                )
            window = sources.window_of(level.count, rows, texts, "too short" if step.source == "bytes" else "malformed")
            if step.source != "bytes":
                rows = sources.parse_window(self.batch, level, window, step.source, rows, step.line)
            else:
                window.short = "malformed"
        if len(rows):
            level.window = window
            self.run(level, step.body, rows)
            level.window = outer
        outer.last = None

    def hand(self, level: Level, step: HandStep, rows: np.ndarray) -> None:
        """Gives the bytes of a part to other decoders: the first that knows its layout."""
        if step.extent is not None:
            rows, begin, stop = self.extent(level, step.extent, rows, step.line, "the part")
            buffer = level.window.data
            pieces = [buffer[a:b].tobytes() for a, b in zip(begin.tolist(), stop.tolist(), strict=True)]
        else:
            assert step.at is not None
            rows, pieces = envelopes.encoded(
                self, level, step.at, step.encoding or "text", rows, step.line, "malformed"
            )
        payloads = self.batch.payloads
        for turn, plan in enumerate(step.plans):
            if not len(rows):
                return
            headers = (
                [payloads.headers[m] for m in level.message(rows).tolist()] if payloads.headers is not None else None
            )
            done = self.decode(plan, Payloads.of(pieces, level.at[rows], headers))
            bad = done.failure >= 0
            unknown = np.array(
                [
                    b and done.failures[f].code == "unknown layout"
                    for b, f in zip(bad.tolist(), done.failure.tolist(), strict=True)
                ],
                bool,
            )
            level.handed.append((done, rows))
            last = turn == len(step.plans) - 1
            for found in np.unique(done.failure[bad]).tolist():
                failure = done.failures[found]
                if failure.code != "unknown layout" or last:
                    level.fail(
                        rows[done.failure == found], failure.code, f"`{plan.name}`: {failure.message}", step.line
                    )
            again = np.flatnonzero(unknown)
            rows, pieces = rows[again], [pieces[i] for i in again.tolist()]
