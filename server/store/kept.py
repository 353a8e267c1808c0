"""What was read from the database and will be asked for again, as far as there is room."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class Kept(Generic[T]):
    """The values used last, of at most so many bytes together; with `seconds`, each for no longer than that."""

    def __init__(self, most: int, seconds: float = float("inf")) -> None:
        self.most, self.seconds = most, seconds
        self.lock = threading.Lock()
        self.found: OrderedDict[Hashable, tuple[float, int, T]] = OrderedDict()
        self.size = 0

    def get(self, key: Hashable) -> T | None:
        with self.lock:
            now = time.monotonic()
            self._drop(lambda until: until < now)
            found = self.found.get(key)
            if found is not None:
                self.found.move_to_end(key)
            return found[2] if found is not None else None

    def put(self, key: Hashable, value: T, size: int) -> None:
        """size: how many bytes it takes."""
        with self.lock:
            if size > self.most or key in self.found:
                return
            self.found[key] = time.monotonic() + self.seconds, size, value
            self.size += size
            while self.size > self.most:
                self.size -= self.found.popitem(last=False)[1][1]

    def forget(self) -> None:
        with self.lock:
            self._drop(lambda _: True)

    def _drop(self, which: Callable[[float], bool]) -> None:
        for key in [key for key, (until, _, _) in self.found.items() if which(until)]:
            self.size -= self.found.pop(key)[1]
