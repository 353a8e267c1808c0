"""How several engines divide the work: each goes through the whole stream, and writes what belongs to its share.

So every engine knows all that a condition on sites or a gateway's silence speaks of, and no device ever has to be
handed from one engine to another.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oculum.batches import Group


@dataclass(frozen=True)
class Share:
    """One of `of` shares: the devices and sites whose number leaves `number` when divided by `of`."""

    number: int = 0
    of: int = 1

    def has(self, ident: int) -> bool:
        return ident % self.of == self.number

    def mask(self, ids: np.ndarray) -> np.ndarray:
        """bool (n,) for int64 (n,)."""
        return np.asarray(ids % self.of == self.number)

    def of_group(self, group: Group, device: np.ndarray) -> Group:
        """The readings of the share's devices. device: int64 (n,), the sender of each message."""
        if self.of == 1:
            return group
        owner = group.owner if group.owner is not None else device[group.rows]
        return group.chosen(np.flatnonzero(self.mask(owner)))


WHOLE = Share()
