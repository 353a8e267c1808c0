"""Documents of one shape: from the parser to columns, block by block, each gone through once and let go while it is at
hand.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from operator import itemgetter
from typing import Any

from ..language.decoders.analysis import bodies
from ..language.decoders.plan import (
    ApartStep,
    ChooseStep,
    DeriveStep,
    DeviceStep,
    MissingStep,
    RejectStep,
    StampStep,
    Step,
    ValueStep,
    WhenStep,
)
from . import skeletons, sources
from .level import Level, Window

BLOCK = 256  # documents that are taken apart at once: their parts stay in the nearest memory
Tree = dict[str, "Tree"]
Columns = dict[tuple[str, ...], list[Any]]
NO_DOCUMENT = DeriveStep | DeviceStep | MissingStep | RejectStep | StampStep | WhenStep | ChooseStep | ApartStep


def tree_of(steps: Iterable[Step]) -> Tree | None:
    """What these steps read of a document, by keys; None where one reads it in another way."""
    tree: Tree = {}
    leaves: set[tuple[Any, ...]] = set()
    waiting = list(steps)
    while waiting:
        step = waiting.pop()
        if isinstance(step, ValueStep):
            if step.form == "tag":
                return None
            for at in step.places:
                if at.mode in ("header", "topic"):
                    continue
                if at.mode != "path" or not at.path or not all(isinstance(part, str) for part in at.path):
                    return None
                leaves.add(at.path)
                node = tree
                for part in at.path:
                    node = node.setdefault(part, {})
        elif not isinstance(step, NO_DOCUMENT):
            return None
        waiting += [inner for body in bodies(step) for inner in body]
    if any(path[:depth] in leaves for path in leaves for depth in range(1, len(path))):
        return None  # a part of a document that is read itself, too
    return tree or None


def take(level: Level, source: str, steps: Iterable[Step]) -> bool:
    """Fills in what the steps read of the documents of a level, where every one has all of it; returns whether. The
    documents themselves are parsed again should anybody ask.
    """
    window = level.window
    tree = tree_of(steps) if level.count >= sources.AT_ONCE and level.batch.trace is None else None
    if tree is None:
        return False
    if source == "json":
        read_out = skeletons.read(window.data, window.start, window.end, _leaves(tree))
        if read_out is not None:
            window.kind, window.found = "document", dict(read_out)
            window.again = lambda: [sources.read_json(raw)[0] for raw in _raws(window)]
            return True
        if sources.may_be_deep(window):
            return False
    raws = _raws(window)
    read: Callable[[list[bytes]], list[Any] | None] = sources.AT_ONCE_READERS[source]
    found: Columns = {}
    for first in range(0, len(raws), BLOCK):
        documents = read(raws[first : first + BLOCK])
        if documents is None or not _add(documents, tree, (), found):
            return False
    window.kind, window.found = "document", found
    window.again = lambda: [sources.READERS[source](raw)[0] for raw in raws]
    return True


def _raws(window: Window) -> list[bytes]:
    buffer = window.data.tobytes()
    return [buffer[a:b] for a, b in zip(window.start.tolist(), window.end.tolist(), strict=True)]


def _leaves(tree: Tree, path: tuple[str, ...] = ()) -> list[tuple[str, ...]]:
    return [leaf for key, inner in tree.items() for leaf in (_leaves(inner, (*path, key)) if inner else [(*path, key)])]


def _add(documents: list[Any], tree: Tree, path: tuple[str, ...], found: Columns) -> bool:
    keys = list(tree)
    try:
        taken = map(itemgetter(*keys), documents)
        columns: list[Any] = [list(taken)] if len(keys) == 1 else list(zip(*taken, strict=True))
    except (KeyError, TypeError):
        return False
    for key, column in zip(keys, columns, strict=True):
        if not tree[key]:
            found.setdefault((*path, key), []).extend(column)
        elif not _add(column, tree[key], (*path, key), found):
            return False
    return True
