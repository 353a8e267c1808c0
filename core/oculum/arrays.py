"""Types of the arrays that go between the parts of the core, by what their elements are; columns of objects, and the
order of a column.
"""

from __future__ import annotations

from collections.abc import Iterable
from math import prod
from typing import Any

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]
Ints = NDArray[np.int64]  # numbers of rows, identities, times in microseconds
Shorts = NDArray[np.integer[Any]]  # states, numbers of failures: whole numbers of any width
Truths = NDArray[np.bool_]
Values = NDArray[Any]  # as the kind of a field has them: float64, uint64, objects


def objects(values: Iterable[Any]) -> np.ndarray:
    """object (n,): values as they are, also where numpy would make numbers or a table of them."""
    return np.array([*values, None], object)[:-1]


def in_order(keys: np.ndarray) -> np.ndarray:
    """int64 (n,): places of whole numbers (int64 (n,)) in rising order; equal ones stay as they stand.

    Few different ones, as slots and devices are, are sorted in a time that grows with their count alone.
    """
    if len(keys) < 2 or not (keys[1:] < keys[:-1]).any():
        return np.arange(len(keys))
    low, high = int(keys.min()), int(keys.max())
    if high - low < 1 << 16:
        return np.argsort((keys - low).astype(np.uint16), kind="stable")
    return np.argsort(keys, kind="stable")


def in_order_of(*keys: np.ndarray) -> np.ndarray:
    """int64 (n,): places in rising order of several whole numbers (int64 or bool, (n,) each), the first of which weighs
    most; equal ones stay as they stand. Stretches that are in order already are merged.
    """
    if not len(keys[0]):
        return np.zeros(0, np.int64)
    key = _together(keys)[0]
    return np.lexsort(keys[::-1]) if key is None else np.argsort(key, kind="stable")


def in_turn(device: np.ndarray, row: np.ndarray, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Readings (int64 (n,) each) in the order of device, message and time, those that have all three in common as one:
    the place of the first of each, int64 (m,), and which of these each reading is, int64 (n,).
    """
    which = np.empty(len(row), np.int64)
    if (row[1:] > row[:-1]).all():  # each is the only one of its message
        order = in_order(device)
        which[order] = np.arange(len(order))
        return order, which
    forth = (row[1:] > row[:-1]) | ((row[1:] == row[:-1]) & (at[1:] >= at[:-1]))
    order = in_order(device) if forth.all() else in_order_of(device, row, at)
    a, b, c = device[order], row[order], at[order]
    fresh = np.ones(len(order), bool)
    fresh[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1]) | (c[1:] != c[:-1])
    which[order] = np.cumsum(fresh) - 1
    return order[fresh], which


def _together(columns: Iterable[np.ndarray]) -> tuple[np.ndarray | None, list[int], list[int]]:
    """Rows of whole numbers (at least one row) as one number each (int64 (n,)), in the same order, None where they do
    not fit; the lowest number of each column, and how many from it to its highest.
    """
    own = [column.astype(np.int64, copy=False) for column in columns]
    lows = [int(column.min()) for column in own]
    widths = [int(column.max()) - low + 1 for column, low in zip(own, lows, strict=True)]
    if prod(widths) >= 1 << 62:
        return None, lows, widths
    key = np.zeros(len(own[0]), np.int64)
    for column, low, width in zip(own, lows, widths, strict=True):
        key = key * width + (column - low)
    return key, lows, widths


def distinct(*columns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The different rows of whole numbers (k columns, (n,) each), rising: int64 (k, m), and which of them each row is:
    int64 (n,).
    """
    table = np.stack(columns).astype(np.int64, copy=False)
    if not table.shape[1]:
        return table, np.zeros(0, np.int64)
    key, lows, widths = _together(table)
    if key is None:
        order = np.lexsort(table[::-1])
        rows = table[:, order]
        first = np.append(True, (rows[:, 1:] != rows[:, :-1]).any(axis=0))
        which = np.empty(len(order), np.int64)
        which[order] = np.cumsum(first) - 1
        return rows[:, first], which
    if prod(widths) <= 4 * len(key) + 1024:  # few enough to be counted instead of sorted
        there = np.bincount(key, minlength=prod(widths)) > 0
        keys, which = np.flatnonzero(there), (np.cumsum(there) - 1)[key]
    else:
        keys, which = np.unique(key, return_inverse=True)
    found = np.empty((len(table), len(keys)), np.int64)
    for k in range(len(table) - 1, -1, -1):
        keys, found[k] = np.divmod(keys, widths[k])
        found[k] += lows[k]
    return found, which


def among(known: np.ndarray, asked: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which of int64 (n,) are among int64 (m,), rising: bool (n,); and at which places these stand there."""
    there = np.isin(asked, known)
    return there, np.searchsorted(known, asked[there])


def middles(table: np.ndarray) -> np.ndarray:
    """float (n,): the median of what is known of each row of float (n, m); NaN where nothing is."""
    if not table.size:
        return np.full(len(table), np.nan)
    rising = np.sort(table, axis=1)  # what is not known comes last
    known = (~np.isnan(table)).sum(axis=1)
    rows = np.arange(len(table))
    return (rising[rows, (known - 1) // 2] + rising[rows, known // 2]) / 2
