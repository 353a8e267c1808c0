"""The root of what the core raises on purpose, so that a caller can tell it from a mistake in the program."""

from __future__ import annotations


class OculumError(Exception):
    """Something that was asked for cannot be done; the message says what was found and what was expected."""
