"""Regular expressions that take a time that grows with the text alone."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import re2

from . import limits


@lru_cache(maxsize=256)
def compiled(pattern: str) -> Any:
    """Raises ValueError, with why, for what cannot be read or is too long."""
    if len(pattern) > limits.PATTERN_CHARACTERS:
        raise ValueError(f"a pattern has at most {limits.PATTERN_CHARACTERS} characters")
    options = re2.Options()
    options.log_errors = False
    options.max_mem = limits.PATTERN_MEMORY
    try:
        return re2.compile(pattern, options)
    except re2.error as error:
        detail = (
            error.args[0].decode(errors="replace") if error.args and isinstance(error.args[0], bytes) else str(error)
        )
        raise ValueError(f"the pattern cannot be read: {detail}") from None


def matches(text: str, pattern: str) -> bool:
    """Whether a pattern takes a text from its beginning to its end."""
    return compiled(pattern).fullmatch(text) is not None
