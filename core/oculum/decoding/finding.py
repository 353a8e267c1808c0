"""Finding values in documents, columns of text and headers, and where they stand."""

from __future__ import annotations

from operator import itemgetter
from typing import Any

import cbor2
import numpy as np

from ..language.decoders.lines import Index, Keyed
from ..language.decoders.plan import At, ValueStep
from .level import Level
from .skeletons import Column as Read
from .sources import BEYOND_NULL, GONE, WRONG, Measured, Placed, bare, placed


def is_nothing(value: Any) -> bool:
    """Whether a document says that there is none: null, or the undefined of CBOR."""
    return value is None or value is cbor2.undefined


def walk(document: Any, path: tuple[Any, ...]) -> Any:
    """What stands at a path, GONE, or WRONG where the path leads through a value that holds nothing."""
    for step in path:
        document = bare(document)
        if isinstance(document, dict):
            if isinstance(step, Index):
                return WRONG
            if isinstance(step, Keyed):
                return WRONG
            found = document.get(step, GONE)
            if found is GONE and isinstance(step, int):
                found = document.get(str(step), GONE)
            document = found
        elif isinstance(document, list):
            if isinstance(step, Index):
                document = document[step.number] if step.number < len(document) else GONE
            elif isinstance(step, Keyed):
                document = next(
                    (
                        e
                        for e in map(bare, document)
                        if isinstance(e, dict) and type(e.get(step.key)) is not bool and e.get(step.key) == step.value
                    ),
                    GONE,
                )
            else:
                return WRONG
        elif is_nothing(document):
            return BEYOND_NULL
        elif isinstance(document, Measured) and step == "sum":
            document = (
                Measured(document.sum, "number", f"{document.unit}.s" if document.unit else None, None)
                if document.sum is not None
                else GONE
            )
        else:
            return WRONG
        if document is GONE:
            return GONE
    return document


def shown_path(path: tuple[Any, ...]) -> str:
    """A path as the language writes it."""
    text = ""
    for step in path:
        if isinstance(step, Index):
            text += f"[{step.number}]"
        elif isinstance(step, Keyed):
            text += f"[{step.key} = {step.word}]"
        else:
            text += ("." if text else "") + str(step)
    return text or "."


def shown(at: At) -> str:
    match at.mode:
        case "path":
            return f"`{shown_path(at.path)}`"
        case "column":
            return f"column {at.first}" if at.last is None else f"columns {at.first} to {at.last}"
        case "group":
            return f"group {at.name}"
        case "header":
            return f"header {at.name}"
        case "topic":
            return f"level {at.first} of the topic"
    return "the text"


def find(level: Level, at: At, rows: np.ndarray) -> list[Any]:
    """What stands at a place for each of the rows, or GONE."""
    found = stands(level, at, rows)
    return list(map(bare, found)) if level.batch.tags else found


def stands(level: Level, at: At, rows: np.ndarray) -> list[Any]:
    """What stands at a place, with its tags."""
    window = level.window
    if at.mode == "path":
        path = at.path
        if path in window.found:
            known = window.found[path]
            if isinstance(known, Read):
                return known.listed if level.full(rows) else known.of(rows).listed
            return known if level.full(rows) else [known[row] for row in rows.tolist()]
        docs = window.docs or []
        if not path:
            return [next(iter(doc.values())) if window.named else doc for doc in (docs[row] for row in rows.tolist())]
        if all(isinstance(step, str) for step in path):
            return _keys(level, docs, path, rows)
        return [walk(docs[row], path) for row in rows.tolist()]
    if at.mode == "column":
        found: list[Any] = []
        columns = window.columns or []
        for row in rows.tolist():
            own = columns[row]
            low = at.first - 1 if at.first > 0 else len(own) + at.first
            if at.last is None:
                found.append(own[low] if 0 <= low < len(own) else GONE)
            else:
                high = at.last if at.last > 0 else len(own) + at.last + 1
                text: Any = window.separator.join(own[low:high]) if 0 <= low < len(own) else GONE
                found.append(placed(text, own[low].at) if text is not GONE and isinstance(own[low], Placed) else text)
        return found
    if at.mode == "group":
        groups = window.groups or []
        return [GONE if (value := groups[row].get(at.name)) is None else value for row in rows.tolist()]
    if at.mode == "rest":
        docs = window.docs or []
        return [docs[row] for row in rows.tolist()]
    headers = level.batch.payloads.headers
    found = []
    for message in level.message(rows).tolist():
        own_headers = headers[message] if headers is not None else {}
        if at.mode == "header":
            found.append(own_headers.get(at.name, GONE))
        else:
            parts = own_headers.get("topic", "").split("/")
            found.append(parts[at.first - 1] if 0 < at.first <= len(parts) and parts[at.first - 1] else GONE)
    return found


def _keys(level: Level, docs: list[Any], path: tuple[Any, ...], rows: np.ndarray) -> list[Any]:
    """What stands at a path of keys; the beginnings of paths are kept, as many lines share them."""
    if not level.full(rows):
        own = [docs[row] for row in rows.tolist()]
        for key in path:
            own = [doc.get(key, GONE) if type(doc) is dict else _beyond(doc, key) for doc in own]
        return own
    known = level.window.found
    found = docs
    for depth, key in enumerate(path, 1):
        part = path[:depth]
        if part not in known:
            known[part] = _key(found, key)
        found = known[part]
    return found


def _key(docs: list[Any], key: str) -> list[Any]:
    try:
        return list(map(itemgetter(key), docs))
    except (KeyError, TypeError):
        return [doc.get(key, GONE) if type(doc) is dict else _beyond(doc, key) for doc in docs]


def _beyond(document: Any, key: str) -> Any:
    if document is GONE or document is BEYOND_NULL or document is WRONG:
        return document
    return walk(document, (key,))


def stretches(level: Level, row: int, step: ValueStep) -> list[dict[str, Any]]:
    """The bytes of a text that a line takes, for a message that is traced."""
    places = []
    for at in step.places:
        found = find(level, at, np.array([row]))[0] if at.mode in ("column", "group", "rest") else None
        if isinstance(found, Placed) and found:
            places.append(
                {
                    "first": found.at,
                    "last": found.at + len(found.encode()) - 1,
                    "high": 7,
                    "low": 0,
                    "whole": True,
                    "little": False,
                }
            )
    return places


def whereabouts(level: Level, row: int, path: tuple[Any, ...]) -> list[Any] | None:
    """A path from the top of the document: keys as texts, places in lists as numbers. None where it cannot be told."""
    steps: list[Any] = [
        step.number
        if isinstance(step, Index)
        else f"{step.key} = {step.word}"
        if isinstance(step, Keyed)
        else str(step)
        for step in path
    ]
    current: Level | None = level
    while current is not None and current.parent is not None and current.up is not None:
        if current.list_path is None or current.index is None:
            return None
        outer = [step.number if isinstance(step, Index) else str(step) for step in current.list_path]
        above = int(current.up[row])
        whole = (
            walk((current.parent.window.docs or [None])[above], current.list_path)
            if current.parent.window.docs
            else None
        )
        whole = bare(whole)
        steps = [*outer, *([int(current.index[row]) - 1] if isinstance(whole, list) else []), *steps]
        row, current = above, current.parent
    return steps
