"""What lies in what, and speaks through what: chains up to the top that end wherever somebody has made a ring."""

from __future__ import annotations

from typing import Any

from server.records.fleet.models import Site
from server.rules.refusal import Refused

MOST_DEEP = 16


def chain(thing: Any, up: str) -> list[Any]:
    """A thing and what it lies in, up to the top. Ends also where somebody has made a ring."""
    found: list[Any] = []
    while thing is not None and len(found) <= MOST_DEEP and all(thing.pk != other.pk for other in found):
        found.append(thing)
        thing = getattr(thing, up)
    return found


def within(name: str) -> list[int]:
    """The keys of a site and of all sites in it; none where there is no such site."""
    children: dict[int | None, list[int]] = {}
    start = None
    for pk, parent, site_name in Site.objects.values_list("id", "parent_id", "name"):
        children.setdefault(parent, []).append(pk)
        if site_name == name:
            start = pk
    found: list[int] = []
    waiting = [start] if start else []
    while waiting:
        site = waiting.pop()
        if site in found:
            continue
        found.append(site)
        waiting += children.get(site, [])
    return found


def check_depth(parent: Site | None) -> None:
    if len(chain(parent, "parent")) >= MOST_DEEP:
        raise Refused("invalid", f"sites lie in each other at most {MOST_DEEP} deep")
