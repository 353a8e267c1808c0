"""What the tests of the core share."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from oculum.decoding import loops


@pytest.fixture(scope="module", params=["compiled", "ordinary"])
def way(request: pytest.FixtureRequest) -> Iterator[str]:
    """Every batch by compiled loops, then none: what decodes must not depend on how many messages come at once."""
    before = loops.FEW
    loops.FEW = -1 if request.param == "compiled" else 10**9
    yield request.param
    loops.FEW = before
