"""How the texts of conditions are read."""

from __future__ import annotations

from pathlib import Path

from ..parser import Syntax
from .build import ConditionBuild

SYNTAX = Syntax(
    "condition",
    'condition "name" priority high',
    (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8"),
    ConditionBuild,
)
