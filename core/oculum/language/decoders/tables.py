"""Codes of one name that stand in several lines with texts of their own, or have one text for several numbers: one
table for the field, and where it differs from a line's own, what becomes of that line's numbers.
"""

from __future__ import annotations

from collections.abc import Mapping, Set
from dataclasses import fields, is_dataclass, replace
from typing import Any

from ..fields import FieldSpec
from .plan import ReadStep, ValueStep

Table = tuple[tuple[int, str], ...]
OTHERWISE = -1  # stands for all numbers that have no text of their own


def joined(first: Table, second: Table) -> Table:
    """Both as one, in which each text has one number. Those of the first stay; where a number means something else
    there, the text gets a free one.
    """
    found, last = dict(first), max([0, *(n for n, _ in first), *(n for n, _ in second)])
    for number, text in second:
        if text in found.values():
            continue
        if number in found:
            number = last = last + 1
        found[number] = text
    return tuple(found.items())


def moved(own: Table, shared: Table) -> tuple[tuple[int, int], ...]:
    """The numbers of a line's own table, and what each is in the shared one."""
    known, numbers = dict(shared), {text: number for number, text in reversed(shared)}
    return tuple((number, number if known.get(number) == text else numbers[text]) for number, text in own)


def share(found: Any, tables: Mapping[str, Table], wides: Set[str]) -> Any:
    """A plan, or any part of it, with the shared tables in place of the lines' own. wides: names of whole numbers of
    which a line has more than 53 bits: all of their lines keep all digits.
    """
    if isinstance(found, tuple):
        parts = tuple(share(part, tables, wides) for part in found)
        return parts if any(a is not b for a, b in zip(parts, found, strict=True)) else found
    if isinstance(found, FieldSpec):
        if found.name in wides and found.kind in ("number", "integer"):
            return replace(found, wide=True)
        table = tables.get(found.name)
        if found.kind != "code" or table is None or table == found.codes:
            return found
        return replace(found, codes=table)
    if not is_dataclass(found) or isinstance(found, type):
        return found
    changes = {f.name: share(getattr(found, f.name), tables, wides) for f in fields(found)}
    changes = {name: value for name, value in changes.items() if value is not getattr(found, name)}
    if isinstance(found, ReadStep | ValueStep) and found.spec.kind == "code" and "spec" in changes:
        changes["moved"] = moved(found.spec.codes, changes["spec"].codes)
    return replace(found, **changes) if changes else found
