"""Every plausible way of reading some bytes, over many messages at once: so that the right one is known by its
curve.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..batches import Payloads
from ..decoding.numbers import number
from ..language.stored import Place, Raw

_ORDERS = (("big", False), ("little", True))
_YEARS_US = (946_684_800, 2_208_988_800)  # 2000 and 2040, seconds


@dataclass(frozen=True)
class Guess:
    """One way: the storage as a line would say it, its order, and the value in each message (NaN where it is none)."""

    storage: str
    order: str | None
    values: np.ndarray
    what: str = "number"  # or: time


def guesses(payloads: Payloads, first: int, last: int, high: int | None = None, low: int | None = None) -> list[Guess]:
    """The ways of reading bytes `first` to `last` (at most 8), or the bits `high` to `low` of them.

    Every payload must be longer than `last`. values: float64 (n,).
    """
    width = last - first + 1
    if not 1 <= width <= 8:
        return []
    at = payloads.starts + first
    found: list[Guess] = []
    for order, little in _ORDERS if width > 1 else _ORDERS[:1]:
        named = order if width > 1 else None

        def read(storage: str, bits: int, shift: int = 0, swapped: bool = False, little: bool = little) -> np.ndarray:
            values, _, bad = number(
                Raw(Place("start", first, width), little, storage, bits, shift, swapped), payloads.data, at
            )
            result = values.astype(np.float64)
            return result if bad is None else np.where(bad, np.nan, result)

        if high is not None and low is not None:
            bits = high - low + 1
            found.append(Guess(f"u{bits}", named, read("u", bits, low)))
            if bits > 1:
                found.append(Guess(f"i{bits}", named, read("i", bits, low)))
            continue
        found.append(Guess(f"u{8 * width}", named, read("u", 8 * width)))
        found.append(Guess(f"i{8 * width}", named, read("i", 8 * width)))
        if width in (2, 4, 8):
            values = read("f", 8 * width)
            if (
                np.isfinite(values).all()
                and (np.abs(values[values != 0]) > 1e-6).all()
                and (np.abs(values) < 1e9).all()
            ):
                found.append(Guess(f"f{8 * width}", named, values))
        if width in (4, 8) and not little:
            found.append(Guess(f"u{8 * width} low word first", named, read("u", 8 * width, 0, True)))
        if not little and width <= 7:
            digits = read("bcd", 8 * width)
            if np.isfinite(digits).all():
                found.append(Guess(f"bcd{2 * width}", None, digits))
        if width == 4:
            seconds = read("u", 32)
            for epoch, shift in (("1970-01-01", 0), ("2000-01-01", 946_684_800)):
                if ((seconds + shift > _YEARS_US[0]) & (seconds + shift < _YEARS_US[1])).all() and len(seconds):
                    found.append(
                        Guess(f'time u32{" little" if little else ""} s since "{epoch}"', None, seconds + shift, "time")
                    )
    return found
