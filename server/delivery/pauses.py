"""How long to wait before something is tried again."""

from __future__ import annotations

import random


def growing(first_s: float, longest_s: float, tries: int) -> float:
    """Twice as long after each try, up to the longest; scattered by a fifth, so that what failed at once does not come
    back at once. In seconds.
    """
    return min(first_s * 2 ** min(tries, 20), longest_s) * random.uniform(0.8, 1.2)
