"""Types of the arrays that go between the parts of the core, by what their elements are; columns of objects, and the
order of a column.
"""

from __future__ import annotations

from collections.abc import Iterable
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
