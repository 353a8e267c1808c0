"""One value out of the newest ones of a site's members, at every moment at which one of them changes."""

from __future__ import annotations

from typing import Any

COUNT, SHARE, ANY, ALL, MAX, MIN, SUM, MEAN = range(8)
FUNCTIONS = {
    "count_of": COUNT,
    "share_of": SHARE,
    "any_of": ANY,
    "all_of": ALL,
    "max_of": MAX,
    "min_of": MIN,
    "sum_of": SUM,
    "mean_of": MEAN,
}


def over(function: Any, members: Any, value: Any, known: Any, at: Any, age: Any, moment: Any) -> tuple[float, bool]:
    """members: int64 (k,), their places. value: float (d,); known: bool (d,); at: int64 (d,), when each was measured;
    age: int64 (d,), how old it may be at `moment`, µs, 0 for any. Added in the order of `members`.
    """
    some, holding, total = 0, 0, 0.0
    low = high = 0.0
    for m in members:
        if not known[m] or (age[m] > 0 and moment - at[m] > age[m]):
            continue
        one = value[m]
        if some == 0:
            low = high = one
        low, high = min(low, one), max(high, one)
        some += 1
        total += one
        if one != 0:
            holding += 1
    if some == 0:
        return 0.0, False
    if function == COUNT:
        return float(holding), True
    if function == SHARE:
        return holding / some, True
    if function == ANY:
        return (1.0 if holding > 0 else 0.0), True
    if function == ALL:
        return (1.0 if holding == some else 0.0), True
    if function == MAX:
        return high, True
    if function == MIN:
        return low, True
    return (total if function == SUM else total / some), True


def look(
    functions: Any,
    begins: Any,
    device: Any,
    moment: Any,
    values: Any,
    knowns: Any,
    ats: Any,
    value: Any,
    known: Any,
    at: Any,
    ages: Any,
    above: Any,
    above_of: Any,
    below: Any,
    below_of: Any,
    last: Any,
    slots: Any,
    sources: Any,
    found: Any,
    sure: Any,
) -> int:
    """Goes through changes, group by group, and looks at every site that a group touches. Returns how many rows.

    functions: int64 (n,), one a node. begins: int64 (g + 1,), where groups of changes begin that count at once; device
    (place of the member), moment: int64 (c,); values, knowns, ats: (n, c), what each is after the change. value,
    known, at: (n, d), the members as they are, moved on. ages: int64 (n, d). above: int64, the slots of sites above a
    member, those of member m from above_of[m] to before above_of[m + 1]; below: the members of a site, likewise.
    last: int64 (s,) of -1, used inside. slots, sources (the last change of the group there): int64 (r,); found: float
    (n, r), sure: bool (n, r) are filled.
    """
    rows = 0
    for g in range(len(begins) - 1):
        first = rows
        for c in range(begins[g], begins[g + 1]):
            m = device[c]
            for n in range(len(functions)):
                value[n, m], known[n, m], at[n, m] = values[n, c], knowns[n, c], ats[n, c]
            for k in range(above_of[m], above_of[m + 1]):
                s = above[k]
                if last[s] < 0:
                    slots[rows] = s
                    rows += 1
                last[s] = c
        for r in range(first, rows):
            s = slots[r]
            sources[r] = last[s]
            for n in range(len(functions)):
                found[n, r], sure[n, r] = over(
                    functions[n],
                    below[below_of[s] : below_of[s + 1]],
                    value[n],
                    known[n],
                    at[n],
                    ages[n],
                    moment[last[s]],
                )
            last[s] = -1
    return rows


def newest(
    functions: Any,
    begins: Any,
    device: Any,
    moment: Any,
    values: Any,
    knowns: Any,
    value: Any,
    known: Any,
    at: Any,
    ages: Any,
    above: Any,
    above_of: Any,
    below: Any,
    below_of: Any,
    stamp: Any,
    last: Any,
    slots: Any,
    sources: Any,
    stamps: Any,
    found: Any,
    sure: Any,
) -> int:
    """Goes through readings of members, and gives each site above them a reading of its own. Returns how many.

    What is older than what is known of a member is late, and changes nothing; what is not known changes nothing either.
    A site's reading stands at the newest moment of all that it was made of, so that one made with data that comes
    later stands in its place. stamp: int64 (s,), that moment of each site, moved on; stamps: int64 (r,), filled with
    it. All else as in `look`.
    """
    rows = 0
    for g in range(len(begins) - 1):
        first = rows
        for c in range(begins[g], begins[g + 1]):
            m = device[c]
            fresh = False
            for n in range(len(functions)):
                if knowns[n, c] and (not known[n, m] or moment[c] >= at[n, m]):
                    value[n, m], known[n, m], at[n, m] = values[n, c], True, moment[c]
                    fresh = True
            if not fresh:
                continue
            for k in range(above_of[m], above_of[m + 1]):
                s = above[k]
                if last[s] < 0:
                    slots[rows] = s
                    rows += 1
                last[s] = c
        for r in range(first, rows):
            s = slots[r]
            sources[r] = last[s]
            stamp[s] = max(stamp[s], moment[last[s]])
            stamps[r] = stamp[s]
            for n in range(len(functions)):
                found[n, r], sure[n, r] = over(
                    functions[n],
                    below[below_of[s] : below_of[s + 1]],
                    value[n],
                    known[n],
                    at[n],
                    ages[n],
                    stamp[s],
                )
            last[s] = -1
    return rows
