"""Looking back over readings: windows worked out row by row, for whoever keeps the past of a field."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..language.evaluate import Val
from ..language.expressions import Window
from ..register import hours
from .compiled import compiled
from .windows import KINDS, MARGIN_US, Past

DAY = 86_400_000_000


def keep_of(window: Window) -> int:
    """How far back a window needs readings, µs."""
    if window.calendar:
        return (8 if window.calendar == "this_week" else 2) * DAY + MARGIN_US
    wide = window.width * 3 // 2 if window.function in ("change", "relative_change") else window.width
    return wide + MARGIN_US


def lows(window: Window, slot: np.ndarray, at: np.ndarray, zones: Sequence[str]) -> np.ndarray:
    """int64 (m,): the moment behind which a window begins that is looked at then. zones: by slot."""
    if not window.calendar:
        return at - window.width
    found = np.zeros(len(at), np.int64)
    zone_of = np.array(zones, object)[slot] if len(at) else np.zeros(0, object)
    for zone in set(zone_of.tolist()):
        own = zone_of == zone
        found[own] = hours.begin_of(at[own], zone, window.calendar) - 1
    return found


def over(
    past: Past,
    windows: Sequence[Window],
    slot: np.ndarray,
    at: np.ndarray,
    added: np.ndarray,
    values: np.ndarray,
    wanted: np.ndarray,
    cadence: np.ndarray,
    zones: Sequence[str],
    place: np.ndarray | None = None,
) -> list[Val]:
    """What windows over one expression give, row by row, while its readings are taken in.

    slot, at: int64 (m,), in the order of arrival for each slot. added: bool (m,), where a reading (values, float64
    (m,)) comes in; wanted: bool (m,), where windows are looked at. cadence (µs), zones: by slot. place: int64 (m,),
    where readings stand in the past, if not by slot.
    """
    kinds = ["count_true" if w.function == "count" and w.value.type.kind == "truth" else w.function for w in windows]
    out, known = look(
        past,
        place if place is not None else slot,
        at,
        added,
        at,
        values,
        wanted,
        np.array([KINDS.index(kind) for kind in kinds], np.int64),
        np.stack([lows(w, slot, at, zones) for w in windows]),
        np.array([w.width * 3 // 2 for w in windows], np.int64),
        np.array([w.share for w in windows]),
        np.array([w.percent for w in windows]),
        cadence[slot] if len(slot) else np.zeros(0, np.int64),
    )
    return [Val(out[k], known[k]) for k in range(len(windows))]


def look(
    past: Past,
    slot: np.ndarray,
    now: np.ndarray,
    added: np.ndarray,
    added_at: np.ndarray,
    values: np.ndarray,
    wanted: np.ndarray,
    kinds: np.ndarray,
    begins: np.ndarray,
    ages: np.ndarray,
    shares: np.ndarray,
    percents: np.ndarray,
    cadence: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """Values and whether they are known, (k, m) each; the past grows where it must. slot: where readings stand in it;
    cadence: int64 (m,), µs. See `windows.fill`.
    """
    count = len(slot)
    out, known = np.zeros((len(kinds), count)), np.zeros((len(kinds), count), bool)
    first = 0
    while True:
        first = compiled("fill")(
            past.at,
            past.values,
            past.begin,
            past.end,
            past.keep,
            slot,
            now,
            added,
            added_at,
            values,
            wanted,
            kinds,
            begins,
            ages,
            shares,
            percents,
            cadence,
            np.zeros(past.at.shape[1] + 1),
            out,
            known,
            first,
        )
        if first >= count:
            return out, known
        past.grow(past.at.shape[0], past.at.shape[1] * 2)
