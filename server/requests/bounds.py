"""Bounds on work that takes long: a person's share of it, and what all together may take.

Such work has connections to the database of its own, and a share of the process; without bounds, a few people
could keep everybody from the rest.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

from server.records.people.models import Person
from server.rules.refusal import Refused

OF_ONE, OF_ALL = 2, 4
PATIENCE_S = 1.5
TURN_S = 0.03


class Slots:
    """How many pieces of work are under way, by person. patience_s: how long one waits for a place."""

    def __init__(self, of_one: int, of_all: int, patience_s: float) -> None:
        self.of_one, self.of_all, self.patience_s = of_one, of_all, patience_s
        self.change = threading.Condition()
        self.busy: Counter[int] = Counter()

    def take(self, person: int) -> str | None:
        """None when a slot is taken, else why there is none. Work that was given up frees its own within moments."""
        with self.change:
            if not self.change.wait_for(lambda: self._why(person) is None, self.patience_s):
                return self._why(person)
            self.busy[person] += 1
        return None

    async def taken(self, person: int) -> str | None:
        """As `take`, without a thread that waits: who goes away meanwhile has taken nothing."""
        until = time.monotonic() + self.patience_s
        while True:
            with self.change:
                why = self._why(person)
                if why is None:
                    self.busy[person] += 1
                    return None
            if time.monotonic() > until:
                return why
            await asyncio.sleep(TURN_S)

    def _why(self, person: int) -> str | None:
        if self.busy[person] >= self.of_one:
            return f"{self.of_one} of your trials are under way; wait for one, or stop it"
        if self.busy.total() >= self.of_all:
            return "as many trials as can be are under way; try again in a moment"
        return None

    def free(self, person: int) -> None:
        with self.change:
            self.busy[person] -= 1
            if self.busy[person] <= 0:
                del self.busy[person]
            self.change.notify_all()

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


long_work = Slots(OF_ONE, OF_ALL, PATIENCE_S)
hashing = threading.BoundedSemaphore(3)  # each takes 100 MB for a moment
