"""What the tests of the core share."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import settings

from oculum.decoding import loops

settings.register_profile("untimed", deadline=None)  # machines differ; what is slow is measured by benchmarks
settings.load_profile("untimed")


@pytest.fixture(scope="module", params=["compiled", "ordinary"])
def way(request: pytest.FixtureRequest) -> Iterator[str]:
    """Every batch by compiled loops, then none: what decodes must not depend on how many messages come at once."""
    before = loops.FEW
    loops.FEW = -1 if request.param == "compiled" else 10**9
    yield request.param
    loops.FEW = before
