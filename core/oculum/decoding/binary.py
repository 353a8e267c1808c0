"""Decoding bytes: reads as gathers with a cursor a row, conditions as row sets, repeats as bounded loops."""

from __future__ import annotations

import numpy as np

from ..batches import Column, Decoded, Group, Payloads, Trace
from ..language.evaluate import Val, evaluate
from ..language.plan import (
    DecoderPlan,
    DeriveStep,
    Ex,
    LengthStep,
    Place,
    Raw,
    ReadStep,
    RejectStep,
    RepeatStep,
    SkipStep,
    StampStep,
    Step,
    WhenStep,
)  # fmt: skip
from .checksums import check
from .frame import NO_TEXT, Frame, View, blank, scaled


def decode_bytes(plan: DecoderPlan, payloads: Payloads, trace: Trace | None = None) -> Decoded:
    """All messages of a batch through one decoder, at once.

    `trace` (for a batch of one) collects the bits of every line that was read.
    """
    frame = ByteFrame(payloads, trace, plan.tail)
    frame.run(plan.steps, np.arange(frame.count))
    unread = np.maximum(frame.lengths - plan.tail - frame.read_to, 0)
    return frame.finish(plan.fields, unread)


class ByteFrame(Frame):
    def __init__(self, payloads: Payloads, trace: Trace | None, tail: int) -> None:
        super().__init__(payloads, trace)
        self.data = payloads.data
        self.starts = payloads.starts
        self.lengths = payloads.ends - payloads.starts
        self.cursor = np.zeros(self.count, np.int64)
        self.read_to = np.zeros(self.count, np.int64)
        self.tail = tail
        self.last: np.ndarray | None = None  # where the line before stood, for `same`
        self.bound: np.ndarray | None = None  # end of a repeat's bytes
        length = int(self.lengths[0]) if self.count else 0
        even = self.count > 0 and length > 0 and bool((self.lengths == length).all())
        contiguous = even and int(self.starts[-1]) == (self.count - 1) * length
        self.table = self.data[: self.count * length].reshape(self.count, length) if contiguous else None

    # places ----------------------------------------------------------------
    def placed(self, place: Place, rows: np.ndarray, line: int, name: str) -> tuple[np.ndarray, np.ndarray | int]:
        """Rows whose payload holds the place, and where it begins there; the others fail as too short."""
        begin: np.ndarray | int
        full = len(rows) == self.count
        lengths = self.lengths if full else self.lengths[rows]
        if place.mode == "start":
            begin = place.offset
        elif place.mode == "end":
            begin = lengths + place.offset
        elif place.mode == "next":
            begin = self.cursor.copy() if full else self.cursor[rows]
        else:
            assert self.last is not None
            begin = self.last[rows]
        limit = lengths if self.bound is None or place.mode != "next" else self.bound[rows]
        short = (begin + place.width > limit) | (begin < 0)
        if np.any(short):
            short = np.broadcast_to(short, (len(rows),))
            self.too_short(rows[short], np.broadcast_to(begin, (len(rows),))[short], place.width, line, name)
            rows = rows[~short]
            if not isinstance(begin, int):
                begin = begin[~short]
        return rows, begin

    def too_short(self, rows: np.ndarray, begin: np.ndarray, width: int, line: int, name: str) -> None:
        for at in np.unique(begin)[:16]:
            some = rows[begin == at]
            for length in np.unique(self.lengths[some])[:16]:
                where = f"byte {at}" if width == 1 else f"bytes {at} to {at + width - 1}"
                text = f"the payload has {length} bytes; {name} stands in {where}"
                self.fail(some[self.lengths[some] == length], "too short", text, line, int(length))
        rest = self.living(rows)
        self.fail(rest, "too short", f"the payload ends before {name}", line)

    def advance(self, place: Place, rows: np.ndarray, begin: np.ndarray | int) -> None:
        end = begin + place.width
        if place.mode in ("start", "next"):
            self.cursor[rows] = end
            self.read_to[rows] = np.maximum(self.read_to[rows], end)
        if self.last is None:
            self.last = np.zeros(self.count, np.int64)
        self.last[rows] = begin

    def number(self, raw: Raw, rows: np.ndarray, begin: np.ndarray | int) -> np.ndarray:
        """The stored numbers: int64, uint64 where more than 63 bits are unsigned, or float64."""
        width = raw.place.width
        if self.table is not None and isinstance(begin, int) and len(rows) == self.count and width in (1, 2, 4, 8):
            block = np.ascontiguousarray(self.table[:, begin : begin + width])
            found = block.view(f"{'<' if raw.little else '>'}u{width}").ravel()
        elif width in (1, 2, 4, 8):
            where = (self.starts if len(rows) == self.count else self.starts[rows]) + begin
            block = self.data[where[:, None] + np.arange(width)] if width > 1 else self.data[where]
            found = np.ascontiguousarray(block).view(f"{'<' if raw.little else '>'}u{width}").ravel()
        else:
            where = (self.starts if len(rows) == self.count else self.starts[rows]) + begin
            found = np.zeros(len(rows), np.uint64)
            for k in range(width):
                byte = self.data[where + k].astype(np.uint64)
                found = found | (byte << np.uint64(8 * k)) if raw.little else (found << np.uint64(8)) | byte
        if raw.storage == "f":
            return found.view(f"{found.dtype.byteorder if found.dtype.byteorder in '<>' else '='}f{width}").astype(np.float64)
        exact = raw.bits == width * 8
        if exact and raw.storage == "i" and width in (1, 2, 4, 8):
            return found.view(found.dtype.str.replace("u", "i")).astype(np.int64)
        if exact and width < 8 and raw.storage == "u":
            return found.astype(np.int64)
        if exact and raw.storage == "u":
            return found.astype(np.uint64)
        wide = found.astype(np.uint64)
        part = (wide >> np.uint64(raw.shift)) & np.uint64((1 << raw.bits) - 1)
        if raw.storage == "i":
            sign = np.uint64(1 << (raw.bits - 1))
            return ((part ^ sign).astype(np.int64)) - np.int64(1 << (raw.bits - 1)) if raw.bits < 64 else part.astype(np.int64)
        return part.astype(np.int64) if raw.bits < 64 else part

    # steps -------------------------------------------------------------------
    def run(self, steps: tuple[Step, ...], rows: np.ndarray) -> np.ndarray:
        for step in steps:
            deaths = self.deaths
            if len(rows) == 0:
                break
            match step:
                case ReadStep():
                    self.read(step, rows)
                case DeriveStep():
                    self.derive(step, rows)
                case RejectStep():
                    self.reject_bytes(step, rows)
                case StampStep():
                    self.set_stamp(step, rows)
                case LengthStep():
                    self.check_length(step, rows)
                case SkipStep():
                    begin = self.cursor[rows]
                    self.cursor[rows] = begin + step.count
                case WhenStep():
                    found = evaluate(step.rule, self.view(rows))
                    known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
                    truth = np.broadcast_to(np.asarray(found.values, bool), (len(rows),))
                    last = None if self.last is None else self.last.copy()
                    self.run(step.body, rows[known & truth])
                    self.last = last
                    self.run(step.otherwise, rows[known & ~truth])
                case RepeatStep():
                    self.repeat(step, rows)
                case _:
                    raise AssertionError(step)
            if self.deaths != deaths:
                rows = rows[self.alive[rows]]
        return rows

    def reject_bytes(self, step: RejectStep, rows: np.ndarray) -> None:
        found = evaluate(step.rule, self.view(rows))
        if self.deaths:
            keep = self.alive[rows]
            bad = np.broadcast_to(np.asarray(found.values, bool), (len(rows),))[keep]
            known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))[keep]
            rows = rows[keep]
        else:
            bad, known = np.broadcast_to(found.values, (len(rows),)), np.broadcast_to(found.known, (len(rows),))
        hit = known & (~bad if step.unless else bad)
        self.fail(rows[hit], step.failure, step.reason, step.line)

    def read(self, step: ReadStep, rows: np.ndarray) -> None:
        raws: list[np.ndarray] = []
        begins: list[np.ndarray | int] = []
        for raw in step.raws:
            before = rows
            rows, begin = self.placed(raw.place, rows, step.line, step.name)
            if len(before) != len(rows) and raws:
                kept = np.isin(before, rows)
                raws = [r[kept] for r in raws]
            if len(rows) == 0:
                return
            raws.append(self.number(raw, rows, begin))
            if self.trace is not None:
                begins.append(begin)
            self.advance(raw.place, rows, begin)
        spec = step.spec
        state = np.ones(len(rows), np.int16)
        first = raws[0]
        if spec.kind == "position":
            values = np.stack([scaled(r, linear) for r, linear in zip(raws, step.linears, strict=True)], axis=1)
        elif step.clock is not None:
            seconds, epoch = step.clock
            values = epoch + np.rint(first.astype(np.float64) * (seconds * 1e6)).astype(np.int64)
        elif spec.wide:
            values = first.astype(np.uint64) if step.raws[0].storage == "u" else first
        else:
            values = scaled(first, step.linears[0])
        if spec.kind == "code":
            known = np.isin(first, [n for n, _ in spec.codes])
            if not known.all():
                state[~known] = self.reason(NO_TEXT)
        cleaning = step.cleaning
        if cleaning.sentinels or cleaning.low is not None or cleaning.convert is not None or step.raws[0].storage == "f":
            values, state = self.clean(cleaning, rows, values, state, raws)
        if spec.kind in ("code", "flag", "number", "integer"):
            if len(rows) == self.count:
                self.raws[step.name] = (first, np.ones(self.count, bool))
            else:
                kept_raw = self.raws.setdefault(step.name, (np.zeros(self.count, first.dtype), np.zeros(self.count, bool)))
                kept_raw[0][rows], kept_raw[1][rows] = first, True
        self.put(spec, rows, values, state)
        if self.trace is not None:
            self.mark(step, raws, begins)

    def mark(self, step: ReadStep, raws: list[np.ndarray], begins: list[np.ndarray | int]) -> None:
        places = []
        for raw, begin in zip(step.raws, begins, strict=True):
            at = int(begin) if isinstance(begin, int) else int(begin[0])
            whole = raw.bits == raw.place.width * 8
            places.append({"first": at, "last": at + raw.place.width - 1, "high": raw.shift + raw.bits - 1, "low": raw.shift, "whole": whole, "little": raw.little})
        self.note(step.line, step.name, places, [r[0].item() for r in raws])

    def check_length(self, step: LengthStep, rows: np.ndarray) -> None:
        low = evaluate(step.low, self.view(rows))
        high = evaluate(step.high, self.view(rows)) if step.high else low
        lengths = self.lengths[rows]
        lows, highs = np.broadcast_to(low.values, (len(rows),)), np.broadcast_to(high.values, (len(rows),))
        for bad, code, side in ((np.logical_and(low.known, lengths < lows), "too short", lows), (np.logical_and(high.known, lengths > highs), "malformed", highs)):
            bad = np.broadcast_to(bad, (len(rows),))
            if not bad.any():
                continue
            for length, want in {(int(a), int(b)) for a, b in zip(lengths[bad][:4096], side[bad][:4096], strict=True)}:
                some = bad & (lengths == length) & (side == want)
                word = "at least" if code == "too short" and step.high else "at most" if step.high else ""
                self.fail(rows[some], code, f"the payload has {length} bytes, expected {word + ' ' if word else ''}{want}", step.line, min(length, want))
            rest = rows[bad & self.alive[rows]]
            self.fail(rest, code, "the payload has another length than expected", step.line)

    def repeat(self, step: RepeatStep, rows: np.ndarray) -> None:
        if step.times is None:
            counts = None
            self.bound = self.lengths - self.tail
        else:
            found = evaluate(step.times, self.view(rows))
            values = np.broadcast_to(np.asarray(found.values, float), (len(rows),))
            known = np.broadcast_to(np.asarray(found.known, bool), (len(rows),))
            over = known & (values > step.most)
            if over.any():
                self.fail(rows[over], "malformed", f"the repeat would run more than {step.most} times", step.line)
            keep = known & ~over
            rows, counts = rows[keep], values[keep]
        outer = dict(self.columns)
        outer_raws = dict(self.raws)
        pieces: list[tuple[np.ndarray, int, dict[str, Column]]] = []
        for k in range(step.most + 1):
            active = rows[self.alive[rows]] if self.deaths else rows
            if counts is None:
                active = active[self.cursor[active] < self.lengths[active] - self.tail]
            else:
                active = active[k < counts[self.alive[rows]]] if self.deaths else active[k < counts]
            if len(active) == 0:
                break
            if k == step.most:
                self.fail(active, "malformed", f"the repeat would run more than {step.most} times", step.line)
                break
            before = self.cursor[active].copy()
            self.columns = dict(outer)
            self.raws = dict(outer_raws)
            done = self.run(step.body, active)
            if counts is None and len(done):
                still = self.cursor[done] <= before[np.isin(active, done)]
                self.fail(done[still], "malformed", "the repeat reads nothing", step.line)
                done = done[~still]
            columns = {s.name: (self.columns[s.name] if s.name in self.columns else blank(s, self.count)).taken(done) for s in step.fields}
            pieces.append((done, k, columns))
        self.columns, self.raws, self.bound, self.last = outer, outer_raws, None, None
        if pieces and step.fields:
            columns = {s.name: Column(np.concatenate([p[2][s.name].values for p in pieces]), np.concatenate([p[2][s.name].state for p in pieces])) for s in step.fields}
            at = np.concatenate([np.full(len(p[0]), p[1] * step.each_us, np.int64) for p in pieces])
            self.groups.append(Group(step.fields, np.concatenate([p[0] for p in pieces]), at, columns))

    def view(self, rows: np.ndarray) -> View:
        return ByteView(self, rows)


class ByteView(View):
    frame: ByteFrame

    def payload(self, ex: Ex) -> Val:
        frame, rows = self.frame, self.rows
        if ex.op == "length":
            return Val(frame.lengths[rows], True)
        if ex.op == "read":
            raw: Raw = ex.value
            begin = np.full(len(rows), raw.place.offset, np.int64)
            if raw.place.mode == "end":
                begin = begin + frame.lengths[rows]
            inside = (begin >= 0) & (begin + raw.place.width <= frame.lengths[rows])
            if not inside.all():
                frame.too_short(rows[~inside], begin[~inside], raw.place.width, ex.line, "the number")
            safe = np.where(inside, begin, 0)
            if bool(inside.all()) and frame.table is not None and len(rows) == frame.count:
                return Val(frame.number(raw, rows, int(safe[0])), True)
            return Val(frame.number(raw, rows, safe), inside)
        name, first, last = ex.value
        lengths = frame.lengths[rows]
        begin = np.full(len(rows), first) if first >= 0 else lengths + first
        end = (np.full(len(rows), last) if last >= 0 else lengths + last) + 1
        good = (begin >= 0) & (end <= lengths) & (end >= begin)
        if not good.all():
            frame.too_short(rows[~good], np.maximum(begin[~good], 0), 1, ex.line, "the check")
        starts = frame.starts[rows]
        value = check(name, frame.data, starts + np.where(good, begin, 0), starts + np.where(good, end, 0))
        return Val(value, good)
