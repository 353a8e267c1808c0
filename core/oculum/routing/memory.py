"""What routes remember, as bytes, to be taken up again to the very bit."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..arrays import Ints
from ..history.windows import Past
from ..language.expressions import Window, bare
from ..language.routes.plan import expressions
from ..packing import packed, unpacked
from .gathering import Gathered
from .pairs import Looked, Pairs, RouteId, Through
from .router import Router

ARRAYS = ("at", "values", "begin", "end")
FORM = 3  # counted up when what is remembered changes


def remembered(router: Router) -> bytes:
    """All that routes look back on, by definition and version."""
    standing = router.standing
    arrays: dict[str, np.ndarray] = {"devices": np.array(list(standing.slots), np.int64)}
    looked: list[dict[str, Any]] = []
    for n, ((type_, inner, keep), pairs) in enumerate(standing.looked.items()):
        arrays |= _pairs(f"l{n}.", pairs)
        arrays |= {f"l{n}.{name}": getattr(pairs.past.tidied(pairs.count), name) for name in ARRAYS}
        looked.append({"type": type_, "inner": repr(inner), "keep": keep, "routes": pairs.routes})
    through: list[dict[str, Any]] = []
    for n, (key, kept) in enumerate(standing.through.items()):
        arrays |= _pairs(f"t{n}.", kept)
        arrays |= {f"t{n}.values": kept.values[: kept.count], f"t{n}.at": kept.at[: kept.count]}
        through.append({"key": key, "routes": kept.routes})
    routes: list[dict[str, Any]] = []
    for n, ((route, version), memory) in enumerate(standing.memories.items()):
        entry: dict[str, Any] = {"key": route, "version": version, "gathered": []}
        for k, (line, own) in enumerate(memory.gathered.items()):
            names = ("value", "known", "at")
            arrays |= {f"r{n}.g{k}.{name}": getattr(own, name) for name in names}
            arrays[f"r{n}.g{k}.sites"] = np.array(list(own.stamp), np.int64)
            arrays[f"r{n}.g{k}.stamps"] = np.array(list(own.stamp.values()), np.int64)
            if own.past is not None:
                tidy = own.past.tidied()
                arrays |= {f"r{n}.g{k}.p.{name}": getattr(tidy, name) for name in ARRAYS}
            entry["gathered"].append([line, own.past.keep if own.past is not None else None])
        routes.append(entry)
    return packed({"form": FORM, "looked": looked, "through": through, "routes": routes}, arrays)


def _pairs(at: str, pairs: Pairs) -> dict[str, np.ndarray]:
    return {f"{at}owner": pairs.owner[: pairs.count], f"{at}slot": pairs.slot[: pairs.count]}


def recalled(router: Router, body: bytes) -> bool:
    """Takes up what was remembered into a router in which the same routes are in force; False where it was remembered
    in another form, and nothing is taken up.
    """
    about, arrays = unpacked(body)
    if about.get("form") != FORM:
        return False
    for k in range(len(arrays["devices"])):  # one by one: each has its place again
        router.standing.slot(arrays["devices"][k : k + 1])
    in_force = {(route.key, route.version): route for route in router.routes}
    lines = [act for route in router.routes for act in route.plan.lines]
    parts = [p for act in lines for ex in expressions(act) for p in ex.walk() if isinstance(p, Window)]
    inner = {repr(node.value): node.value for node in map(bare, parts)}
    for n, entry in enumerate(about["looked"]):
        if entry["inner"] in inner:
            at, values, begin, end = (arrays[f"l{n}.{name}"].copy() for name in ARRAYS)
            key = entry["type"], inner[entry["inner"]], entry["keep"]
            back = Past(at, values, begin, end, entry["keep"])
            router.standing.looked[key] = Looked(*_known(f"l{n}.", entry, arrays), back)
    for n, entry in enumerate(about["through"]):
        kept = arrays[f"t{n}.values"].copy(), arrays[f"t{n}.at"].copy()
        type_, line, name, width = entry["key"]
        router.standing.through[type_, line, name, width] = Through(*_known(f"t{n}.", entry, arrays), *kept)
    router.standing.forget(in_force.keys())
    for n, entry in enumerate(about["routes"]):
        route = in_force.get((entry["key"], entry["version"]))
        if route is None:
            continue
        memory = router.standing.memory(route)
        for k, (line, keep) in enumerate(entry["gathered"]):
            value, known, at = (arrays[f"r{n}.g{k}.{name}"].copy() for name in ("value", "known", "at"))
            past = None
            if keep is not None:
                at_, values, begin, end = (arrays[f"r{n}.g{k}.p.{name}"].copy() for name in ARRAYS)
                past = Past(at_, values, begin, end, keep)
            sites, stamps = arrays[f"r{n}.g{k}.sites"].tolist(), arrays[f"r{n}.g{k}.stamps"].tolist()
            memory.gathered[line] = Gathered(value, known, at, past, dict(zip(sites, stamps, strict=True)))
    return True


def _known(at: str, entry: dict[str, Any], arrays: dict[str, np.ndarray]) -> tuple[list[RouteId], Ints, Ints, int]:
    routes: list[RouteId] = [(key, version) for key, version in entry["routes"]]
    owner, slot = arrays[f"{at}owner"].copy(), arrays[f"{at}slot"].copy()
    return routes, owner, slot, len(slot)
