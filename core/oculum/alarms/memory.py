"""What a room remembers, as bytes: arrays and a few words, to be taken up again to the very bit."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..arrays import objects
from ..history.events import plain
from ..history.fleet import Fleet
from ..history.windows import Past
from ..packing import packed, unpacked
from .bank import Bank, Kept
from .machine import Machine
from .places import Fixes
from .room import Room
from .sites import SiteBank
from .slots import Quiet
from .watched import Cause

FORM = 2  # counted up when what is remembered changes


def remembered(room: Room, newest: Fleet) -> bytes:
    """All that a room holds, and the newest values beside it."""
    arrays: dict[str, np.ndarray] = {}
    about: dict[str, Any] = {
        "form": FORM,
        "clock": room.clock,
        "silences": [[d, k, at] for d, since in room.open_silences.items() for k, at in since.items()],
        "closed": room.closed,
        "newest": _newest(newest, arrays),
        "banks": [],
        "sites": [],
    }
    for number, ((type_, depth), bank) in enumerate(room.banks.items()):
        about["banks"].append({"type": type_, "depth": depth} | _bank(bank, f"b{number}.", arrays))
    for number, (key, site) in enumerate(room.sites.items()):
        about["sites"].append({"key": key} | _site(site, f"s{number}.", arrays))
    return packed(about, arrays)


def _newest(newest: Fleet, arrays: dict[str, np.ndarray]) -> list[Any]:
    found: list[Any] = []
    for name in newest.fields:
        ids, values, at = newest.whole(name)
        if values.dtype == object:
            found.append([name, [plain(v) for v in values.tolist()], ids.tolist(), at.tolist()])
        else:
            arrays[f"n.{name}"] = values
            found.append([name, "array", ids.tolist(), at.tolist()])
    return found


def recalled(room: Room, body: bytes) -> Fleet | None:
    """Takes up what was remembered into a room in which the same conditions are in force. Returns the newest values;
    None where it was remembered in another form, and nothing is taken up.
    """
    about, arrays = unpacked(body)
    if about.get("form") != FORM:
        return None
    room.clock = about["clock"]
    room.open_silences = {}
    for device, key, at in about["silences"]:
        room.open_silences.setdefault(device, {})[key] = at
    room.closed = [tuple(span) for span in about["closed"]]
    for number, entry in enumerate(about["banks"]):
        bank = room.banks.get((entry["type"], entry["depth"]))
        if bank is not None:
            _recall_bank(bank, entry, f"b{number}.", arrays)
    for number, entry in enumerate(about["sites"]):
        site = room.sites.get(entry["key"])
        if site is not None:
            _recall_site(site, entry, f"s{number}.", arrays)
    newest = Fleet()
    for name, kind, ids, at in about["newest"]:
        values = arrays[f"n.{name}"] if kind == "array" else objects(kind)
        newest.put(name, np.array(ids, np.int64), values, np.array(at, np.int64))
    return newest


def _bank(bank: Bank, at: str, arrays: dict[str, np.ndarray]) -> dict[str, Any]:
    for name in ("ids", "lag", "counted", "intervals", "sizes", "learned", "spread", "last_heard"):
        arrays[at + name] = getattr(bank, name)
    found: dict[str, Any] = {
        "clock": bank.clock,
        "machines": [],
        "pasts": [],
        "quiet": [],
        "fixes": [],
        "messages": False,
    }
    for n, (key, machine) in enumerate(bank.machines.items()):
        _machine(machine, f"{at}m{n}.", arrays)
        causes = [[k, s, c._asdict()] for (k, s), c in bank.kept[key].causes.items()]
        found["machines"].append([key, bank.conditions[key].version, causes])
    for n, (inner, past) in enumerate(bank.pasts.items()):
        _past(past, f"{at}p{n}.", arrays)
        found["pasts"].append(repr(inner))
    for n, (node, quiet) in enumerate(bank.quiet.items()):
        for name in ("last", "limit", "state"):
            arrays[f"{at}q{n}.{name}"] = getattr(quiet, name)
        found["quiet"].append(repr(node))
    for n, ((name, exact), fixes) in enumerate(bank.fixes.items()):
        for part in ("fix", "at", "fast"):
            arrays[f"{at}f{n}.{part}"] = getattr(fixes, part)
        sides = [list(key) for key in fixes.sides]
        told = [list(key) for key in fixes.told]
        for k, side in enumerate(fixes.sides.values()):
            arrays[f"{at}f{n}.s{k}"] = side
        for k, side in enumerate(fixes.told.values()):
            arrays[f"{at}f{n}.t{k}"] = side
        found["fixes"].append([name, exact, sides, told])
    if bank.messages is not None:
        _past(bank.messages, at + "heard.", arrays)
        found["messages"] = True
    return found


def _recall_bank(bank: Bank, entry: dict[str, Any], at: str, arrays: Any) -> None:
    ids = arrays[at + "ids"]
    place = np.array([bank.slot_of.get(int(i), -1) for i in ids], np.int64)
    here = place >= 0
    target = place[here]
    bank.clock = entry["clock"]
    for name in ("lag", "counted", "intervals", "sizes", "learned", "spread", "last_heard"):
        getattr(bank, name)[target] = arrays[at + name][here]
    for n, (key, version, causes) in enumerate(entry["machines"]):
        if key in bank.conditions and bank.conditions[key].version == version:
            _recall_machine(bank.machines[key], f"{at}m{n}.", arrays, here, target)
            moved = {int(s): int(place[s]) for s in range(len(place)) if place[s] >= 0}
            bank.kept[key] = Kept({(k, moved[s]): Cause(**c) for k, s, c in causes if s in moved})
    own = {repr(inner): inner for inner in bank.pasts}
    for n, text in enumerate(entry["pasts"]):
        if text in own:
            bank.pasts[own[text]] = _recalled_past(f"{at}p{n}.", arrays, here, target, bank.pasts[own[text]])
    silences = {repr(node): node for node in bank.quiet}
    for n, text in enumerate(entry["quiet"]):
        if text in silences:
            quiet: Quiet = bank.quiet[silences[text]]
            for name in ("last", "limit", "state"):
                getattr(quiet, name)[target] = arrays[f"{at}q{n}.{name}"][here]
    for n, (name, exact, sides, told) in enumerate(entry["fixes"]):
        fixes = bank.fixes.get((name, tuple(exact) if exact is not None else None))
        if fixes is not None:
            _recall_fixes(fixes, sides, told, f"{at}f{n}.", arrays, here, target)
    if entry["messages"] and bank.messages is not None:
        bank.messages = _recalled_past(at + "heard.", arrays, here, target, bank.messages)


def _recall_fixes(
    fixes: Fixes, sides: list[Any], told: list[Any], at: str, arrays: Any, here: np.ndarray, target: np.ndarray
) -> None:
    for part in ("fix", "at", "fast"):
        getattr(fixes, part)[target] = arrays[at + part][here]
    for letter, keys, kept in (("s", sides, fixes.sides), ("t", told, fixes.told)):
        for k, key in enumerate(keys):
            found = np.full(len(fixes.at), -1, np.int8)
            found[target] = arrays[f"{at}{letter}{k}"][here]
            kept[tuple(key)] = found  # type: ignore[index]


def _machine(machine: Machine, at: str, arrays: dict[str, np.ndarray]) -> None:
    for name in ("level", "since", "holds", "ending", "held_back"):
        arrays[at + name] = getattr(machine, name)


def _recall_machine(machine: Machine, at: str, arrays: Any, here: np.ndarray, target: np.ndarray) -> None:
    for name in ("level", "ending", "held_back"):
        getattr(machine, name)[target] = arrays[at + name][here]
    for name in ("since", "holds"):
        getattr(machine, name)[:, target] = arrays[at + name][:, here]


def _past(past: Past, at: str, arrays: dict[str, np.ndarray]) -> None:
    tidy = past.tidied()
    arrays[at + "at"], arrays[at + "values"], arrays[at + "end"] = tidy.at, tidy.values, tidy.end


def _recalled_past(at: str, arrays: Any, here: np.ndarray, target: np.ndarray, old: Past) -> Past:
    stored_at, values, end = arrays[at + "at"], arrays[at + "values"], arrays[at + "end"]
    slots = old.at.shape[0]
    found = Past.of(slots, old.keep)
    found.grow(slots, max(stored_at.shape[1] + 8, found.at.shape[1]))
    found.at[target, : stored_at.shape[1]] = stored_at[here]
    found.values[target, : stored_at.shape[1]] = values[here]
    found.end[target] = end[here]
    return found


def _site(site: SiteBank, at: str, arrays: dict[str, np.ndarray]) -> dict[str, Any]:
    _machine(site.machine, at, arrays)
    for name in ("devices", "value", "known", "measured"):
        arrays[at + name] = getattr(site, name)
    return {
        "version": site.watched.version,
        "clock": site.clock,
        "ids": site.ids,
        "kept": [[k, s, c._asdict()] for (k, s), c in site.kept.items()],
    }


def _recall_site(site: SiteBank, entry: dict[str, Any], at: str, arrays: Any) -> None:
    site.clock = entry["clock"]
    if entry["version"] != site.watched.version:
        return
    for ident in entry["ids"]:
        if ident not in site.ids:
            site.ids.append(ident)
    site.machine = site.machine.grown(len(site.ids))
    target = np.array([site.ids.index(ident) for ident in entry["ids"]], np.int64)
    _recall_machine(site.machine, at, arrays, np.ones(len(target), bool), target)
    site.kept = {(k, site.ids.index(entry["ids"][s])): Cause(**c) for k, s, c in entry["kept"]}
    place = site.places(arrays[at + "devices"])
    for name in ("value", "known", "measured"):
        getattr(site, name)[:, place] = arrays[at + name]
    site.refresh()
