"""Expressions, hours and durations in plain words."""

from __future__ import annotations

from ..quantities import measured
from .expressions import (
    Age,
    AtFence,
    Builtin,
    Called,
    Chosen,
    Combined,
    Compared,
    Constant,
    Converted,
    Ex,
    HeaderText,
    IsMissing,
    LabelText,
    Logical,
    MarkText,
    MessageCount,
    Named,
    Negative,
    Not,
    OfMembers,
    Powered,
    SetpointValue,
    Silent,
    Speed,
    TableEntry,
    TimeDifference,
    Window,
)
from .hours import ALL_DAYS, Hours

SIGNS = {
    "<": "is below",
    "<=": "is at most",
    ">": "is above",
    ">=": "is at least",
    "=": "is",
    "!=": "is not",
}
WINDOWS = {
    "mean": "the mean of {x}",
    "time_mean": "the time-weighted mean of {x}",
    "lowest": "the lowest {x}",
    "highest": "the highest {x}",
    "total": "the sum of {x}",
    "count": "the number of readings of {x}",
    "first": "the first {x}",
    "last": "the last {x}",
    "change": "the change of {x}",
    "relative_change": "the relative change of {x}",
    "rate": "the rate of {x}",
    "deviation": "the standard deviation of {x}",
    "percentile": "the {p} % percentile of {x}",
    "time_in": "the time in which {x}",
}
OF_MEMBERS = {
    "max_of": "the highest {x} of its members",
    "min_of": "the lowest {x} of its members",
    "mean_of": "the mean {x} of its members",
    "sum_of": "the sum of {x} over its members",
    "count_of": "the number of members of which {x}",
    "share_of": "the share of members of which {x}",
    "any_of": "one of its members has {x}",
    "all_of": "all of its members have {x}",
}
FENCES = {
    "inside": "is inside",
    "outside": "is outside",
    "enters": "enters",
    "leaves": "leaves",
    "crosses": "goes through",
}
BUILTINS = {
    "cadence": "its cadence",
    "learned_cadence": "its learned cadence",
    "cadence_spread": "the spread of its cadence",
    "arrival_lag": "the time from measuring to arrival",
    "home": "its home",
    "device": "its name",
    "device_type": "its type",
    "site": "its site",
    "topic": "its topic",
    "received": "the moment of arrival",
    "measured": "the moment of measuring",
}
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def lasting(us: int) -> str:
    """A duration in the largest unit that says it in whole numbers."""
    for size, word in ((86_400_000_000, "d"), (3_600_000_000, "h"), (60_000_000, "min"), (1_000_000, "s")):
        if us % size == 0:
            return f"{us // size} {word}"
    return f"{us / 1e6:g} s"


def spoken_hours(hours: Hours) -> str:
    told = []
    for begin, end, days in hours.spans:
        span = f"from {begin // 60:02}:{begin % 60:02} to {end // 60:02}:{end % 60:02}"
        names = "" if days == ALL_DAYS else " on " + ", ".join(DAYS[d] for d in sorted(days))
        told.append(span + names)
    text = " and ".join(told)
    if hours.seasons:
        seasons = " and ".join(f"from {a[0]:02}-{a[1]:02} to {b[0]:02}-{b[1]:02}" for a, b in hours.seasons)
        text = f"{text}, {seasons} of the year" if text else f"{seasons} of the year"
    if hours.exceptions:
        text += f"{', ' if text else 'always '}but for {len(hours.exceptions)} exceptions"
    return text


def named(name: str) -> str:
    return name.replace("_", " ")


def words(ex: Ex, inside: bool = False) -> str:
    """An expression in words. inside: it stands within another."""
    match ex:
        case Logical():
            text = f"{words(ex.left, True)} {ex.sign} {words(ex.right, True)}"
            return f"({text})" if inside else text
        case Not(value=IsMissing(value=inner)):
            return f"{words(inner, True)} is known"
        case Not():
            return f"not {words(ex.value, True)}"
        case Compared():
            return f"{words(ex.left, True)} {SIGNS[ex.sign]} {_right(ex)}"
        case Constant():
            return _constant(ex)
        case Named():
            return f"{named(ex.name)} is so" if ex.type.kind == "truth" else named(ex.name)
        case SetpointValue():
            return f"its {named(ex.name)}"
        case IsMissing():
            return f"{words(ex.value, True)} is missing"
        case Window():
            over = {"today": "today", "this_week": "this week"}.get(ex.calendar) or f"over {lasting(ex.width)}"
            share = f" (if {ex.share:.0%} of the readings are there)" if ex.share else ""
            return f"{WINDOWS[ex.function].format(x=words(ex.value, True), p=f'{ex.percent:g}')} {over}{share}"
        case Silent():
            what = f"no value of {named(ex.field)}" if ex.field else "nothing"
            limit = lasting(round(ex.limit.value * 1e6)) if _seconds(ex.limit) else words(ex.limit, True)  # type: ignore[attr-defined]
            return f"{what} has arrived for {limit}"
        case MessageCount():
            return f"the number of messages in {lasting(ex.width)}"
        case Age():
            return f"the age of {named(ex.field)}"
        case AtFence():
            margin = f" (left beyond {ex.amount:g} m)" if ex.amount and ex.function != "crosses" else ""
            return f"{named(ex.field)} {FENCES[ex.function]} “{ex.fence}”{margin}"
        case Speed():
            return f"the speed of {named(ex.field)}"
        case OfMembers():
            return OF_MEMBERS[ex.function].format(x=words(ex.value, True))
        case LabelText():
            return f"its label {named(ex.name)}"
        case MarkText():
            return f"its mark {named(ex.name)}"
        case HeaderText():
            return f"the header {ex.name}"
        case TableEntry():
            return f"{named(ex.column)} of “{ex.table}” for {words(ex.key, True)}"
        case Builtin():
            return BUILTINS.get(ex.name, named(ex.name))
        case Converted():
            return words(ex.value, inside)
        case Negative():
            return f"-{words(ex.value, True)}"
        case Powered():
            return f"{words(ex.value, True)} ^ {ex.exponent:g}"
        case Combined() if ex.sign == "*" and isinstance(ex.left, Constant):
            return f"{words(ex.left)} times {words(ex.right, True)}"
        case Combined() | TimeDifference():
            sign = ex.sign if isinstance(ex, Combined) else "-"
            text = f"{words(ex.left, True)} {sign} {words(ex.right, True)}"
            return f"({text})" if inside else text
        case Chosen():
            return f"(if {words(ex.rule)} then {words(ex.then, True)} else {words(ex.otherwise, True)})"
        case Called():
            return f"{named(ex.function)}({', '.join(words(a) for a in ex.arguments)})"
    return named(type(ex).__name__.lower())


def _seconds(ex: Ex) -> bool:
    return isinstance(ex, Constant) and isinstance(ex.value, float)


def _right(ex: Compared) -> str:
    """The right side of a comparison; the number of a code as its text, seconds as a duration."""
    right, texts = ex.right, dict(ex.left.type.codes)
    if isinstance(right, Constant) and isinstance(right.value, float):
        if texts:
            return texts.get(int(right.value), f"{right.value:g}")
        if getattr(ex.left, "function", "") in ("share_of", "relative_change"):
            return f"{right.value * 100:g} %"
        unit = right.type.unit
        if unit is not None and unit.code == "s" and right.value * 1e6 == int(right.value * 1e6):
            return lasting(int(right.value * 1e6))
    return words(right, True)


def _constant(ex: Constant) -> str:
    if isinstance(ex.value, bool):
        return "true" if ex.value else "false"
    if isinstance(ex.value, float):
        code = ex.type.unit.code if ex.type.unit else None
        if ex.value == 0 and ex.type.unit is not None and ex.type.unit.scale is not None:
            code = None  # of a unit that nobody wrote
        return measured(f"{ex.value:g}", code if code != "1" else None)
    return f"“{ex.value}”"
