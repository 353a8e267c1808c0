"""What the tests of the core share."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from oculum.decoding import loops
from oculum.history import events


@pytest.fixture(scope="module", params=["compiled", "ordinary"])
def way(request: pytest.FixtureRequest) -> Iterator[str]:
    """Every batch by compiled loops, then none: what comes of it must not depend on how many come at once."""
    before = loops.FEW, events.FEW
    loops.FEW = events.FEW = -1 if request.param == "compiled" else 10**9
    yield request.param
    loops.FEW, events.FEW = before
