"""`./oculum test`: style, types, core, server, web, operation, browser; as many stages at a time as there are cores."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path
from typing import IO

import typer

from server.instance.instance import ROOT

WEB = ROOT / "web"
said = threading.local()  # where the stage of this thread says what it says


def run(*command: str, cwd: Path = ROOT, environment: dict[str, str] | None = None) -> bool:
    told: IO[bytes] = said.file
    done = subprocess.run(
        list(command),
        cwd=cwd,
        env={**os.environ, "PYTHONHASHSEED": "0", **(environment or {})},
        stdout=told,
        stderr=told,
        check=False,
    )
    return done.returncode == 0


def python(*arguments: str, environment: dict[str, str] | None = None) -> bool:
    return run(sys.executable, *arguments, environment=environment)


def npx(*arguments: str) -> bool:
    return run("npm", "exec", "--silent", "--", *arguments, cwd=WEB)


def style() -> bool:
    folders = ["core", "server", "demo", "benchmarks", "tests"]
    examples = sorted(str(p.relative_to(ROOT)) for p in (ROOT / "examples").glob("*.ocu"))
    return all(
        [
            python("-m", "ruff", "format", "--check", "-q", *folders),
            python("-m", "ruff", "check", "-q", *folders),
            npx("prettier", "--check", "--log-level", "warn", "src"),
            npx("eslint", "src", "--max-warnings", "0"),
            python("-m", "server.runner", "format", "--check", *examples),
        ]
    )


def types() -> bool:
    """Both languages, and that the front end's types are those of the API as it is."""
    document, fresh = (
        Path("/tmp") / f"oculum-schema-{os.getpid()}.yml",
        Path("/tmp") / f"oculum-schema-{os.getpid()}.d.ts",
    )
    try:
        data = {"OCULUM_DATA": str(Path("/tmp") / f"oculum-types-{os.getpid()}")}
        good = python("-m", "mypy", environment=data) and npx("tsc", "--noEmit")
        good = good and python("-m", "server.manage", "spectacular", "--file", str(document), environment=data)
        good = good and npx("openapi-typescript", str(document), "-o", str(fresh))
        if good and fresh.read_text() != (WEB / "src/api/schema.d.ts").read_text():
            said.file.write(b"web/src/api/schema.d.ts is not what the API says: run `./oculum api-types`\n")
            return False
        return good
    finally:
        document.unlink(missing_ok=True)
        fresh.unlink(missing_ok=True)


# Those that take longest first, so that none is left to run alone.
STAGES: dict[str, Callable[[], bool]] = {
    "browser": lambda: python("-m", "pytest", "tests/browser"),
    "server": lambda: python("-m", "pytest", "tests/server", "tests/docs"),
    "operation": lambda: python("-m", "pytest", "tests/operation"),
    "core": lambda: python("-m", "pytest", "tests/core"),
    "types": types,
    "web": lambda: npx("vitest", "run"),
    "style": style,
}


def stage(name: str, at_once: bool) -> tuple[bool, float, bytes]:
    """Runs one; returns whether it passed, its seconds, and what it said, where it does not say it at once."""
    began = time.monotonic()
    if at_once:
        said.file = sys.stderr.buffer
        return STAGES[name](), time.monotonic() - began, b""
    with tempfile.TemporaryFile() as file:
        said.file = file
        good = STAGES[name]()
        took = time.monotonic() - began
        file.seek(0)
        return good, took, file.read()


def run_tests(only: list[str]) -> int:
    """Runs the stages, all of them even if one fails. Returns the exit code."""
    strange = [name for name in only if name not in STAGES]
    if strange:
        typer.echo(f"oculum: there is no stage `{strange[0]}`: choose from {', '.join(STAGES)}", err=True)
        return 2
    found: dict[str, tuple[bool, float]] = {}
    began = time.monotonic()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        stages = {pool.submit(stage, name, len(only) == 1): name for name in STAGES if name in (only or STAGES)}
        for done in as_completed(stages):
            good, took, told = done.result()
            found[stages[done]] = good, took
            typer.echo(f"\n== {stages[done]}", err=True)
            sys.stderr.buffer.write(told)
            sys.stderr.flush()
    for name in [name for name in STAGES if name in found]:
        good, took = found[name]
        typer.echo(f"{name:9} {'passed' if good else 'FAILED'} in {took:.0f} s", err=True)
    failed = sum(not good for good, _ in found.values())
    typer.echo(f"{len(found) - failed} passed, {failed} failed, in {time.monotonic() - began:.0f} s")
    return int(failed > 0)
