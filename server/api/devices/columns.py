"""Columns of the list of devices that people choose: figures of health, newest values, labels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection

from server.rules.brief import Brief
from server.rules.health import figures
from server.rules.refusal import Refused
from server.store.series import values_before
from server.store.values import newest

FIGURES = ("availability", "decoded", "complete", "delay", "clock", "alarm")
MOST_COLUMNS = 8
VALUE, LABEL = "value:", "label:"
Cell = float | str | None


@dataclass(frozen=True)
class Column:
    """What a column says, by device; its unit where all devices have the same."""

    cells: dict[int, Cell]
    unit: str | None = None


def checked(names: Sequence[str]) -> list[str]:
    """Names of columns: a figure, `value:` and a field, `label:` and a label. Raises Refused."""
    for name in names:
        if name not in FIGURES and not (name.startswith((VALUE, LABEL)) and len(name) > len(VALUE)):
            raise Refused(
                "invalid",
                f"column: found `{name[:60]}`, expected {', '.join(FIGURES)}, value:FIELD or label:NAME",
            )
    if len(names) > MOST_COLUMNS:
        raise Refused("invalid", f"column: found {len(names)}, at most {MOST_COLUMNS} are shown")
    return list(dict.fromkeys(names))


def columns_of(
    names: Sequence[str], devices: Sequence[Brief], start: datetime, end: datetime, past: bool
) -> dict[str, Column]:
    """Each column over some devices: figures over the span, values at its end."""
    ids = [device.pk for device in devices]
    found: dict[str, Column] = {}
    with connection.cursor() as cursor:
        if any(name in FIGURES for name in names):
            health = figures(cursor, start, end, ids)
        for name in names:
            if name in FIGURES:
                unit = "s" if name in ("delay", "clock", "alarm") else None
                found[name] = Column({**health.by_device(name)}, unit)
            elif name.startswith(LABEL):
                label = name.removeprefix(LABEL)
                found[name] = Column({device.pk: device.labels.get(label) for device in devices})
            else:
                found[name] = _values(cursor, name.removeprefix(VALUE), devices, end, past)
    return found


def _values(cursor: Any, field: str, devices: Sequence[Brief], end: datetime, past: bool) -> Column:
    having = {d.pk: spec for d in devices for spec in d.type.fields if spec["name"] == field}
    cells: dict[int, Cell] = {}
    if past:
        cells.update(values_before(cursor, list(having), field, end))
    else:
        for device, (_, fields) in newest(cursor, list(having)).items():
            value = fields[field][0] if field in fields else None
            cells[device] = value if isinstance(value, int | float | str) and not isinstance(value, bool) else None
    units = {spec.get("unit") for spec in having.values()}
    return Column(cells, units.pop() if len(units) == 1 else None)


def in_order(devices: list[Brief], column: Column, downwards: bool) -> list[Brief]:
    """By what a column says; those of which it says nothing are last either way."""
    said = [d for d in devices if column.cells.get(d.pk) is not None]
    words = any(isinstance(column.cells[d.pk], str) for d in said)
    said.sort(key=lambda d: d.name)
    said.sort(key=lambda d: str(column.cells[d.pk]) if words else column.cells[d.pk], reverse=downwards)  # type: ignore[arg-type, return-value]
    return said + [d for d in devices if column.cells.get(d.pk) is None]
