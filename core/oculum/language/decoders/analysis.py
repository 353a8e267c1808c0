"""What can be told of a checked decoder without running it."""

from __future__ import annotations

from ..expressions import Builtin, CheckSum, Ex, IsMissing, Named, Previous, Stored
from .plan import (
    ApartStep,
    ChooseStep,
    DeriveStep,
    DeviceStep,
    Extent,
    HandStep,
    LengthStep,
    MissingStep,
    OpenStep,
    OriginStep,
    ReadStep,
    RecordsStep,
    RejectStep,
    RepeatStep,
    SkipStep,
    SpanStep,
    StampStep,
    Step,
    ValueStep,
    WhenStep,
)


def sets_own(step: Step) -> bool:
    match step:
        case StampStep() | DeviceStep():
            return True
        case ReadStep() | ValueStep() | SpanStep() | DeriveStep():
            return step.cleaning.stamped is not None
        case WhenStep():
            return any(map(sets_own, (*step.body, *step.otherwise)))
        case ChooseStep():
            return any(sets_own(s) for _, body in step.arms for s in body) or any(map(sets_own, step.otherwise))
        case ApartStep() | OpenStep():
            return any(map(sets_own, step.body))
    return False


def bodies(step: Step) -> tuple[tuple[Step, ...], ...]:
    match step:
        case WhenStep():
            return step.body, step.otherwise
        case ChooseStep():
            return (*(body for _, body in step.arms), step.otherwise)
        case RepeatStep() | ApartStep() | OpenStep():
            return (step.body,)
    return ()


def lines(steps: tuple[Step, ...]) -> set[int]:
    """The lines that these steps stand on, with all below them."""
    found: set[int] = set()
    for step in steps:
        found.add(step.line)
        for body in bodies(step):
            found |= lines(body)
    return found


def untaken(steps: tuple[Step, ...], taken: set[int]) -> set[int]:
    """The lines that a message did not take, the head of an arm with its body."""
    found = lines(steps) - taken
    for step in steps:
        if isinstance(step, ChooseStep):
            found |= {rule.line for rule, body in step.arms if body and not lines(body) & taken}
        for body in bodies(step):
            found |= untaken(body, taken) - found
    return found


def hands(steps: tuple[Step, ...]) -> bool:
    return any(isinstance(step, HandStep) or any(map(hands, bodies(step))) for step in steps)


def given(steps: tuple[Step, ...]) -> set[str]:
    """Names that these steps give on their own level."""
    found: set[str] = set()
    for step in steps:
        if isinstance(step, ReadStep | SpanStep | ValueStep | DeriveStep):
            found.add(step.name)
        elif isinstance(step, MissingStep):
            found |= {spec.name for spec in step.specs}
        if not isinstance(step, RepeatStep):
            found = found.union(*map(given, bodies(step)))
    return found


def reads(steps: tuple[Step, ...]) -> bool:
    """Whether something here moves the cursor."""
    return any(
        isinstance(step, ReadStep | SkipStep | SpanStep | RecordsStep) or any(map(reads, bodies(step)))
        for step in steps
    )


def stuck(steps: tuple[Step, ...], tail: int) -> list[tuple[int, int]]:
    """Lines with `next` that stand at the end of the payload whatever the message is, and the line that took all of it.

    tail: bytes at the end that a check has for itself, which repeats leave.
    """
    found: list[tuple[int, int]] = []
    taker = 0  # the line that has read up to the end
    for step in steps:
        match step:
            case ReadStep():
                modes = {raw.place.mode for raw in step.raws}
                if taker and modes & {"next", "stream"}:
                    found.append((step.line, taker))
                taker = 0 if modes & {"start", "register", "next", "stream"} else taker
            case SpanStep() | OpenStep() | HandStep() if step.extent is not None:
                if taker and step.extent.mode in ("next", "rest"):
                    found.append((step.line, taker))
                if to_the_end(step.extent):
                    taker = step.line
                elif step.extent.mode in ("start", "between", "register", "next"):
                    taker = 0
            case RepeatStep(kind="end"):
                if taker:
                    found.append((step.line, taker))
                taker = 0 if tail else step.line
            case RepeatStep(kind="times" | "bits") | SkipStep():
                if taker:
                    found.append((step.line, taker))
                taker = 0
            case WhenStep() | ChooseStep():
                taker = 0
        for body in bodies(step):
            found += stuck(body, 0 if isinstance(step, OpenStep) else tail)
    return found


def to_the_end(extent: Extent) -> bool:
    """Whether `next` stands at the end behind it; what is counted from the end leaves its place as it is."""
    return extent.mode == "rest" or (extent.mode == "between" and extent.width == -1)


def expressions(step: Step) -> tuple[Ex, ...]:
    match step:
        case DeriveStep():
            return (step.value, *(s.when for s in step.cleaning.sentinels if s.when is not None))
        case ReadStep() | ValueStep() | SpanStep():
            stamped = (step.cleaning.stamped,) if step.cleaning.stamped else ()
            return (*stamped, *(s.when for s in step.cleaning.sentinels if s.when is not None))
        case RejectStep():
            return (step.rule,) if step.rule else ()
        case MissingStep():
            return (step.rule,)
        case WhenStep():
            return (step.rule,)
        case ChooseStep():
            return tuple(rule for rule, _ in step.arms)
        case StampStep() | DeviceStep() | OriginStep():
            return (step.value,)
        case LengthStep():
            return (step.low, step.high) if step.high else (step.low,)
        case SkipStep():
            return () if isinstance(step.count, int) else (step.count,)
        case RepeatStep():
            return tuple(e for e in (step.value, step.each) if e is not None)
    return ()


def previous(steps: tuple[Step, ...]) -> set[str]:
    """Names whose value in the repeat before is asked for here."""
    found: set[str] = set()
    for step in steps:
        for ex in expressions(step):
            found |= {part.name for part in ex.walk() if isinstance(part, Previous)}
        if not isinstance(step, RepeatStep):
            for body in bodies(step):
                found |= previous(body)
    return found


def advance(steps: tuple[Step, ...]) -> int | None:
    """Bits that these steps take from the cursor, or None where it depends on the message."""
    total = 0
    for step in steps:
        match step:
            case ReadStep():
                for raw in step.raws:
                    mode = raw.place.mode
                    if mode == "stream":
                        total += raw.bits
                    elif mode == "next" and raw.place.width:
                        if total % 8:
                            return None
                        total += 8 * raw.place.width
                    elif mode != "same":
                        return None
            case SpanStep():
                if step.extent.mode != "next" or not isinstance(step.extent.width, int) or total % 8:
                    return None
                total += 8 * step.extent.width
            case SkipStep():
                if not isinstance(step.count, int):
                    return None
                total += step.count * step.unit_bits
            case WhenStep() | ChooseStep():
                arms = {advance(body) for body in bodies(step)}
                if len(arms) != 1 or None in arms:
                    return None
                total += arms.pop() or 0
            case DeriveStep() | MissingStep() | RejectStep() | StampStep() | DeviceStep():
                pass
            case _:
                return None
    return total


def tail(steps: tuple[Step, ...]) -> int:
    """Bytes at the end that are read from there: outside of `to end`."""
    longest = 0

    for step in steps:
        for ex in expressions(step):
            read = [part.raw.place for part in ex.walk() if isinstance(part, Stored)]
            longest = max([longest, *(-place.offset for place in read if place.mode == "end")])
        if isinstance(step, ReadStep):
            for raw in step.raws:
                if raw.place.mode == "end":
                    longest = max(longest, -raw.place.offset)
        if isinstance(step, WhenStep | ChooseStep):
            longest = max([longest, *(tail(body) for body in bodies(step))])
    return longest


def reads_tags(steps: tuple[Step, ...]) -> bool:
    """Whether a line reads the tag of a value of CBOR."""
    return any(
        isinstance(step, ValueStep) and step.form == "tag" or any(reads_tags(body) for body in bodies(step))
        for step in steps
    )


def rejected(steps: tuple[Step, ...], name: str) -> bool:
    """Whether messages in which this value is missing are refused."""

    def asks(ex: Ex) -> bool:
        return any(
            isinstance(part, IsMissing) and isinstance(part.value, Named) and part.value.name == name
            for part in ex.walk()
        )

    return any(
        (isinstance(s, RejectStep) and s.rule is not None and asks(s.rule))
        or any(rejected(body, name) for body in bodies(s))
        for s in steps
    )


def checks_end(ex: Ex) -> bool:
    return any(isinstance(part, CheckSum) and part.until is None and part.last == -1 for part in ex.walk())


def asks_cursor(ex: Ex) -> bool:
    """Whether an expression goes by how much is left to read."""
    return any(
        isinstance(part, Builtin) and part.name in ("left", "bits_left") or isinstance(part, CheckSum) and part.so_far
        for part in ex.walk()
    )


def read_bytes(ex: Ex) -> set[int]:
    """The bytes at fixed places that an expression reads."""
    places = (part.raw.place for part in ex.walk() if isinstance(part, Stored))
    return {p.offset + k for p in places if p.mode == "start" for k in range(p.width)}
