"""Routes over columns are the same as reading by reading, however the stream is cut and wherever it is taken up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.batches import FIRST_REASON, Column, Decoded, Group
from oculum.language.fields import FieldSpec
from oculum.language.kinds import Surroundings
from oculum.language.routes import check_route
from oculum.register.world import Device, Site, World
from oculum.routing import acting
from oculum.routing.memory import recalled, remembered
from oculum.routing.routed import InForce
from oculum.routing.router import RouteFailed, Router, topic_fits
from tests.often import examples

MINUTE = 60_000_000
TYPE = 1
FIELDS = {name: FieldSpec(name, "number", "m") for name in ("x", "y", "z", "w")}
SAMPLES = (FieldSpec("device", "text"), FieldSpec("offset", "number", "m"))
AROUND = Surroundings({"buoy": FIELDS}, {"buoy": {"most": "m"}}, outlets={"out"}, tables={"samples": SAMPLES})
WORLD = World(
    {
        1: Device(1, "d1", TYPE, 7, {"stage": "growing"}),
        2: Device(2, "d2", TYPE, 8, {"stage": "resting"}),
        3: Device(3, "d3", TYPE, None, {}),
    },
    {7: Site(7, "reach"), 8: Site(8, "cove", 7)},
)
SITES, OWN = 2, {7: 107, 8: 108}  # the type of sites, and the device that each of them is
WORLD.devices |= {d: Device(d, f"site-{s}", SITES, s) for s, d in OWN.items()}
WORLD.site_type = SITES
MEMBERS = {7: (1, 2), 8: (2,)}
WORLD.limits = {(TYPE, "most", "device", 1): 4.0, (TYPE, "most", "site", 7): 2.0}
TABLE: dict[Any, Mapping[str, Any]] = {"d1": {"offset": 0.5}, "d2": {"offset": -1.0}}


@dataclass
class Reading:
    """One device, message and moment: fields to a value, to a text (missing, with why), or not there at all."""

    device: int
    message: int
    at: int
    values: dict[str, float | str]
    alive: bool = True
    marks: dict[str, str] = field(default_factory=dict)


@dataclass
class Plain:
    """Routes as they are said to work: one reading after the other, one line after the other."""

    counts: Counter[tuple[int, int, str]] = field(default_factory=Counter)
    sent: list[tuple[int, int, int, dict[str, float]]] = field(default_factory=list)
    kept: dict[Any, tuple[float, int]] = field(default_factory=dict)
    past: dict[Any, list[tuple[int, float]]] = field(default_factory=dict)
    stamp: dict[Any, int] = field(default_factory=dict)
    sites: dict[Any, dict[str, float]] = field(default_factory=dict)

    def number(self, reading: Reading, name: str) -> float | None:
        value = reading.values.get(name)
        return value if isinstance(value, float) else None


Line = Callable[[Plain, int, Reading, list[Reading]], None]


def seen(plain: Plain, key: int, line: int, reading: Reading, names: tuple[str, ...]) -> bool:
    there = not names or any(name in reading.values for name in names)
    plain.counts[key, line, "seen"] += there
    return there


def took(plain: Plain, key: int, line: int) -> None:
    plain.counts[key, line, "took"] += 1


def failed(plain: Plain, key: int, line: int) -> None:
    plain.counts[key, line, "failed"] += 1


def drop_beyond(limit: float) -> tuple[str, Line]:
    text = f'  when x > {limit} m\n    drop "too high" x\n  otherwise\n    mark sound "yes"\n'

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("x",)):
            return
        x = p.number(r, "x")
        if x is None:
            failed(p, key, 3)
        if x is not None and x > limit:
            took(p, key, 3)
            p.counts[key, 4, "seen"] += 1
            took(p, key, 4)
            r.values["x"] = "too high"
        else:
            p.counts[key, 6, "seen"] += 1
            took(p, key, 6)
            r.marks["sound"] = "yes"

    return text, act


def correct(a: float, b: float) -> tuple[str, Line]:
    text = f"  correct x = x * {a} + {b} m\n"

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        x = p.number(r, "x")
        if seen(p, key, 3, r, ("x",)) and x is not None:
            took(p, key, 3)
            r.values["x"] = x * a + b

    return text, act


def derive() -> tuple[str, Line]:
    text = "  derive z = x * x / y into m\n"

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("x", "y")):
            return
        x, y = p.number(r, "x"), p.number(r, "y")
        if x is None or y is None or y == 0:
            if "x" in r.values and "y" in r.values:
                failed(p, key, 3)
            return
        took(p, key, 3)
        r.values["z"] = x * x / y

    return text, act


def thin(band: float, relative: bool, every: int) -> tuple[str, Line]:
    amount = f"{band:g} %" if relative else f"{band:g} m"
    text = f"  thin x, y by {amount}" + (f" every {every} min" if every else "") + "\n"

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("x", "y")):
            return
        some = False
        for name in ("x", "y"):
            value = p.number(r, name)
            if value is None:
                continue
            last = p.kept.get((key, name, r.device))
            if last is not None and r.at < last[1]:
                continue
            if last is not None:
                beyond = band / 100 * abs(last[0]) if relative else band
                if abs(value - last[0]) <= beyond and not (every and r.at - last[1] >= every * MINUTE):
                    del r.values[name]
                    some = True
                    continue
            p.kept[key, name, r.device] = (value, r.at)
        p.counts[key, 3, "took"] += some

    return text, act


def send_sums(width: int, limit: float) -> tuple[str, Line]:
    text = f'  when total(x, {width} min) > {limit} m\n    send x, z to "out"\n'

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        x = p.number(r, "x")
        past = p.past.setdefault((key, r.device), [])
        if x is not None:
            past[:] = [one for one in past if one[0] != r.at]
            past.append((r.at, x))
            past.sort()
        if not seen(p, key, 3, r, ("x",)):
            return
        inside = [v for at, v in past if r.at - width * MINUTE < at <= r.at]
        if not inside:
            failed(p, key, 3)
            return
        total = 0.0
        for value in inside:
            total += value
        if total > limit:
            took(p, key, 3)
            if seen(p, key, 4, r, ("x", "z")):
                values = {n: r.values[n] for n in ("x", "z") if isinstance(r.values.get(n), float)}
                if values:
                    took(p, key, 4)
                    p.sent.append((r.device, r.message, r.at, values))  # type: ignore[arg-type]

    return text, act


def stop_growing() -> tuple[str, Line]:
    text = '  when label(stage) = "growing" and marked(sound) = "yes"\n    stop\n'

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        p.counts[key, 3, "seen"] += 1
        stage = {1: "growing", 2: "resting"}.get(r.device)
        mark = r.marks.get("sound")
        if stage == "resting" or (mark is not None and mark != "yes"):
            return
        if stage is None or mark is None:
            failed(p, key, 3)
            return
        took(p, key, 3)
        p.counts[key, 4, "seen"] += 1
        took(p, key, 4)
        r.alive = False

    return text, act


def drop_all(limit: float) -> tuple[str, Line]:
    text = f'  when y < {limit} m\n    drop "nothing left"\n'

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("y",)):
            return
        y = p.number(r, "y")
        if y is None:
            failed(p, key, 3)
        elif y < limit:
            took(p, key, 3)
            p.counts[key, 4, "seen"] += 1
            took(p, key, 4)
            r.values = {n: "nothing left" if isinstance(v, float) else v for n, v in r.values.items()}
            r.alive = False

    return text, act


def by_limit() -> tuple[str, Line]:
    text = '  when y > setpoint most\n    correct y = y + entry("samples", offset, device)\n'

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("y",)):
            return
        limit = {1: 4.0, 2: 2.0}.get(r.device)
        y = p.number(r, "y")
        if y is None or limit is None:
            failed(p, key, 3)
            return
        if y <= limit:
            return
        took(p, key, 3)
        p.counts[key, 4, "seen"] += 1
        r.values["y"] = y + TABLE[f"d{r.device}"]["offset"]
        took(p, key, 4)

    return text, act


def of(function: str, values: list[float]) -> float:
    match function:
        case "max_of":
            return max(values)
        case "min_of":
            return min(values)
    return sum(values) / (len(values) if function == "mean_of" else 1)


def gather(function: str, age: int) -> tuple[str, Line]:
    """Of the newest values of the members at each site."""
    text = f"  gather v{{key}} = {function}(x + 1 m, {age} min)\n"

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("x",)):
            return
        x = p.number(r, "x")
        if x is None:
            failed(p, key, 3)
            return
        took(p, key, 3)
        last = p.kept.get((key, r.device))
        if last is not None and last[1] > r.at:
            return
        p.kept[key, r.device] = (x + 1, r.at)
        for site, members in MEMBERS.items():
            if r.device not in members:
                continue
            at = p.stamp[key, site] = max(p.stamp.get((key, site), r.at), r.at)
            known = [p.kept[key, m] for m in members if (key, m) in p.kept]
            values = [value for value, when in known if at - when <= age * MINUTE]
            if values:
                p.sites.setdefault((OWN[site], r.message, at), {})[f"v{key}"] = of(function, values)

    return text, act


def by_steps(function: str, step: int) -> tuple[str, Line]:
    """Of all values in a step, once it is over, and again when one comes late."""
    text = f"  gather v{{key}} = {function}(x) every {step} min\n"
    width = step * MINUTE

    def act(p: Plain, key: int, r: Reading, message: list[Reading]) -> None:
        if not seen(p, key, 3, r, ("x",)):
            return
        x = p.number(r, "x")
        if x is None:
            failed(p, key, 3)
            return
        took(p, key, 3)
        here = r.at // width * width

        def make(site: int, begin: int) -> None:
            inside = {k[1:]: v for k, v in p.kept.items() if k[0] == key and k[1] in MEMBERS[site]}
            values = [v[0] for (m, at), v in sorted(inside.items()) if begin <= at < begin + width]
            if values:
                p.sites.setdefault((OWN[site], r.message, begin), {})[f"v{key}"] = of(function, values)

        for site in (s for s, members in MEMBERS.items() if r.device in members):
            there = p.stamp.get((key, site))
            if there is not None and here > there:
                make(site, there)
        p.kept[key, r.device, r.at] = (x, r.at)
        for site in (s for s, members in MEMBERS.items() if r.device in members):
            there = p.stamp.get((key, site))
            if there is not None and here < there:
                make(site, here)
            p.stamp[key, site] = max(here, there if there is not None else here)

    return text, act


KINDS: list[st.SearchStrategy[Any]] = [
    st.tuples(st.sampled_from(["max_of", "mean_of", "sum_of"]), st.sampled_from([10, 30])).map(lambda t: gather(*t)),
    st.tuples(st.sampled_from(["min_of", "sum_of"]), st.sampled_from([20, 60])).map(lambda t: by_steps(*t)),
    st.integers(0, 9).map(lambda n: drop_beyond(float(n))),
    st.tuples(st.sampled_from([0.5, 1.0, 2.0]), st.integers(0, 3)).map(lambda t: correct(t[0], float(t[1]))),
    st.just(derive()),
    st.tuples(st.integers(0, 4), st.booleans(), st.sampled_from([0, 10, 25])).map(
        lambda t: thin(float(t[0] * (20 if t[1] else 1)), t[1], t[2])
    ),
    st.tuples(st.sampled_from([10, 30, 90]), st.integers(0, 30)).map(lambda t: send_sums(t[0], float(t[1]))),
    st.just(stop_growing()),
    st.integers(0, 4).map(lambda n: drop_all(float(n))),
    st.just(by_limit()),
]
SCOPES = st.sampled_from(
    [
        ("on buoy", (1, 2, 3)),
        ('on buoy at site "reach"', (1, 2)),
        ('on buoy at site "cove"', (2,)),
        ('on buoy with label stage = "growing"', (1,)),
        ('on buoy with label stage != "growing"', (2, 3)),
    ]
)
SINGLE = st.tuples(SCOPES, st.one_of(KINDS))
APART = [('on buoy with label stage = "growing"', (1,)), ('on buoy with label stage != "growing"', (2, 3))]
# Two routes that say the same with other numbers, of devices that they do not share: they are taken together.
TWINS = st.sampled_from(KINDS).flatmap(lambda kind: st.tuples(*(st.tuples(st.just(s), kind) for s in APART)))
ROUTES = st.lists(st.one_of(SINGLE.map(lambda one: (one,)), TWINS), min_size=1, max_size=4).flatmap(
    lambda parts: st.permutations([one for part in parts for one in part])
)
VALUES = st.one_of(st.integers(0, 9).map(float), st.sampled_from(["broken", None]))
MESSAGES = st.lists(
    st.tuples(
        st.sampled_from([1, 2, 3]),
        st.lists(st.tuples(st.integers(-12, 2), VALUES, VALUES), min_size=1, max_size=3, unique_by=lambda t: t[0]),
    ),
    min_size=1,
    max_size=14,
)


def readings_of(messages: list[Any]) -> list[list[Reading]]:
    found = []
    for number, (device, moments) in enumerate(messages):
        own = []
        for step, x, y in sorted(moments, key=lambda t: t[0]):
            values = {n: v for n, v in (("x", x), ("y", y)) if v is not None}
            own.append(Reading(device, number, number * 10 * MINUTE + step * MINUTE, values))
        found.append(own)
    return found


def decoded(messages: list[list[Reading]]) -> Decoded:
    """The messages as a decoder gives them: x and y in groups of their own."""
    flat = [(row, r) for row, own in enumerate(messages) for r in own if r.values]
    rows = np.array([row for row, _ in flat], np.int64)
    at = np.array([r.at for _, r in flat], np.int64)
    groups = []
    for name in ("x", "y"):
        values = [r.values.get(name) for _, r in flat]
        state = [0 if v is None else 1 if isinstance(v, float) else FIRST_REASON for v in values]
        column = Column(np.array([v if isinstance(v, float) else 0.0 for v in values]), np.array(state, np.int16))
        groups.append(Group((FIELDS[name],), rows, at, {name: column}))
    none = np.full(len(messages), -1, np.int32)
    return Decoded(groups, [], none, none, ["broken"], np.zeros(len(messages), np.int64))


@settings(max_examples=examples(100), deadline=None)
@given(MESSAGES, ROUTES, st.data())
def test_columns_are_the_same_as_reading_by_reading(messages: list[Any], routes: list[Any], data: Any) -> None:
    plans = []
    for key, ((scope, _), (text, _)) in enumerate(routes, 1):
        plan, problems = check_route(f'route "r{key}"\n  {scope}\n{text.replace("{key}", str(key))}', AROUND)
        assert plan is not None, problems
        plans.append(InForce(key, key, (TYPE,), plan))

    expected, plain = readings_of(messages), Plain()
    for own in expected:
        for reading in (one for one in own if one.values):
            for key, ((_, devices), (_, act)) in enumerate(routes, 1):
                if reading.alive and reading.device in devices:
                    act(plain, key, reading, own)

    router = Router(WORLD)
    router.set(plans)
    router.standing.tables = {"samples": TABLE}
    counts: Counter[tuple[int, int, str]] = Counter()
    sent = []
    given_ = readings_of(messages)
    start = 0
    found: dict[tuple[int, int, int], dict[str, float | str]] = {}
    while start < len(given_):
        end = data.draw(st.integers(start + 1, len(given_)))
        part = given_[start:end]
        device = np.array([own[0].device for own in part], np.int64)
        batch = decoded(part)
        arrival = np.arange(start, end, dtype=np.int64) * 10 * MINUTE
        routed = router.route(
            [batch], [np.arange(len(part))], device, arrival, lambda d: SITES if d > 100 else TYPE, lambda row: {}
        )
        for one in routed.counted:
            for (key, _, line), what, taken in one.each():
                counts[key, line, ("seen", "took", "failed")[what]] += len(taken)
        sent += [(s.device, s.row + start, s.at, {n: float(v[0]) for n, v in s.values.items()}) for s in routed.sent]
        for group in batch.groups:
            owner = group.owner if group.owner is not None else device[group.rows]
            for i in range(len(group.rows)):
                place = (int(owner[i]), int(group.rows[i]) + start, int(group.at[i]))
                for name, column in group.columns.items():
                    if column.state[i] == 1:
                        found.setdefault(place, {})[name] = float(column.values[i])
                    elif column.state[i]:
                        found.setdefault(place, {})[name] = batch.reasons[column.state[i] - FIRST_REASON]
        start = end
        if data.draw(st.booleans()):
            body = remembered(router)
            router = Router(WORLD)
            router.set(plans)
            router.standing.tables = {"samples": TABLE}
            assert recalled(router, body)
    wanted = {(r.device, r.message, r.at): r.values for own in expected for r in own if r.values}
    above_cove = {f"v{key}" for key, ((scope, _), _) in enumerate(routes, 1) if "cove" in scope}
    for place, values in plain.sites.items():
        kept = {n: v for n, v in values.items() if place[0] != OWN[7] or n not in above_cove}
        if kept:
            wanted[place] = kept  # type: ignore[assignment]
    assert found == wanted
    assert +counts == +plain.counts
    assert [one[:3] for one in sorted(sent)] == [one[:3] for one in sorted(plain.sent)]
    for mine, other in zip(sorted(sent), sorted(plain.sent), strict=True):
        assert mine[3] == pytest.approx(other[3], rel=1e-14)  # what goes out has 15 digits


@pytest.mark.parametrize(
    "line",
    [
        '  when distance(fix, point(0 deg, 0 deg)) < 1 km\n    drop "no fix" fix\n',
        '  when x > 0 m and distance(fix, point(0 deg, 0 deg)) < 1 km\n    drop "no fix" fix\n',
        '  when x > 0 m and inside(fix, "bank")\n    stop\n',
        "  derive far = distance(fix, point(0 deg, 0 deg)) + x\n",
        "  correct fix = fix\n",
        "  thin fix by 50 m\n",
        "  gather seen = count_of(distance(fix, point(0 deg, 0 deg)) > 1 km or x > 0 m)\n",
    ],
)
def test_a_batch_in_which_no_message_has_the_position_is_no_failure(line: str) -> None:
    around = Surroundings({"buoy": FIELDS | {"fix": FieldSpec("fix", "position")}}, fences={"bank"})
    plan, problems = check_route(f'route "r"\n  on buoy\n{line}', around)
    assert plan is not None, problems
    router = Router(WORLD)
    router.set([InForce(1, 1, (TYPE,), plan)])
    batch = decoded(readings_of([(1, [(0, 1.0, None)])]))
    one = np.array([1], np.int64)
    router.route([batch], [np.arange(1)], one, one, lambda d: TYPE, lambda row: {})
    assert batch.groups[0].columns["x"].state.tolist() == [1]


def in_force(*routes: tuple[str, str]) -> list[InForce]:
    found = []
    for key, (scope, text) in enumerate(routes, 1):
        plan, problems = check_route(f'route "r{key}"\n  {scope}\n{text}', AROUND)
        assert plan is not None, problems
        found.append(InForce(key, key, (TYPE,), plan))
    return found


def derived(text: str, *groups: Group) -> list[tuple[list[str], list[int], dict[str, list[float | None]]]]:
    """What a route makes of groups that two messages of a device gave: fields, rows and values of each."""
    router = Router(WORLD)
    router.set(in_force(("on buoy", text)))
    none = np.full(2, -1, np.int64)
    batch = Decoded(list(groups), [], none, none, [], none + 1)
    one = np.ones(2, np.int64)
    router.route([batch], [np.arange(2)], one, one, lambda d: TYPE, lambda row: {})
    return [
        (
            [spec.name for spec in group.fields],
            group.rows.tolist(),
            {
                name: [v if s == 1 else None for v, s in zip(c.values.tolist(), c.state.tolist(), strict=True)]
                for name, c in group.columns.items()
            },
        )
        for group in batch.groups
    ]


def column(*values: float | None) -> Column:
    return Column(np.array([v or 0.0 for v in values]), np.array([v is not None for v in values], np.int16))


ROWS, AT = np.arange(2), np.array([5, 6])


def test_what_is_derived_stands_with_what_it_is_derived_from() -> None:
    group = Group((FIELDS["x"],), ROWS, AT, {"x": column(1, 2)})
    assert derived("  derive v = x + 1 m\n", group) == [(["x", "v"], [0, 1], {"x": [1, 2], "v": [2, 3]})]


def test_a_reading_has_a_place_for_what_could_have_been_derived() -> None:
    group = Group((FIELDS["x"],), ROWS, AT, {"x": column(1, 2)})
    assert derived("  when x > 1 m\n    derive v = x + 1 m\n", group) == [
        (["x", "v"], [0, 1], {"x": [1, 2], "v": [None, 3]}),
    ]


def test_a_field_that_a_decoder_could_have_given_is_given_in_its_place() -> None:
    group = Group((FIELDS["x"], FIELDS["y"]), ROWS, AT, {"x": column(1, 2), "y": column(None, 7)})
    assert derived("  when y is missing\n    derive y = x * 2\n", group) == [
        (["x", "y"], [0, 1], {"x": [1, 2], "y": [None, 7]})
    ]
    assert derived("  when x < 2 m\n    derive y = x * 2\n", group) == [
        (["x", "y"], [0, 1], {"x": [1, 2], "y": [2, 7]})
    ]


def test_elements_of_one_moment_stay_together() -> None:
    """Records of a pack: of one message and moment, and each speaks of one field."""
    group = Group((FIELDS["x"], FIELDS["y"]), ROWS * 0, AT * 0, {"x": column(1, None), "y": column(None, 4)})
    other = Group((FIELDS["z"],), ROWS * 0, AT * 0 + [0, 1], {"z": column(5, 6)})
    assert derived("  derive v = x + y\n", group, other) == [
        (["x", "y", "v"], [0, 0], {"x": [1, None], "y": [None, 4], "v": [5, None]}),
        (["z", "v"], [0, 0], {"z": [5, 6], "v": [None, None]}),
    ]


def test_a_decoder_that_means_something_else_by_a_name_loses_nothing() -> None:
    other = FieldSpec("v", "text")
    texts = Column(np.array(["", "odd"], object), np.array([0, 1], np.int16))
    group = Group((FIELDS["x"], other), ROWS, AT, {"x": column(1, 2), "v": texts})
    assert derived("  derive v = x + 1 m\n", group) == [
        (["x", "v"], [0, 1], {"x": [1, 2], "v": [None, 3]}),
        (["v"], [0], {"v": [2]}),
    ]


@pytest.mark.parametrize(
    ("between", "together"),
    [
        ([], [[1, 2]]),
        ([("on buoy", "  correct y = y + 1 m\n")], [[1], [2], [3]]),  # shares devices: nothing may pass it
        ([(APART[0][0], "  correct y = y + 1 m\n")], [[1, 3], [2]]),  # of no device of the third
        ([(APART[0][0], '  when y > 3 m\n    drop message "all"\n')], [[1], [2], [3]]),  # reaches other devices
    ],
)
def test_routes_of_other_devices_that_say_the_same_are_taken_together(between: list[Any], together: Any) -> None:
    first, last = ((scope, f"  correct x = x * 2 + {n} m\n") for n, (scope, _) in enumerate(APART))
    router = Router(WORLD)
    router.set(in_force(first, *between, last))
    assert [[route.key for route in bundle.routes] for bundle in router.bundles(TYPE, False)] == together
    assert all(len(bundle.routes) == 1 for bundle in router.bundles(TYPE, True))


def test_of_routes_taken_together_the_one_that_fails_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    routes = in_force(*((scope, f"  correct x = x + {n} m\n") for n, (scope, _) in enumerate(APART)))
    router = Router(WORLD)
    router.set(routes)
    real = acting.evaluate

    def failing(ex: Any, view: Any) -> Any:
        if any(WORLD.devices[d].labels.get("stage") == "resting" for d in view.run.table.device[view.lines].tolist()):
            raise ZeroDivisionError
        return real(ex, view)

    monkeypatch.setattr(acting, "evaluate", failing)
    messages = readings_of([(1, [(0, 1.0, None)]), (2, [(0, 2.0, None)])])
    with pytest.raises(RouteFailed) as failure:
        device = np.array([1, 2], np.int64)
        router.route([decoded(messages)], [np.arange(2)], device, device, lambda d: TYPE, lambda row: {})
    assert failure.value.key == 2


@pytest.mark.parametrize(
    ("pattern", "topic", "fits"),
    [
        ("growers/+/up", "growers/buoy-1/up", True),
        ("growers/+/up", "growers/a/b/up", False),
        ("growers/#", "growers/a/b", True),
        ("growers/#", "growers", True),
        ("growers/#", "growersx", False),
        ("#", "anything/at/all", True),
        ("a.c", "abc", False),
    ],
)
def test_filters_of_topics(pattern: str, topic: str, fits: bool) -> None:
    assert topic_fits(pattern, topic) is fits
