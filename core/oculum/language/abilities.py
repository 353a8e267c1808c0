"""What a place in a definition may use."""

from __future__ import annotations

from enum import Enum


class Ability(Enum):
    """What a place in a definition may use; functions ask for it. The value says where there is such a place."""

    PAYLOAD = "reads bytes and stands in decoders only"
    BEFORE = "stands in decoders only: it speaks of the message before"
    REPEATS = "speaks of lines inside a repeat and stands in decoders, and over the members of a site"
    SETPOINTS = "belongs to conditions and routes"
    PAST = "looks at the past of a field and stands in conditions and routes only"
    FENCES = "speaks of a fence and stands in conditions and routes only"
    CLOCK = "goes by the clock and stands in conditions only"
    READING = "speaks of a reading on its way and stands in routes only"
    MEMBERS = "speaks of the members of a site and stands in conditions on a site and behind `gather` only"
