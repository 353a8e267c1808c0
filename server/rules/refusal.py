"""What cannot be carried out, with the reason for the person who asked."""

from __future__ import annotations

from typing import Any

from oculum.errors import OculumError


class Refused(OculumError):
    """A request that cannot be carried out: a kind in a word or two, a sentence, an HTTP status, what belongs to it."""

    def __init__(self, code: str, message: str, status: int = 400, **more: Any) -> None:
        super().__init__(message)
        self.code, self.sentence, self.status_code, self.more = code, message, status, more
