"""Clauses that say at which hours, in which seasons and on which days something counts."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from lark import v_args

from .build import Build, quoted, span_of, unquoted
from .checking import Checker
from .form import Form, FormLine
from .problems import Span
from .tree import Node

ALL_DAYS = frozenset(range(7))  # Monday is 0
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


@dataclass(frozen=True)
class Active(Node):
    begin: str
    end: str
    days: tuple[str, ...]


@dataclass(frozen=True)
class Season(Node):
    begin: str
    end: str


@dataclass(frozen=True)
class Except(Node):
    begin: str
    end: str | None


Clause = Active | Season | Except


@dataclass(frozen=True)
class Hours:
    """When a condition is looked at, on the wall clock of the site's zone.

    spans: minute of the day from which and before which, on which days of the week; one that ends before it begins
    goes on past midnight. seasons: (month, day) from and to, both within. exceptions: days (since 1970) from and to.
    """

    spans: tuple[tuple[int, int, frozenset[int]], ...] = ()
    seasons: tuple[tuple[tuple[int, int], tuple[int, int]], ...] = ()
    exceptions: tuple[tuple[int, int], ...] = ()

    @property
    def always(self) -> bool:
        return not (self.spans or self.seasons or self.exceptions)


ALWAYS = Hours()


def hours_of(check: Checker, clauses: Iterable[Node]) -> Hours:
    """The hours that clauses say together. Raises Halt."""
    spans, seasons, exceptions = [], [], []
    for clause in clauses:
        match clause:
            case Active():
                begin, end = _minute(check, clause.begin, clause.span), _minute(check, clause.end, clause.span)
                if begin == end:
                    check.halt("the hours begin and end at one time", clause.span)
                days = frozenset(DAYS.index(day) for day in clause.days) or ALL_DAYS
                spans.append((begin, end, days))
            case Season():
                seasons.append(
                    (_month_day(check, clause.begin, clause.span), _month_day(check, clause.end, clause.span))
                )
            case Except():
                first = _day(check, clause.begin, clause.span)
                last = _day(check, clause.end, clause.span) if clause.end is not None else first
                if last < first:
                    check.halt("the days run backwards", clause.span)
                exceptions.append((first, last))
    return Hours(tuple(spans), tuple(seasons), tuple(exceptions))


def _minute(check: Checker, text: str, span: Span) -> int:
    found = re.fullmatch(r"([01][0-9]|2[0-4]):([0-5][0-9])", text)
    if found is None or (found[1] == "24" and found[2] != "00"):
        check.halt(f"`{text}` is no time of day: write it as `06:30`", span)
    return int(found[1]) * 60 + int(found[2])


def _month_day(check: Checker, text: str, span: Span) -> tuple[int, int]:
    found = re.fullmatch(r"([0-9]{2})-([0-9]{2})", text)
    try:
        assert found is not None
        date(2000, int(found[1]), int(found[2]))
    except (AssertionError, ValueError):
        check.halt(f"`{text}` is no day of the year: write month and day, as in `04-01`", span)
    return int(found[1]), int(found[2])


def _day(check: Checker, text: str, span: Span) -> int:
    try:
        found = date.fromisoformat(text) if len(text) == 10 else None
    except ValueError:
        found = None
    if found is None:
        check.halt(f"`{text}` is no date: write it as `2026-12-24`", span)
    return (found - date(1970, 1, 1)) // timedelta(days=1)


def hours_text(node: Clause) -> str:
    """A clause as it is written."""
    match node:
        case Active():
            days = f" on {', '.join(node.days)}" if node.days else ""
            return f"active {quoted(node.begin)} to {quoted(node.end)}{days}"
        case Season():
            return f"season {quoted(node.begin)} to {quoted(node.end)}"
        case Except():
            return f"except {quoted(node.begin)}" + (f" to {quoted(node.end)}" if node.end is not None else "")


def hours_form(node: Clause, row: FormLine) -> Form:
    """The form of a clause."""
    match node:
        case Active():
            days = row.after("on", r"\bon (.+?)\s*$", " on ")
            return Form("At which hours", row.line, (row.quoted("from"), row.quoted("to", 1), days))
        case Season():
            return Form("In which part of the year", row.line, (row.quoted("from"), row.quoted("to", 1)))
        case Except():
            return Form("On which days not", row.line, (row.quoted("from"), row.quoted("to", 1)))


@v_args(meta=True)
class ScopedBuild(Build):
    """What conditions and routes begin with alike: labels, and the hours at which they count."""

    def label(self, m: Any, c: list[Any]) -> tuple[str, str, str]:
        return str(c[0]), str(c[1]), unquoted(c[2])

    def active(self, m: Any, c: list[Any]) -> Active:
        days = tuple(str(day) for day in c[2:] if day is not None)
        return Active(span_of(m), unquoted(c[0]), unquoted(c[1]), days)

    def season(self, m: Any, c: list[Any]) -> Season:
        return Season(span_of(m), unquoted(c[0]), unquoted(c[1]))

    def except_(self, m: Any, c: list[Any]) -> Except:
        return Except(span_of(m), unquoted(c[0]), unquoted(c[1]) if c[1] else None)


setattr(ScopedBuild, "except", ScopedBuild.except_)  # a rule by the name of a statement of Python
