"""A parsed condition to its clauses."""

from __future__ import annotations

from typing import Any

from lark import v_args

from ..build import span_of, token_span, unquoted
from ..hours import ScopedBuild
from . import clauses


@v_args(meta=True)
class ConditionBuild(ScopedBuild):
    """The clauses of a condition from a parse."""

    def at_site(self, m: Any, c: list[Any]) -> str:
        return unquoted(c[0])

    def on(self, m: Any, c: list[Any]) -> clauses.On:
        return clauses.On(span_of(m), str(c[0]), c[1], tuple(p for p in c[2:] if p is not None))

    def on_sites(self, m: Any, c: list[Any]) -> clauses.On:
        return clauses.On(span_of(m), str(c[0]), c[1], tuple(p for p in c[2:] if p is not None), True)

    def held(self, m: Any, c: list[Any]) -> clauses.Held:
        return clauses.Held(span_of(m), str(c[0]), str(c[1]))

    def raise_(self, m: Any, c: list[Any]) -> clauses.Raise:
        priority, rule, number, unit, held = c
        band = clauses.Deadband(token_span(number), str(number), str(unit) if unit else None) if number else None
        return clauses.Raise(span_of(m), str(priority) if priority else None, rule, band, held)

    def clear(self, m: Any, c: list[Any]) -> clauses.Clear:
        return clauses.Clear(span_of(m), c[0], c[1])

    def clear_held(self, m: Any, c: list[Any]) -> clauses.Clear:
        return clauses.Clear(span_of(m), None, c[0])

    def fixes(self, m: Any, c: list[Any]) -> clauses.Fixes:
        return clauses.Fixes(span_of(m), str(c[0]), str(c[1]), str(c[2]) if c[2] else None)

    def every(self, m: Any, c: list[Any]) -> clauses.Every:
        return clauses.Every(span_of(m), str(c[0]), str(c[1]))

    def say(self, m: Any, c: list[Any]) -> clauses.Say:
        return clauses.Say(span_of(m), unquoted(c[0]))

    def condition(self, m: Any, c: list[Any]) -> clauses.Condition:
        return clauses.Condition(token_span(c[0]), unquoted(c[0]), str(c[1]), tuple(c[2:]))


# A rule by the name of a statement of Python.
setattr(ConditionBuild, "raise", ConditionBuild.raise_)
