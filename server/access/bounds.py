"""Bounds on work that takes long: a person's share of it, and what all together may take.

Such work has connections to the database of its own, and a share of the process; without bounds, a few people
could keep everybody from the rest.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

from .errors import Refused
from .models import Person

OF_ONE, OF_ALL = 2, 4


class Slots:
    """How many pieces of work are under way, by person."""

    def __init__(self, of_one: int, of_all: int) -> None:
        self.of_one, self.of_all = of_one, of_all
        self.lock = threading.Lock()
        self.busy: Counter[int] = Counter()

    def take(self, person: int) -> str | None:
        """None when a slot is taken, else why there is none."""
        with self.lock:
            if self.busy[person] >= self.of_one:
                return f"{self.of_one} of your trials are under way; wait for one, or stop it"
            if self.busy.total() >= self.of_all:
                return "as many trials as can be are under way; try again in a moment"
            self.busy[person] += 1
        return None

    def free(self, person: int) -> None:
        with self.lock:
            self.busy[person] -= 1
            if self.busy[person] <= 0:
                del self.busy[person]

    @contextmanager
    def held(self, person: Person) -> Iterator[None]:
        """A slot for as long as the work goes on. Raises Refused (429)."""
        why = self.take(person.pk)
        if why is not None:
            raise Refused("busy", why, 429)
        try:
            yield
        finally:
            self.free(person.pk)


long_work = Slots(OF_ONE, OF_ALL)
hashing = threading.BoundedSemaphore(3)  # each takes 100 MB for a moment
