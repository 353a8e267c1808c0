"""How often a property is tried: other examples each time, so many that the whole test is done in half an hour."""

from __future__ import annotations

import os

# 1 is what each test asks for itself; OCULUM_EXAMPLES=10 looks ten times as far.
SHARE = float(os.environ.get("OCULUM_EXAMPLES", "0.6"))


def examples(asked: int) -> int:
    return max(round(asked * SHARE), 1)
