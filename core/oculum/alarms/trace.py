"""What a condition compares, for one of those it watches, at every moment at which it is looked at."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..language.conditions.plan import ConditionPlan
from ..language.evaluate import evaluate
from ..language.expressions import Silent


@dataclass
class Trace:
    """key: the condition; subject: a device's number, or (on_site) a site's. Filled by the room, batch by batch."""

    key: int
    subject: int
    on_site: bool = False
    _at: list[np.ndarray] = field(default_factory=list)
    _sides: list[np.ndarray] = field(default_factory=list)
    _rules: list[np.ndarray] = field(default_factory=list)
    _heard: dict[Silent, list[tuple[np.ndarray, np.ndarray]]] = field(default_factory=dict)

    def look(self, plan: ConditionPlan, view: Any, rows: np.ndarray, at: np.ndarray, rules: np.ndarray) -> None:
        """The moments of a batch. rows: int64 (m,), places in what `view` shows; at: int64 (m,), µs; rules: int8
        (steps, m).
        """
        if not len(rows):
            return
        sides = np.full((2 * len(plan.limits), len(rows)), np.nan)
        for k, limit in enumerate(plan.limits):
            for s, side in enumerate((limit.left, limit.right)):
                found = evaluate(side, view)
                values, known = np.asarray(found.values), np.asarray(found.known, bool)
                values = values[rows] if values.ndim else np.broadcast_to(values, rows.shape)
                known = known[rows] if known.ndim else np.broadcast_to(known, rows.shape)
                sides[2 * k + s, known] = values[known].astype(float)
        self._at.append(at)
        self._sides.append(sides)
        self._rules.append(rules)

    def hear(self, node: Silent, at: np.ndarray, limit: np.ndarray) -> None:
        """Arrivals that end a silence, and how long the next one may last. int64 (k,), µs."""
        self._heard.setdefault(node, []).append((at, limit))

    def clear(self) -> None:
        for kept in (self._at, self._sides, self._rules, self._heard):
            kept.clear()

    def compared(self, plan: ConditionPlan) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """at: int64 (m,), rising; sides: float64 (2 limits, m), value and limit in turn, NaN where not known; rules:
        int8 (steps, m), as in `machine`.
        """
        if not self._at:
            return np.zeros(0, np.int64), np.zeros((2 * len(plan.limits), 0)), np.zeros((len(plan.steps), 0), np.int8)
        at = np.concatenate(self._at)
        order = np.argsort(at, kind="stable")
        return at[order], np.concatenate(self._sides, axis=1)[:, order], np.concatenate(self._rules, axis=1)[:, order]

    def silences(self) -> dict[Silent, tuple[np.ndarray, np.ndarray]]:
        """By silence: the arrivals that ended it, and how long the next one may last. int64 (k,), µs."""
        return {
            node: (np.concatenate([at for at, _ in parts]), np.concatenate([limit for _, limit in parts]))
            for node, parts in self._heard.items()
        }
