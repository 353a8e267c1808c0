"""A parsed route to its lines."""

from __future__ import annotations

from typing import Any

from lark import v_args

from ..build import span_of, token_span, unquoted
from ..hours import ScopedBuild
from . import lines


@v_args(meta=True)
class RouteBuild(ScopedBuild):
    """The lines of a route from a parse."""

    def at_site(self, m: Any, c: list[Any]) -> lines.Topic:
        return lines.Topic(span_of(m), unquoted(c[0]))  # told apart from names and labels by its class

    def on(self, m: Any, c: list[Any]) -> lines.On:
        types = tuple(str(part) for part in c if isinstance(part, str))
        site = next((part.pattern for part in c if isinstance(part, lines.Topic)), None)
        return lines.On(span_of(m), types, site, tuple(part for part in c if isinstance(part, tuple)))

    def devices(self, m: Any, c: list[Any]) -> lines.Devices:
        return lines.Devices(span_of(m), tuple(unquoted(name) for name in c))

    def topic(self, m: Any, c: list[Any]) -> lines.Topic:
        return lines.Topic(span_of(m), unquoted(c[0]))

    def when(self, m: Any, c: list[Any]) -> lines.When:
        return lines.When(span_of(m), c[0], tuple(c[1:-1]), c[-1] or ())

    def otherwise(self, m: Any, c: list[Any]) -> tuple[lines.Act, ...]:
        return tuple(c)

    def drop(self, m: Any, c: list[Any]) -> lines.Drop:
        return lines.Drop(span_of(m), unquoted(c[0]), _names(c[1:]))

    def drop_message(self, m: Any, c: list[Any]) -> lines.Drop:
        return lines.Drop(span_of(m), unquoted(c[0]), (), True)

    def correct(self, m: Any, c: list[Any]) -> lines.Correct:
        return lines.Correct(span_of(m), str(c[0]), c[1])

    def derive(self, m: Any, c: list[Any]) -> lines.Derive:
        return lines.Derive(span_of(m), str(c[0]), c[1], str(c[2]) if c[2] else None)

    def gather(self, m: Any, c: list[Any]) -> lines.Gather:
        name, value, unit, step, step_unit = c
        every = (str(step), str(step_unit)) if step else None
        return lines.Gather(span_of(m), str(name), value, str(unit) if unit else None, every)

    def thin(self, m: Any, c: list[Any]) -> lines.Thin:
        *names, number, unit, step, step_unit = c
        band = (str(number), str(unit) if unit else None) if number else None
        return lines.Thin(span_of(m), _names(names), band, (str(step), str(step_unit)) if step else None)

    def mark(self, m: Any, c: list[Any]) -> lines.Mark:
        return lines.Mark(span_of(m), str(c[0]), unquoted(c[1]))

    def send(self, m: Any, c: list[Any]) -> lines.Send:
        return lines.Send(span_of(m), _names(c[:-1]), unquoted(c[-1]))

    def stop(self, m: Any, c: list[Any]) -> lines.Stop:
        return lines.Stop(span_of(m))

    def route(self, m: Any, c: list[Any]) -> lines.Route:
        acts = tuple(part for part in c[1:] if isinstance(part, lines.Act))
        return lines.Route(
            token_span(c[0]), unquoted(c[0]), tuple(p for p in c[1:] if not isinstance(p, lines.Act)), acts
        )


def _names(parts: list[Any]) -> tuple[str, ...]:
    return tuple(str(part) for part in parts if part is not None)
