"""What the parts of the decoder ask of the one that walks."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from ..language.decoders.plan import Cleaned, Step, Zoned
from ..language.expressions import Ex
from .level import Batch, Level


class Walker(Protocol):
    """Runs steps over rows of a level; see `run.Run`."""

    batch: Batch

    def run(self, level: Level, steps: tuple[Step, ...], rows: np.ndarray) -> np.ndarray: ...

    def numbers(self, ex: Ex, level: Level, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]: ...

    def clean(
        self,
        level: Level,
        step: Cleaned,
        rows: np.ndarray,
        result: np.ndarray,
        state: np.ndarray,
        raws: list[np.ndarray],
        floats: bool,
    ) -> tuple[np.ndarray, np.ndarray]: ...

    def stamp_field(self, level: Level, name: str, ex: Ex, rows: np.ndarray) -> None: ...

    def calendar(
        self, level: Level, zoned: Zoned, parts: dict[str, np.ndarray], rows: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]: ...

    def note(
        self, level: Level, row: int, line: int, name: str, places: list[dict[str, Any]], raw: Any, **more: Any
    ) -> None: ...
