"""What a shift hands over, in words: lines for the screen, and the whole as Markdown."""

from __future__ import annotations

from collections.abc import Sequence

from oculum.language.wording import named
from oculum.quantities import measured
from server.rules.fading import BATTERY, CLOCK, LINK, Fades
from server.rules.watch import Unusual

MINUTE_S, HOUR_S, DAY_S = 60.0, 3600.0, 86_400.0


def short(value: float) -> str:
    """Three digits that count, no power of ten."""
    if value == 0:
        return "0"
    text = f"{value:.3g}"
    return text if "e" not in text else f"{value:.0f}"


def spoken(seconds: float) -> str:
    """A length of time in the unit that suits it, with its sign."""
    size = abs(seconds)
    for least, step, word in ((2 * DAY_S, DAY_S, "d"), (2 * HOUR_S, HOUR_S, "h"), (2 * MINUTE_S, MINUTE_S, "min")):
        if size >= least:
            return f"{short(round(seconds / step, 1))} {word}"
    return f"{short(round(seconds, 1))} s"


def days(count: float) -> str:
    return "less than a day" if count < 1 else f"{count:.0f} day{'s' if round(count) != 1 else ''}"


def fades_words(one: Fades) -> str:
    """What fades, where it stands, how fast, and what is left."""
    if one.kind == BATTERY:
        now = f"{named(one.field)} at {measured(short(one.at), one.unit)}"
        if one.left is None or one.level is None:
            return now
        level = measured(short(one.level), one.unit)
        if one.left[0] == 0:
            return f"{now}, at or below {level}"
        latest = days(one.left[2]) if one.left[2] is not None else "never"
        spread = f" ({days(one.left[1]).split()[0]} to {latest})" if latest != days(one.left[0]) else ""
        return f"{now}; {level} in {days(one.left[0])}{spread}"
    if one.kind == LINK:
        week = measured(short(abs(one.per_day) * 7), "dB")
        return f"{named(one.field)} at {measured(short(one.at), one.unit)}, weaker by {week} a week"
    if one.kind == CLOCK:
        side = "ahead" if one.at > 0 else "behind"
        turn = "gains" if one.per_day > 0 else "loses"
        return f"clock {spoken(abs(one.at))} {side}, {turn} {spoken(abs(one.per_day))} a day"
    return f"messages {spoken(one.at)} late, {spoken(abs(one.per_day) * 7)} more each week"


def unusual_words(one: Unusual) -> str:
    """By how much a device lies apart from its neighbours."""

    def unit(value: float) -> str:
        return measured(short(value), one.unit)

    side = "above" if one.value > one.middle else "below"
    return (
        f"{named(one.field)} {unit(one.value)}; {one.neighbours} others of its kind there {short(one.low)} to"
        f" {unit(one.high)}, so {unit(abs(one.value - one.middle))} {side} their middle"
    )


def share(value: float | None) -> str:
    return "unknown" if value is None else f"{value * 100:.1f} %"


def markdown(title: str, about: str, sections: Sequence[tuple[str, Sequence[str]]]) -> str:
    """A hand-over as Markdown; what has no line is left out."""
    lines = [f"# {title}", "", about, ""]
    for head, rows in sections:
        if rows:
            lines += [f"## {head}", "", *(f"- {row}" for row in rows), ""]
    return "\n".join(lines)
