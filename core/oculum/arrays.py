"""Types of the arrays that go between the parts of the core, by what their elements are."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]
Ints = NDArray[np.int64]  # numbers of rows, identities, times in microseconds
Shorts = NDArray[np.integer[Any]]  # states, numbers of failures: whole numbers of any width
Truths = NDArray[np.bool_]
Values = NDArray[Any]  # as the kind of a field has them: float64, uint64, objects
