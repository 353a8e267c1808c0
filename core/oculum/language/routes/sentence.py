"""What a route does, in plain words, made from what was checked."""

from __future__ import annotations

from ..wording import lasting, named, spoken_hours, words
from .plan import Act, Correct, Derive, Drop, Gather, Mark, RoutePlan, Send, Stop, Thin, When


def sentence(plan: RoutePlan) -> str:
    """Sentences on what is selected, and what is done with it."""
    told = [act_words(act) for act in plan.acts]
    return f"Of {selected(plan)}: {'; '.join(told)}."


def selected(plan: RoutePlan) -> str:
    """Which readings a route takes."""
    what = _joined([f"every {named(key)}" for key in plan.types])
    where = f" at “{plan.site}” and below" if plan.site else ""
    labels = [f"{name} {'is' if sign == '=' else 'is not'} {text}" for name, sign, text in plan.labels]
    only = f", of {_joined(list(plan.devices))} only" if plan.devices else ""
    topic = f", what comes on {plan.topic}" if plan.topic else ""
    hours = f", only {spoken_hours(plan.hours)}" if not plan.hours.always else ""
    return what + where + (f" whose {' and '.join(labels)}" if labels else "") + only + topic + hours


def _joined(parts: list[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"


def act_words(act: Act) -> str:
    """What a line does, with what stands below it."""
    match act:
        case When():
            then = ", ".join(map(act_words, act.then))
            other = f", otherwise {', '.join(map(act_words, act.otherwise))}" if act.otherwise else ""
            return f"when {words(act.rule)}, {then}{other}"
        case Drop(message=True):
            return f"drop all of the message (“{act.reason}”)"
        case Drop():
            what = _joined([named(n) for n in act.fields]) if act.fields else "the readings"
            return f"drop {what} (“{act.reason}”)"
        case Correct():
            return f"correct {named(act.field)} to {words(act.value)}"
        case Derive():
            return f"derive {named(act.field.name)} as {words(act.value)}"
        case Gather():
            steps = f", every {lasting(act.every_us)}" if act.every_us else ""
            return f"give each site {named(act.field.name)}: {words(act.value)}{steps}"
        case Thin():
            return f"let {_joined([named(n) for n in act.fields])} through {_thinly(act)}"
        case Mark():
            return f"mark {named(act.name)} as {act.text}"
        case Send():
            what = _joined([named(n) for n in act.fields]) if act.fields else "all of it"
            return f"send {what} to “{act.outlet}”"
        case Stop():
            return "end the way here"


def _thinly(act: Thin) -> str:
    beyond = f" by more than {act.band}" if act.band else ""
    every = f", at least every {lasting(act.every_us)}" if act.every_us else ""
    return f"when they change{beyond}{every}"
