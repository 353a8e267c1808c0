"""What routes remember, as bytes, to be taken up again to the very bit."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..history.windows import Past
from ..language.expressions import Window, bare
from ..language.routes.plan import expressions
from ..packing import packed, unpacked
from .gathering import Gathered
from .router import Router

ARRAYS = ("at", "values", "begin", "end")
FORM = 2  # counted up when what is remembered changes


def remembered(router: Router) -> bytes:
    """All that routes look back on, by definition and version."""
    arrays: dict[str, np.ndarray] = {"devices": np.array(list(router.standing.slots), np.int64)}
    routes: list[dict[str, Any]] = []
    for n, ((key, version), memory) in enumerate(router.standing.memories.items()):
        entry: dict[str, Any] = {"key": key, "version": version, "pasts": [], "kept": [], "gathered": []}
        for k, (inner, past) in enumerate(memory.pasts.items()):
            tidy = past.tidied()
            for name in ARRAYS:
                arrays[f"r{n}.p{k}.{name}"] = getattr(tidy, name)
            entry["pasts"].append([repr(inner), tidy.keep])
        for k, ((line, name), (kept, kept_at)) in enumerate(memory.kept.items()):
            arrays[f"r{n}.k{k}.kept"], arrays[f"r{n}.k{k}.at"] = kept, kept_at
            entry["kept"].append([line, name])
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
    return packed({"form": FORM, "routes": routes}, arrays)


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
    for n, entry in enumerate(about["routes"]):
        route = in_force.get((entry["key"], entry["version"]))
        if route is None:
            continue
        memory = router.standing.memory(route)
        parts = [p for act in route.plan.lines for ex in expressions(act) for p in ex.walk()]
        inner = {repr(node.value): node.value for node in (bare(p) for p in parts if isinstance(p, Window))}
        for k, (text, keep) in enumerate(entry["pasts"]):
            if text in inner:
                at, values, begin, end = (arrays[f"r{n}.p{k}.{name}"].copy() for name in ARRAYS)
                memory.pasts[inner[text]] = Past(at, values, begin, end, keep)
        for k, (line, name) in enumerate(entry["kept"]):
            memory.kept[line, name] = arrays[f"r{n}.k{k}.kept"].copy(), arrays[f"r{n}.k{k}.at"].copy()
        for k, (line, keep) in enumerate(entry["gathered"]):
            value, known, at = (arrays[f"r{n}.g{k}.{name}"].copy() for name in ("value", "known", "at"))
            past = None
            if keep is not None:
                at_, values, begin, end = (arrays[f"r{n}.g{k}.p.{name}"].copy() for name in ARRAYS)
                past = Past(at_, values, begin, end, keep)
            sites, stamps = arrays[f"r{n}.g{k}.sites"].tolist(), arrays[f"r{n}.g{k}.stamps"].tolist()
            memory.gathered[line] = Gathered(value, known, at, past, dict(zip(sites, stamps, strict=True)))
    return True
