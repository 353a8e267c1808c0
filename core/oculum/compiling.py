"""Loops that no array operation says well, as machine code."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property
from types import FunctionType, ModuleType
from typing import Any


class Loops:
    """Functions of some modules by their names, compiled when the first of them is asked for. What a loop calls of the
    same module is compiled with it, where it is listed before.
    """

    def __init__(self, *listed: tuple[ModuleType, Iterable[str]]) -> None:
        self._listed = listed

    def __call__(self, name: str) -> Callable[..., Any]:
        return self._code[name]

    @cached_property
    def _code(self) -> dict[str, Callable[..., Any]]:
        from numba import njit  # half a second, which nobody waits for who has no use for it

        found: dict[str, Callable[..., Any]] = {}
        for module, names in self._listed:
            around = dict(vars(module))
            for name in names:
                plain = getattr(module, name)
                own = FunctionType(plain.__code__, around, name, plain.__defaults__, plain.__closure__)
                own.__module__, own.__qualname__ = plain.__module__, plain.__qualname__
                try:
                    found[name] = around[name] = njit(cache=True)(own)
                except RuntimeError:  # no place to keep it
                    found[name] = around[name] = njit(own)
        return found
