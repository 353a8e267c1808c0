"""The house: imports point down only, between folders and between files, late and relative ones included."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parent.parent.parent
# From the ground up. What stands beside each other on one floor does not know of each other.
FLOORS = {
    "core/oculum": [
        ["arrays", "checks", "clocks", "compiling", "errors", "packing", "text"],
        ["quantities"],
        ["language"],
        ["batches", "register"],
        ["decoding", "history"],
        ["drafting", "answers", "alarms"],
        ["routing"],
        ["pipeline"],
        ["replay"],
    ],
    "server": [
        ["instance"],
        ["settings"],
        ["records"],
        ["store"],
        ["rules"],
        ["requests"],
        ["intake", "engine", "again", "trials", "delivery"],
        ["api"],
        ["live"],
        ["runner"],
        ["asgi", "manage"],
    ],
}


def imports_of(path: Path, root: Path) -> set[str]:
    """Modules of the same house that a file names, with what it takes from each, wherever in the file it does so."""
    package = [root.name, *path.relative_to(root).with_suffix("").parts][:-1]
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*base, *(node.module or "").split(".")]).strip(".")
            found |= {f"{module}.{alias.name}" for alias in node.names}
    return {name for name in found if name.split(".")[0] == root.name}


def files(house: str) -> list[Path]:
    return [p for p in sorted((ROOT / house).rglob("*.py")) if "migrations" not in p.parts]


@pytest.mark.parametrize("house", FLOORS)
def test_folders_know_only_what_lies_below_them(house: str) -> None:
    root = ROOT / house
    floor = {room: level for level, rooms in enumerate(FLOORS[house]) for room in rooms}
    for path in files(house):
        own = path.relative_to(root).with_suffix("").parts[0]
        if own == "__init__":
            continue
        assert own in floor, f"`{own}` has no floor: give it one"
        for name in imports_of(path, root):
            other = name.split(".")[1]
            assert other == own or floor[other] < floor[own], f"{path} is below {name}"


@pytest.mark.parametrize("house", FLOORS)
def test_no_circles_between_files(house: str) -> None:
    root = ROOT / house
    modules = {".".join([root.name, *p.relative_to(root).with_suffix("").parts]): p for p in files(house)}
    edges = {
        name: {m for found in imports_of(path, root) for m in (found, found.rpartition(".")[0]) if m in modules}
        for name, path in modules.items()
    }
    state: dict[str, int] = {}

    def visit(name: str, way: list[str]) -> None:
        assert state.get(name) != 1, f"a circle: {' -> '.join([*way, name])}"
        if name in state:
            return
        state[name] = 1
        for following in edges[name]:
            visit(following, [*way, name])
        state[name] = 2

    for name in edges:
        visit(name, [])


def test_houses_know_only_those_they_stand_on() -> None:
    """The core imports nothing of ours above it; neither does the server import demo code but to start it."""
    allowed = {
        "core": {"oculum"},
        "server": {"oculum", "server"},
        "demo": {"oculum", "server", "demo"},
        "benchmarks": {"oculum", "server", "benchmarks"},
    }
    starts = {ROOT / "server" / "runner" / "cli.py"}
    for folder, good in allowed.items():
        for path in (ROOT / folder).rglob("*.py"):
            found = set(re.findall(r"^\s*(?:from|import)\s+(oculum|server|demo|benchmarks)\b", path.read_text(), re.M))
            assert found <= good or path in starts, f"{path} imports {found - good}"


def test_the_core_does_not_reach_outside() -> None:
    outside = re.compile(
        r"^\s*(?:from|import)\s+(django|rest_framework|psycopg|starlette|gmqtt|socket|urllib|time|datetime\.now)\b",
        re.M,
    )
    for path in (ROOT / "core").rglob("*.py"):
        assert not outside.search(path.read_text()), f"{path} reaches outside the core"


SQL = re.compile(
    r"\s*(select\b.*\bfrom\b|select (pg_|\w+\()|insert into|update \w+ set|delete from|with \w+ as)", re.DOTALL
)


@pytest.mark.parametrize("room", ["rules", "requests", "api"])
def test_the_database_is_asked_by_the_store_alone(room: str) -> None:
    for path in files(f"server/{room}"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                assert not SQL.match(node.value), f"{path}:{node.lineno} asks the database itself"
