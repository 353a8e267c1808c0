"""How the texts of routes are read."""

from __future__ import annotations

from pathlib import Path

from ..parser import Opening, Syntax
from .build import RouteBuild


def opening(following: str) -> Opening:
    """What stands for a faulty line with a block below it."""
    return (("WHEN", "when"), ("TRUE", "true"))


SYNTAX = Syntax(
    "route",
    'route "name"',
    (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8"),
    RouteBuild,
    opening,
    (("STOP", "stop"),),
)
