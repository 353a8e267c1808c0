"""The root of what the core raises on purpose, so that a caller can tell it from a mistake in the program."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager


class OculumError(Exception):
    """Something that was asked for cannot be done; the message says what was found and what was expected."""


class EvaluationFailed(OculumError):
    """A definition in force that could not be evaluated. key: which one. Whatever evaluated it is not to be used any
    more.
    """

    def __init__(self, key: int, error: Exception) -> None:
        super().__init__(f"{type(error).__name__}: {error}")
        self.key = key

    @classmethod
    @contextmanager
    def of(cls, key: int) -> Iterator[None]:
        """Whatever fails inside is the failure of a definition."""
        try:
            yield
        except Exception as error:
            raise cls(key, error) from error
