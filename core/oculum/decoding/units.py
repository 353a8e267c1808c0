"""Values whose unit comes with them: in a record, or by another value."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np

from ..batches import PRESENT
from ..language.decoders.plan import UnitChoice, ValueStep
from ..quantities import UnitError, between, parse_unit, same_scale, usual
from .forms import Unfit
from .level import Level
from .numbers import scaled
from .sources import GONE, Measured
from .view import View

WORDED = -7  # a value that a word stands for, in the final unit already


def measured(record: Measured, step: ValueStep) -> Any:
    """The value of a SenML record in the unit that its line says."""
    wants = {
        "number": "number",
        "integer": "number",
        "u64": "number",
        "i64": "number",
        "text": "text",
        "flag": "flag",
        "hex": "data",
    }.get(step.form, "")
    if record.value is None or (not step.places[0].path and not _fits(record, step, wants)):
        return GONE
    if record.kind != wants:
        raise Unfit(f"found {record.kind or 'no value'}, expected {wants or 'another kind'}")
    if wants == "number" and step.cleaning.unit_by is None:
        if step.unit is not None and record.unit is None:
            raise Unfit(f"the record has no unit, expected `{step.unit}`")
        if step.unit is not None and record.unit != step.unit and not _same_unit(record.unit or "", step.unit):
            raise Unfit(f"found the unit `{record.unit}`, expected `{step.unit}`")
    return record.value


def _fits(record: Measured, step: ValueStep, wants: str) -> bool:
    """Whether a line that takes records of any name takes this one: by its kind, and by its unit."""
    if record.kind != wants:
        return False
    choice, unit = step.cleaning.unit_by, record.unit or ""
    if wants != "number" or (choice is None and step.unit is None):
        return True
    if choice is None:
        return unit == step.unit or _same_unit(unit, step.unit or "")
    if any(option == unit for option, *_ in choice.arms):
        return True
    return choice.written is not None and from_unit(unit, choice.written, choice.difference) is not None


def _same_unit(found: str, wanted: str) -> bool:
    try:
        a, b = parse_unit(found), parse_unit(wanted)
    except UnitError:
        return False
    return a.dimension == b.dimension and same_scale(a, b)


def by_unit(
    level: Level, name: str, choice: UnitChoice, rows: np.ndarray, result: np.ndarray, state: np.ndarray
) -> tuple[np.ndarray, np.ndarray | None]:
    """Values by the unit that another value chooses. Rows with an unknown one fail; a word needs none."""
    chooser = View(level, rows).column(choice.name)
    options = np.broadcast_to(chooser.values, (len(rows),))
    known = np.broadcast_to(np.asarray(chooser.known, bool), (len(rows),))
    worded = state == WORDED
    open_ = (state == PRESENT) & ~worded
    converted = result.copy()
    sent = np.full(level.count, -1, np.int16) if choice.sent and name not in level.sent else None
    if sent is not None:
        level.sent[name] = choice, sent
    for arm, (option, linear, (a, b, c)) in enumerate(choice.arms):
        hit = open_ & known & np.asarray(options == option, bool)
        if hit.any():
            converted[hit] = (scaled(result[hit], linear) * a + b) / c
            open_ &= ~hit
            if choice.sent:
                level.sent[name][1][rows[hit]] = arm
    if choice.written is not None:
        for option in {text for text in options[open_ & known].tolist() if isinstance(text, str)}:
            conversion = from_unit(option, choice.written, choice.difference)
            if conversion is not None:
                hit = open_ & known & np.asarray(options == option, bool)
                converted[hit] = (result[hit] * conversion[0] + conversion[1]) / conversion[2]
                open_ &= ~hit
    if worded.any():
        state[worded] = PRESENT
    if not open_.any():
        return converted, None
    for row, option in zip(rows[open_].tolist(), options[open_].tolist(), strict=True):
        said = "none" if option is None else f"`{option:g}`" if isinstance(option, float) else f"`{str(option)[:40]}`"
        level.fail(
            np.array([row]),
            "malformed",
            f"found {said} as the unit, expected {', '.join(str(a[0]) for a in choice.arms)}"
            + (f", or a unit that is converted into {choice.written}" if choice.written else ""),
            0,
        )
    return converted, open_


@lru_cache(maxsize=1024)
def from_unit(text: str, target: str, difference: bool) -> tuple[float, float, float] | None:
    """How values in the unit that a text names, as UCUM or as it is usually spelt, come into another: (value * a + b) /
    c; None where they do not.
    """
    wanted = parse_unit(target)
    for code in (text, usual(text)):
        try:
            found = parse_unit(code) if code else None
        except UnitError:
            continue
        if found is not None and found.dimension == wanted.dimension:
            return between(found, wanted, difference=difference)
    return None
